package restore

import (
	"errors"
	"fmt"
	"io/fs"
	"time"

	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/core/names"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/plan"
	"humble-rewind/internal/reach"
)

// commitReady makes what was written last and records it with what will arrive, so that after a crash what arrived can be told
// from what did not.
func (c *carrier) commitReady(all []*carried) error {
	settled := map[uint64]bool{}
	var save []catalogue.ReceiptItem
	for _, it := range all {
		if it.err != nil {
			continue
		}
		folder, err := c.open.parent(it.item.To)
		if err == nil && !it.work.Renames && !it.work.Away && !settled[it.work.After.Device] {
			settled[it.work.After.Device] = true
			err = folder.Settle()
		}
		if err == nil && it.work.Aside != nil { // where what gives way will be must be known as well
			_, err = c.stage(it, folder)
		}
		if err == nil {
			err = it.store()
		}
		if it.err = err; err == nil {
			item := *it.item
			item.Outcome = catalogue.ItemStarted
			save = append(save, item)
		}
	}
	return c.r.Site.Catalogue.SaveItems(c.ctx, c.receipt, save)
}

// place gives an item its final name, and makes sure that it was this item that got it.
func (c *carrier) place(it *carried) error {
	folder, err := c.open.parent(it.item.To)
	if err != nil {
		return err
	}
	var st *stage
	if it.work.Aside != nil || !it.work.Renames {
		if st, err = c.stage(it, folder); err != nil {
			return err
		}
	}
	if it.work.Aside != nil {
		if err := st.take(c.ctx, folder, it.item.To.Name(), it.work.Aside.Was, staged(it.item.N, endAside)); err != nil {
			it.work.Aside = nil
			if errors.Is(err, errChanged) {
				err = errors.New("what stands there changed while it was set aside; plan again")
			}
			return err
		}
	}
	if it.work.Away {
		it.arrived = true
	} else if err := c.arrive(it, st, folder); err != nil {
		if it.work.Aside != nil {
			err = errors.Join(err, giveBack(it, st, folder))
			it.work.Aside = nil
		}
		return err
	}
	it.arrived = true
	if it.work.Aside != nil {
		c.dropAside(it, st, folder)
	}
	return nil
}

// arrive moves an item to its final name and checks there that it is what was meant: in a store that a user can write, she can
// put something else in its place at the last moment, and from where it arrives she can move it away at once.
func (c *carrier) arrive(it *carried, st *stage, folder reach.Folder) error {
	var from reach.Folder
	name := staged(it.item.N, endPart)
	if it.work.Renames {
		name = it.item.From.Name()
		var err error
		if from, err = c.open.parent(it.item.From); err != nil {
			return err
		}
	} else {
		from = st.Folder
	}
	err := c.rename(it, from, name, folder)
	if it.work.Renames && errors.Is(err, fs.ErrNotExist) {
		return errNotThere
	}
	if err != nil {
		return err
	}
	now, err := look(c.ctx, folder, it.item.To.Name())
	switch {
	case err == nil && it.work.After.isStill(now):
		return c.dropBits(it, folder)
	case it.work.Renames && err == nil:
		if back := folder.Rename(it.item.To.Name(), from, name); back != nil {
			it.item.Note = joinNotes(it.item.Note, "what came instead stands there now: "+Explain(back))
		}
		return errors.New("something else was put in its place in its store while it was brought back; survey and plan again")
	case err != nil && !errors.Is(err, fs.ErrNotExist):
		it.item.Note = joinNotes(it.item.Note, "it arrived, and could not be looked at there: "+Explain(err))
		return nil
	case it.work.Renames:
		return errors.New("somebody moved it away the moment it arrived; look for it near its place")
	}
	return errors.New("something else took its place the moment it arrived; plan again")
}

// dropBits takes set-id bits from a file that was moved out of a store that users can write.
func (c *carrier) dropBits(it *carried, folder reach.Folder) error {
	const bits = fs.ModeSetuid | fs.ModeSetgid
	if it.work.To == nil || !it.work.Renames || it.item.Type != plan.File {
		return nil
	}
	f, err := folder.Open(it.item.To.Name())
	if err != nil {
		return nil // gone already; whoever took it has what she had before
	}
	defer f.Close()
	info, err := f.Info()
	setter, can := f.(reach.ModeSetter)
	if err != nil || info.Mode&bits == 0 || info.Inode != it.work.After.Inode {
		return err
	}
	if !can {
		return errors.New("its set-id bits cannot be dropped there")
	}
	it.work.Bits = info.Mode & bits
	return setter.SetMode(info.Mode &^ bits)
}

// giveBack puts what gave way back where it stood, or beside what has come to stand there.
func giveBack(it *carried, st *stage, folder reach.Folder) error {
	return orBeside(it, st, staged(it.item.N, endAside), folder, "what stood there before")
}

// orBeside moves something out of a stage to an item's place or, where something has come to stand there, beside it.
func orBeside(it *carried, st *stage, name string, folder reach.Folder, what string) error {
	err := st.Rename(name, folder, it.item.To.Name())
	if !errors.Is(err, fs.ErrExist) {
		return err
	}
	beside := names.Beside(it.item.To.Name(), "set aside", time.Time{}, func(name string) bool {
		_, err := folder.Lstat(name)
		return err == nil
	})
	it.item.Note = joinNotes(it.item.Note, fmt.Sprintf("something has come to stand there; %s is beside it as %s", what,
		place.Readable(beside)))
	return st.Rename(name, folder, beside)
}

// dropAside removes what gave way, which is in safekeeping. Whoever had it open may have written to it since; then it stays.
func (c *carrier) dropAside(it *carried, st *stage, folder reach.Folder) {
	name := staged(it.item.N, endAside)
	now, err := look(c.ctx, st, name)
	if err == nil && !it.work.Aside.Was.isStill(now) {
		err = giveBack(it, st, folder)
	} else if err == nil {
		err = removeTree(c.ctx, st, name)
	}
	if ignoreGone(err) != nil {
		it.item.Note = joinNotes(it.item.Note, fmt.Sprintf("what was set aside also remains in %s: %s",
			place.Readable(place.Join(st.record.Folder.Path, st.record.Name)), Explain(err)))
	}
}

// rename settles by the rule what came to stand at the destination since the plan was made.
func (c *carrier) rename(it *carried, from reach.Folder, name string, folder reach.Folder) error {
	for try := 0; ; try++ {
		err := from.Rename(name, folder, it.item.To.Name())
		if !errors.Is(err, fs.ErrExist) || try > 5 {
			return err
		}
		switch it.work.Rule {
		case plan.Skip:
			return errPassed
		case plan.SetAside:
			return errors.New("something else has come to stand there since the plan was made; plan again")
		}
		beside := names.Beside(it.item.To.Name(), it.work.DatedBy, it.work.Dated, func(name string) bool {
			_, err := folder.Lstat(name)
			return err == nil
		})
		it.item.To.Path = place.Join(place.Folder(it.item.To.Path), beside)
		it.item.Note = joinNotes(it.item.Note, "something came to stand there since the plan was made; both are kept")
		started := *it.item
		started.Outcome = catalogue.ItemStarted
		if err := c.r.Site.Catalogue.SaveItems(c.ctx, c.receipt, []catalogue.ReceiptItem{started}); err != nil { // where a crash would look for it
			return err
		}
	}
}

var errPassed = errors.New("something came to stand there since the plan was made; skipped")
