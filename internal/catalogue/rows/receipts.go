package rows

import (
	"context"
	"database/sql"
	"fmt"
	"time"

	"humble-rewind/internal/catalogue/file"
	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/problem"
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

// Receipts are the records of what was brought back, with their items.
type Receipts struct{ f *file.File }

// NewReceipts returns those of a file.
func NewReceipts(f *file.File) *Receipts { return &Receipts{f} }

// Begin records what is about to be done, before anything is. Its items come in batches, as they are to be carried out, from each,
// which calls put with every batch; they are numbered here. No batch is kept.
func (c *Receipts) Begin(ctx context.Context, r Receipt, each func(put func([]ReceiptItem) error) error) (Receipt, error) {
	r.State, r.Count = ReceiptOpen, 0
	err := c.f.Tx(ctx, func(w *file.Writing) error {
		added, err := w.ExecContext(ctx, "INSERT INTO receipts (at, by, state) VALUES (?, ?, ?)", r.At.UnixNano(), r.By, ReceiptOpen)
		if err != nil {
			return err
		}
		if r.ID, err = added.LastInsertId(); err != nil {
			return err
		}
		machines := map[string]bool{}
		err = each(func(items []ReceiptItem) error {
			for n := range items {
				items[n].N = r.Count + n
				machines[items[n].From.Machine], machines[items[n].To.Machine] = true, true
			}
			r.Count += len(items)
			return saveBatch(ctx, w, r.ID, items)
		})
		if err != nil {
			return err
		}
		return keepMachines(ctx, w, r.ID, machines)
	})
	return r, err
}

// keepMachines keeps of which machines a receipt speaks: as numbers, so that a later machine of a name is another.
func keepMachines(ctx context.Context, w *file.Writing, receipt int64, machines map[string]bool) error {
	delete(machines, "")
	for name := range machines {
		if err := w.Exec(ctx, "INSERT INTO receipt_machines (receipt_id, machine_id) VALUES (?1, (SELECT id FROM machines WHERE name = ?2))",
			receipt, name); err != nil {
			return err
		}
	}
	return nil
}

// Close ends a bring-back.
func (c *Receipts) Close(ctx context.Context, id int64, state ReceiptState, at time.Time) error {
	return file.Affected(c.f.Write.ExecContext(ctx, "UPDATE receipts SET state = ?, ended_at = ? WHERE id = ?", state, at.UnixNano(), id))
}

// BeginUndo claims a receipt for undoing; problem.Known where it is not in a state that can be undone.
func (c *Receipts) BeginUndo(ctx context.Context, id int64, by string) error {
	err := file.Affected(
		c.f.Write.ExecContext(ctx, "UPDATE receipts SET state = ?, undone_by = ? WHERE id = ? AND state IN (?, ?)", ReceiptUndoing,
			by, id, ReceiptDone, ReceiptPart),
	)
	if err == problem.NotKnown {
		return fmt.Errorf("receipt r%d: %w", id, problem.Known)
	}
	return err
}

// EndUndo ends an undo: as undone, or back in the given state where it could not be.
func (c *Receipts) EndUndo(ctx context.Context, id int64, state ReceiptState, by string, at time.Time) error {
	if state != ReceiptUndone {
		return file.Affected(c.f.Write.ExecContext(ctx, "UPDATE receipts SET state = ?, undone_by = '' WHERE id = ?", state, id))
	}
	return file.Affected(
		c.f.Write.ExecContext(ctx, "UPDATE receipts SET state = ?, undone_at = ?, undone_by = ? WHERE id = ?", state, at.UnixNano(), by, id),
	)
}

// ByID returns a receipt without its items, which Batches and Items return.
func (c *Receipts) ByID(ctx context.Context, id int64) (Receipt, error) {
	all, err := c.receipts(ctx, "r.id = ?", id)
	return oneReceipt(all, err, id)
}

func oneReceipt(all []Receipt, err error, id int64) (Receipt, error) {
	if err == nil && len(all) == 0 {
		err = fmt.Errorf("receipt r%d: %w", id, problem.NotKnown)
	}
	if err != nil {
		return Receipt{}, err
	}
	return all[0], nil
}

func (c *Receipts) receipts(ctx context.Context, where string, args ...any) ([]Receipt, error) {
	rows, err := c.f.Read.QueryContext(ctx, `SELECT r.id, r.at, r.by, r.state, r.ended_at, r.undone_at, r.undone_by,
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
		r.At, r.EndedAt, r.UndoneAt = file.Moment(at), file.Moment(ended), file.Moment(undone)
		all = append(all, r)
	}
	return all, rows.Err()
}

// In lists the receipts in a state, such as those that a stop interrupted.
func (c *Receipts) In(ctx context.Context, state ReceiptState) ([]int64, error) {
	return file.Numbers(c.f.Read.QueryContext(ctx, "SELECT id FROM receipts WHERE state = ? ORDER BY id", state))
}

// FolderTimes are a standing folder's write times before and after a bring-back wrote in it.
type FolderTimes struct{ Before, After time.Time }

// SaveFolders keeps the write times that standing folders have before a bring-back.
func (c *Receipts) SaveFolders(ctx context.Context, receipt int64, before map[place.Place]time.Time) error {
	return c.f.Tx(ctx, func(w *file.Writing) error {
		for p, at := range before {
			if !entry.Countable(at) {
				continue // it could not be given back exactly
			}
			if _, err := w.ExecContext(ctx, "INSERT INTO receipt_folders (receipt_id, machine, path, written_at) VALUES (?, ?, ?, ?)",
				receipt, p.Machine, []byte(p.Path), at.UnixNano()); err != nil {
				return err
			}
		}
		return nil
	})
}

// SaveFoldersAfter keeps the write times that they have once it has ended.
func (c *Receipts) SaveFoldersAfter(ctx context.Context, receipt int64, after map[place.Place]time.Time) error {
	return c.f.Tx(ctx, func(w *file.Writing) error {
		for p, at := range after {
			if _, err := w.ExecContext(ctx, "UPDATE receipt_folders SET after_at = ? WHERE receipt_id = ? AND machine = ? AND path = "+
				"?", file.Nanos(at),
				receipt, p.Machine, []byte(p.Path)); err != nil {
				return err
			}
		}
		return nil
	})
}

// Folders returns the standing folders that a bring-back wrote in.
func (c *Receipts) Folders(ctx context.Context, receipt int64) (map[place.Place]FolderTimes, error) {
	rows, err := c.f.Read.QueryContext(ctx, "SELECT machine, path, written_at, after_at FROM receipt_folders WHERE receipt_id = ?", receipt)
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
		all[p] = FolderTimes{file.Moment(before), file.Moment(after)}
	}
	return all, rows.Err()
}
