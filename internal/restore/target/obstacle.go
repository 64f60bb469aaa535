package target

import (
	"context"
	"errors"
	"fmt"
	"io/fs"

	"humble-rewind/internal/core/place"
	"humble-rewind/internal/reach"
	"humble-rewind/internal/restore/hands"
	"humble-rewind/internal/restore/journal"
	"humble-rewind/internal/restore/original"
	"humble-rewind/internal/say"
)

// Obstacle says what keeps an item from being put back, or "". arrived are the places of all that the receipt brought.
func (k Keeper) Obstacle(open *hands.Hands, it *journal.Carried, arrived map[place.Place]bool) string {
	folder, err := open.Parent(it.Item.To)
	if it.Work.Away {
		if _, e := open.Look(it.Item.To); e == nil {
			return "something else is there since it was set aside"
		}
		return k.lostAside(it)
	}
	if err == nil {
		_, err = folder.Look(open.Ctx, it.Item.To.Name())
	}
	if errors.Is(err, fs.ErrNotExist) {
		return "it is no longer there"
	}
	if err != nil {
		return say.BringBackError(err)
	}
	if it.Work.Alone {
		if stranger := StrangerIn(open, it.Item.To, arrived); stranger != "" {
			return fmt.Sprintf("%s was put into it since", place.Readable(stranger))
		}
		return k.lostAside(it)
	}
	now, err := original.PrintOf(open.Ctx, folder, it.Item.To.Name())
	if err != nil {
		return say.BringBackError(err)
	}
	if now != it.Work.After.Print {
		return "it was changed after it was brought back, and that work would be lost"
	}
	if it.Work.Leaves {
		if _, err := open.Look(it.Item.From); err == nil {
			return fmt.Sprintf("something else is now where it was, at %s", it.Item.From)
		} else if !errors.Is(err, fs.ErrNotExist) {
			return say.BringBackError(err)
		}
		if _, err := open.Parent(it.Item.From); err != nil {
			return fmt.Sprintf("the folder it lay in is not there any more: %s", say.BringBackError(err))
		}
	}
	return k.lostAside(it)
}

// lostAside says why what was set aside for an item cannot be put back, or "".
func (k Keeper) lostAside(it *journal.Carried) string {
	if it.Work.Aside != nil {
		_, err := k.Kept(*it.Work.Aside)
		if errors.Is(err, fs.ErrNotExist) {
			return "what was set aside for it is no longer kept: it expired"
		}
		if err != nil {
			return fmt.Sprintf("what was set aside for it cannot be read: %s", say.BringBackError(err))
		}
	}
	return ""
}

// StrangerIn names something in a folder that the receipt did not bring, or "".
func StrangerIn(open *hands.Hands, p place.Place, arrived map[place.Place]bool) string {
	folder, err := open.Folder(p)
	if err != nil {
		return ""
	}
	list, err := folder.List(open.Ctx)
	if err != nil {
		return ""
	}
	for _, e := range list {
		if !arrived[place.Place{Machine: p.Machine, Path: place.Join(p.Path, e.Name)}] {
			return e.Name
		}
	}
	return ""
}

// RemoveMade removes the folders that were made for an item, innermost first, as far as they are empty.
func RemoveMade(open *hands.Hands, it *journal.Carried) {
	for n := len(it.Work.Made) - 1; n >= 0; n-- {
		p := place.Place{Machine: it.Item.To.Machine, Path: string(it.Work.Made[n])}
		folder, err := open.Parent(p)
		if err != nil || folder.Remove(open.Ctx, p.Name()) != nil {
			return // something else is in it by now
		}
		open.Drop(p)
	}
}

// StillStands tells with ErrPlannedOtherwise whether what is to give way to an item is no longer what stood there when that was planned.
// What is gone need not give way.
func StillStands(ctx context.Context, it *journal.Carried, folder reach.Tree) error {
	info, err := folder.Look(ctx, it.Item.To.Name())
	if err == nil && !it.Work.Stood.Still(info) {
		return ErrPlannedOtherwise
	}
	return original.IgnoreGone(err)
}
