// Package cloud brings things back to a cloud drive.
package cloud

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
	"humble-rewind/internal/restore/hands"
	"humble-rewind/internal/restore/journal"
	"humble-rewind/internal/restore/original"
	"humble-rewind/internal/restore/target"
	"humble-rewind/internal/say"
)

// Target is a cloud drive on which what is written becomes a new version of what is there, see reach.Versioner. It needs no working
// folders: a version is written whole or not at all, only over what was seen, and what it stands over stays a version. That goes into
// safekeeping all the same, since drives thin out their versions.
type Target struct {
	keeper target.Keeper
	ctx    context.Context
	mu     sync.Mutex   // held while an item is worked on: one after the other
	open   *hands.Hands // of its own
}

// New returns the target of a receipt's items on drives; open becomes its own.
func New(ctx context.Context, keeper target.Keeper, open *hands.Hands) *Target {
	return &Target{keeper: keeper, ctx: ctx, open: open}
}

// Uninterrupted makes all that follows go on even if the service is asked to stop.
func (t *Target) Uninterrupted() {
	t.ctx = context.WithoutCancel(t.ctx)
	t.open.Ctx = t.ctx
}

// Last has nothing to do: what a drive was sent is read back as it arrives.
func (t *Target) Last([]*journal.Carried) {}

// Settled has nothing to do either.
func (t *Target) Settled([]*journal.Carried) {}

// Close closes what the target opened.
func (t *Target) Close() { t.open.Close() }

func (t *Target) on(machine string) (reach.Versioner, error) {
	files, err := t.open.Files(machine)
	if err != nil {
		return nil, err
	}
	v, ok := reach.VersionerOf(files)
	if !ok {
		return nil, problem.Unsupported
	}
	return v, nil
}

// Ready reads the copy whole, so that what is sent later is known, finds out which folders are missing, and keeps what is to be written
// over. It writes nothing on the drive.
func (t *Target) Ready(it *journal.Carried) error {
	t.mu.Lock()
	defer t.mu.Unlock()
	v, err := t.on(it.Item.To.Machine)
	if err != nil {
		return err
	}
	if it.Work.Away || it.Item.Type != entry.File && it.Item.Type != entry.Folder {
		return errors.New("on a cloud drive only files and folders are brought back; set what is there aside by hand")
	}
	folder, err := t.missing(it)
	if err != nil {
		return err
	}
	tag, err := v.Tag(t.ctx, it.Item.To.Path)
	switch {
	case len(it.Work.Made) > 0, errors.Is(err, fs.ErrNotExist):
		it.Work.Sets = false
	case err != nil:
		return err
	case !it.Work.Sets || tag == "":
		return problem.Taken
	default:
		if err := target.StillStands(t.ctx, it, folder); err != nil {
			return err
		}
		a, err := t.keeper.Keep(t.ctx, folder, it.Item.To.Name())
		if err != nil {
			return err
		}
		if now, err := v.Tag(t.ctx, it.Item.To.Path); err != nil || now != tag {
			return errors.Join(problem.Changed, err)
		}
		it.Work.Aside, it.Work.Over = &a, tag
	}
	if it.Work.Leaves { // a drive keeps neither its owner nor its times, so that it could not be put back as it was
		it.Work.Leaves = false
		it.Note("stays-in-trash")
	}
	if it.Item.Type == entry.Folder {
		return nil
	}
	it.Spool, it.Item.SHA256, it.Item.Size, err = t.read(it)
	return err
}

// read reads a copy into a file without a name.
func (t *Target) read(it *journal.Carried) (kept *spool.File, sum digest.Sum, size int64, err error) {
	content, err := it.Source.Open(t.ctx, it.Work.CopyRef())
	if err != nil {
		return nil, digest.Sum{}, 0, err
	}
	defer content.Close()
	if content.File == nil {
		return nil, digest.Sum{}, 0, problem.NotFile
	}
	if it.Work.AsOf && !it.Work.Expect.Met(content.Info) || !it.Work.AsOf && !it.Work.Before.Planned(content.Info) {
		return nil, digest.Sum{}, 0, problem.Changed
	}
	return spooledFile(t.ctx, content.File, content.Info.Size)
}

