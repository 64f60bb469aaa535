package restore

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"strings"

	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/reach"
)

// takeBack takes away one item, puts what was set aside for it back where it stood, and the item where it lay. What is taken
// away lies in a stage until all of that is done; so an interrupted attempt is known by what it left there. A *changedError
// says that the item is not what arrived any more.
func (t *treeTarget) takeBack(it *carried) error {
	if why := it.work.Ground.away(t.open, it.item.To.Machine); why != "" {
		return fmt.Errorf("%w: %s", errAway, why)
	}
	to, err := t.open.parent(it.item.To)
	if errors.Is(err, fs.ErrNotExist) && t.lies(it) {
		return nil // taken back already, and its folder with it
	}
	if errors.Is(err, fs.ErrNotExist) {
		return &changedError{"it is no longer there"}
	}
	if err != nil {
		return err
	}
	if it.work.Away {
		return t.returnAside(it, to)
	}
	if it.work.Alone {
		return t.removeAlone(it, to)
	}
	name := staged(it.item.N, endTaken)
	st, _, err := t.stages.find(t.ctx, name)
	if err != nil {
		return err
	}
	gone := false
	if st == nil {
		if gone, err = t.takenBefore(it, to); err != nil {
			return err
		}
		if !gone {
			if st, err = t.take(it, to, name); err != nil {
				return err
			}
		}
	}
	switch {
	case gone:
	case it.work.Leaves:
		err = t.intoStore(it, st, name)
	default:
		err = t.intoSafekeeping(it, st, name)
	}
	if err != nil {
		return err
	}
	return errors.Join(t.returnAside(it, to), to.Sync(t.ctx))
}

// takenBefore tells whether an interrupted attempt has taken an item away already.
func (t *treeTarget) takenBefore(it *carried, to reach.Folder) (bool, error) {
	_, err := to.Look(t.ctx, it.item.To.Name())
	switch {
	case errors.Is(err, fs.ErrNotExist) && it.work.Leaves && !t.lies(it):
		return false, &changedError{"it is no longer there"}
	case errors.Is(err, fs.ErrNotExist):
		return true, nil
	case err != nil:
		return false, err
	case it.work.Aside == nil || it.work.Leaves && !t.lies(it):
		return false, nil
	}
	if now, err := print(t.ctx, to, it.item.To.Name()); err != nil || now == it.work.After.Print {
		return false, err // it is what arrived, however much it may be like what gave way to it
	}
	return t.isAside(it, to)
}

// take moves what arrived into a stage, if it is still what arrived.
func (t *treeTarget) take(it *carried, to reach.Folder, name string) (*stage, error) {
	if reason := t.r.obstacle(t.open, it, t.arrived); reason != "" {
		return nil, &changedError{reason}
	}
	now, err := identityAt(t.ctx, to, it.item.To.Name())
	if err != nil {
		return nil, err
	}
	it.work.After.Inside, it.work.After.Digest = now.Inside, now.Digest // which receipts of an earlier version lack
	st, err := t.stageFor(it.item.To)
	if err != nil {
		return nil, err
	}
	err = st.take(t.ctx, to, it.item.To.Name(), now, name)
	if errors.Is(err, errChanged) {
		err = &changedError{"it was changed while it was undone, and that work would be lost"}
	}
	return st, err
}

// stageFor returns the stage on the file system of a place. It is made in a folder that stays.
func (t *treeTarget) stageFor(p place.Place) (*stage, error) {
	p = parentOf(p)
	folder, err := t.open.folder(p)
	if err != nil {
		return nil, err
	}
	info, err := folder.Info(t.ctx)
	if err != nil {
		return nil, err
	}
	for at := p; t.arrived[at]; {
		at = parentOf(at)
		above, err := t.open.folder(at)
		if err != nil {
			break
		}
		if i, err := above.Info(t.ctx); err != nil || reach.SameVolume(i.Volume(), info.Volume()) != reach.Yes {
			break
		}
		p, folder = at, above
	}
	return t.stages.on(t.ctx, folder, p)
}

func (t *treeTarget) lies(it *carried) bool {
	_, err := t.open.look(it.item.From)
	return err == nil
}

// removeAlone removes a folder that came without what is in it, where it is empty again.
func (t *treeTarget) removeAlone(it *carried, to reach.Folder) error {
	info, err := to.Look(t.ctx, it.item.To.Name())
	switch {
	case errors.Is(err, fs.ErrNotExist):
	case err != nil:
		return err
	case info.Type != entry.Folder || it.work.After.SameFileLater(info.Seen()) != reach.Yes:
		if back, err := t.isAside(it, to); err != nil || back {
			return err
		}
		return &changedError{"something else is there now"}
	default:
		if stranger := strangerIn(t.open, it.item.To, nil); stranger != "" {
			return &changedError{fmt.Sprintf("%s is in it", place.Readable(stranger))}
		}
		t.open.drop(it.item.To)
		if err := to.Remove(t.ctx, it.item.To.Name()); ignoreGone(err) != nil { // which removes nothing but an empty folder
			return &changedError{"something was put into it since"}
		}
	}
	return t.returnAside(it, to)
}

