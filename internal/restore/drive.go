package restore

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"math"
	"slices"
	"sync"

	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/contents"
	"humble-rewind/internal/core/digest"
	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/problem"
	"humble-rewind/internal/reach"
	"humble-rewind/internal/reach/spool"
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

// ready reads the copy whole, so that what is sent later is known, finds out which folders are missing, and keeps what is to be written
// over. It writes nothing on the drive.
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
	folder, err := t.missing(it)
	if err != nil {
		return err
	}
	tag, err := v.Tag(t.ctx, it.item.To.Path)
	switch {
	case len(it.work.Made) > 0, errors.Is(err, fs.ErrNotExist):
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
func (t *driveTarget) read(it *carried) (kept *spool.File, sum digest.Sum, size int64, err error) {
	content, err := it.source.Open(t.ctx, it.work.ref())
	if err != nil {
		return nil, digest.Sum{}, 0, err
	}
	defer content.Close()
	if content.File == nil {
		return nil, digest.Sum{}, 0, problem.NotFile
	}
	if it.work.AsOf && !it.work.Expect.met(content.Info) || !it.work.AsOf && !it.work.Before.planned(content.Info) {
		return nil, digest.Sum{}, 0, problem.Changed
	}
	return spooledFile(t.ctx, content.File, content.Info.Size)
}

// missing opens the nearest folder above an item that stands, and notes those that have to be made.
func (t *driveTarget) missing(it *carried) (reach.Folder, error) {
	it.work.Made = nil
	to := parentOf(it.item.To)
	folder, err := t.open.folder(to)
	for ; errors.Is(err, fs.ErrNotExist) && to.Path != "/"; folder, err = t.open.folder(to) {
		it.work.Made = append(it.work.Made, []byte(to.Path))
		to = parentOf(to)
	}
	slices.Reverse(it.work.Made)
	return folder, err
}

// parents makes the folders that were missing, and opens the one that an item goes into. Those that somebody else made meanwhile are not
// noted any more.
func (t *driveTarget) parents(it *carried) (reach.Folder, error) {
	made := it.work.Made[:0]
	for _, path := range it.work.Made {
		at := place.Place{Machine: it.item.To.Machine, Path: string(path)}
		folder, err := t.open.folder(parentOf(at))
		if err != nil {
			return nil, err
		}
		switch err := folder.Mkdir(t.ctx, at.Name()); {
		case err == nil:
			made = append(made, path)
		case !errors.Is(err, fs.ErrExist):
			return nil, err
		}
	}
	it.work.Made = made
	return t.open.folder(parentOf(it.item.To))
}

// arrive writes the new version. It has arrived once it was read back.
func (t *driveTarget) arrive(it *carried) error {
	v, err := t.on(it.item.To.Machine)
	if err != nil {
		return err
	}
	if it.spool != nil {
		defer it.spool.Close()
	}
	folder, err := t.parents(it)
	if err != nil {
		return err
	}
	if it.item.Type == entry.Folder {
		return t.arriveFolder(it, v, folder)
	}
	tag, err := v.PutVersion(t.ctx, it.item.To.Path, io.NewSectionReader(it.spool, 0, it.item.Size), it.item.Size, it.work.Over)
	if err != nil {
		if errors.Is(err, problem.Taken) {
			err = fmt.Errorf("what is there changed meanwhile; plan again: %w", problem.Changed)
			it.work.Aside = nil
		}
		return err
	}
	switch err := t.readBack(folder, it.item.To.Name(), it.item.SHA256); {
	case err == nil:
		it.arrived = true
		return nil
	case errors.Is(err, errOtherBytes):
		return t.withdraw(it, v, tag, err)
	default: // it is looked at again once the drive answers
		return fmt.Errorf("%w: it was sent, and could not be read back (%s)", errAway, Explain(err))
	}
}

// errOtherBytes says that a drive took something and does not hold it.
var errOtherBytes = errors.New("the drive said that it took it, and what it gives back is not what was sent; " +
	"the drive is not to be trusted with it")

// readBack holds what a drive gives back against what was sent.
func (t *driveTarget) readBack(folder reach.Tree, name string, sum digest.Sum) error {
	back, err := contents.DigestAt(t.ctx, folder, name)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		back, err = contents.DigestAt(t.ctx, folder, name)
	}
	if err == nil && back == sum {
		return nil
	}
	if err == nil || errors.Is(err, fs.ErrNotExist) {
		return errOtherBytes
	}
	return err
}

