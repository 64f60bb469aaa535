package restore

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/place"
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
func nextBatch(items []catalogue.ReceiptItem) int {
	var bytes int64
	level := levelOf(items[0])
	for n, item := range items {
		if n == batchItems || n > 0 && bytes+item.Size > batchBytes || levelOf(item) != level {
			return n
		}
		bytes += item.Size
	}
	return len(items)
}

// Progress tells how far a bring-back or an undo is.
type Progress func(done int64, bytes int64, doing string)

// Carry carries out a receipt that Begin made, and closes it. An item that cannot be brought back does not keep others
// from it; the error then wraps jobs.ErrPart. Where ctx ends because the service stops, the receipt stays open and
// Recover settles it at the next start.
func (r *Restorer) Carry(ctx context.Context, id int64, progress Progress) error {
	if !r.enter(id) {
		return fmt.Errorf("receipt r%d is being worked on", id)
	}
	defer r.Leave(id)
	receipt, err := r.Site.Catalogue.Receipt(ctx, id)
	if err != nil {
		return err
	}
	var done, bytes int64
	c := carrier{r: r, ctx: ctx, receipt: id, at: func(path string) { progress(done, bytes, place.Readable(path)) }}
	for rest := receipt.Items; len(rest) > 0; {
		n := nextBatch(rest)
		if ctx.Err() != nil {
			break
		}
		if err := c.batch(rest[:n]); err != nil {
			return err
		}
		for _, item := range rest[:n] {
			done++
			if item.Outcome == catalogue.ItemDone && item.SHA256 != "" {
				bytes += item.Size
			}
		}
		progress(done, bytes, place.Readable(rest[n-1].To.Path))
		rest = rest[n:]
	}
	if ctx.Err() != nil && !jobs.Cancelled(ctx) {
		return ctx.Err()
	}
	return r.close(context.WithoutCancel(ctx), id, "not begun: the bring-back was cancelled before it")
}

// close settles what was not begun, takes the final prints of folders that later items were put into, and closes.
func (r *Restorer) close(ctx context.Context, id int64, notBegun string) error {
	receipt, err := r.Site.Catalogue.Receipt(ctx, id)
	if err != nil {
		return err
	}
	var changed []catalogue.ReceiptItem
	failed, done := 0, 0
	for _, item := range receipt.Items {
		switch item.Outcome {
		case catalogue.ItemUnsettled:
			return nil // it is settled once its place is back
		case catalogue.ItemWaiting, catalogue.ItemStarted:
			item.Outcome, item.Note = catalogue.ItemFailed, joinNotes(item.Note, notBegun)
			changed = append(changed, item)
			failed++
		case catalogue.ItemFailed, catalogue.ItemRefused:
			failed++
		case catalogue.ItemDone:
			done++
		}
	}
	if err := r.datedFolders(ctx, receipt); err != nil {
		return err
	}
	again, err := r.printAgain(ctx, receipt)
	if err != nil {
		return err
	}
	if err := r.Site.Catalogue.SaveItems(ctx, id, append(changed, again...)); err != nil {
		return err
	}
	state := catalogue.ReceiptDone
	switch {
	case failed > 0 && done > 0:
		state = catalogue.ReceiptPart
	case failed > 0:
		state = catalogue.ReceiptFailed
	}
	if err := r.Site.Catalogue.CloseReceipt(ctx, id, state, r.Now()); err != nil {
		return err
	}
	switch state {
	case catalogue.ReceiptPart:
		return fmt.Errorf("%w: %d of %d items were not brought back; receipt r%d says why", jobs.ErrPart, failed, len(receipt.Items), id)
	case catalogue.ReceiptFailed:
		return fmt.Errorf("nothing was brought back; receipt r%d says why", id)
	}
	return nil
}

// printAgain takes the prints of folders anew that other items of the same receipt were put into.
func (r *Restorer) printAgain(ctx context.Context, receipt catalogue.Receipt) ([]catalogue.ReceiptItem, error) {
	parents := map[place.Place]bool{}
	for _, item := range receipt.Items {
		if item.Outcome == catalogue.ItemDone {
			for path := place.Folder(item.To.Path); path != "/"; path = place.Folder(path) {
				parents[place.Place{Machine: item.To.Machine, Path: path}] = true
			}
		}
	}
	open := newHandles(ctx, r.Site)
	defer open.close()
	target := r.newTarget(ctx, receipt.ID, open)
	var changed []catalogue.ReceiptItem
	for _, item := range receipt.Items {
		if item.Outcome != catalogue.ItemDone || item.Type != entry.Folder || !parents[item.To] {
			continue
		}
		c, err := load(item)
		if err != nil {
			return nil, err
		}
		if c.work.Alone {
			continue
		}
		if err := target.print(c); err == nil { // gone already: the undo will say so
			if err := c.store(); err != nil {
				return nil, err
			}
			changed = append(changed, *c.item)
		}
	}
	return changed, nil
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
	var all []*carried
	for n := range items {
		if items[n].Outcome != catalogue.ItemWaiting {
			continue
		}
		it, err := load(items[n])
		if err != nil {
			return err
		}
		it.item = &items[n]
		if !it.work.Away {
			it.source, it.err = c.open.sourceByID(items[n].Source)
		}
		if it.err == nil {
			c.at(it.item.To.Path)
			it.err = c.target.ready(it)
		}
		all = append(all, it)
	}
	// From here on the batch is finished even if the service is asked to stop.
	stoppable := c.ctx
	defer func() { c.ctx = stoppable }()
	c.ctx = context.WithoutCancel(c.ctx)
	c.target.uninterrupted()
	if err := c.commitReady(all); err != nil {
		return err
	}
	for _, it := range all {
		if it.err == nil {
			it.err = c.target.arrive(it)
		}
	}
	c.target.settled(all)
	c.takeOut(all)
	return c.record(all)
}

// commitReady makes what was written last and records it with what will arrive, so that after a crash what arrived can be told
// from everything else.
func (c *carrier) commitReady(all []*carried) error {
	var save []catalogue.ReceiptItem
	for _, it := range all {
		if it.err != nil {
			continue
		}
		if it.err = c.target.last(it); it.err != nil {
			continue
		}
		if it.err = it.store(); it.err == nil {
			item := *it.item
			item.Outcome = catalogue.ItemStarted
			save = append(save, item)
		}
	}
	return c.r.Site.Catalogue.SaveItems(c.ctx, c.receipt, save)
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
func (c *carrier) record(all []*carried) error {
	save := make([]catalogue.ReceiptItem, 0, len(all))
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
		save = append(save, *it.item)
	}
	if err := c.r.Site.Catalogue.SaveItems(c.ctx, c.receipt, save); err != nil {
		return err
	}
	return c.r.Site.Catalogue.EndCopies(c.ctx, left)
}
