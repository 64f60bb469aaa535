package rows

import (
	"context"
	"database/sql"
	"errors"

	"humble-rewind/internal/catalogue/file"
	"humble-rewind/internal/core/digest"

	"github.com/pressly/goose/v3"
)

// migratedBatch is how many items a batch has that were rows before.
const migratedBatch = 1000

// BatchItems is the migration that puts the items of receipts, a row each, into batches.
var BatchItems = goose.NewGoMigration(12, &goose.GoFunc{RunTx: func(ctx context.Context, tx *sql.Tx) error {
	w := file.NewWriting(tx)
	err := w.Exec(ctx, `CREATE TABLE receipt_batches (
		receipt_id INTEGER NOT NULL REFERENCES receipts ON DELETE CASCADE,
		first      INTEGER NOT NULL, -- the number of its first item, in the order in which they are brought back
		count      INTEGER NOT NULL,
		done       INTEGER NOT NULL, -- of those, what arrived
		items      BLOB NOT NULL,    -- see packBatch
		PRIMARY KEY (receipt_id, first))`)
	if err != nil {
		return err
	}
	receipts, err := file.Numbers(w.QueryContext(ctx, "SELECT id FROM receipts ORDER BY id"))
	if err != nil {
		return err
	}
	for _, id := range receipts {
		for first := 0; ; first += migratedBatch {
			items, err := itemRows(ctx, w, id, first)
			if err != nil {
				return err
			}
			if len(items) == 0 {
				break
			}
			if err := saveBatch(ctx, w, id, items); err != nil {
				return err
			}
		}
	}
	return w.Exec(ctx, "DROP TABLE receipt_items")
}}, nil)

// itemRows reads items that are rows, from the one numbered first on.
func itemRows(ctx context.Context, w *file.Writing, receipt int64, first int) (all []ReceiptItem, err error) {
	rows, err := w.QueryContext(ctx, `SELECT n, span_id, source_id, from_machine, from_path, to_machine, to_path, type, size, sha256, outcome,
		note, work FROM receipt_items WHERE receipt_id = ? AND n >= ? ORDER BY n LIMIT ?`, receipt, first, migratedBatch)
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, rows.Close()) }()
	for rows.Next() {
		var i ReceiptItem
		var sum []byte
		if err := rows.Scan(&i.N, &i.Copy, &i.Source, &i.From.Machine, &i.From.Path, &i.To.Machine, &i.To.Path, &i.Type, &i.Size, &sum,
			&i.Outcome, &i.Note, &i.Work); err != nil {
			return nil, err
		}
		i.SHA256 = digest.From(sum)
		all = append(all, i)
	}
	return all, rows.Err()
}
