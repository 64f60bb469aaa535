package restore

import (
	"errors"
	"fmt"
	"io/fs"

	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/plan"
	"humble-rewind/internal/reach"
)

// former tells whether an item was begun by a version that had no working folders yet: it made things ready beside their places,
// under names made from the numbers of receipt and item, which anybody could have used.
func (w work) former() bool { return w.Ground == nil }

func formerName(receipt int64, n int, end string) string {
	return fmt.Sprintf(".humble-rewind-r%d-%d.%s", receipt, n, end)
}

// settleFormer does for an item of a former version what settle does: it removes only what is known to be its own, gives back
// what gave way, and says what else remains.
func (c *carrier) settleFormer(it *carried, folder reach.Folder) error {
	var err error
	if it.arrived, err = c.formerArrived(it, folder); err != nil {
		return err
	}
	aside := formerName(c.receipt, it.item.N, endAside)
	now, err := look(c.ctx, folder, aside)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		if it.work.Away && it.work.Aside != nil {
			_, err := folder.Lstat(it.item.To.Name())
			it.arrived = errors.Is(err, fs.ErrNotExist) // kept safe, moved away and removed
		}
	case err != nil:
		return err
	case it.arrived && it.work.Aside != nil && it.work.Aside.Was.isStill(now):
		if err := removeTree(c.ctx, folder, aside); err != nil {
			return err
		}
	case it.arrived:
		it.remains("what was set aside also", aside)
	default:
		if err := folder.Rename(aside, folder, it.item.To.Name()); errors.Is(err, fs.ErrExist) {
			it.remains("what stood there before", aside)
		} else if err != nil {
			return err
		}
	}
	part := formerName(c.receipt, it.item.N, endPart)
	info, err := folder.Lstat(part)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return nil
	case err != nil:
		return err
	case info.Type != plan.Folder && it.work.After.Inode != 0 && it.work.After.is(info): // of a folder its own record says too little
		return removeTree(c.ctx, folder, part)
	}
	it.remains("a copy that was not finished", part)
	return nil
}

func (it *carried) remains(what, name string) {
	it.item.Note = joinNotes(it.item.Note, fmt.Sprintf("%s remains beside it as %s", what, place.Readable(name)))
}

// formerArrived tells whether an item of a former version stands at its place. What was moved no longer lies where it did then.
func (c *carrier) formerArrived(it *carried, folder reach.Folder) (bool, error) {
	name, expected := it.item.To.Name(), it.work.After
	if it.work.Renames {
		expected = it.work.Before
		if from, err := c.open.parent(it.item.From); err == nil {
			if _, err := from.Lstat(it.item.From.Name()); err == nil {
				return false, nil
			}
		}
	}
	info, err := folder.Lstat(name)
	if errors.Is(err, fs.ErrNotExist) {
		return false, nil
	}
	if err != nil {
		return false, err
	}
	now := identify(info)
	now.Device = expected.Device // file systems are numbered anew at each start
	switch {
	case info.Type != it.item.Type || expected.Inode == 0 || now.Inode != expected.Inode:
		return false, nil
	case info.Type == plan.Folder: // what was done in it since does not matter
		return true, nil
	case !expected.same(now):
		return false, nil
	case info.Type != plan.File:
		return true, nil
	}
	sum, err := digestOf(c.ctx, folder, name)
	if err == nil && it.work.Renames {
		it.item.SHA256 = sum // which was only taken in the end
	}
	return err == nil && sum == it.item.SHA256, err
}
