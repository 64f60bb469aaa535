package steps

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/remark"
	"humble-rewind/internal/jobs"
	"humble-rewind/internal/restore/hands"
	"humble-rewind/internal/restore/journal"
	"humble-rewind/internal/restore/target"
	"humble-rewind/internal/say"
	"humble-rewind/internal/source"
)

// Undo puts back what a receipt brought back, and what was set aside for it. CheckUndo comes first; the receipt must be
// claimed with BeginUndo. Each item is looked at again right before it is touched: what was changed meanwhile stays, and the
// receipt says so. Whatever is removed goes into safekeeping first. Called again after an interruption it goes on where it was.
func (s *Steps) Undo(ctx context.Context, id int64, by string, progress Progress) error {
	if !s.enter(id) {
		return fmt.Errorf("receipt r%d is being worked on", id)
	}
	defer s.Leave(id)
	receipt, err := s.Site.Catalogue.Receipts.ByID(ctx, id)
	if err != nil || receipt.State != catalogue.ReceiptUndoing {
		return err
	}
	u := undoing{r: s, ctx: context.WithoutCancel(ctx), open: hands.New(context.WithoutCancel(ctx), s.Site), receipt: id, stoppable: ctx}
	defer u.open.Close()
	both := s.newTargets(u.ctx, id, u.open)
	arrived, err := s.arrivedOf(ctx, id)
	if err != nil {
		return err
	}
	both.tree.Undoing(ctx, arrived)
	batches, err := s.Site.Catalogue.Receipts.Batches(ctx, id)
	if err != nil {
		return err
	}
	u.targets = both
	if err := both.tree.Reopen(); err != nil {
		return u.stop(err)
	}
	untouched := s.untouchedFolders(u.open, id)
	var done int64
	for _, first := range slices.Backward(batches) {
		items, err := s.Site.Catalogue.Receipts.Batch(ctx, id, first)
		if err != nil {
			return u.stop(err)
		}
		for _, item := range slices.Backward(items) {
			if ctx.Err() != nil {
				return u.stop(ctx.Err())
			}
			if !item.Outcome.Stands() {
				continue
			}
			if err := u.item(item); err != nil {
				return u.stop(&undoError{item.To, err})
			}
			done++
			progress(done, 0, place.Readable(item.To.Path))
		}
		if err := u.save(); err != nil {
			return err
		}
	}
	u.targets.Close()
	s.dateBack(u.open, untouched)
	progress(done, 0, "")
	if u.changed > 0 {
		err := fmt.Errorf("%w: %d of %d items were changed meanwhile and stay; receipt r%d says which", jobs.ErrPart, u.changed, done, id)
		return errors.Join(err, s.Site.Catalogue.Receipts.EndUndo(u.ctx, id, catalogue.ReceiptPart, "", s.Now()))
	}
	return s.Site.Catalogue.Receipts.EndUndo(u.ctx, id, catalogue.ReceiptUndone, by, s.Now())
}

// undoing is an undo under way.
type undoing struct {
	r       *Steps
	ctx     context.Context // which does not end: half an item undone helps nobody
	open    *hands.Hands
	targets targets
	receipt int64
	undone  []catalogue.ReceiptItem // not yet saved
	kept    []catalogue.ReceiptItem // that stay, not yet saved
	changed int

	stoppable context.Context // for what may take long
}

// item undoes one item, or leaves it where it was changed meanwhile. An error ends the undo.
func (u *undoing) item(item catalogue.ReceiptItem) error {
	it, err := journal.Load(&item)
	if err != nil {
		return err
	}
	err = u.targets.TakeBack(it)
	refused, changed := errors.AsType[*target.ChangedError](err)
	switch {
	case changed:
		it.Note("not-undone", "why", refused.Why)
		u.kept = append(u.kept, *it.Item)
		u.changed++
		return nil
	case err != nil:
		return err
	}
	target.RemoveMade(u.open, it)
	it.Item.Outcome = catalogue.ItemUndone
	if err := it.Store(); err != nil {
		return err
	}
	u.undone = append(u.undone, *it.Item)
	return nil
}

// save gives the stores back what they remembered of the items undone so far, and keeps how all stand.
func (u *undoing) save() error {
	if err := u.remember(); err != nil {
		why := remark.New("record-not-back", "why", say.BringBackError(err))
		for n := range u.undone {
			journal.Note(&u.undone[n], why)
		}
		return errors.Join(fmt.Errorf("undo: %s", say.Speaker{}.Remark(why)), u.endInPart())
	}
	if err := u.r.Site.Catalogue.Receipts.SaveItems(u.ctx, u.receipt, append(slices.Clone(u.undone), u.kept...)); err != nil {
		return err
	}
	var back []copies.ID
	for _, item := range u.undone {
		if it, err := journal.Load(&item); err == nil && it.Work.Leaves {
			back = append(back, item.Copy)
		}
	}
	u.undone, u.kept = nil, nil
	return u.r.Site.Catalogue.Surveys.Reopen(u.ctx, back)
}

// undoError says at which item an undo met an obstacle.
type undoError struct {
	at  place.Place
	err error
}

func (e *undoError) Error() string {
	return fmt.Sprintf("undo %s: %s", e.at, say.BringBackError(e.err))
}

func (e *undoError) Unwrap() error { return e.err }

// stop leaves a truthful receipt of an undo that met an obstacle midway: undone items are marked, and what the stores remember
// of them is put back too. Where the service stops or a place is away, the undo is to go on later.
func (u *undoing) stop(why error) error {
	u.targets.Close()
	if errors.Is(why, target.ErrAway) || u.stoppable.Err() != nil && !jobs.Cancelled(u.stoppable) {
		return errors.Join(why, u.save())
	}
	return errors.Join(why, u.remember(), u.endInPart())
}

// endInPart ends an undo that did not go through.
func (u *undoing) endInPart() error {
	records := u.r.Site.Catalogue
	return errors.Join(records.Receipts.SaveItems(u.ctx, u.receipt, append(slices.Clone(u.undone), u.kept...)),
		records.Receipts.EndUndo(u.ctx, u.receipt, catalogue.ReceiptPart, "", u.r.Now()))
}

// remember gives the stores back what they remembered of items that left them.
func (u *undoing) remember() error {
	slips := map[copies.SourceID][]source.Slip{}
	for _, item := range u.undone {
		it, err := journal.Load(&item)
		if err != nil {
			return err
		}
		if it.Work.Leaves {
			slips[item.Source] = append(slips[item.Source], it.Work.Slip)
		}
	}
	for id, all := range slips {
		store, err := u.open.SourceByID(id)
		if err != nil {
			return err
		}
		emptied, ok := source.AsEmptied(store)
		if !ok {
			return fmt.Errorf("the store of source %s takes nothing back", id)
		}
		if err := emptied.PutBack(u.ctx, all); err != nil {
			return err
		}
	}
	return nil
}
