package restore

import (
	"context"
	"errors"
	"fmt"
	"io/fs"

	"humble-rewind/internal/catalogue"
)

// Recover settles a receipt whose carrying out was interrupted: what had arrived is finished, what had not is tidied up
// and stays where it was, and the receipt says which is which. It does not go on with items that were not begun.
func (r *Restorer) Recover(ctx context.Context, id int64) error {
	receipt, err := r.Site.Catalogue.Receipt(ctx, id)
	if err != nil || receipt.State != catalogue.ReceiptOpen {
		return err
	}
	for rest := receipt.Items; len(rest) > 0; {
		n := nextBatch(rest)
		if err := r.recoverBatch(ctx, id, rest[:n]); err != nil {
			return err
		}
		rest = rest[n:]
	}
	return r.close(ctx, id, errInterrupted.Error())
}

func (r *Restorer) recoverBatch(ctx context.Context, id int64, items []catalogue.ReceiptItem) error {
	c := carrier{r: r, ctx: ctx, receipt: id, open: newHandles(ctx, r.Site)}
	defer c.open.close()
	var all []*carried
	for n := range items {
		if items[n].Outcome != catalogue.ItemWaiting && items[n].Outcome != catalogue.ItemStarted {
			continue
		}
		it, err := load(items[n])
		if err != nil {
			return err
		}
		it.item = &items[n]
		if !it.work.Away {
			if it.source, err = c.open.sourceByID(items[n].Source); err != nil {
				return fmt.Errorf("recover receipt r%d: %w", id, err)
			}
		}
		if err := c.settle(it); err != nil {
			return fmt.Errorf("recover receipt r%d, item %d: %w", id, items[n].N, err)
		}
		all = append(all, it)
	}
	c.takeOut(all)
	return c.record(all)
}

// errInterrupted is what befell an item that had not arrived when the service was killed.
var errInterrupted = errors.New("not brought back: the service stopped before it")

// settle finds out whether an item had taken its final name, and puts what gave way back where it had not.
func (c *carrier) settle(it *carried) error {
	folder, err := c.open.parent(it.item.To)
	if errors.Is(err, fs.ErrNotExist) {
		it.err = errInterrupted // not even its folder was made
		return nil
	}
	if err != nil {
		return err
	}
	expected := it.work.After
	if it.work.Renames {
		expected = it.work.Before
	}
	stands, err := folder.Lstat(it.item.To.Name())
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	nothing := err != nil
	// Its inode alone tells: somebody may have worked on it since it arrived.
	it.arrived = !nothing && expected.Inode != 0 && expected.Inode == stands.Inode && expected.Device == stands.Device
	giveWay := temporary(c.receipt, it.item.N, endAside)
	if it.work.Away && nothing && it.item.Outcome == catalogue.ItemStarted {
		_, err := folder.Lstat(giveWay)
		it.arrived = errors.Is(err, fs.ErrNotExist) // kept safe, moved away and removed
	}
	if _, err := folder.Lstat(giveWay); err == nil {
		switch {
		case nothing:
			err = folder.Rename(giveWay, folder, it.item.To.Name())
		case it.arrived:
			err = removeTree(c.ctx, folder, giveWay)
		default:
			it.item.Note = joinNotes(it.item.Note, "what stood there before is beside it as "+giveWay)
		}
		if err != nil {
			return err
		}
	}
	if !it.arrived {
		it.work.Aside = nil
		it.err = errInterrupted
	} else {
		it.item.Note = joinNotes(it.item.Note, "finished after the service stopped in between")
	}
	return nil
}

// RecoverAll settles every receipt that the last stop left open. It returns those that could not be settled yet, by
// their numbers with the reasons; they stay open.
func (r *Restorer) RecoverAll(ctx context.Context) (map[int64]error, error) {
	open, err := r.Site.Catalogue.OpenReceipts(ctx)
	if err != nil {
		return nil, err
	}
	unsettled := map[int64]error{}
	for _, id := range open {
		if err := r.Recover(ctx, id); err != nil {
			if receipt, e := r.Site.Catalogue.Receipt(ctx, id); e == nil && receipt.State != catalogue.ReceiptOpen {
				continue // settled; the error only says that not everything arrived
			}
			unsettled[id] = err
		}
	}
	return unsettled, nil
}