// isAside tells whether what stands at an item's place is what was set aside for it, put back already: a folder with all that is in it.
func (t *treeTarget) isAside(it *carried, to reach.Folder) (bool, error) {
	a := it.work.Aside
	if a == nil {
		return false, nil
	}
	now, err := standingAt(t.ctx, to, it.item.To.Name())
	if err != nil || now.Type() != a.Type || a.Type == entry.File && entry.At(now.info.Written) != a.Was.Written {
		return false, ignoreGone(err)
	}
	was, err := t.r.described(*a)
	if err != nil {
		return false, err
	}
	return was.stands(now)
}

// returnAside puts back what was set aside for an item.
func (t *treeTarget) returnAside(it *carried, to reach.Folder) error {
	if it.work.Aside == nil {
		return nil
	}
	if back, err := t.isAside(it, to); err != nil || back {
		return err
	}
	remains := staged(it.item.N, endAside) // where it could not be removed
	st, _, err := t.stages.find(t.ctx, remains)
	if err != nil {
		return err
	}
	if st != nil {
		if now, err := identityAt(t.ctx, st, remains); err == nil && it.work.Aside.Was.isStill(now) {
			return errors.Join(orBeside(t.ctx, it, st, remains, to, "what was set aside"), to.Sync(t.ctx))
		}
	}
	if st, err = t.stageFor(it.item.To); err != nil {
		return err
	}
	o, err := t.r.kept(*it.work.Aside)
	if err != nil {
		return err
	}
	part := staged(it.item.N, endPart)
	if err := ignoreGone(removeTree(t.ctx, st, part)); err != nil {
		return err
	}
	w, err := write(t.ctx, o, st, part)
	if err != nil {
		return err
	}
	if w.lost != nil {
		it.item.Note = joinNotes(it.item.Note, "put back without "+strings.Join(w.lost, ", "))
	}
	if err := to.Settle(t.ctx); err != nil {
		return err
	}
	return errors.Join(orBeside(t.ctx, it, st, part, to, "what was set aside"), to.Sync(t.ctx))
}

// intoStore puts what was taken away into the item's store again, by a rename or, between file systems, by a verified copy.
func (t *treeTarget) intoStore(it *carried, st *stage, name string) error {
	from, err := t.open.parent(it.item.From)
	if err != nil {
		return err
	}
	if it.work.Renames {
		if err := it.giveBits(t.ctx, st, name); err != nil {
			return err
		}
		if err := st.Rename(t.ctx, name, from, it.item.From.Name()); err != nil {
			return err
		}
		return from.Sync(t.ctx)
	}
	if _, err := from.Look(t.ctx, it.item.From.Name()); errors.Is(err, fs.ErrNotExist) {
		if err := t.copyBack(it, st, name, from); err != nil {
			return err
		}
	} else if err != nil {
		return err
	}
	return t.removeTaken(it, st, name)
}

// giveBits gives a file the set-id bits again that it had in its store.
func (c *carried) giveBits(ctx context.Context, st *stage, name string) error {
	if c.work.Bits == 0 {
		return nil
	}
	f, err := st.Open(ctx, name)
	if err != nil {
		return err
	}
	defer f.Close()
	info, err := f.Info(ctx)
	if err == nil {
		err = reach.SetMode(ctx, f, info.Mode.Value|c.work.Bits)
	}
	return err
}

func (t *treeTarget) copyBack(it *carried, st *stage, name string, from reach.Folder) error {
	o, err := standingAt(t.ctx, st, name)
	if err != nil {
		return err
	}
	there, err := t.stages.on(t.ctx, from, parentOf(it.item.From))
	if err != nil {
		return err
	}
	part := staged(it.item.N, endPart)
	if err := ignoreGone(removeTree(t.ctx, there, part)); err != nil {
		return err
	}
	if _, err := write(t.ctx, o, there, part); err != nil {
		return err
	}
	if err := from.Settle(t.ctx); err != nil {
		return err
	}
	return errors.Join(there.Rename(t.ctx, part, from, it.item.From.Name()), from.Sync(t.ctx))
}

// intoSafekeeping keeps what was taken away, and removes it. Where it cannot be kept, it goes back to where it stood.
func (t *treeTarget) intoSafekeeping(it *carried, st *stage, name string) error {
	a, err := t.r.keep(t.stoppable, st, name)
	if err != nil {
		to, e := t.open.parent(it.item.To)
		if e == nil {
			e = orBeside(t.ctx, it, st, name, to, "it")
		}
		return errors.Join(err, e)
	}
	it.work.Removed = a.Manifest
	return t.removeTaken(it, st, name)
}

// removeTaken removes what was taken away, where nobody who had it open has written to it meanwhile; else it goes back to where
// it stood.
func (t *treeTarget) removeTaken(it *carried, st *stage, name string) error {
	now, err := identityAt(t.ctx, st, name)
	if err != nil {
		return err
	}
	if !it.work.After.isStillLater(now) {
		to, err := t.open.parent(it.item.To)
		if err == nil {
			err = orBeside(t.ctx, it, st, name, to, "it")
		}
		if err != nil {
			return err
		}
		return &changedError{"it was changed while it was undone, and that work would be lost"}
	}
	return removeTree(t.ctx, st, name)
}
