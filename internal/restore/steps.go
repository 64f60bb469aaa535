package restore

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"golang.org/x/sync/errgroup"

	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/plan"
	"humble-rewind/internal/jobs"
	"humble-rewind/internal/source"
)

// A batch is what is written between two syncs and two entries in the receipt: large enough that syncing many small
// files costs little, small enough that a crash leaves little to settle.
const (
	batchItems = 2000
	batchBytes = 256 << 20
)

// nextBatch tells how many of the items make up the next batch. Folders that come without what is in them are batches of
// their own, a level at a time: what goes into them needs them under their final names.
func nextBatch(items []plan.Item) int {
	var bytes int64
	for n, item := range items {
		if n == batchItems || n > 0 && (bytes+item.Size > batchBytes || levelOf(item) != levelOf(items[0])) {
			return n
		}
		bytes += item.Size
	}
	return len(items)
}

// Progress tells how far a bring-back or an undo is. It may be called by several at once.
type Progress func(done int64, bytes int64, doing string)

// Carry carries out a receipt that Begin made, and closes it. An item that cannot be brought back does not keep others
// from it; the error then wraps jobs.ErrPart. Where ctx ends because the service stops, the receipt stays open and
// Recover settles it at the next start.
func (r *Restorer) Carry(ctx context.Context, id int64, progress Progress) error {
	if !r.enter(id) {
		return fmt.Errorf("receipt r%d is being worked on", id)
	}
	defer r.Leave(id)
	batches, err := r.Site.Catalogue.Batches(ctx, id)
	if err != nil {
		return err
	}
	var done, bytes int64
	c := carrier{r: r, ctx: ctx, receipt: id, at: func(path string) { progress(done, bytes, place.Readable(path)) }}
	for _, first := range batches {
		if ctx.Err() != nil {
			break
		}
		items, err := r.Site.Catalogue.Batch(ctx, id, first)
		if err != nil {
			return err
		}
		if err := c.batch(items); err != nil {
			return err
		}
		for _, item := range items {
			done++
			if item.Outcome == catalogue.ItemDone && item.SHA256 != "" {
				bytes += item.Size
			}
		}
		progress(done, bytes, place.Readable(items[len(items)-1].To.Path))
	}
	if ctx.Err() != nil && !jobs.Cancelled(ctx) {
		return ctx.Err()
	}
	return r.close(context.WithoutCancel(ctx), id, "not begun: the bring-back was cancelled before it")
}

// close settles what was not begun, takes the final prints of folders that later items were put into, and closes.
func (r *Restorer) close(ctx context.Context, id int64, notBegun string) error {
	batches, err := r.Site.Catalogue.Batches(ctx, id)
	if err != nil {
		return err
	}
	c := closing{r: r, receipt: id, notBegun: notBegun, open: newHandles(ctx, r.Site)}
	defer c.open.close()
	for _, first := range batches {
		items, err := r.Site.Catalogue.Batch(ctx, id, first)
		if err != nil {
			return err
		}
		if err := c.batch(ctx, items); err != nil {
			return err
		}
	}
	if c.unsettled {
		return nil // it is settled once its place is back
	}
	if err := r.datedFolders(c.open, id, c.alone); err != nil {
		return err
	}
	if err := c.printAgain(ctx); err != nil {
		return err
	}
	state := catalogue.ReceiptDone
	switch {
	case c.failed > 0 && c.done > 0:
		state = catalogue.ReceiptPart
	case c.failed > 0:
		state = catalogue.ReceiptFailed
	}
	if err := r.Site.Catalogue.CloseReceipt(ctx, id, state, r.Now()); err != nil {
		return err
	}
	switch state {
	case catalogue.ReceiptPart:
		return fmt.Errorf("%w: %d of %d items were not brought back; receipt r%d says why", jobs.ErrPart, c.failed, c.all, id)
	case catalogue.ReceiptFailed:
		return fmt.Errorf("nothing was brought back; receipt r%d says why", id)
	}
	return nil
}