// withdraw takes away what a drive holds in place of what was sent, and puts back what it stands over. What has another tag than that got may
// be what somebody saved meanwhile, and is left.
func (t *driveTarget) withdraw(it *carried, v reach.Versioner, tag string, why error) error {
	now, err := v.Tag(t.ctx, it.item.To.Path)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		tag = ""
	case err == nil && now == it.work.Over: // it never wrote anything: what stood there does
		it.work.Aside = nil
		return why
	case err == nil && now != tag:
		return fmt.Errorf("%w; what stands there now may be what somebody saved meanwhile, and is left as it is", why)
	}
	switch {
	case it.work.Aside != nil:
		err = t.putAside(it, v, tag)
	case tag != "":
		err = v.RemoveVersion(t.ctx, it.item.To.Path, tag)
	}
	if ignoreGone(err) == nil {
		it.work.Aside = nil
		return why
	}
	if it.work.Aside != nil {
		return fmt.Errorf("%w; what stood there before could not be put back (%s), and is in safekeeping", why, Explain(err))
	}
	return fmt.Errorf("%w; what it holds there could not be removed (%s)", why, Explain(err))
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
		it.err = fmt.Errorf("%w: %s", errAway, Explain(err))
		return nil
	}
	if it.item.Type == entry.Folder {
		return t.findFolder(it, folder)
	}
	switch err := t.readBack(folder, it.item.To.Name(), it.item.SHA256); {
	case err == nil:
		it.arrived, it.err = true, nil
		it.item.Note = joinNotes(it.item.Note, "finished after the service stopped in between")
	case errors.Is(err, errOtherBytes):
		it.err = fmt.Errorf("%w; what stands there now is something else", errInterrupted)
	default:
		it.err = fmt.Errorf("%w: %s", errAway, Explain(err))
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
	return same && digest.Parse(it.work.Aside.SHA256) != it.item.SHA256, err
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
	kept, _, size, err := spooled(t.ctx, content, it.work.Aside.Size) // whole, before anything is sent
	if err != nil {
		return err
	}
	defer kept.Close()
	_, err = v.PutVersion(t.ctx, it.item.To.Path, io.NewSectionReader(kept, 0, size), size, over)
	return err
}

// spooledFile keeps a file's content as it is now, with its digest: what is sent is known before anything is.
func spooledFile(ctx context.Context, f reach.File, size int64) (kept *spool.File, sum digest.Sum, n int64, err error) {
	stream, err := f.Stream(ctx)
	if err != nil {
		return nil, digest.Sum{}, 0, err
	}
	defer stream.Close()
	return spooled(ctx, stream, size)
}

// spooled keeps what is read, which has so many bytes; negative where nothing tells.
func spooled(ctx context.Context, r io.Reader, size int64) (kept *spool.File, sum digest.Sum, n int64, err error) {
	if kept, err = spool.Common.File(nil); err != nil {
		return nil, digest.Sum{}, 0, err
	}
	limit := size
	if limit < 0 {
		limit = math.MaxInt64 - 1
	}
	d := digest.New()
	if err = kept.Fill(io.TeeReader(reach.Until(ctx, r), d), limit); err == nil && size >= 0 && kept.Size() != size {
		err = problem.Changed
	}
	if err != nil {
		return nil, digest.Sum{}, 0, errors.Join(err, kept.Close())
	}
	return kept, d.Value(), kept.Size(), nil
}
