package restore

import (
	"errors"
	"fmt"
	"io/fs"

	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/core/names"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/plan"
	"humble-rewind/internal/reach"
)

// commitReady makes what was written last and records it, so that after a crash what arrived can be told from what did
// not. Plain renames need neither: their identity is in the receipt from the beginning.
func (c *carrier) commitReady(all []*carried) error {
	settled := map[uint64]bool{}
	var save []catalogue.ReceiptItem
	for _, it := range all {
		if it.err != nil || it.work.Renames && it.work.Aside == nil {
			continue
		}
		folder, err := c.open.parent(it.item.To)
		if err == nil && !it.work.Renames && !it.work.Away && !settled[it.work.After.Device] {
			settled[it.work.After.Device] = true
			err = folder.Settle()
		}
		if err == nil {
			err = it.store()
		}
		if it.err = err; err == nil {
			item := *it.item
			item.Outcome = catalogue.ItemStarted
			save = append(save, item)
		}
	}
	return c.r.Site.Catalogue.SaveItems(c.ctx, c.receipt, save)
}

// place gives an item its final name.
func (c *carrier) place(it *carried) error {
	folder, err := c.open.parent(it.item.To)
	if err != nil {
		return err
	}
	from, name := folder, temporary(c.receipt, it.item.N, endPart)
	if it.work.Renames {
		name = it.item.From.Name()
		if from, err = c.open.parent(it.item.From); err != nil {
			return err
		}
	}
	giveWay := temporary(c.receipt, it.item.N, endAside)
	if it.work.Aside != nil {
		stands, err := folder.Lstat(it.item.To.Name())
		if err == nil && !it.work.Aside.Was.is(stands) {
			err = errors.New("what stands there changed while it was set aside; plan again")
		}
		if err == nil {
			err = folder.Rename(it.item.To.Name(), folder, giveWay)
		}
		if err != nil {
			it.work.Aside = nil
			return err
		}
	}
	if it.work.Away {
		it.arrived = true
	} else if err := c.rename(it, from, name, folder); err != nil {
		if it.work.Aside != nil {
			err = errors.Join(err, folder.Rename(giveWay, folder, it.item.To.Name()))
			it.work.Aside = nil
		}
		return err
	}
	it.arrived = true
	if it.work.Aside != nil {
		if err := removeTree(c.ctx, folder, giveWay); err != nil {
			it.item.Note = joinNotes(it.item.Note, fmt.Sprintf("what was set aside also remains as %s: %v", giveWay, err))
		}
	}
	return nil
}

// rename settles by the rule what came to stand at the destination since the plan was made.
func (c *carrier) rename(it *carried, from reach.Folder, name string, folder reach.Folder) error {
	for try := 0; ; try++ {
		err := from.Rename(name, folder, it.item.To.Name())
		if !errors.Is(err, fs.ErrExist) || try > 5 {
			return err
		}
		switch it.work.Rule {
		case plan.Skip:
			return errPassed
		case plan.SetAside:
			return errors.New("something else has come to stand there since the plan was made; plan again")
		}
		beside := names.Beside(it.item.To.Name(), it.work.DatedBy, it.work.Dated, func(name string) bool {
			_, err := folder.Lstat(name)
			return err == nil
		})
		it.item.To.Path = place.Join(place.Folder(it.item.To.Path), beside)
		it.item.Note = joinNotes(it.item.Note, "something came to stand there since the plan was made; both are kept")
		started := *it.item
		started.Outcome = catalogue.ItemStarted
		if err := c.r.Site.Catalogue.SaveItems(c.ctx, c.receipt, []catalogue.ReceiptItem{started}); err != nil { // where a crash would look for it
			return err
		}
	}
}

var errPassed = errors.New("something came to stand there since the plan was made; skipped")
