package restore

import (
	"context"
	"errors"

	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/core/digest"
	"humble-rewind/internal/reach"
	"humble-rewind/internal/source"
)

// batch goes through the steps of bringing a batch of items back, and keeps the journal. Its steps, each for all items, are: make ready
// under temporary names and keep what must give way; make that last, and record what will arrive; give final names; make those last; take
// out of the stores; record. What befalls single items is in their outcomes; errors are of the records or the stores as a whole.
type batch struct {
	r       *Restorer
	ctx     context.Context
	receipt int64
	items   []catalogue.ReceiptItem
	all     []*carried // those of the items that are to be carried out
	open    *handles
	target  target
}

// newBatch loads the items that nothing was done with yet. Close it.
func (r *Restorer) newBatch(ctx context.Context, receipt int64, items []catalogue.ReceiptItem) (*batch, error) {
	b := r.emptyBatch(ctx, receipt, items)
	for n := range items {
		if items[n].Outcome != catalogue.ItemWaiting {
			continue
		}
		it, err := load(&items[n])
		if err != nil {
			b.close()
			return nil, err
		}
		if !it.work.Away {
			it.source, it.err = b.open.sourceByID(items[n].Source)
		}
		b.all = append(b.all, it)
	}
	return b, nil
}

func (r *Restorer) emptyBatch(ctx context.Context, receipt int64, items []catalogue.ReceiptItem) *batch {
	open := newHandles(ctx, r.Site)
	return &batch{r: r, ctx: ctx, receipt: receipt, items: items, open: open, target: r.newTargets(ctx, receipt, open)}
}

func (b *batch) close() {
	b.target.close()
	b.open.close()
}

// alone tells whether these are folders that come without what is in them.
func (b *batch) alone() bool { return len(b.all) > 0 && b.all[0].work.Alone }

// ready makes all items ready, and tells at of each.
func (b *batch) ready(at func(path string)) {
	sideBySide(b.all, func(it *carried) {
		at(it.item.To.Path)
		it.err = b.target.ready(it)
	})
}

// finish does what remains to be done with items that are ready. It goes on even if the service is asked to stop.
func (b *batch) finish() error {
	b.ctx = context.WithoutCancel(b.ctx)
	b.target.uninterrupted()
	if err := b.commitReady(); err != nil {
		return err
	}
	for _, it := range b.all {
		if it.err == nil {
			it.err = b.target.arrive(it)
		}
	}
	b.target.settled(b.all)
	b.takeOut()
	return b.record()
}

// sideBySide does something with each item that nothing has kept back yet.
func sideBySide(all []*carried, do func(it *carried)) {
	_ = reach.SideBySide(len(all), func(n int) error { // which has nothing to say: each item keeps its own error
		if all[n].err == nil {
			do(all[n])
		}
		return nil
	})
}

// commitReady makes what was written last and records it with what will arrive, so that after a crash what arrived can be told
// from everything else.
func (b *batch) commitReady() error {
	b.target.last(b.all)
	for _, it := range b.all {
		if it.err != nil {
			continue
		}
		if it.err = it.store(); it.err == nil {
			it.item.Outcome = catalogue.ItemStarted
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
		store, ok := source.AsEmptied(it.source)
		if !it.arrived || !it.work.Leaves || !ok {
			continue
		}
		if !it.work.Renames {
			if err := b.target.takeOut(it); ignoreGone(err) != nil { // gone: out already, where a crash came in between
				why := Explain(err)
				if errors.Is(err, errChanged) {
					why = "it changed since it was copied; what was added is there"
				}
				it.item.Note = joinNotes(it.item.Note, "it arrived, but was not taken out of its store: "+why)
				it.work.Leaves = false // so an undo only removes what arrived
				continue
			}
		}
		stores[it.item.Source] = store
		slips[it.item.Source] = append(slips[it.item.Source], it.work.Slip)
	}
	for id, store := range stores {
		if err := store.TakeOut(b.ctx, slips[id]); err != nil {
			for _, it := range b.all {
				if it.arrived && it.item.Source == id {
					it.item.Note = joinNotes(it.item.Note, "its store still holds the record of it: "+Explain(err))
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
		case it.arrived:
			it.item.Outcome = catalogue.ItemDone
			if it.partly != "" {
				it.item.Outcome, it.item.Note = catalogue.ItemPartly, joinNotes(it.item.Note, it.partly)
			}
			if err := b.target.print(it); err != nil {
				it.item.Note = joinNotes(it.item.Note, "it arrived and then changed: "+Explain(err))
			}
			if it.work.Leaves {
				left = append(left, it.item.Copy)
			}
		case errors.Is(it.err, errPassed):
			it.item.Outcome, it.item.Note = catalogue.ItemSkipped, joinNotes(it.item.Note, errPassed.Error())
		case errors.Is(it.err, errAway):
			it.item.Outcome, it.item.Note = catalogue.ItemUnsettled, joinNotes(it.item.Note, Explain(it.err))
		case it.err == nil:
			continue
		default:
			it.item.Outcome, it.item.Note = catalogue.ItemFailed, joinNotes(it.item.Note, Explain(it.err))
			it.item.SHA256 = digest.Sum{}
		}
		if err := it.store(); err != nil {
			return err
		}
	}
	if err := b.r.Site.Catalogue.Receipts.SaveItems(b.ctx, b.receipt, b.items); err != nil {
		return err
	}
	return b.r.Site.Catalogue.Surveys.End(b.ctx, left)
}
