package tree

import (
	"errors"
	"fmt"
	"io/fs"

	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/reach"
	"humble-rewind/internal/restore/journal"
	"humble-rewind/internal/restore/original"
	"humble-rewind/internal/restore/target"
	"humble-rewind/internal/say"
)

// Find finds out whether an item had taken its final name, and puts what gave way back where it had not.
func (t *Target) Find(it *journal.Carried) error {
	if why := target.Away(it.Work.Ground, t.open, it.Item.To.Machine); why != "" {
		it.Err = fmt.Errorf("%w: %s", target.ErrAway, why)
		return nil
	}
	started := it.Item.Outcome != catalogue.ItemWaiting
	folder, err := t.open.Parent(it.Item.To)
	if errors.Is(err, fs.ErrNotExist) && it.Work.Former() && it.Work.Aside != nil {
		err = errors.New("the folder is gone in which the one that made room for it was")
	}
	if errors.Is(err, fs.ErrNotExist) {
		it.Err = t.missing(it) // not even its folder was made
		return nil
	}
	if err != nil {
		it.Err = fmt.Errorf("%w: %s", target.ErrAway, say.BringBackError(err))
		return nil
	}
	if it.Work.Former() {
		err = t.findFormer(it, folder)
	} else {
		err = t.findStaged(it, folder, started)
	}
	if err != nil {
		return err
	}
	if it.Arrived {
		it.Note("finished-later")
		return t.finishTaking(it)
	}
	it.Work.Aside = nil
	it.Err = target.ErrInterrupted
	if started && it.Work.Renames {
		it.Err = t.missing(it)
	}
	return nil
}

// findStaged finds out whether an item had taken its final name, and puts what gave way back from its working folder where not.
func (t *Target) findStaged(it *journal.Carried, folder reach.Folder, started bool) error {
	name := it.Item.To.Name()
	_, err := folder.Look(t.ctx, name)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	nothing := err != nil
	if !nothing && started && !it.Work.Away {
		if it.Arrived, err = it.Work.After.ArrivedAs(t.ctx, folder, name, it.Item.Type, it.Work.Alone, it.Item.SHA256); err != nil &&
			!errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	st, _, err := t.stages.find(t.ctx, staged(it.Item.N, endAside))
	if err != nil {
		return err
	}
	if it.Work.Away && it.Work.Aside != nil && nothing && st == nil {
		it.Arrived = true // kept safe, moved away and removed
	}
	switch {
	case st == nil:
	case it.Arrived:
		t.dropAside(it, st, folder)
	default:
		if err := giveBack(t.ctx, it, st, folder); err != nil {
			return err
		}
	}
	return nil
}

// errMovedOn is what befell an item that is neither where it lay nor, as it was, where it was to go.
var errMovedOn = errors.New("it is no longer where it was, and what is at its destination is not that file: " +
	"somebody moved it or worked on it while the service was down. Its store still has the record of it")

// missing tells of an item that did not arrive whether it is where it lay.
func (t *Target) missing(it *journal.Carried) error {
	if !it.Work.Renames {
		return target.ErrInterrupted
	}
	from, err := t.open.Parent(it.Item.From)
	if err == nil {
		_, err = from.Look(t.ctx, it.Item.From.Name())
	}
	if errors.Is(err, fs.ErrNotExist) {
		return errMovedOn
	}
	return target.ErrInterrupted
}

// finishTaking removes a copied item that was being taken out of its store, or puts it back where it changed.
func (t *Target) finishTaking(it *journal.Carried) error {
	name := staged(it.Item.N, endTaken)
	st, _, err := t.stages.find(t.ctx, name)
	if err != nil || st == nil {
		return err
	}
	now, err := original.IdentityAt(t.ctx, st, name)
	if err != nil {
		return err
	}
	if it.Work.Before.IsStill(now) {
		return original.RemoveTree(t.ctx, st, name)
	}
	from, err := t.open.Parent(it.Item.From)
	if err != nil {
		return err
	}
	return st.Rename(t.ctx, name, from, it.Item.From.Name())
}
