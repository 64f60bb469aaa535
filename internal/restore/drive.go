package restore

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"sync"

	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/contents"
	"humble-rewind/internal/core/digest"
	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/problem"
	"humble-rewind/internal/reach"
)

// targets are those of a receipt's items: each goes to the one that the way to its machine calls for.
type targets struct {
	tree  *treeTarget
	drive *driveTarget
}

// oneByOne are the steps of a target that are not of a whole batch.
type oneByOne interface {
	ready(it *carried) error
	arrive(it *carried) error
	find(it *carried) error
	takeBack(it *carried) error
}

// of is the target of an item.
func (t targets) of(it *carried) oneByOne {
	if t.drive.is(it.item.To.Machine) {
		return t.drive
	}
	return t.tree
}

func (t targets) ready(it *carried) error    { return t.of(it).ready(it) }
func (t targets) arrive(it *carried) error   { return t.of(it).arrive(it) }
func (t targets) takeOut(it *carried) error  { return t.tree.takeOut(it) } // of where it lay
func (t targets) print(it *carried) error    { return t.tree.print(it) }
func (t targets) find(it *carried) error     { return t.of(it).find(it) }
func (t targets) takeBack(it *carried) error { return t.of(it).takeBack(it) }

func (t targets) last(all []*carried)    { t.tree.last(t.onTrees(all)) }
func (t targets) settled(all []*carried) { t.tree.settled(t.onTrees(all)) }

func (t targets) onTrees(all []*carried) (some []*carried) {
	for _, it := range all {
		if !t.drive.is(it.item.To.Machine) {
			some = append(some, it)
		}
	}
	return some
}

func (t targets) uninterrupted() {
	t.tree.uninterrupted()
	t.drive.uninterrupted()
}

func (t targets) close() {
	t.tree.close()
	t.drive.open.close()
}

// driveTarget is a drive on which what is written becomes a new version of what is there, see reach.Versioner. It needs no working
// folders: a version is written whole or not at all, only over what was seen, and what it stands over stays a version. That goes into
// safekeeping all the same, since drives thin out their versions.
type driveTarget struct {
	r    *Restorer
	ctx  context.Context
	mu   sync.Mutex // held while an item is worked on: one after the other
	open *handles   // of its own
}

func (t *driveTarget) uninterrupted() {
	t.ctx = context.WithoutCancel(t.ctx)
	t.open.ctx = t.ctx
}

// is tells whether a machine is such a drive.
func (t *driveTarget) is(machine string) bool {
	t.mu.Lock()
	defer t.mu.Unlock()
	_, err := t.on(machine)
	return err == nil
}

func (t *driveTarget) on(machine string) (reach.Versioner, error) {
	files, err := t.open.files(machine)
	if err != nil {
		return nil, err
	}
	v, ok := reach.VersionerOf(files)
	if !ok {
		return nil, problem.Unsupported
	}
	return v, nil
}

// ready reads the copy whole, so that what is sent later is known, makes missing folders, and keeps what is to be written over.
func (t *driveTarget) ready(it *carried) error {
	t.mu.Lock()
	defer t.mu.Unlock()
	v, err := t.on(it.item.To.Machine)
	if err != nil {
		return err
	}
	if it.work.Away || it.item.Type != entry.File && it.item.Type != entry.Folder {
		return errors.New("on a cloud drive only files and folders are brought back; set what is there aside by hand")
	}
	folder, err := t.parents(it)
	if err != nil {
		return err
	}
	tag, err := v.Tag(t.ctx, it.item.To.Path)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		it.work.Sets = false
	case err != nil:
		return err
	case !it.work.Sets || tag == "":
		return problem.Taken
	default:
		a, err := t.r.keep(t.ctx, folder, it.item.To.Name())
		if err != nil {
			return err
		}
		if now, err := v.Tag(t.ctx, it.item.To.Path); err != nil || now != tag {
			return errors.Join(problem.Changed, err)
		}
		it.work.Aside, it.work.Over = &a, tag
	}
	if it.work.Leaves { // a drive keeps neither its owner nor its times, so that it could not be put back as it was
		it.work.Leaves = false
		it.item.Note = joinNotes(it.item.Note, "it stays in its trash too")
	}
	if it.item.Type == entry.Folder {
		return nil
	}
	it.spool, it.item.SHA256, it.item.Size, err = t.read(it)
	return err
}

