package restore

import (
	"context"
	"errors"

	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/core/principal"
	"humble-rewind/internal/jobs"
	"humble-rewind/internal/restore/steps"
	"humble-rewind/internal/say"
)

// The kinds of restore jobs.
const (
	JobBringBack = "bring-back"
	JobUndo      = "undo"
)

// atOnce is how many bring-backs may run side by side: several technicians need not wait for one another.
const atOnce = 4

// Workers carry out and undo receipts. The jobs' receipt says which.
func (r *Restorer) Workers() []jobs.Worker {
	progress := func(task *jobs.Task) steps.Progress {
		return func(done, bytes int64, doing string) {
			task.Update(func(j *catalogue.Job) { j.Done, j.Bytes, j.Doing = done, bytes, doing })
		}
	}
	return []jobs.Worker{
		{Kind: JobBringBack, Right: principal.BringBack, AtOnce: atOnce, ErrorFor: say.BringBackError, Do: func(ctx context.Context, task *jobs.Task) error {
			id := task.Job().Receipt
			if !task.Resumed {
				return r.Carry(ctx, id, progress(task))
			}
			if err := r.Recover(ctx, id); err != nil {
				return err
			}
			return r.outcome(ctx, id)
		}},
		{Kind: JobUndo, Right: principal.BringBack, AtOnce: atOnce, ErrorFor: say.BringBackError, Do: func(ctx context.Context, task *jobs.Task) error {
			j := task.Job()
			return r.Undo(ctx, j.Receipt, j.By, progress(task))
		}},
	}
}

// outcome words how a receipt that was settled at the start ended.
func (r *Restorer) outcome(ctx context.Context, id int64) error {
	receipt, err := r.Site.Catalogue.Receipts.ByID(ctx, id)
	if err != nil {
		return err
	}
	switch receipt.State {
	case catalogue.ReceiptPart:
		return errors.Join(jobs.ErrPart, errors.New("the service stopped before all items had arrived; bring the others back again"))
	case catalogue.ReceiptFailed:
		return errors.New("the service stopped before anything had arrived; bring the items back again")
	}
	return nil
}
