package steps

import (
	"context"
	"errors"
	"fmt"

	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/jobs"
	"humble-rewind/internal/restore/hands"
	"humble-rewind/internal/restore/journal"
	"humble-rewind/internal/say"
)

// close settles what was not begun, takes the final prints of folders that later items were put into, and closes.
func (s *Steps) close(ctx context.Context, id int64, notBegun string) error {
	batches, err := s.Site.Catalogue.Receipts.Batches(ctx, id)
	if err != nil {
		return err
	}
	c := closing{r: s, receipt: id, notBegun: notBegun, open: hands.New(ctx, s.Site)}
	defer c.open.Close()
	for _, first := range batches {
		items, err := s.Site.Catalogue.Receipts.Batch(ctx, id, first)
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
	if err := s.datedFolders(c.open, id, c.alone); err != nil {
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
	if err := s.Site.Catalogue.Receipts.Close(ctx, id, state, s.Now()); err != nil {
		return err
	}
	switch state {
	case catalogue.ReceiptPart:
		return fmt.Errorf("%w: %d of %d items were not brought back, or not whole; receipt r%d says why", jobs.ErrPart, c.failed, c.all, id)
	case catalogue.ReceiptFailed:
		return fmt.Errorf("nothing was brought back; receipt r%d says why", id)
	}
	return nil
}

// closing is a receipt being closed, batch after batch.
type closing struct {
	r        *Steps
	receipt  int64
	notBegun string
	open     *hands.Hands

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
			item.Outcome, item.Note = catalogue.ItemFailed, say.Notes(item.Note, c.notBegun)
			changed = append(changed, item)
			c.failed++
		case catalogue.ItemFailed, catalogue.ItemRefused:
			c.failed++
		case catalogue.ItemDone, catalogue.ItemPartly:
			if c.done++; item.Outcome == catalogue.ItemPartly {
				c.failed++
			}
			if err := c.arrived(item); err != nil {
				return err
			}
		}
	}
	if c.unsettled {
		return nil
	}
	return c.r.Site.Catalogue.Receipts.SaveItems(ctx, c.receipt, changed)
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
	w, err := journal.Decode(item.Work)
	if errors.Is(err, journal.ErrUnreadable) {
		return nil
	}
	if err != nil {
		return err
	}
	if w.Alone {
		c.alone = append(c.alone, datedFolder{item.To, w.FolderTime()})
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
	target := c.r.newTree(ctx, c.receipt, c.open)
	var changed []catalogue.ReceiptItem
	for at := range c.filled {
		item := c.whole[at]
		it, err := journal.Load(&item)
		if err != nil {
			return err
		}
		if err := target.Print(it); err != nil {
			continue // gone already: the undo will say so
		}
		if err := it.Store(); err != nil {
			return err
		}
		changed = append(changed, *it.Item)
	}
	return c.r.Site.Catalogue.Receipts.SaveItems(ctx, c.receipt, changed)
}