// read reads a copy into a file without a name.
func (t *driveTarget) read(it *carried) (spool *os.File, sum string, size int64, err error) {
	content, err := it.source.Open(t.ctx, it.work.ref())
	if err != nil {
		return nil, "", 0, err
	}
	defer content.Close()
	if content.File == nil {
		return nil, "", 0, problem.NotFile
	}
	if it.work.AsOf && !it.work.Expect.met(content.Info) || !it.work.AsOf && !it.work.Before.planned(content.Info) {
		return nil, "", 0, problem.Changed
	}
	stream, err := content.File.Stream(t.ctx)
	if err != nil {
		return nil, "", 0, err
	}
	defer stream.Close()
	return spooled(stream)
}

// spooled keeps what is read in a file without a name, with its digest.
func spooled(r io.Reader) (spool *os.File, sum string, size int64, err error) {
	if spool, err = os.CreateTemp("", "humble-rewind-"); err != nil {
		return nil, "", 0, err
	}
	d := digest.New()
	err = os.Remove(spool.Name())
	if err == nil {
		size, err = io.Copy(io.MultiWriter(spool, d), r)
	}
	if err != nil {
		return nil, "", 0, errors.Join(err, spool.Close())
	}
	return spool, d.Hex(), size, nil
}

// parents opens the folder that an item goes into, made where it is missing.
func (t *driveTarget) parents(it *carried) (reach.Folder, error) {
	to := parentOf(it.item.To)
	var missing []place.Place
	folder, err := t.open.folder(to)
	for ; errors.Is(err, fs.ErrNotExist) && to.Path != "/"; folder, err = t.open.folder(to) {
		missing = append(missing, to)
		to = parentOf(to)
	}
	it.work.Made = nil
	for n := len(missing) - 1; n >= 0 && err == nil; n-- {
		err = folder.Mkdir(t.ctx, missing[n].Name())
		if err == nil {
			it.work.Made = append(it.work.Made, []byte(missing[n].Path))
		} else if errors.Is(err, fs.ErrExist) {
			err = nil
		}
		if err == nil {
			folder, err = t.open.folder(missing[n])
		}
	}
	return folder, err
}

// arrive writes the new version, and reads it back.
func (t *driveTarget) arrive(it *carried) error {
	v, err := t.on(it.item.To.Machine)
	if err != nil {
		return err
	}
	folder, err := t.open.folder(parentOf(it.item.To))
	if err != nil {
		return err
	}
	if it.item.Type == entry.Folder {
		return t.arriveFolder(it, v, folder)
	}
	defer it.spool.Close()
	if _, err := v.PutVersion(t.ctx, it.item.To.Path, io.NewSectionReader(it.spool, 0, it.item.Size), it.item.Size, it.work.Over); err != nil {
		if errors.Is(err, problem.Taken) {
			err = fmt.Errorf("what is there changed meanwhile; plan again: %w", problem.Changed)
		}
		it.work.Aside = nil
		return err
	}
	it.arrived = true
	if sum, err := contents.DigestAt(t.ctx, folder, it.item.To.Name()); err != nil || sum != it.item.SHA256 {
		it.item.Note = joinNotes(it.item.Note, "it could not be read back as it was written; look at it")
	}
	return nil
}

// arriveFolder makes a folder with everything in it that its copy holds.
func (t *driveTarget) arriveFolder(it *carried, v reach.Versioner, folder reach.Folder) error {
	if err := folder.Mkdir(t.ctx, it.item.To.Name()); err != nil {
		return err
	}
	it.arrived = true
	if it.work.Alone {
		return nil
	}
	content, err := it.source.Open(t.ctx, it.work.ref())
	if err != nil || content.Folder == nil {
		return err
	}
	defer content.Close()
	into, err := t.open.folder(it.item.To)
	if err != nil {
		return err
	}
	if err := t.fill(v, content.Folder, into, it.item.To.Path); err != nil {
		it.item.Note = joinNotes(it.item.Note, "not all of it arrived: "+Explain(err))
	}
	return nil
}

func (t *driveTarget) fill(v reach.Versioner, from reach.Tree, into reach.Folder, at string) error {
	list, err := from.List(t.ctx)
	if err != nil {
		return err
	}
	var failed error
	for _, e := range list {
		to := place.Join(at, e.Name)
		switch e.Type {
		case entry.Folder:
			failed = errors.Join(failed, t.fillFolder(v, from, into, e.Name, to))
		case entry.File:
			failed = errors.Join(failed, t.fillFile(v, from, e.Name, to))
		default:
			failed = errors.Join(failed, fmt.Errorf("%s is neither a file nor a folder: %w", place.Quote(to), problem.Unsupported))
		}
	}
	return failed
}

