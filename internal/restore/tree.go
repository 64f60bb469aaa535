package restore

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"slices"
	"strings"

	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/reach"
	"humble-rewind/internal/source"
)

// original is something that can be written as a file, a folder with what is in it, or a link.
type original interface {
	Type() entry.Type
	Meta() (reach.Meta, error)
	Target() string                     // of a link
	Size() int64                        // of a file, as it was looked at; no more is read of it
	Content() (io.ReadCloser, error)    // of a file
	Children() ([]named, func(), error) // of a folder; the function closes them
}

type named struct {
	name string
	original
}

// standing is an original that stands in a folder.
type standing struct {
	ctx    context.Context
	folder reach.Tree
	info   reach.Info
}

func standingAt(ctx context.Context, folder reach.Tree, name string) (standing, error) {
	info, err := folder.Look(ctx, name)
	return standing{ctx, folder, info}, err
}

func (s standing) Type() entry.Type { return s.info.Type }
func (s standing) Size() int64      { return s.info.Size }

func (s standing) Meta() (reach.Meta, error) {
	attributes, err := s.folder.Attributes(s.ctx, s.info.Name)
	meta := s.info.Meta()
	meta.Attributes = attributes
	return meta, err
}

func (s standing) Target() string {
	target, err := s.folder.Target(s.ctx, s.info.Name)
	if err != nil {
		return "" // it vanished; making a link to nothing fails and says so
	}
	return target
}

func (s standing) Content() (io.ReadCloser, error) {
	f, err := s.folder.Open(s.ctx, s.info.Name)
	if err != nil {
		return nil, err
	}
	stream, err := f.Stream(s.ctx)
	if err != nil {
		return nil, errors.Join(err, f.Close())
	}
	return fileContent{stream, f, true}, nil
}

// fileContent is the content of a file that stands somewhere, whose bytes another on the same file system may share.
type fileContent struct {
	io.ReadCloser
	file reach.File
	own  bool // the file is closed with it
}

func (c fileContent) Close() error {
	err := c.ReadCloser.Close()
	if c.own {
		err = errors.Join(err, c.file.Close())
	}
	return err
}

func (c fileContent) Shared() reach.File { return c.file }

func (s standing) Children() ([]named, func(), error) {
	folder, err := s.folder.Enter(s.ctx, s.info.Name)
	if err != nil {
		return nil, nil, err
	}
	list, err := folder.List(s.ctx)
	if err != nil {
		folder.Close()
		return nil, nil, err
	}
	slices.SortFunc(list, func(a, b reach.Info) int { return strings.Compare(a.Name, b.Name) })
	children := make([]named, len(list))
	for n, info := range list {
		children[n] = named{info.Name, standing{s.ctx, folder, info}}
	}
	return children, func() { folder.Close() }, nil
}

// opened is an original for a copy opened by its store.
type opened struct {
	standing
	content source.Content
}

func (c opened) Meta() (reach.Meta, error) {
	meta := c.content.Info.Meta()
	meta.Attributes = c.content.Attributes
	return meta, nil
}

func (c opened) Target() string { return c.content.Target }

func (c opened) Content() (io.ReadCloser, error) {
	stream, err := c.content.File.Stream(c.ctx)
	if err != nil {
		return nil, err
	}
	return fileContent{stream, c.content.File, false}, nil
}

func (c opened) Children() ([]named, func(), error) {
	list, err := c.content.Folder.List(c.ctx)
	if err != nil {
		return nil, nil, err
	}
	children := make([]named, len(list))
	for n, info := range list {
		children[n] = named{info.Name, standing{c.ctx, c.content.Folder, info}}
	}
	return children, func() {}, nil
}

// bare is a folder without what is in it.
type bare struct{ original }

func (bare) Children() ([]named, func(), error) { return nil, func() {}, nil }

// liked is an original that comes back like something else was: its owner, mode and write time are that one's.
type liked struct {
	original
	like entry.Mark
}

func (l liked) Meta() (reach.Meta, error) {
	meta, err := l.original.Meta()
	meta.Mode, meta.UID, meta.GID = l.like.Mode, l.like.UID, l.like.GID
	if l.like.Written.Known {
		meta.Written = l.like.Written.Time()
	}
	return meta, err
}

// errMounted says that a file system is mounted in what is to be moved or removed as a whole.
var errMounted = errors.New("another file system is mounted in it")

// removeTree removes an entry and everything in it, never through a link and never on another file system.
func removeTree(ctx context.Context, folder reach.Folder, name string) error {
	info, err := folder.Look(ctx, name)
	if err != nil {
		return err
	}
	return removeOn(ctx, folder, info, info.Volume())
}

func removeOn(ctx context.Context, folder reach.Folder, info reach.Info, volume entry.Volume) error {
	if reach.SameVolume(info.Volume(), volume) == reach.No {
		return fmt.Errorf("%w, at %s", errMounted, place.Quote(info.Name))
	}
	if info.Type == entry.Folder {
		inside, err := folder.Into(ctx, info.Name)
		if err != nil {
			return err
		}
		defer inside.Close()
		list, err := inside.List(ctx)
		if err != nil {
			return err
		}
		for _, i := range list {
			if err := removeOn(ctx, inside, i, volume); err != nil {
				return err
			}
		}
	}
	return folder.Remove(ctx, info.Name)
}

func ignoreGone(err error) error {
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	return err
}
