package steps

import (
	"context"
	"errors"

	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/core/digest"
	"humble-rewind/internal/core/remark"
	"humble-rewind/internal/restore/hands"
	"humble-rewind/internal/restore/journal"
	"humble-rewind/internal/restore/original"
	"humble-rewind/internal/restore/target"
	"humble-rewind/internal/say"
	"humble-rewind/internal/source"
)

// batch goes through the steps of bringing a batch of items back, and keeps the journal. Its steps, each for all items, are: make ready
// under temporary names and keep what must give way; make that last, and record what will arrive; give final names; make those last; take
// out of the stores; record. What befalls single items is in their outcomes; errors are of the records or the stores as a whole.
type batch struct {
	r       *Steps
	ctx     context.Context
	receipt int64
	items   []catalogue.ReceiptItem
	all     []*journal.Carried // those of the items that are to be carried out
	open    *hands.Hands
	targets targets
}

// newBatch loads the items that nothing was done with yet. Close it.
func (s *Steps) newBatch(ctx context.Context, receipt int64, items []catalogue.ReceiptItem) (*batch, error) {
	b := s.emptyBatch(ctx, receipt, items)
	for n := range items {
		if items[n].Outcome != catalogue.ItemWaiting {
			continue
		}
		it, err := journal.Load(&items[n])
		if err != nil {
			b.close()
			return nil, err
		}
		if !it.Work.Away {
			it.Source, it.Err = b.open.SourceByID(items[n].Source)
		}
		b.all = append(b.all, it)
	}
	return b, nil
}

func (s *Steps) emptyBatch(ctx context.Context, receipt int64, items []catalogue.ReceiptItem) *batch {
	open := hands.New(ctx, s.Site)
	return &batch{r: s, ctx: ctx, receipt: receipt, items: items, open: open, targets: s.newTargets(ctx, receipt, open)}
}

func (b *batch) close() {
	b.targets.Close()
	b.open.Close()
}

// alone tells whether these are folders that come without what is in them.
func (b *batch) alone() bool { return len(b.all) > 0 && b.all[0].Work.Alone }

// ready makes all items ready, and tells at of each.
func (b *batch) ready(at func(path string)) {
	journal.SideBySide(b.all, func(it *journal.Carried) {
		at(it.Item.To.Path)
		it.Err = b.targets.Ready(it)
	})
}

// finish does what remains to be done with items that are ready. It goes on even if the service is asked to stop.
func (b *batch) finish() error {
	b.ctx = context.WithoutCancel(b.ctx)
	b.targets.Uninterrupted()
	if err := b.commitReady(); err != nil {
		return err
	}
	for _, it := range b.all {
		if it.Err == nil {
			it.Err = b.targets.Arrive(it)
		}
	}
	b.targets.Settled(b.all)
	b.takeOut()
	return b.record()
}

// commitReady makes what was written last and records it with what will arrive, so that after a crash what arrived can be told
// from everything else.
func (b *batch) commitReady() error {
	b.targets.Last(b.all)
	for _, it := range b.all {
		if it.Err != nil {
			continue
		}
		if it.Err = it.Store(); it.Err == nil {
			it.Item.Outcome = catalogue.ItemStarted
		}
	}
	return b.r.Site.Catalogue.Receipts.SaveItems(b.ctx, b.receipt, b.items)
}

// takeOut removes copied items from their stores, where they are still what was copied, and makes the stores forget all that
// arrived.
func (b *batch) takeOut() {
	slips := map[copies.SourceID][]source.Slip{}
	stores := map[copies.SourceID]source.Emptied{}
	for _, it := range b.all {
		store, ok := source.AsEmptied(it.Source)
		if !it.Arrived || !it.Work.Leaves || !ok {
			continue
		}
		if !it.Work.Renames {
			if err := b.targets.tree.TakeOut(it); original.IgnoreGone(err) != nil { // gone: out already, where a crash came in between
				why := remark.Said(say.BringBackError(err))
				if errors.Is(err, target.ErrChanged) {
					why = remark.New("changed-since-copied")
				}
				it.Note("not-taken-out", "why", why)
				it.Work.Leaves = false // so an undo only removes what arrived
				continue
			}
		}
		stores[it.Item.Source] = store
		slips[it.Item.Source] = append(slips[it.Item.Source], it.Work.Slip)
	}
	for id, store := range stores {
		if err := store.TakeOut(b.ctx, slips[id]); err != nil {
			for _, it := range b.all {
				if it.Arrived && it.Item.Source == id {
					it.Note("record-held", "why", say.BringBackError(err))
				}
			}
		}
	}
}

// record enters how the batch went into the receipt and the catalogue.
func (b *batch) record() error {
	var left []copies.ID
	for _, it := range b.all {
		switch {
		case it.Arrived:
			it.Item.Outcome = catalogue.ItemDone
			if it.Partly.Any() {
				it.Item.Outcome = catalogue.ItemPartly
				journal.Note(it.Item, it.Partly)
			}
			if err := b.targets.tree.Print(it); err != nil {
				it.Note("changed-after", "why", say.BringBackError(err))
			}
			if it.Work.Leaves {
				left = append(left, it.Item.Copy)
			}
		case errors.Is(it.Err, target.ErrPassed):
			it.Item.Outcome = catalogue.ItemSkipped
			it.Note("passed")
		case errors.Is(it.Err, target.ErrAway):
			it.Item.Outcome, it.Item.Note = catalogue.ItemUnsettled, say.Notes(it.Item.Note, say.BringBackError(it.Err))
		case it.Err == nil:
			continue
		default:
			it.Item.Outcome, it.Item.Note = catalogue.ItemFailed, say.Notes(it.Item.Note, say.BringBackError(it.Err))
			it.Item.SHA256 = digest.Sum{}
		}
		if err := it.Store(); err != nil {
			return err
		}
	}
	if err := b.r.Site.Catalogue.Receipts.SaveItems(b.ctx, b.receipt, b.items); err != nil {
		return err
	}
	return b.r.Site.Catalogue.Surveys.End(b.ctx, left)
}
