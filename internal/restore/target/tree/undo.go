package tree

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"strings"

	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/reach"
	"humble-rewind/internal/restore/journal"
	"humble-rewind/internal/restore/original"
	"humble-rewind/internal/restore/target"
)

// TakeBack takes away one item, puts what was set aside for it back where it stood, and the item where it lay. What is taken
// away lies in a stage until all of that is done; so an interrupted attempt is known by what it left there. A *target.ChangedError
// says that the item is not what arrived any more.
func (t *Target) TakeBack(it *journal.Carried) error {
	if why := target.Away(it.Work.Ground, t.open, it.Item.To.Machine); why != "" {
		return fmt.Errorf("%w: %s", target.ErrAway, why)
	}
	to, err := t.open.Parent(it.Item.To)
	if errors.Is(err, fs.ErrNotExist) && t.lies(it) {
		return nil // taken back already, and its folder with it
	}
	if errors.Is(err, fs.ErrNotExist) {
		return &target.ChangedError{Why: "it is no longer there"}
	}
	if err != nil {
		return err
	}
	if it.Work.Away {
		return t.returnAside(it, to)
	}
	if it.Work.Alone {
		return t.removeAlone(it, to)
	}
	name := staged(it.Item.N, endTaken)
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
	case it.Work.Leaves:
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
func (t *Target) takenBefore(it *journal.Carried, to reach.Folder) (bool, error) {
	_, err := to.Look(t.ctx, it.Item.To.Name())
	switch {
	case errors.Is(err, fs.ErrNotExist) && it.Work.Leaves && !t.lies(it):
		return false, &target.ChangedError{Why: "it is no longer there"}
	case errors.Is(err, fs.ErrNotExist):
		return true, nil
	case err != nil:
		return false, err
	case it.Work.Aside == nil || it.Work.Leaves && !t.lies(it):
		return false, nil
	}
	if now, err := original.PrintOf(t.ctx, to, it.Item.To.Name()); err != nil || now == it.Work.After.Print {
		return false, err // it is what arrived, however much it may be like what gave way to it
	}
	return t.isAside(it, to)
}

// take moves what arrived into a stage, if it is still what arrived.
func (t *Target) take(it *journal.Carried, to reach.Folder, name string) (*stage, error) {
	if reason := t.keeper.Obstacle(t.open, it, t.arrived); reason != "" {
		return nil, &target.ChangedError{Why: reason}
	}
	now, err := original.IdentityAt(t.ctx, to, it.Item.To.Name())
	if err != nil {
		return nil, err
	}
	it.Work.After.Inside, it.Work.After.Digest = now.Inside, now.Digest // which receipts of an earlier version lack
	st, err := t.stageFor(it.Item.To)
	if err != nil {
		return nil, err
	}
	err = st.take(t.ctx, to, it.Item.To.Name(), now, name)
	if errors.Is(err, target.ErrChanged) {
		err = &target.ChangedError{Why: "it was changed while it was undone, and that work would be lost"}
	}
	return st, err
}

// stageFor returns the stage on the file system of a place. It is made in a folder that stays.
func (t *Target) stageFor(p place.Place) (*stage, error) {
	p = p.Parent()
	folder, err := t.open.Folder(p)
	if err != nil {
		return nil, err
	}
	info, err := folder.Info(t.ctx)
	if err != nil {
		return nil, err
	}
	for at := p; t.arrived[at]; {
		at = at.Parent()
		above, err := t.open.Folder(at)
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

func (t *Target) lies(it *journal.Carried) bool {
	_, err := t.open.Look(it.Item.From)
	return err == nil
}

// removeAlone removes a folder that came without what is in it, where it is empty again.
func (t *Target) removeAlone(it *journal.Carried, to reach.Folder) error {
	info, err := to.Look(t.ctx, it.Item.To.Name())
	switch {
	case errors.Is(err, fs.ErrNotExist):
	case err != nil:
		return err
	case info.Type != entry.Folder || it.Work.After.SameFileLater(info.Seen()) != reach.Yes:
		if back, err := t.isAside(it, to); err != nil || back {
			return err
		}
		return &target.ChangedError{Why: "something else is there now"}
	default:
		if stranger := target.StrangerIn(t.open, it.Item.To, nil); stranger != "" {
			return &target.ChangedError{Why: fmt.Sprintf("%s is in it", place.Readable(stranger))}
		}
		t.open.Drop(it.Item.To)
		if err := to.Remove(t.ctx, it.Item.To.Name()); original.IgnoreGone(err) != nil { // which removes nothing but an empty folder
			return &target.ChangedError{Why: "something was put into it since"}
		}
	}
	return t.returnAside(it, to)
}

// isAside tells whether what stands at an item's place is what was set aside for it, put back already: a folder with all that is in it.
func (t *Target) isAside(it *journal.Carried, to reach.Folder) (bool, error) {
	a := it.Work.Aside
	if a == nil {
		return false, nil
	}
	now, err := original.StandingAt(t.ctx, to, it.Item.To.Name())
	if err != nil || now.Type() != a.Type || a.Type == entry.File && entry.At(now.Written()) != a.Was.Written {
		return false, original.IgnoreGone(err)
	}
	was, err := t.keeper.Described(*a)
	if err != nil {
		return false, err
	}
	return was.Stands(now)
}

// returnAside puts back what was set aside for an item.
func (t *Target) returnAside(it *journal.Carried, to reach.Folder) error {
	if it.Work.Aside == nil {
		return nil
	}
	if back, err := t.isAside(it, to); err != nil || back {
		return err
	}
	remains := staged(it.Item.N, endAside) // where it could not be removed
	st, _, err := t.stages.find(t.ctx, remains)
	if err != nil {
		return err
	}
	if st != nil {
		if now, err := original.IdentityAt(t.ctx, st, remains); err == nil && it.Work.Aside.Was.IsStill(now) {
			return errors.Join(orBeside(t.ctx, it, st, remains, to, "what was set aside"), to.Sync(t.ctx))
		}
	}
	if st, err = t.stageFor(it.Item.To); err != nil {
		return err
	}
	o, err := t.keeper.Kept(*it.Work.Aside)
	if err != nil {
		return err
	}
	part := staged(it.Item.N, endPart)
	if err := original.IgnoreGone(original.RemoveTree(t.ctx, st, part)); err != nil {
		return err
	}
	w, err := original.Write(t.ctx, o, st, part)
	if err != nil {
		return err
	}
	if w.Lost != nil {
		it.Note("put-back-without", "lost", strings.Join(w.Lost, ", "))
	}
	if err := to.Settle(t.ctx); err != nil {
		return err
	}
	return errors.Join(orBeside(t.ctx, it, st, part, to, "what was set aside"), to.Sync(t.ctx))
}

// intoStore puts what was taken away into the item's store again, by a rename or, between file systems, by a verified copy.
func (t *Target) intoStore(it *journal.Carried, st *stage, name string) error {
	from, err := t.open.Parent(it.Item.From)
	if err != nil {
		return err
	}
	if it.Work.Renames {
		if err := giveBits(t.ctx, it, st, name); err != nil {
			return err
		}
		if err := st.Rename(t.ctx, name, from, it.Item.From.Name()); err != nil {
			return err
		}
		return from.Sync(t.ctx)
	}
	if _, err := from.Look(t.ctx, it.Item.From.Name()); errors.Is(err, fs.ErrNotExist) {
		if err := t.copyBack(it, st, name, from); err != nil {
			return err
		}
	} else if err != nil {
		return err
	}
	return t.removeTaken(it, st, name)
}

// giveBits gives a file the set-id bits again that it had in its store.
func giveBits(ctx context.Context, c *journal.Carried, st *stage, name string) error {
	if c.Work.Bits == 0 {
		return nil
	}
	f, err := st.Open(ctx, name)
	if err != nil {
		return err
	}
	defer f.Close()
	info, err := f.Info(ctx)
	if err == nil {
		err = reach.SetMode(ctx, f, info.Mode.Value|c.Work.Bits)
	}
	return err
}

func (t *Target) copyBack(it *journal.Carried, st *stage, name string, from reach.Folder) error {
	o, err := original.StandingAt(t.ctx, st, name)
	if err != nil {
		return err
	}
	there, err := t.stages.on(t.ctx, from, it.Item.From.Parent())
	if err != nil {
		return err
	}
	part := staged(it.Item.N, endPart)
	if err := original.IgnoreGone(original.RemoveTree(t.ctx, there, part)); err != nil {
		return err
	}
	if _, err := original.Write(t.ctx, o, there, part); err != nil {
		return err
	}
	if err := from.Settle(t.ctx); err != nil {
		return err
	}
	return errors.Join(there.Rename(t.ctx, part, from, it.Item.From.Name()), from.Sync(t.ctx))
}

// intoSafekeeping keeps what was taken away, and removes it. Where it cannot be kept, it goes back to where it stood.
func (t *Target) intoSafekeeping(it *journal.Carried, st *stage, name string) error {
	a, err := t.keeper.Keep(t.stoppable, st, name)
	if err != nil {
		to, e := t.open.Parent(it.Item.To)
		if e == nil {
			e = orBeside(t.ctx, it, st, name, to, "it")
		}
		return errors.Join(err, e)
	}
	it.Work.Removed = a.Manifest
	return t.removeTaken(it, st, name)
}

// removeTaken removes what was taken away, where nobody who had it open has written to it meanwhile; else it goes back to where
// it stood.
func (t *Target) removeTaken(it *journal.Carried, st *stage, name string) error {
	now, err := original.IdentityAt(t.ctx, st, name)
	if err != nil {
		return err
	}
	if !it.Work.After.IsStillLater(now) {
		to, err := t.open.Parent(it.Item.To)
		if err == nil {
			err = orBeside(t.ctx, it, st, name, to, "it")
		}
		if err != nil {
			return err
		}
		return &target.ChangedError{Why: "it was changed while it was undone, and that work would be lost"}
	}
	return original.RemoveTree(t.ctx, st, name)
}
