package cloud

import (
	"errors"
	"fmt"
	"io"
	"io/fs"

	"humble-rewind/internal/contents"
	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/problem"
	"humble-rewind/internal/core/remark"
	"humble-rewind/internal/reach"
	"humble-rewind/internal/restore/journal"
	"humble-rewind/internal/restore/target"
	"humble-rewind/internal/say"
)

// arriveFolder makes a folder with everything in it that its copy holds. What of it did not arrive is said, and the folder is then only
// partly there.
func (t *Target) arriveFolder(it *journal.Carried, v reach.Versioner, folder reach.Folder) error {
	if err := folder.Mkdir(t.ctx, it.Item.To.Name()); err != nil {
		return err
	}
	it.Arrived = true
	if it.Work.Alone {
		return nil
	}
	f := filling{Target: t, v: v}
	if err := f.whole(it); err != nil {
		f.fail(it.Item.To.Path, err)
	}
	f.say(it)
	return nil
}

// filling is a folder that comes to a drive with what is in it.
type filling struct {
	*Target
	v reach.Versioner

	files, folders, failed, left int64
	why                          error // of the first that failed
	at                           string
}

func (f *filling) fail(at string, err error) {
	if f.failed++; f.why == nil {
		f.why, f.at = err, at
	}
}

// say says in the item how the folder came.
func (f *filling) say(it *journal.Carried) {
	if f.left > 0 {
		it.Note("links-left-out", "n", f.left)
	}
	if f.failed > 0 {
		it.Partly = remark.New("partly", "files", f.files, "n", f.failed, "first", place.Quote(f.at), "why", say.BringBackError(f.why))
	}
}

func (f *filling) whole(it *journal.Carried) error {
	content, err := it.Source.Open(f.ctx, it.Work.CopyRef())
	if err != nil {
		return err
	}
	defer content.Close()
	if content.Folder == nil {
		return problem.NotFolder
	}
	into, err := f.open.Folder(it.Item.To)
	if err != nil {
		return err
	}
	return f.fill(content.Folder, into, it.Item.To.Path)
}

// fill puts what a folder holds into one on the drive. An error is of listing it; those of entries are counted.
func (f *filling) fill(from reach.Tree, into reach.Folder, at string) error {
	list, err := from.List(f.ctx)
	if err != nil {
		return err
	}
	for _, e := range list {
		to := place.Join(at, e.Name)
		switch e.Type {
		case entry.Folder:
			if err := f.folder(from, into, e.Name, to); err != nil {
				f.fail(to, err)
			}
		case entry.File:
			if err := f.file(from, into, e.Name, to); err != nil {
				f.fail(to, err)
				continue
			}
			f.files++
		default:
			f.left++
		}
	}
	return nil
}

func (f *filling) folder(from reach.Tree, into reach.Folder, name, to string) error {
	inner, err := from.Enter(f.ctx, name)
	if err != nil {
		return err
	}
	defer inner.Close()
	if err := into.Mkdir(f.ctx, name); err != nil {
		return err
	}
	f.folders++
	below, err := into.Into(f.ctx, name)
	if err != nil {
		return err
	}
	defer below.Close()
	return f.fill(inner, below, to)
}

// file puts one file there, which has arrived once it was read back.
func (f *filling) file(from reach.Tree, into reach.Folder, name, to string) error {
	opened, err := from.Open(f.ctx, name)
	if err != nil {
		return err
	}
	defer opened.Close()
	info, err := opened.Info(f.ctx)
	if err != nil {
		return err
	}
	kept, sum, size, err := spooledFile(f.ctx, opened, info.Size)
	if err != nil {
		return err
	}
	defer kept.Close()
	tag, err := f.v.PutVersion(f.ctx, to, io.NewSectionReader(kept, 0, size), size, "")
	if err != nil {
		return err
	}
	err = f.readBack(into, name, sum)
	if errors.Is(err, errOtherBytes) {
		_ = f.v.RemoveVersion(f.ctx, to, tag) // what cannot be removed is in the folder that an undo removes
	}
	return err
}

// findFolder finds out what of a folder came before the service was stopped: what is in it is held against the copy.
func (t *Target) findFolder(it *journal.Carried, folder reach.Folder) error {
	into, err := folder.Enter(t.ctx, it.Item.To.Name())
	if errors.Is(err, problem.NotFolder) {
		return nil // something else stands there
	}
	if err != nil {
		it.Err = fmt.Errorf("%w: %s", target.ErrAway, say.BringBackError(err))
		return nil
	}
	defer into.Close()
	if it.Work.Alone {
		it.Arrived, it.Err = true, nil
		return nil
	}
	if it.Source == nil {
		it.Err = fmt.Errorf("%w; its source was removed, so nobody can tell what of the folder that stands there came of it", target.ErrInterrupted)
		return nil
	}
	content, err := it.Source.Open(t.ctx, it.Work.CopyRef())
	if err == nil && content.Folder == nil {
		err = errors.Join(problem.NotFolder, content.Close())
	}
	if err != nil {
		it.Err = fmt.Errorf("%w: the store it came from cannot be read (%s)", target.ErrAway, say.BringBackError(err))
		return nil
	}
	defer content.Close()
	c := comparing{Target: t}
	if err := c.folder(content.Folder, into); err != nil {
		it.Err = fmt.Errorf("%w: %s", target.ErrAway, say.BringBackError(err))
		return nil
	}
	switch {
	case c.same == 0 && c.strange > 0:
		return nil // somebody else's folder
	case c.missing > 0:
		it.Partly = remark.New("partly-stopped", "files", c.same, "n", c.missing)
	default:
		it.Note("finished-later")
	}
	it.Arrived, it.Err = true, nil
	return nil
}

// comparing holds a folder on a drive against its copy.
type comparing struct {
	*Target
	same, missing, strange int64 // files that are there as they were copied, that are not, and others
}

func (c *comparing) folder(from, at reach.Tree) error {
	want, err := from.List(c.ctx)
	if err != nil {
		return err
	}
	have := map[string]entry.Type{}
	if at != nil {
		list, err := at.List(c.ctx)
		if err != nil {
			return err
		}
		for _, e := range list {
			have[e.Name] = e.Type
		}
	}
	for _, e := range want {
		is, there := have[e.Name]
		delete(have, e.Name)
		switch {
		case e.Type == entry.Folder:
			err = c.below(from, at, e.Name, there && is == entry.Folder)
		case e.Type == entry.File && there && is == entry.File:
			err = c.file(from, at, e.Name)
		case e.Type == entry.File:
			c.missing++
		}
		if err != nil {
			return err
		}
	}
	c.strange += int64(len(have))
	return nil
}

func (c *comparing) below(from, at reach.Tree, name string, there bool) error {
	inner, err := from.Enter(c.ctx, name)
	if err != nil {
		return err
	}
	defer inner.Close()
	if !there {
		return c.folder(inner, nil)
	}
	below, err := at.Enter(c.ctx, name)
	if err != nil {
		return err
	}
	defer below.Close()
	return c.folder(inner, below)
}

func (c *comparing) file(from, at reach.Tree, name string) error {
	want, err := contents.DigestAt(c.ctx, from, name)
	if err != nil {
		return err
	}
	got, err := contents.DigestAt(c.ctx, at, name)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		c.missing++
	case err != nil:
		return err
	case got == want:
		c.same++
	default:
		c.missing++
		c.strange++
	}
	return nil
}
