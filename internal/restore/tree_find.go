package restore

import (
	"errors"
	"fmt"
	"io/fs"

	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/reach"
)

// find finds out whether an item had taken its final name, and puts what gave way back where it had not.
func (t *treeTarget) find(it *carried) error {
	if why := it.work.Ground.away(t.open, it.item.To.Machine); why != "" {
		it.err = fmt.Errorf("%w: %s", errAway, why)
		return nil
	}
	started := it.item.Outcome != catalogue.ItemWaiting
	folder, err := t.open.parent(it.item.To)
	if errors.Is(err, fs.ErrNotExist) && it.work.former() && it.work.Aside != nil {
		err = errors.New("the folder is gone in which the one that made room for it was")
	}
	if errors.Is(err, fs.ErrNotExist) {
		it.err = t.missing(it) // not even its folder was made
		return nil
	}
	if err != nil {
		it.err = fmt.Errorf("%w: %s", errAway, Explain(err))
		return nil
	}
	if it.work.former() {
		err = t.findFormer(it, folder)
	} else {
		err = t.findStaged(it, folder, started)
	}
	if err != nil {
		return err
	}
	if it.arrived {
		it.item.Note = joinNotes(it.item.Note, "finished after the service stopped in between")
		return t.finishTaking(it)
	}
	it.work.Aside = nil
	it.err = errInterrupted
	if started && it.work.Renames {
		it.err = t.missing(it)
	}
	return nil
}

// findStaged finds out whether an item had taken its final name, and puts what gave way back from its working folder where not.
func (t *treeTarget) findStaged(it *carried, folder reach.Folder, started bool) error {
	name := it.item.To.Name()
	_, err := folder.Look(t.ctx, name)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	nothing := err != nil
	if !nothing && started && !it.work.Away {
		if it.arrived, err = it.work.After.arrivedAs(t.ctx, folder, name, it.item.Type, it.work.Alone, it.item.SHA256); err != nil &&
			!errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	st, _, err := t.stages.find(t.ctx, staged(it.item.N, endAside))
	if err != nil {
		return err
	}
	if it.work.Away && it.work.Aside != nil && nothing && st == nil {
		it.arrived = true // kept safe, moved away and removed
	}
	switch {
	case st == nil:
	case it.arrived:
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
func (t *treeTarget) missing(it *carried) error {
	if !it.work.Renames {
		return errInterrupted
	}
	from, err := t.open.parent(it.item.From)
	if err == nil {
		_, err = from.Look(t.ctx, it.item.From.Name())
	}
	if errors.Is(err, fs.ErrNotExist) {
		return errMovedOn
	}
	return errInterrupted
}

// finishTaking removes a copied item that was being taken out of its store, or puts it back where it changed.
func (t *treeTarget) finishTaking(it *carried) error {
	name := staged(it.item.N, endTaken)
	st, _, err := t.stages.find(t.ctx, name)
	if err != nil || st == nil {
		return err
	}
	now, err := identityAt(t.ctx, st, name)
	if err != nil {
		return err
	}
	if it.work.Before.isStill(now) {
		return removeTree(t.ctx, st, name)
	}
	from, err := t.open.parent(it.item.From)
	if err != nil {
		return err
	}
	return st.Rename(t.ctx, name, from, it.item.From.Name())
}
