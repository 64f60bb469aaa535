package restore

import (
	"errors"
	"fmt"
	"io/fs"

	"humble-rewind/internal/contents"
	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/reach"
)

// former tells whether an item was begun by a version that had no working folders yet: it made things ready beside their places,
// under names made from the numbers of receipt and item, which anybody could have used.
func (w work) former() bool { return w.Ground == nil }

func formerName(receipt int64, n int, end string) string {
	return fmt.Sprintf(".humble-rewind-r%d-%d.%s", receipt, n, end)
}

// findFormer does for an item of a former version what find does: it removes only what is known to be its own, gives back
// what gave way, and says what else remains.
func (t *treeTarget) findFormer(it *carried, folder reach.Folder) error {
	var err error
	if it.arrived, err = t.formerArrived(it, folder); err != nil {
		return err
	}
	aside := formerName(t.receipt, it.item.N, endAside)
	now, err := identityAt(t.ctx, folder, aside)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		if it.work.Away && it.work.Aside != nil {
			_, err := folder.Look(t.ctx, it.item.To.Name())
			it.arrived = errors.Is(err, fs.ErrNotExist) // kept safe, moved away and removed
		}
	case err != nil:
		return err
	case it.arrived && it.work.Aside != nil && it.work.Aside.Was.isStill(now):
		if err := removeTree(t.ctx, folder, aside); err != nil {
			return err
		}
	case it.arrived:
		it.remains("what was set aside also", aside)
	default:
		if err := folder.Rename(t.ctx, aside, folder, it.item.To.Name()); errors.Is(err, fs.ErrExist) {
			it.remains("what stood there before", aside)
		} else if err != nil {
			return err
		}
	}
	part := formerName(t.receipt, it.item.N, endPart)
	info, err := folder.Look(t.ctx, part)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return nil
	case err != nil:
		return err
	case info.Type != entry.Folder && it.work.After.Unchanged(info.Seen()) == reach.Yes: // of a folder its own record says too little
		return removeTree(t.ctx, folder, part)
	}
	it.remains("a copy that was not finished", part)
	return nil
}

func (it *carried) remains(what, name string) {
	it.item.Note = joinNotes(it.item.Note, fmt.Sprintf("%s remains beside it as %s", what, place.Readable(name)))
}

// formerArrived tells whether an item of a former version stands at its place. What was moved no longer lies where it did then.
func (t *treeTarget) formerArrived(it *carried, folder reach.Folder) (bool, error) {
	name, expected := it.item.To.Name(), it.work.After
	if it.work.Renames {
		expected = it.work.Before
		if from, err := t.open.parent(it.item.From); err == nil {
			if _, err := from.Look(t.ctx, it.item.From.Name()); err == nil {
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
	case info.Type != it.item.Type || expected.SameFileLater(now) != reach.Yes:
		return false, nil
	case info.Type == entry.Folder: // what was done in it since does not matter
		return true, nil
	case expected.MovedLater(now) != reach.Yes:
		return false, nil
	case info.Type != entry.File:
		return true, nil
	}
	sum, err := contents.DigestAt(t.ctx, folder, name)
	if err == nil && it.work.Renames {
		it.item.SHA256 = sum // which was only taken in the end
	}
	return err == nil && sum == it.item.SHA256, err
}