// closing is a receipt being closed, batch after batch.
type closing struct {
	r        *Restorer
	receipt  int64
	notBegun string
	open     *handles

	all, done, failed int
	unsettled         bool
	alone             []datedFolder                         // folders that came without what is in them, in their order
	whole             map[place.Place]catalogue.ReceiptItem // folders that came with what is in them
	filled            map[place.Place]bool                  // those of them that other items were put into
}

// batch counts how the items of a batch ended, and says of those that were not begun that they were not.
func (c *closing) batch(ctx context.Context, items []catalogue.ReceiptItem) error {
	var changed []catalogue.ReceiptItem
	for _, item := range items {
		c.all++
		switch item.Outcome {
		case catalogue.ItemUnsettled:
			c.unsettled = true
		case catalogue.ItemWaiting, catalogue.ItemStarted:
			item.Outcome, item.Note = catalogue.ItemFailed, joinNotes(item.Note, c.notBegun)
			changed = append(changed, item)
			c.failed++
		case catalogue.ItemFailed, catalogue.ItemRefused:
			c.failed++
		case catalogue.ItemDone:
			c.done++
			if err := c.arrived(item); err != nil {
				return err
			}
		}
	}
	if c.unsettled {
		return nil
	}
	return c.r.Site.Catalogue.SaveItems(ctx, c.receipt, changed)
}

// arrived takes note of what arrived where that is a folder, or went into one that came before: folders do.
func (c *closing) arrived(item catalogue.ReceiptItem) error {
	if len(c.whole) > 0 {
		for path := place.Folder(item.To.Path); path != "/"; path = place.Folder(path) {
			if at := (place.Place{Machine: item.To.Machine, Path: path}); c.whole[at].Outcome != "" {
				c.filled[at] = true
			}
		}
	}
	if item.Type != entry.Folder {
		return nil
	}
	w, err := decodeWork(item.Work)
	if err != nil {
		return err
	}
	if w.Alone {
		c.alone = append(c.alone, datedFolder{item.To, w.dated()})
		return nil
	}
	if c.whole == nil {
		c.whole, c.filled = map[place.Place]catalogue.ReceiptItem{}, map[place.Place]bool{}
	}
	c.whole[item.To] = item
	return nil
}

// printAgain takes the prints of folders anew that other items of the same receipt were put into.
func (c *closing) printAgain(ctx context.Context) error {
	target := c.r.newTarget(ctx, c.receipt, c.open)
	var changed []catalogue.ReceiptItem
	for at := range c.filled {
		it, err := load(c.whole[at])
		if err != nil {
			return err
		}
		if err := target.print(it); err != nil {
			continue // gone already: the undo will say so
		}
		if err := it.store(); err != nil {
			return err
		}
		changed = append(changed, *it.item)
	}
	return c.r.Site.Catalogue.SaveItems(ctx, c.receipt, changed)
}

// carrier goes through the steps of a bring-back, a batch of items at a time, and keeps the journal.
type carrier struct {
	r       *Restorer
	ctx     context.Context
	receipt int64
	at      func(path string) // told what is being written
	open    *handles
	target  target
}

// batch brings one batch of items back. An error is one of the records or the stores as a whole; what befalls single
// items is in their outcomes. Its steps, each for all items, are: make ready under temporary names and keep what must
// give way; make that last, and record what will arrive; give final names; make those last; take out of the stores; record.
func (c *carrier) batch(items []catalogue.ReceiptItem) error {
	c.open = newHandles(c.ctx, c.r.Site)
	c.target = c.r.newTarget(c.ctx, c.receipt, c.open)
	defer func() {
		c.target.close()
		c.open.close()
	}()
	all, err := c.loadWaiting(items)
	if err != nil {
		return err
	}
	sideBySide(all, func(it *carried) {
		c.at(it.item.To.Path)
		it.err = c.target.ready(it)
	})
	// From here on the batch is finished even if the service is asked to stop.
	stoppable := c.ctx
	defer func() { c.ctx = stoppable }()
	c.ctx = context.WithoutCancel(c.ctx)
	c.target.uninterrupted()
	if err := c.commitReady(items, all); err != nil {
		return err
	}
	for _, it := range all {
		if it.err == nil {
			it.err = c.target.arrive(it)
		}
	}
	c.target.settled(all)
	c.takeOut(all)
	return c.record(items, all)
}

