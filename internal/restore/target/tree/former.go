package tree

import (
	"errors"
	"fmt"
	"io/fs"

	"humble-rewind/internal/contents"
	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/remark"
	"humble-rewind/internal/reach"
	"humble-rewind/internal/restore/journal"
	"humble-rewind/internal/restore/original"
)

func formerName(receipt int64, n int, end string) string {
	return fmt.Sprintf(".humble-rewind-r%d-%d.%s", receipt, n, end)
}

// findFormer does for an item of a former version what find does: it removes only what is known to be its own, gives back
// what gave way, and says what else remains.
func (t *Target) findFormer(it *journal.Carried, folder reach.Folder) error {
	var err error
	if it.Arrived, err = t.formerArrived(it, folder); err != nil {
		return err
	}
	aside := formerName(t.receipt, it.Item.N, endAside)
	now, err := original.IdentityAt(t.ctx, folder, aside)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		if it.Work.Away && it.Work.Aside != nil {
			_, err := folder.Look(t.ctx, it.Item.To.Name())
			it.Arrived = errors.Is(err, fs.ErrNotExist) // kept safe, moved away and removed
		}
	case err != nil:
		return err
	case it.Arrived && it.Work.Aside != nil && it.Work.Aside.Was.IsStill(now):
		if err := original.RemoveTree(t.ctx, folder, aside); err != nil {
			return err
		}
	case it.Arrived:
		remains(it, "set-aside-too", aside)
	default:
		if err := folder.Rename(t.ctx, aside, folder, it.Item.To.Name()); errors.Is(err, fs.ErrExist) {
			remains(it, "stood-before", aside)
		} else if err != nil {
			return err
		}
	}
	part := formerName(t.receipt, it.Item.N, endPart)
	info, err := folder.Look(t.ctx, part)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return nil
	case err != nil:
		return err
	case info.Type != entry.Folder && it.Work.After.Unchanged(info.Seen()) == reach.Yes: // of a folder its own record says too little
		return original.RemoveTree(t.ctx, folder, part)
	}
	remains(it, "unfinished-copy", part)
	return nil
}

func remains(it *journal.Carried, what, name string) {
	it.Note("remains-beside", "what", remark.New(what), "name", place.Readable(name))
}

// formerArrived tells whether an item of a former version stands at its place. What was moved no longer lies where it did then.
func (t *Target) formerArrived(it *journal.Carried, folder reach.Folder) (bool, error) {
	name, expected := it.Item.To.Name(), it.Work.After
	if it.Work.Renames {
		expected = it.Work.Before
		if from, err := t.open.Parent(it.Item.From); err == nil {
			if _, err := from.Look(t.ctx, it.Item.From.Name()); err == nil {
				return false, nil
			}
		}
	}
	info, err := folder.Look(t.ctx, name)
	if errors.Is(err, fs.ErrNotExist) {
		return false, nil
	}
	if err != nil {
		return false, err
	}
	now := info.Seen()
	switch {
	case info.Type != it.Item.Type || expected.SameFileLater(now) != reach.Yes:
		return false, nil
	case info.Type == entry.Folder: // what was done in it since does not matter
		return true, nil
	case expected.MovedLater(now) != reach.Yes:
		return false, nil
	case info.Type != entry.File:
		return true, nil
	}
	sum, err := contents.DigestAt(t.ctx, folder, name)
	if err == nil && it.Work.Renames {
		it.Item.SHA256 = sum // which was only taken in the end
	}
	return err == nil && sum == it.Item.SHA256, err
}
