package rows

import (
	"context"
	"database/sql"

	"github.com/pressly/goose/v3"

	"humble-rewind/internal/catalogue/file"
)

// MachinesOfReceipts is the migration that notes of which machines the receipts speak that there were.
var MachinesOfReceipts = goose.NewGoMigration(16, &goose.GoFunc{RunTx: func(ctx context.Context, tx *sql.Tx) error {
	w := file.NewWriting(tx)
	receipts, err := file.Numbers(w.QueryContext(ctx, "SELECT id FROM receipts ORDER BY id"))
	if err != nil {
		return err
	}
	for _, id := range receipts {
		machines := map[string]bool{}
		firsts, err := batches(ctx, w, id)
		if err != nil {
			return err
		}
		for _, first := range firsts {
			items, err := readBatch(ctx, w, id, first)
			if err != nil {
				return err
			}
			for _, i := range items {
				machines[i.From.Machine], machines[i.To.Machine] = true, true
			}
		}
		if err := keepMachines(ctx, w, id, machines); err != nil {
			return err
		}
	}
	return nil
}}, nil)