// loadWaiting loads the items of a batch that nothing was done with yet.
func (c *carrier) loadWaiting(items []catalogue.ReceiptItem) (all []*carried, err error) {
	for n := range items {
		if items[n].Outcome != catalogue.ItemWaiting {
			continue
		}
		it, err := load(items[n])
		if err != nil {
			return nil, err
		}
		it.item = &items[n]
		if !it.work.Away {
			it.source, it.err = c.open.sourceByID(items[n].Source)
		}
		all = append(all, it)
	}
	return all, nil
}

// workers is how many items are made ready, or read back, side by side: some wait for the drive while others use the processor.
const workers = 4

// sideBySide does something with each item that nothing has kept back yet.
func sideBySide(all []*carried, do func(it *carried)) {
	var group errgroup.Group
	group.SetLimit(workers)
	const together = 16 // so that what is small is not handed over one by one
	for some := range slices.Chunk(all, together) {
		group.Go(func() error {
			for _, it := range some {
				if it.err == nil {
					do(it)
				}
			}
			return nil
		})
	}
	_ = group.Wait() // which has nothing to say: each item keeps its own error
}

// commitReady makes what was written last and records it with what will arrive, so that after a crash what arrived can be told
// from everything else.
func (c *carrier) commitReady(items []catalogue.ReceiptItem, all []*carried) error {
	c.target.last(all)
	for _, it := range all {
		if it.err != nil {
			continue
		}
		if it.err = it.store(); it.err == nil {
			it.item.Outcome = catalogue.ItemStarted
		}
	}
	return c.r.Site.Catalogue.SaveItems(c.ctx, c.receipt, items)
}

// takeOut removes copied items from their stores, where they are still what was copied, and makes the stores forget all that
// arrived.
func (c *carrier) takeOut(all []*carried) {
	slips := map[int64][]source.Slip{}
	stores := map[int64]source.Emptied{}
	for _, it := range all {
		store, ok := source.AsEmptied(it.source)
		if !it.arrived || !it.work.Leaves || !ok {
			continue
		}
		if !it.work.Renames {
			if err := c.target.takeOut(it); ignoreGone(err) != nil { // gone: out already, where a crash came in between
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
		if err := store.TakeOut(c.ctx, slips[id]); err != nil {
			for _, it := range all {
				if it.arrived && it.item.Source == id {
					it.item.Note = joinNotes(it.item.Note, "its store still holds the record of it: "+Explain(err))
				}
			}
		}
	}
}

// record enters how the batch went into the receipt and the catalogue.
func (c *carrier) record(items []catalogue.ReceiptItem, all []*carried) error {
	var left []int64
	c.target.close() // before any folder that was made for an item can be removed
	for _, it := range all {
		switch {
		case it.arrived:
			it.item.Outcome = catalogue.ItemDone
			if err := c.target.print(it); err != nil {
				it.item.Note = joinNotes(it.item.Note, "it arrived and then changed: "+Explain(err))
			}
			if it.work.Leaves {
				left = append(left, it.item.Copy)
			}
		case errors.Is(it.err, errPassed):
			it.item.Outcome, it.item.Note = catalogue.ItemSkipped, joinNotes(it.item.Note, errPassed.Error())
			removeMade(c.open, it)
		case errors.Is(it.err, errAway):
			it.item.Outcome = catalogue.ItemUnsettled
			if note := Explain(it.err); !strings.Contains(it.item.Note, note) {
				it.item.Note = joinNotes(it.item.Note, note)
			}
		case it.err == nil:
			continue
		default:
			it.item.Outcome, it.item.Note = catalogue.ItemFailed, joinNotes(it.item.Note, Explain(it.err))
			it.item.SHA256 = ""
			removeMade(c.open, it)
		}
		if err := it.store(); err != nil {
			return err
		}
	}
	if err := c.r.Site.Catalogue.SaveItems(c.ctx, c.receipt, items); err != nil {
		return err
	}
	return c.r.Site.Catalogue.EndCopies(c.ctx, left)
}
