package steps

import (
	"context"
	"fmt"
	"sync/atomic"

	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/jobs"
	"humble-rewind/internal/restore/hands"
	"humble-rewind/internal/restore/journal"
	"humble-rewind/internal/restore/target"
)

// A batch is what is written between two syncs and two entries in the receipt: large enough that syncing many small
// files costs little, small enough that a crash leaves little to settle.
const (
	batchItems = 2000
	batchBytes = 256 << 20
)

// batching divides items into batches. Folders that come without what is in them are batches of their own, a level at a time: what goes
// into them needs them under their final names.
type batching struct {
	put   func([]catalogue.ReceiptItem) error
	items []catalogue.ReceiptItem
	bytes int64
	level int
}

func (b *batching) add(item catalogue.ReceiptItem, level int) error {
	if n := len(b.items); n == batchItems || n > 0 && (b.bytes+item.Size > batchBytes || level != b.level) {
		if err := b.end(); err != nil {
			return err
		}
	}
	b.items, b.bytes, b.level = append(b.items, item), b.bytes+item.Size, level
	return nil
}

// end puts what is left.
func (b *batching) end() error {
	if len(b.items) == 0 {
		return nil
	}
	err := b.put(b.items)
	b.items, b.bytes = b.items[:0], 0
	return err
}

// Progress tells how far a bring-back or an undo is. It may be called by several at once.
type Progress func(done int64, bytes int64, doing string)

// Carry carries out a receipt that Begin made, and closes it. An item that cannot be brought back does not keep others
// from it; the error then wraps jobs.ErrPart. Where ctx ends because the service stops, the receipt stays open and
// Recover settles it at the next start.
func (s *Steps) Carry(ctx context.Context, id int64, progress Progress) error {
	if !s.enter(id) {
		return fmt.Errorf("receipt r%d is being worked on", id)
	}
	defer s.Leave(id)
	batches, err := s.Site.Catalogue.Receipts.Batches(ctx, id)
	if err != nil {
		return err
	}
	c := carrying{r: s, ctx: ctx, receipt: id, progress: progress}
	if err := c.all(batches); err != nil {
		return err
	}
	c.removeMade()
	if ctx.Err() != nil && !jobs.Cancelled(ctx) {
		return ctx.Err()
	}
	return s.close(context.WithoutCancel(ctx), id, "not begun: the bring-back was cancelled before it")
}

// carrying is a receipt being carried out: while what one batch wrote is made to last and gets its names, the next is written.
type carrying struct {
	r           *Steps
	ctx         context.Context
	receipt     int64
	progress    Progress
	done, bytes atomic.Int64
	made        []*journal.Carried // that did not arrive, with the folders that were made for them
}

// all carries out batch after batch, and ends early where the context does.
func (c *carrying) all(batches []int64) error {
	var before *batch
	finish := func() error {
		b := before
		before = nil
		if b == nil {
			return nil
		}
		return c.finish(b)
	}
	for _, first := range batches {
		if c.ctx.Err() != nil {
			break
		}
		items, err := c.r.Site.Catalogue.Receipts.Batch(context.WithoutCancel(c.ctx), c.receipt, first)
		if err != nil {
			return c.end(before, err)
		}
		next, err := c.r.newBatch(c.ctx, c.receipt, items)
		if err != nil {
			return c.end(before, err)
		}
		if next.alone() { // what goes into these folders needs them under their names
			if err := finish(); err != nil {
				return c.end(next, err)
			}
			c.ready(next)
			if err := c.finish(next); err != nil {
				return err
			}
			continue
		}
		finished := make(chan error, 1)
		go func() { finished <- finish() }()
		c.ready(next)
		if err := <-finished; err != nil {
			return c.end(next, err)
		}
		before = next
	}
	return finish()
}

// ready makes a batch ready.
func (c *carrying) ready(b *batch) {
	b.ready(func(path string) { c.progress(c.done.Load(), c.bytes.Load(), place.Readable(path)) })
}

// end closes a batch that will not be finished, and passes an error on.
func (c *carrying) end(b *batch, err error) error {
	if b != nil {
		b.close()
	}
	return err
}

// finish finishes a batch and tells how far all is.
func (c *carrying) finish(b *batch) error {
	defer b.close()
	if err := b.finish(); err != nil {
		return err
	}
	for _, item := range b.items {
		c.done.Add(1)
		if item.Outcome == catalogue.ItemDone && item.SHA256.Known() {
			c.bytes.Add(item.Size)
		}
	}
	for _, it := range b.all {
		if !it.Arrived && len(it.Work.Made) > 0 {
			c.made = append(c.made, it)
		}
	}
	c.progress(c.done.Load(), c.bytes.Load(), place.Readable(b.items[len(b.items)-1].To.Path))
	return nil
}

// removeMade removes the folders that were made for items that did not arrive, as far as nothing else is in them by now.
func (c *carrying) removeMade() {
	open := hands.New(context.WithoutCancel(c.ctx), c.r.Site)
	defer open.Close()
	for _, it := range c.made {
		target.RemoveMade(open, it)
	}
}
