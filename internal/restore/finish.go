package restore

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"math"

	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/plan"
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

// takeOut removes copied items from their stores and makes the stores forget all that arrived.
func (c *carrier) takeOut(all []*carried) {
	held := map[int64][]source.Holding{}
	givers := map[int64]source.Giver{}
	for _, it := range all {
		giver, ok := it.source.(source.Giver)
		if !it.arrived || !it.work.Leaves || !ok {
			continue
		}
		if !it.work.Renames {
			from, err := c.open.parent(it.item.From)
			if err == nil {
				err = removeTree(c.ctx, from, it.item.From.Name())
			}
			if ignoreGone(err) != nil { // out already, where a crash came in between
				it.item.Note = joinNotes(it.item.Note, "it arrived, but could not be taken out of its store: "+Explain(err))
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

// record enters how the batch went into the receipt and the catalogue.
func (c *carrier) record(all []*carried) error {
	save := make([]catalogue.ReceiptItem, 0, len(all))
	var left []int64
	for _, it := range all {
		if !it.arrived && it.err != nil {
			c.removeTemporary(it) // of all items, before any folder made for one of them can be removed
		}
	}
	for _, it := range all {
		switch {
		case it.arrived:
			it.item.Outcome = catalogue.ItemDone
			if err := errors.Join(it.digestArrived(c.open), it.printArrived(c.open)); err != nil {
				it.item.Note = joinNotes(it.item.Note, "it arrived and then changed: "+Explain(err))
			}
			if it.work.Leaves {
				left = append(left, it.item.Copy)
			}
		case errors.Is(it.err, errPassed):
			it.item.Outcome, it.item.Note = catalogue.ItemSkipped, joinNotes(it.item.Note, errPassed.Error())
			removeMade(c.open, it)
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

// digestArrived takes the digest of a file that was renamed and therefore never read; a copied one's is known.
func (c *carried) digestArrived(open *handles) error {
	if c.work.Away || c.item.SHA256 != "" || c.item.Type != plan.File {
		return nil
	}
	folder, err := open.parent(c.item.To)
	if err != nil {
		return err
	}
	f, err := folder.Open(c.item.To.Name())
	if err != nil {
		return err
	}
	defer f.Close()
	h := sha256.New()
	if _, err := io.Copy(h, io.NewSectionReader(f, 0, math.MaxInt64)); err != nil {
		return fmt.Errorf("read it where it arrived: %w", err)
	}
	c.item.SHA256 = hex.EncodeToString(h.Sum(nil))
	return nil
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
	c.work.After = identify(info)
	if c.work.Alone { // what goes into it has items of its own
		return nil
	}
	c.work.After.Print, err = print(open.ctx, folder, c.item.To.Name())
	return err
}

// removeTemporary removes what was written of an item that did not arrive.
func (c *carrier) removeTemporary(it *carried) {
	folder, err := c.open.parent(it.item.To)
	if err != nil || it.work.Renames {
		return
	}
	if err := ignoreGone(removeTree(c.ctx, folder, temporary(c.receipt, it.item.N, endPart))); err != nil {
		it.item.Note = joinNotes(it.item.Note, "a temporary file could not be removed: "+Explain(err))
	}
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
