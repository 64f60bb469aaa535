package tree

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
	"humble-rewind/internal/core/remark"
	"humble-rewind/internal/reach"
	"humble-rewind/internal/restore/journal"
	"humble-rewind/internal/restore/original"
	"humble-rewind/internal/restore/target"
	"humble-rewind/internal/say"
)

// Last makes what was written last, a file system at a time, sees to it that where what gives way will be is known, and reads back what
// was written.
func (t *Target) Last(all []*journal.Carried) {
	settled := map[volumeOf]error{}
	for _, it := range all {
		if it.Err != nil {
			continue
		}
		var folder reach.Folder
		if folder, it.Err = t.open.Parent(it.Item.To); it.Err != nil {
			continue
		}
		if !it.Work.Renames && !it.Work.Away {
			on := volumeAt(it.Item.To, it.Work.After.Volume())
			err, done := settled[on]
			if !done {
				err = folder.Settle(t.ctx)
				settled[on] = err
			}
			it.Err = err
		}
		if it.Err == nil && it.Work.Aside != nil {
			_, it.Err = t.stage(it, folder)
		}
	}
	journal.SideBySide(all, t.readBack)
}

// readBack reads back what was written of an item. Where it reads differently, it goes.
func (t *Target) readBack(it *journal.Carried) {
	if len(it.Proofs) == 0 {
		return
	}
	if err := original.ProveAll(t.ctx, it.Stage, it.Proofs); err != nil {
		gone := original.RemoveTree(context.WithoutCancel(t.ctx), it.Stage, staged(it.Item.N, endPart))
		it.Err = errors.Join(fmt.Errorf("read it back: %w", err), original.IgnoreGone(gone))
	}
	it.Proofs = nil
}

// Arrive gives an item its final name, and makes sure that it was this item that got it.
func (t *Target) Arrive(it *journal.Carried) error {
	folder, err := t.open.Parent(it.Item.To)
	if err != nil {
		return err
	}
	var st *stage
	if it.Work.Aside != nil || !it.Work.Renames {
		if st, err = t.stage(it, folder); err != nil {
			return err
		}
	}
	if it.Work.Aside != nil {
		if err := st.take(t.ctx, folder, it.Item.To.Name(), it.Work.Aside.Was, staged(it.Item.N, endAside)); err != nil {
			it.Work.Aside = nil
			if errors.Is(err, target.ErrChanged) {
				err = errors.New("what is there changed while it was set aside; plan again")
			}
			return err
		}
	}
	if it.Work.Away {
		it.Arrived = true
	} else if err := t.giveName(it, st, folder); err != nil {
		if it.Work.Aside != nil {
			err = errors.Join(err, giveBack(t.ctx, it, st, folder))
			it.Work.Aside = nil
		}
		return err
	}
	it.Arrived = true
	if it.Work.Aside != nil {
		t.dropAside(it, st, folder)
	}
	return nil
}

// giveName moves an item to its final name and checks there that it is what was meant: in a store that a user can write, she can
// put something else in its place at the last moment, and from where it arrives she can move it away at once.
func (t *Target) giveName(it *journal.Carried, st *stage, folder reach.Folder) error {
	var from reach.Folder
	name := staged(it.Item.N, endPart)
	if it.Work.Renames {
		name = it.Item.From.Name()
		var err error
		if from, err = t.open.Parent(it.Item.From); err != nil {
			return err
		}
	} else {
		from = st.Folder
	}
	err := t.rename(it, from, name, folder)
	if it.Work.Renames && errors.Is(err, fs.ErrNotExist) {
		return target.ErrNotThere
	}
	if err != nil {
		return err
	}
	now, err := original.IdentityAt(t.ctx, folder, it.Item.To.Name())
	switch {
	case err == nil && it.Work.After.IsStill(now):
		return t.dropBits(it, folder)
	case it.Work.Renames && err == nil:
		if back := folder.Rename(t.ctx, it.Item.To.Name(), from, name); back != nil {
			it.Note("other-came", "why", say.BringBackError(back))
		}
		return errors.New("something else was put in its place in its store while it was brought back; survey and plan again")
	case err != nil && !errors.Is(err, fs.ErrNotExist):
		it.Note("arrived-unseen", "why", say.BringBackError(err))
		return nil
	case it.Work.Renames:
		return errors.New("somebody moved it away the moment it arrived; look for it near its place")
	}
	return errors.New("something else replaced it the moment it arrived; plan again")
}

// dropBits takes set-id bits from a file that was moved out of a store that users can write.
func (t *Target) dropBits(it *journal.Carried, folder reach.Folder) error {
	const bits = fs.ModeSetuid | fs.ModeSetgid
	if it.Work.To == nil || !it.Work.Renames || it.Item.Type != entry.File {
		return nil
	}
	f, err := folder.Open(t.ctx, it.Item.To.Name())
	if err != nil {
		return nil // gone already; whoever took it has what she had before
	}
	defer f.Close()
	info, err := f.Info(t.ctx)
	if err != nil || info.Mode.Value&bits == 0 || it.Work.After.SameFile(info.Seen()) == reach.No {
		return err
	}
	it.Work.Bits = info.Mode.Value & bits
	if err := reach.SetMode(t.ctx, f, info.Mode.Value&^bits); err != nil {
		return fmt.Errorf("its set-id bits cannot be dropped there: %w", err)
	}
	return nil
}

