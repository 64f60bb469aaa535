package catalogue

import (
	"context"
	"database/sql"
	"fmt"
	"time"

	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/place"
)

// ReceiptState is how far a bring-back is.
type ReceiptState string

// The states of a receipt.
const (
	ReceiptOpen    ReceiptState = "open" // being carried out
	ReceiptDone    ReceiptState = "done"
	ReceiptPart    ReceiptState = "part"
	ReceiptFailed  ReceiptState = "failed" // nothing arrived
	ReceiptUndoing ReceiptState = "undoing"
	ReceiptUndone  ReceiptState = "undone"
)

// Outcome of a receipt's item.
type ItemOutcome string

// The outcomes of an item.
const (
	ItemWaiting ItemOutcome = "waiting"
	ItemStarted ItemOutcome = "started" // perhaps written, not yet recorded as done
	ItemDone    ItemOutcome = "done"
	// ItemPartly is a folder of which only a part arrived; the note says which. An undo takes it away.
	ItemPartly  ItemOutcome = "partly"
	ItemSkipped ItemOutcome = "skipped"
	ItemRefused ItemOutcome = "refused"
	ItemFailed  ItemOutcome = "failed"
	ItemUndone  ItemOutcome = "undone"
	// ItemUnsettled is an item whose place is away, so that nobody can say yet what happened to it.
	ItemUnsettled ItemOutcome = "unsettled"
)

// Stands tells whether something of an item stands where it was brought back to.
func (o ItemOutcome) Stands() bool { return o == ItemDone || o == ItemPartly }

// Receipt is the record of a bring-back.
type Receipt struct {
	ID       int64
	At       time.Time
	By       string
	State    ReceiptState
	EndedAt  time.Time
	UndoneAt time.Time
	UndoneBy string
	Count    int // of its items
	Done     int // of those, what arrived, undone since or not
}

// BeginReceipt records what is about to be done, before anything is. Its items come in batches, as they are to be carried out, from each,
// which calls put with every batch; they are numbered here. No batch is kept.
func (c *Catalogue) BeginReceipt(ctx context.Context, r Receipt, each func(put func([]ReceiptItem) error) error) (Receipt, error) {
	r.State, r.Count = ReceiptOpen, 0
	err := c.tx(ctx, func(tx *sql.Tx) error {
		added, err := tx.ExecContext(ctx, "INSERT INTO receipts (at, by, state) VALUES (?, ?, ?)", r.At.UnixNano(), r.By, ReceiptOpen)
		if err != nil {
			return err
		}
		if r.ID, err = added.LastInsertId(); err != nil {
			return err
		}
		w := newWriting(tx)
		return each(func(items []ReceiptItem) error {
			for n := range items {
				items[n].N = r.Count + n
			}
			r.Count += len(items)
			return saveBatch(ctx, w, r.ID, items)
		})
	})
	return r, err
}

// CloseReceipt ends a bring-back.
func (c *Catalogue) CloseReceipt(ctx context.Context, id int64, state ReceiptState, at time.Time) error {
	return affected(c.write.ExecContext(ctx, "UPDATE receipts SET state = ?, ended_at = ? WHERE id = ?", state, at.UnixNano(), id))
}

// BeginUndo claims a receipt for undoing; ErrTaken where it is not in a state that can be undone.
func (c *Catalogue) BeginUndo(ctx context.Context, id int64, by string) error {
	err := affected(
		c.write.ExecContext(ctx, "UPDATE receipts SET state = ?, undone_by = ? WHERE id = ? AND state IN (?, ?)", ReceiptUndoing,
			by, id, ReceiptDone, ReceiptPart),
	)
	if err == ErrNotFound {
		return fmt.Errorf("receipt r%d: %w", id, ErrTaken)
	}
	return err
}

// EndUndo ends an undo: as undone, or back in the given state where it could not be.
func (c *Catalogue) EndUndo(ctx context.Context, id int64, state ReceiptState, by string, at time.Time) error {
	if state != ReceiptUndone {
		return affected(c.write.ExecContext(ctx, "UPDATE receipts SET state = ?, undone_by = '' WHERE id = ?", state, id))
	}
	return affected(
		c.write.ExecContext(ctx, "UPDATE receipts SET state = ?, undone_at = ?, undone_by = ? WHERE id = ?", state, at.UnixNano(), by, id),
	)
}