func (t *driveTarget) fillFolder(v reach.Versioner, from reach.Tree, into reach.Folder, name, to string) error {
	if err := into.Mkdir(t.ctx, name); err != nil {
		return err
	}
	inner, err := from.Enter(t.ctx, name)
	if err != nil {
		return err
	}
	defer inner.Close()
	below, err := into.Into(t.ctx, name)
	if err != nil {
		return err
	}
	defer below.Close()
	return t.fill(v, inner, below, to)
}

func (t *driveTarget) fillFile(v reach.Versioner, from reach.Tree, name, to string) error {
	f, err := from.Open(t.ctx, name)
	if err != nil {
		return err
	}
	defer f.Close()
	stream, err := f.Stream(t.ctx)
	if err != nil {
		return err
	}
	defer stream.Close()
	spool, _, size, err := spooled(stream)
	if err != nil {
		return err
	}
	defer spool.Close()
	_, err = v.PutVersion(t.ctx, to, io.NewSectionReader(spool, 0, size), size, "")
	return err
}

// find finds out whether the version of an interrupted bring-back was written: what stood before still stands where it was not.
func (t *driveTarget) find(it *carried) error {
	v, err := t.on(it.item.To.Machine)
	if err != nil {
		it.err = fmt.Errorf("%w: %s", errAway, Explain(err))
		return nil
	}
	it.err = errInterrupted
	if it.item.Outcome == catalogue.ItemWaiting {
		return nil
	}
	tag, err := v.Tag(t.ctx, it.item.To.Path)
	switch {
	case errors.Is(err, fs.ErrNotExist), err == nil && it.work.Over != "" && tag == it.work.Over:
		it.work.Aside = nil
		return nil
	case err != nil:
		it.err = fmt.Errorf("%w: %s", errAway, Explain(err))
		return nil
	}
	folder, err := t.open.folder(parentOf(it.item.To))
	if err != nil {
		return err
	}
	if it.item.Type == entry.File {
		sum, err := contents.DigestAt(t.ctx, folder, it.item.To.Name())
		if err != nil {
			return err
		}
		it.arrived = sum == it.item.SHA256
	}
	if it.arrived {
		it.err = nil
		it.item.Note = joinNotes(it.item.Note, "finished after the service stopped in between")
	} else {
		it.work.Aside = nil
	}
	return nil
}

// takeBack makes the version that stood there current again, by writing it once more, or removes what arrived.
func (t *driveTarget) takeBack(it *carried) error {
	v, err := t.on(it.item.To.Machine)
	if err != nil {
		return fmt.Errorf("%w: %s", errAway, Explain(err))
	}
	tag, err := v.Tag(t.ctx, it.item.To.Path)
	switch {
	case errors.Is(err, fs.ErrNotExist) && it.work.Aside == nil:
		return nil // taken back already
	case errors.Is(err, fs.ErrNotExist):
		return &changedError{"it is no longer there"}
	case err != nil:
		return err
	}
	folder, err := t.open.folder(parentOf(it.item.To))
	if err != nil {
		return err
	}
	if it.work.Aside != nil {
		if back, err := t.standsAside(it, folder); err != nil || back {
			return err
		}
	}
	if reason := t.r.obstacle(t.open, it, map[place.Place]bool{}); reason != "" {
		return &changedError{reason}
	}
	if it.work.Aside == nil {
		err = v.RemoveVersion(t.ctx, it.item.To.Path, tag)
	} else {
		err = t.putAside(it, v, tag)
	}
	if errors.Is(err, problem.Taken) {
		return &changedError{"it was changed while it was undone, and that work would be lost"}
	}
	return err
}

// standsAside tells whether what was set aside stands there again.
func (t *driveTarget) standsAside(it *carried, folder reach.Folder) (bool, error) {
	now, err := standingAt(t.ctx, folder, it.item.To.Name())
	if err != nil {
		return false, err
	}
	was, err := t.r.described(*it.work.Aside)
	if err != nil {
		return false, err
	}
	same, err := was.stands(now)
	return same && it.work.Aside.SHA256 != it.item.SHA256, err
}

// putAside writes what was set aside as a version of its own.
func (t *driveTarget) putAside(it *carried, v reach.Versioner, over string) error {
	o, err := t.r.kept(*it.work.Aside)
	if err != nil {
		return err
	}
	content, err := o.Content()
	if err != nil {
		return err
	}
	defer content.Close()
	spool, _, size, err := spooled(content) // whole, before anything is sent
	if err != nil {
		return err
	}
	defer spool.Close()
	_, err = v.PutVersion(t.ctx, it.item.To.Path, io.NewSectionReader(spool, 0, size), size, over)
	return err
}
