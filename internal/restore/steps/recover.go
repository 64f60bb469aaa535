package steps

import (
	"context"
	"errors"
	"fmt"

	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/core/digest"
	"humble-rewind/internal/restore/journal"
	"humble-rewind/internal/restore/target"
	"humble-rewind/internal/say"
)

// Recover settles a receipt whose carrying out was interrupted: what had arrived is finished, what had not is tidied up
// and stays where it was, and the receipt says which is which. It does not go on with items that were not begun. Items whose
// places are away are unsettled, and so is the receipt: it stays open, and the error is an *UnsettledError.
func (s *Steps) Recover(ctx context.Context, id int64) error {
	if !s.enter(id) {
		return nil // somebody is at it
	}
	defer s.Leave(id)
	receipt, err := s.Site.Catalogue.Receipts.ByID(ctx, id)
	if err != nil || receipt.State != catalogue.ReceiptOpen {
		return err
	}
	batches, err := s.Site.Catalogue.Receipts.Batches(ctx, id)
	if err != nil {
		return err
	}
	unsettled := &UnsettledError{Receipt: id}
	for _, first := range batches {
		items, err := s.Site.Catalogue.Receipts.Batch(ctx, id, first)
		if err != nil {
			return err
		}
		if err := s.recoverBatch(ctx, id, items); err != nil {
			return err
		}
		for _, item := range items {
			if item.Outcome == catalogue.ItemUnsettled {
				unsettled.Items++
				unsettled.Why = item.Note
			}
		}
	}
	if unsettled.Items > 0 {
		return unsettled
	}
	return s.close(ctx, id, target.ErrInterrupted.Error())
}

// UnsettledError says that nobody can tell yet what became of some items of a receipt.
type UnsettledError struct {
	Receipt int64
	Items   int
	Why     string // of one of them
}

func (e *UnsettledError) Error() string {
	return fmt.Sprintf("receipt r%d is unsettled: of %d items nobody can tell yet whether they arrived (%s); it is settled by itself once "+
		"that is there again",
		e.Receipt, e.Items, e.Why)
}

func (s *Steps) recoverBatch(ctx context.Context, id int64, items []catalogue.ReceiptItem) error {
	b := s.emptyBatch(ctx, id, items)
	defer b.open.Close()
	t := b.targets
	away := t.tree.Reopen()
	if away != nil && !errors.Is(away, target.ErrAway) {
		return fmt.Errorf("recover receipt r%d: %w", id, away)
	}
	for n := range items {
		switch items[n].Outcome {
		case catalogue.ItemWaiting, catalogue.ItemStarted, catalogue.ItemUnsettled:
		default:
			continue
		}
		it, err := journal.Load(&items[n])
		if errors.Is(err, journal.ErrUnreadable) {
			items[n].Outcome, items[n].Note, items[n].SHA256 = catalogue.ItemFailed, say.Notes(items[n].Note, journal.ErrUnreadable.Error()), digest.Sum{}
			continue
		}
		if err != nil {
			return err
		}
		if !it.Work.Away {
			if it.Source, err = b.open.SourceByID(items[n].Source); errors.Is(err, catalogue.ErrNotFound) {
				it.Source, it.Work.Leaves = nil, false // it was removed meanwhile; nothing can be taken out of it
			} else if err != nil {
				it.Err = fmt.Errorf("%w: the store it lay in cannot be reached (%s)", target.ErrAway, say.BringBackError(err))
			}
		}
		if it.Err == nil {
			it.Err = away
		}
		if it.Err == nil {
			if err := t.Find(it); err != nil {
				return fmt.Errorf("recover receipt r%d, item %d: %w", id, items[n].N, err)
			}
		}
		b.all = append(b.all, it)
	}
	b.takeOut()
	t.Close() // before any folder that was made for an item can be removed
	for _, it := range b.all {
		if !it.Arrived && it.Err != nil && !errors.Is(it.Err, target.ErrAway) {
			target.RemoveMade(b.open, it)
		}
	}
	return b.record()
}

// Settle settles every receipt that nobody works on any more and that is still open, and goes on with undos that were
// interrupted, but for those that a job is about to take up. It returns those that could not be settled yet, by their numbers
// with the reasons.
func (s *Steps) Settle(ctx context.Context, jobs map[int64]bool) (map[int64]error, error) {
	unsettled := map[int64]error{}
	for state, settle := range map[catalogue.ReceiptState]func(id int64) error{
		catalogue.ReceiptOpen: func(id int64) error { return s.Recover(ctx, id) },
		catalogue.ReceiptUndoing: func(id int64) error {
			receipt, err := s.Site.Catalogue.Receipts.ByID(ctx, id)
			if err == nil {
				err = s.Undo(ctx, id, receipt.UndoneBy, func(int64, int64, string) {})
			}
			return err
		},
	} {
		all, err := s.Site.Catalogue.Receipts.In(ctx, state)
		if err != nil {
			return unsettled, err
		}
		for _, id := range all {
			if jobs[id] || s.isActive(id) {
				continue
			}
			err := settle(id)
			if ctx.Err() != nil {
				return unsettled, ctx.Err()
			}
			if receipt, e := s.Site.Catalogue.Receipts.ByID(ctx, id); err != nil && (e != nil || receipt.State == state) {
				unsettled[id] = err // else the error only says that not everything arrived
			}
		}
	}
	return unsettled, nil
}