// Receipt returns a receipt without its items, which Batches and Items return.
func (c *Catalogue) Receipt(ctx context.Context, id int64) (Receipt, error) {
	all, err := c.receipts(ctx, "r.id = ?", id)
	if err == nil && len(all) == 0 {
		err = fmt.Errorf("receipt r%d: %w", id, ErrNotFound)
	}
	if err != nil {
		return Receipt{}, err
	}
	return all[0], nil
}

// Receipts lists receipts before the one numbered before (0: from the newest), newest first, without items.
func (c *Catalogue) Receipts(ctx context.Context, before int64, limit int) ([]Receipt, error) {
	return c.receipts(ctx, "(?1 = 0 OR r.id < ?1) ORDER BY r.id DESC LIMIT ?2", before, limit)
}

func (c *Catalogue) receipts(ctx context.Context, where string, args ...any) ([]Receipt, error) {
	rows, err := c.read.QueryContext(ctx, `SELECT r.id, r.at, r.by, r.state, r.ended_at, r.undone_at, r.undone_by,
		(SELECT coalesce(sum(count), 0) FROM receipt_batches WHERE receipt_id = r.id),
		(SELECT coalesce(sum(done), 0) FROM receipt_batches WHERE receipt_id = r.id) FROM receipts r WHERE `+where,
		args...)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var all []Receipt
	for rows.Next() {
		var r Receipt
		var at, ended, undone sql.NullInt64
		if err := rows.Scan(&r.ID, &at, &r.By, &r.State, &ended, &undone, &r.UndoneBy, &r.Count, &r.Done); err != nil {
			return nil, err
		}
		r.At, r.EndedAt, r.UndoneAt = moment(at), moment(ended), moment(undone)
		all = append(all, r)
	}
	return all, rows.Err()
}

// ReceiptsIn lists the receipts in a state, such as those that a stop interrupted.
func (c *Catalogue) ReceiptsIn(ctx context.Context, state ReceiptState) ([]int64, error) {
	return numbers(c.read.QueryContext(ctx, "SELECT id FROM receipts WHERE state = ? ORDER BY id", state))
}

// FolderTimes are a standing folder's write times before and after a bring-back wrote in it.
type FolderTimes struct{ Before, After time.Time }

// SaveFolders keeps the write times that standing folders have before a bring-back.
func (c *Catalogue) SaveFolders(ctx context.Context, receipt int64, before map[place.Place]time.Time) error {
	return c.tx(ctx, func(tx *sql.Tx) error {
		for p, at := range before {
			if !entry.Countable(at) {
				continue // it could not be given back exactly
			}
			if _, err := tx.ExecContext(ctx, "INSERT INTO receipt_folders (receipt_id, machine, path, written_at) VALUES (?, ?, ?, ?)",
				receipt, p.Machine, []byte(p.Path), at.UnixNano()); err != nil {
				return err
			}
		}
		return nil
	})
}

// SaveFoldersAfter keeps the write times that they have once it has ended.
func (c *Catalogue) SaveFoldersAfter(ctx context.Context, receipt int64, after map[place.Place]time.Time) error {
	return c.tx(ctx, func(tx *sql.Tx) error {
		for p, at := range after {
			if _, err := tx.ExecContext(ctx, "UPDATE receipt_folders SET after_at = ? WHERE receipt_id = ? AND machine = ? AND path = "+
				"?", nanos(at),
				receipt, p.Machine, []byte(p.Path)); err != nil {
				return err
			}
		}
		return nil
	})
}

// Folders returns the standing folders that a bring-back wrote in.
func (c *Catalogue) Folders(ctx context.Context, receipt int64) (map[place.Place]FolderTimes, error) {
	rows, err := c.read.QueryContext(ctx, "SELECT machine, path, written_at, after_at FROM receipt_folders WHERE receipt_id = ?", receipt)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	all := map[place.Place]FolderTimes{}
	for rows.Next() {
		var p place.Place
		var before, after sql.NullInt64
		if err := rows.Scan(&p.Machine, &p.Path, &before, &after); err != nil {
			return nil, err
		}
		all[p] = FolderTimes{moment(before), moment(after)}
	}
	return all, rows.Err()
}
