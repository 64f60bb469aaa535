package restore

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"time"

	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/names"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/plan"
	"humble-rewind/internal/reach"
)

// last makes what was written last, a file system at a time, sees to it that where what gives way will be is known, and reads back what
// was written.
func (t *treeTarget) last(all []*carried) {
	settled := map[volumeOf]error{}
	for _, it := range all {
		if it.err != nil {
			continue
		}
		var folder reach.Folder
		if folder, it.err = t.open.parent(it.item.To); it.err != nil {
			continue
		}
		if !it.work.Renames && !it.work.Away {
			on := volumeAt(it.item.To, it.work.After.Volume())
			err, done := settled[on]
			if !done {
				err = folder.Settle(t.ctx)
				settled[on] = err
			}
			it.err = err
		}
		if it.err == nil && it.work.Aside != nil {
			_, it.err = t.stage(it, folder)
		}
	}
	sideBySide(all, t.readBack)
}

// readBack reads back what was written of an item. Where it reads differently, it goes.
func (t *treeTarget) readBack(it *carried) {
	if len(it.proofs) == 0 {
		return
	}
	if err := proveAll(t.ctx, it.stage, it.proofs); err != nil {
		gone := removeTree(context.WithoutCancel(t.ctx), it.stage, staged(it.item.N, endPart))
		it.err = errors.Join(fmt.Errorf("read it back: %w", err), ignoreGone(gone))
	}
	it.proofs = nil
}

// arrive gives an item its final name, and makes sure that it was this item that got it.
func (t *treeTarget) arrive(it *carried) error {
	folder, err := t.open.parent(it.item.To)
	if err != nil {
		return err
	}
	var st *stage
	if it.work.Aside != nil || !it.work.Renames {
		if st, err = t.stage(it, folder); err != nil {
			return err
		}
	}
	if it.work.Aside != nil {
		if err := st.take(t.ctx, folder, it.item.To.Name(), it.work.Aside.Was, staged(it.item.N, endAside)); err != nil {
			it.work.Aside = nil
			if errors.Is(err, errChanged) {
				err = errors.New("what is there changed while it was set aside; plan again")
			}
			return err
		}
	}
	if it.work.Away {
		it.arrived = true
	} else if err := t.giveName(it, st, folder); err != nil {
		if it.work.Aside != nil {
			err = errors.Join(err, giveBack(t.ctx, it, st, folder))
			it.work.Aside = nil
		}
		return err
	}
	it.arrived = true
	if it.work.Aside != nil {
		t.dropAside(it, st, folder)
	}
	return nil
}

// giveName moves an item to its final name and checks there that it is what was meant: in a store that a user can write, she can
// put something else in its place at the last moment, and from where it arrives she can move it away at once.
func (t *treeTarget) giveName(it *carried, st *stage, folder reach.Folder) error {
	var from reach.Folder
	name := staged(it.item.N, endPart)
	if it.work.Renames {
		name = it.item.From.Name()
		var err error
		if from, err = t.open.parent(it.item.From); err != nil {
			return err
		}
	} else {
		from = st.Folder
	}
	err := t.rename(it, from, name, folder)
	if it.work.Renames && errors.Is(err, fs.ErrNotExist) {
		return errNotThere
	}
	if err != nil {
		return err
	}
	now, err := identityAt(t.ctx, folder, it.item.To.Name())
	switch {
	case err == nil && it.work.After.isStill(now):
		return t.dropBits(it, folder)
	case it.work.Renames && err == nil:
		if back := folder.Rename(t.ctx, it.item.To.Name(), from, name); back != nil {
			it.item.Note = joinNotes(it.item.Note, "what came instead stands there now: "+Explain(back))
		}
		return errors.New("something else was put in its place in its store while it was brought back; survey and plan again")
	case err != nil && !errors.Is(err, fs.ErrNotExist):
		it.item.Note = joinNotes(it.item.Note, "it arrived, and could not be looked at there: "+Explain(err))
		return nil
	case it.work.Renames:
		return errors.New("somebody moved it away the moment it arrived; look for it near its place")
	}
	return errors.New("something else replaced it the moment it arrived; plan again")
}

// dropBits takes set-id bits from a file that was moved out of a store that users can write.
func (t *treeTarget) dropBits(it *carried, folder reach.Folder) error {
	const bits = fs.ModeSetuid | fs.ModeSetgid
	if it.work.To == nil || !it.work.Renames || it.item.Type != entry.File {
		return nil
	}
	f, err := folder.Open(t.ctx, it.item.To.Name())
	if err != nil {
		return nil // gone already; whoever took it has what she had before
	}
	defer f.Close()
	info, err := f.Info(t.ctx)
	if err != nil || info.Mode.Value&bits == 0 || it.work.After.SameFile(info.Seen()) == reach.No {
		return err
	}
	it.work.Bits = info.Mode.Value & bits
	if err := reach.SetMode(t.ctx, f, info.Mode.Value&^bits); err != nil {
		return fmt.Errorf("its set-id bits cannot be dropped there: %w", err)
	}
	return nil
}