// giveBack puts what gave way back where it stood, or beside what has come to stand there.
func giveBack(ctx context.Context, it *journal.Carried, st *stage, folder reach.Folder) error {
	return orBeside(ctx, it, st, staged(it.Item.N, endAside), folder, "stood-before")
}

// orBeside moves something out of a stage to an item's place or, where something has come to stand there, beside it.
func orBeside(ctx context.Context, it *journal.Carried, st *stage, name string, folder reach.Folder, what string) error {
	err := st.Rename(ctx, name, folder, it.Item.To.Name())
	if !errors.Is(err, fs.ErrExist) {
		return err
	}
	beside := names.Beside(it.Item.To.Name(), "set aside", time.Time{}, func(name string) bool {
		_, err := folder.Look(ctx, name)
		return err == nil
	})
	it.Note("is-beside", "what", remark.New(what), "name", place.Readable(beside))
	return st.Rename(ctx, name, folder, beside)
}

// dropAside removes what gave way, which is in safekeeping. Whoever had it open may have written to it since; then it stays.
func (t *Target) dropAside(it *journal.Carried, st *stage, folder reach.Folder) {
	name := staged(it.Item.N, endAside)
	now, err := original.IdentityAt(t.ctx, st, name)
	if err == nil && !it.Work.Aside.Was.IsStill(now) {
		err = giveBack(t.ctx, it, st, folder)
	} else if err == nil {
		err = original.RemoveTree(t.ctx, st, name)
	}
	if original.IgnoreGone(err) != nil {
		it.Note("aside-remains", "path", place.Readable(place.Join(st.record.Folder.Path, st.record.Name)), "why", say.BringBackError(err))
	}
}

// rename settles by the rule what came to stand at the destination since the plan was made.
func (t *Target) rename(it *journal.Carried, from reach.Folder, name string, folder reach.Folder) error {
	for try := 0; ; try++ {
		err := from.Rename(t.ctx, name, folder, it.Item.To.Name())
		if !errors.Is(err, fs.ErrExist) || try > 5 {
			return err
		}
		switch it.Work.Rule {
		case plan.Skip:
			return target.ErrPassed
		case plan.SetAside:
			return errors.New("something else is there since the plan was made; plan again")
		}
		beside := names.Beside(it.Item.To.Name(), it.Work.DatedBy, it.Work.Dated, func(name string) bool {
			_, err := folder.Look(t.ctx, name)
			return err == nil
		})
		it.Item.To.Path = place.Join(place.Folder(it.Item.To.Path), beside)
		it.Note("came-since")
		started := *it.Item
		started.Outcome = catalogue.ItemStarted
		if err := t.records.Receipts.SaveItems(t.ctx, t.receipt, []catalogue.ReceiptItem{started}); err != nil { // where a crash would look for it
			return err
		}
	}
}

// Settled makes the new names last and, of what was renamed, the removal of the old ones.
func (t *Target) Settled(all []*journal.Carried) {
	synced := map[place.Place]bool{}
	for _, it := range all {
		if !it.Arrived {
			continue
		}
		changed := []place.Place{it.Item.To}
		if it.Work.Renames {
			changed = append(changed, it.Item.From)
		}
		for _, p := range changed {
			p.Path = place.Folder(p.Path)
			if synced[p] {
				continue
			}
			synced[p] = true
			folder, err := t.open.Folder(p)
			if err == nil {
				err = folder.Sync(t.ctx)
			}
			if err != nil {
				it.Note("not-lasting", "why", say.BringBackError(err))
			}
		}
	}
}

// TakeOut removes a copied item from its store. It is looked at right before, and again where nobody can change it.
func (t *Target) TakeOut(it *journal.Carried) error {
	from, err := t.open.Parent(it.Item.From)
	if err != nil {
		return err
	}
	now, err := original.IdentityAt(t.ctx, from, it.Item.From.Name())
	if err != nil {
		return err
	}
	if !it.Work.Before.IsStill(now) || it.Work.Before.Changed != now.Changed {
		return target.ErrChanged
	}
	st, err := t.stages.on(t.ctx, from, it.Item.From.Parent())
	if err != nil {
		return err
	}
	name := staged(it.Item.N, endTaken)
	if err := st.take(t.ctx, from, it.Item.From.Name(), now, name); err != nil {
		return err
	}
	return original.RemoveTree(t.ctx, st, name)
}

// Print takes the print of what arrived, by which an undo tells whether it was touched since.
func (t *Target) Print(it *journal.Carried) error {
	if it.Work.Away {
		return nil
	}
	folder, err := t.open.Parent(it.Item.To)
	if err != nil {
		return err
	}
	info, err := folder.Look(t.ctx, it.Item.To.Name())
	if err != nil {
		return err
	}
	inside := it.Work.After.Inside
	it.Work.After = original.Identify(info)
	it.Work.After.Inside = inside
	if it.Work.After.Digest, err = original.ContentOf(t.ctx, folder, info); err != nil {
		return err
	}
	if it.Work.Alone { // what goes into it has items of its own
		return nil
	}
	it.Work.After.Print, err = original.PrintOf(t.ctx, folder, it.Item.To.Name())
	return err
}
