package restore

import (
	"errors"
	"strings"

	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/source"
)

// syncPlaced makes the new names last and, of what was renamed, the removal of the old ones.
func (c *carrier) syncPlaced(all []*carried) {
	synced := map[place.Place]bool{}
	for _, it := range all {
		if !it.arrived {
			continue
		}
		changed := []place.Place{it.item.To}
		if it.work.Renames {
			changed = append(changed, it.item.From)
		}
		for _, p := range changed {
			p.Path = place.Folder(p.Path)
			if synced[p] {
				continue
			}
			synced[p] = true
			folder, err := c.open.folder(p)
			if err == nil {
				err = folder.Sync()
			}
			if err != nil {
				it.item.Note = joinNotes(it.item.Note, "not certain to survive a power cut: "+Explain(err))
			}
		}
	}
}

// takeOut removes copied items from their stores, where they are still what was copied, and makes the stores forget all that
// arrived.
func (c *carrier) takeOut(all []*carried) {
	held := map[int64][]source.Holding{}
	givers := map[int64]source.Giver{}
	for _, it := range all {
		giver, ok := it.source.(source.Giver)
		if !it.arrived || !it.work.Leaves || !ok {
			continue
		}
		if !it.work.Renames {
			if err := c.removeCopied(it); ignoreGone(err) != nil { // gone: out already, where a crash came in between
				why := Explain(err)
				if errors.Is(err, errChanged) {
					why = "it changed since it was copied; what was added is there"
				}
				it.item.Note = joinNotes(it.item.Note, "it arrived, but was not taken out of its store: "+why)
				it.work.Leaves = false // so an undo only removes what arrived
				continue
			}
		}
		givers[it.item.Source] = giver
		held[it.item.Source] = append(held[it.item.Source], it.work.Held)
	}
	for id, giver := range givers {
		if err := giver.Release(c.ctx, held[id]); err != nil {
			for _, it := range all {
				if it.arrived && it.item.Source == id {
					it.item.Note = joinNotes(it.item.Note, "its store still holds the record of it: "+Explain(err))
				}
			}
		}
	}
}

// removeCopied removes a copied item from its store. It is looked at right before, and again where nobody can change it.
func (c *carrier) removeCopied(it *carried) error {
	from, err := c.open.parent(it.item.From)
	if err != nil {
		return err
	}
	now, err := look(c.ctx, from, it.item.From.Name())
	if err != nil {
		return err
	}
	if !it.work.Before.isStill(now) || it.work.Before.Changed != now.Changed {
		return errChanged
	}
	st, err := c.stages.on(c.ctx, from, parentOf(it.item.From))
	if err != nil {
		return err
	}
	name := staged(it.item.N, endTaken)
	if err := st.take(c.ctx, from, it.item.From.Name(), now, name); err != nil {
		return err
	}
	return removeTree(c.ctx, st, name)
}

// record enters how the batch went into the receipt and the catalogue.
func (c *carrier) record(all []*carried) error {
	save := make([]catalogue.ReceiptItem, 0, len(all))
	var left []int64
	c.stages.close(c.ctx, c.open) // before any folder that was made for an item can be removed
	for _, it := range all {
		switch {
		case it.arrived:
			it.item.Outcome = catalogue.ItemDone
			if err := it.printArrived(c.open); err != nil {
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

// printArrived takes the print of what arrived, by which an undo tells whether it was touched since.
func (c *carried) printArrived(open *handles) error {
	if c.work.Away {
		return nil
	}
	folder, err := open.parent(c.item.To)
	if err != nil {
		return err
	}
	info, err := folder.Lstat(c.item.To.Name())
	if err != nil {
		return err
	}
	inside := c.work.After.Inside
	c.work.After = identify(info)
	c.work.After.Inside = inside
	if c.work.Alone { // what goes into it has items of its own
		return nil
	}
	c.work.After.Print, err = print(open.ctx, folder, c.item.To.Name())
	return err
}

// removeMade removes the folders that were made for an item, innermost first, as far as they are empty.
func removeMade(open *handles, it *carried) {
	for n := len(it.work.Made) - 1; n >= 0; n-- {
		p := place.Place{Machine: it.item.To.Machine, Path: string(it.work.Made[n])}
		folder, err := open.parent(p)
		if err != nil || folder.Remove(p.Name()) != nil {
			return // something else is in it by now
		}
		open.drop(p)
	}
}