// giveBack puts what gave way back where it stood, or beside what has come to stand there.
func giveBack(ctx context.Context, it *carried, st *stage, folder reach.Folder) error {
	return orBeside(ctx, it, st, staged(it.item.N, endAside), folder, "what stood there before")
}

// orBeside moves something out of a stage to an item's place or, where something has come to stand there, beside it.
func orBeside(ctx context.Context, it *carried, st *stage, name string, folder reach.Folder, what string) error {
	err := st.Rename(ctx, name, folder, it.item.To.Name())
	if !errors.Is(err, fs.ErrExist) {
		return err
	}
	beside := names.Beside(it.item.To.Name(), "set aside", time.Time{}, func(name string) bool {
		_, err := folder.Look(ctx, name)
		return err == nil
	})
	it.item.Note = joinNotes(it.item.Note, fmt.Sprintf("something new is there; %s is beside it as %s", what,
		place.Readable(beside)))
	return st.Rename(ctx, name, folder, beside)
}

// dropAside removes what gave way, which is in safekeeping. Whoever had it open may have written to it since; then it stays.
func (t *treeTarget) dropAside(it *carried, st *stage, folder reach.Folder) {
	name := staged(it.item.N, endAside)
	now, err := identityAt(t.ctx, st, name)
	if err == nil && !it.work.Aside.Was.isStill(now) {
		err = giveBack(t.ctx, it, st, folder)
	} else if err == nil {
		err = removeTree(t.ctx, st, name)
	}
	if ignoreGone(err) != nil {
		it.item.Note = joinNotes(it.item.Note, fmt.Sprintf("what was set aside also remains in %s: %s",
			place.Readable(place.Join(st.record.Folder.Path, st.record.Name)), Explain(err)))
	}
}

// rename settles by the rule what came to stand at the destination since the plan was made.
func (t *treeTarget) rename(it *carried, from reach.Folder, name string, folder reach.Folder) error {
	for try := 0; ; try++ {
		err := from.Rename(t.ctx, name, folder, it.item.To.Name())
		if !errors.Is(err, fs.ErrExist) || try > 5 {
			return err
		}
		switch it.work.Rule {
		case plan.Skip:
			return errPassed
		case plan.SetAside:
			return errors.New("something else is there since the plan was made; plan again")
		}
		beside := names.Beside(it.item.To.Name(), it.work.DatedBy, it.work.Dated, func(name string) bool {
			_, err := folder.Look(t.ctx, name)
			return err == nil
		})
		it.item.To.Path = place.Join(place.Folder(it.item.To.Path), beside)
		it.item.Note = joinNotes(it.item.Note, "something came to stand there since the plan was made; both are kept")
		started := *it.item
		started.Outcome = catalogue.ItemStarted
		if err := t.journal(started); err != nil { // where a crash would look for it
			return err
		}
	}
}

var errPassed = errors.New("something new is there since the plan was made; skipped")

// settled makes the new names last and, of what was renamed, the removal of the old ones.
func (t *treeTarget) settled(all []*carried) {
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
			folder, err := t.open.folder(p)
			if err == nil {
				err = folder.Sync(t.ctx)
			}
			if err != nil {
				it.item.Note = joinNotes(it.item.Note, "not certain to survive a power cut: "+Explain(err))
			}
		}
	}
}

// takeOut removes a copied item from its store. It is looked at right before, and again where nobody can change it.
func (t *treeTarget) takeOut(it *carried) error {
	from, err := t.open.parent(it.item.From)
	if err != nil {
		return err
	}
	now, err := identityAt(t.ctx, from, it.item.From.Name())
	if err != nil {
		return err
	}
	if !it.work.Before.isStill(now) || it.work.Before.Changed != now.Changed {
		return errChanged
	}
	st, err := t.stages.on(t.ctx, from, parentOf(it.item.From))
	if err != nil {
		return err
	}
	name := staged(it.item.N, endTaken)
	if err := st.take(t.ctx, from, it.item.From.Name(), now, name); err != nil {
		return err
	}
	return removeTree(t.ctx, st, name)
}

// print takes the print of what arrived, by which an undo tells whether it was touched since.
func (t *treeTarget) print(it *carried) error {
	if it.work.Away {
		return nil
	}
	folder, err := t.open.parent(it.item.To)
	if err != nil {
		return err
	}
	info, err := folder.Look(t.ctx, it.item.To.Name())
	if err != nil {
		return err
	}
	inside := it.work.After.Inside
	it.work.After = identify(info)
	it.work.After.Inside = inside
	if it.work.After.Digest, err = contentOf(t.ctx, folder, info); err != nil {
		return err
	}
	if it.work.Alone { // what goes into it has items of its own
		return nil
	}
	it.work.After.Print, err = print(t.ctx, folder, it.item.To.Name())
	return err
}

// removeMade removes the folders that were made for an item, innermost first, as far as they are empty.
func removeMade(open *handles, it *carried) {
	for n := len(it.work.Made) - 1; n >= 0; n-- {
		p := place.Place{Machine: it.item.To.Machine, Path: string(it.work.Made[n])}
		folder, err := open.parent(p)
		if err != nil || folder.Remove(open.ctx, p.Name()) != nil {
			return // something else is in it by now
		}
		open.drop(p)
	}
}