// missing opens the nearest folder above an item that stands, and notes those that have to be made.
func (t *Target) missing(it *journal.Carried) (reach.Folder, error) {
	it.Work.Made = nil
	to := it.Item.To.Parent()
	folder, err := t.open.Folder(to)
	for ; errors.Is(err, fs.ErrNotExist) && to.Path != "/"; folder, err = t.open.Folder(to) {
		it.Work.Made = append(it.Work.Made, []byte(to.Path))
		to = to.Parent()
	}
	slices.Reverse(it.Work.Made)
	return folder, err
}

// parents makes the folders that were missing, and opens the one that an item goes into. Those that somebody else made meanwhile are not
// noted any more.
func (t *Target) parents(it *journal.Carried) (reach.Folder, error) {
	made := it.Work.Made[:0]
	for _, path := range it.Work.Made {
		at := place.Place{Machine: it.Item.To.Machine, Path: string(path)}
		folder, err := t.open.Folder(at.Parent())
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
	it.Work.Made = made
	return t.open.Folder(it.Item.To.Parent())
}

// Arrive writes the new version. It has arrived once it was read back.
func (t *Target) Arrive(it *journal.Carried) error {
	v, err := t.on(it.Item.To.Machine)
	if err != nil {
		return err
	}
	if it.Spool != nil {
		defer it.Spool.Close()
	}
	folder, err := t.parents(it)
	if err != nil {
		return err
	}
	if it.Item.Type == entry.Folder {
		return t.arriveFolder(it, v, folder)
	}
	tag, err := v.PutVersion(t.ctx, it.Item.To.Path, io.NewSectionReader(it.Spool, 0, it.Item.Size), it.Item.Size, it.Work.Over)
	if err != nil {
		if errors.Is(err, problem.Taken) {
			err = fmt.Errorf("what is there changed meanwhile; plan again: %w", problem.Changed)
			it.Work.Aside = nil
		}
		return err
	}
	switch err := t.readBack(folder, it.Item.To.Name(), it.Item.SHA256); {
	case err == nil:
		it.Arrived = true
		return nil
	case errors.Is(err, errOtherBytes):
		return t.withdraw(it, v, tag, err)
	default: // it is looked at again once the drive answers
		return fmt.Errorf("%w: it was sent, and could not be read back (%s)", target.ErrAway, say.BringBackError(err))
	}
}

// errOtherBytes says that a drive took something and does not hold it.
var errOtherBytes = errors.New("the drive said that it took it, and what it gives back is not what was sent; " +
	"the drive is not to be trusted with it")

// readBack holds what a drive gives back against what was sent.
func (t *Target) readBack(folder reach.Tree, name string, sum digest.Sum) error {
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
func (t *Target) withdraw(it *journal.Carried, v reach.Versioner, tag string, why error) error {
	now, err := v.Tag(t.ctx, it.Item.To.Path)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		tag = ""
	case err == nil && now == it.Work.Over: // it never wrote anything: what stood there does
		it.Work.Aside = nil
		return why
	case err == nil && now != tag:
		return fmt.Errorf("%w; what stands there now may be what somebody saved meanwhile, and is left as it is", why)
	}
	switch {
	case it.Work.Aside != nil:
		err = t.putAside(it, v, tag)
	case tag != "":
		err = v.RemoveVersion(t.ctx, it.Item.To.Path, tag)
	}
	if original.IgnoreGone(err) == nil {
		it.Work.Aside = nil
		return why
	}
	if it.Work.Aside != nil {
		return fmt.Errorf("%w; what stood there before could not be put back (%s), and is in safekeeping", why, say.BringBackError(err))
	}
	return fmt.Errorf("%w; what it holds there could not be removed (%s)", why, say.BringBackError(err))
}

// Find finds out whether the version of an interrupted bring-back was written: what stood before still stands where it was not.
func (t *Target) Find(it *journal.Carried) error {
	v, err := t.on(it.Item.To.Machine)
	if err != nil {
		it.Err = fmt.Errorf("%w: %s", target.ErrAway, say.BringBackError(err))
		return nil
	}
	it.Err = target.ErrInterrupted
	if it.Item.Outcome == catalogue.ItemWaiting {
		return nil
	}
	tag, err := v.Tag(t.ctx, it.Item.To.Path)
	switch {
	case errors.Is(err, fs.ErrNotExist), err == nil && it.Work.Over != "" && tag == it.Work.Over:
		it.Work.Aside = nil
		return nil
	case err != nil:
		it.Err = fmt.Errorf("%w: %s", target.ErrAway, say.BringBackError(err))
		return nil
	}
	folder, err := t.open.Folder(it.Item.To.Parent())
	if err != nil {
		it.Err = fmt.Errorf("%w: %s", target.ErrAway, say.BringBackError(err))
		return nil
	}
	if it.Item.Type == entry.Folder {
		return t.findFolder(it, folder)
	}
	switch err := t.readBack(folder, it.Item.To.Name(), it.Item.SHA256); {
	case err == nil:
		it.Arrived, it.Err = true, nil
		it.Note("finished-later")
	case errors.Is(err, errOtherBytes):
		it.Err = fmt.Errorf("%w; what stands there now is something else", target.ErrInterrupted)
	default:
		it.Err = fmt.Errorf("%w: %s", target.ErrAway, say.BringBackError(err))
	}
	return nil
}

// TakeBack makes the version that stood there current again, by writing it once more, or removes what arrived.
func (t *Target) TakeBack(it *journal.Carried) error {
	v, err := t.on(it.Item.To.Machine)
	if err != nil {
		return fmt.Errorf("%w: %s", target.ErrAway, say.BringBackError(err))
	}
	tag, err := v.Tag(t.ctx, it.Item.To.Path)
	switch {
	case errors.Is(err, fs.ErrNotExist) && it.Work.Aside == nil:
		return nil // taken back already
	case errors.Is(err, fs.ErrNotExist):
		return &target.ChangedError{Why: "it is no longer there"}
	case err != nil:
		return err
	}
	folder, err := t.open.Folder(it.Item.To.Parent())
	if err != nil {
		return err
	}
	if it.Work.Aside != nil {
		if back, err := t.standsAside(it, folder); err != nil || back {
			return err
		}
	}
	if reason := t.keeper.Obstacle(t.open, it, map[place.Place]bool{}); reason != "" {
		return &target.ChangedError{Why: reason}
	}
	if it.Work.Aside == nil {
		err = v.RemoveVersion(t.ctx, it.Item.To.Path, tag)
	} else {
		err = t.putAside(it, v, tag)
	}
	if errors.Is(err, problem.Taken) {
		return &target.ChangedError{Why: "it was changed while it was undone, and that work would be lost"}
	}
	return err
}

// standsAside tells whether what was set aside stands there again.
func (t *Target) standsAside(it *journal.Carried, folder reach.Folder) (bool, error) {
	now, err := original.StandingAt(t.ctx, folder, it.Item.To.Name())
	if err != nil {
		return false, err
	}
	was, err := t.keeper.Described(*it.Work.Aside)
	if err != nil {
		return false, err
	}
	same, err := was.Stands(now)
	return same && digest.Parse(it.Work.Aside.SHA256) != it.Item.SHA256, err
}

// putAside writes what was set aside as a version of its own.
func (t *Target) putAside(it *journal.Carried, v reach.Versioner, over string) error {
	o, err := t.keeper.Kept(*it.Work.Aside)
	if err != nil {
		return err
	}
	content, err := o.Content()
	if err != nil {
		return err
	}
	defer content.Close()
	kept, _, size, err := spooled(t.ctx, content, it.Work.Aside.Size) // whole, before anything is sent
	if err != nil {
		return err
	}
	defer kept.Close()
	_, err = v.PutVersion(t.ctx, it.Item.To.Path, io.NewSectionReader(kept, 0, size), size, over)
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
