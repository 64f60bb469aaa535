package rows

import (
	"context"

	"humble-rewind/internal/core/place"
)

// Stage is a folder that work on a receipt made for itself.
type Stage struct {
	Receipt int64
	Folder  place.Place // that it lies in
	Name    string
	Secret  string // the name of an entry in it, which nobody else knows
}

// AddStage records a stage before it is made.
func (c *Receipts) AddStage(ctx context.Context, s Stage) error {
	_, err := c.f.Write.ExecContext(
		ctx,
		"INSERT INTO receipt_stages VALUES (?, ?, ?, ?, ?)",
		s.Receipt,
		s.Folder.Machine,
		[]byte(s.Folder.Path),
		[]byte(s.Name),
		s.Secret,
	)
	return err
}

// DropStage forgets a stage that is gone.
func (c *Receipts) DropStage(ctx context.Context, s Stage) error {
	_, err := c.f.Write.ExecContext(ctx, "DELETE FROM receipt_stages WHERE receipt_id = ? AND machine = ? AND folder = ? AND name = ?",
		s.Receipt, s.Folder.Machine, []byte(s.Folder.Path), []byte(s.Name))
	return err
}

// Stages lists the stages of a receipt that may still be there.
func (c *Receipts) Stages(ctx context.Context, receipt int64) ([]Stage, error) {
	rows, err := c.f.Read.QueryContext(
		ctx,
		"SELECT receipt_id, machine, folder, name, secret FROM receipt_stages WHERE receipt_id = ?",
		receipt,
	)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var all []Stage
	for rows.Next() {
		var s Stage
		if err := rows.Scan(&s.Receipt, &s.Folder.Machine, &s.Folder.Path, &s.Name, &s.Secret); err != nil {
			return nil, err
		}
		all = append(all, s)
	}
	return all, rows.Err()
}
