// Package original knows what can be written as a file, a folder with what is in it, or a link; writes it, and reads it back; and tells one
// entry from another that came to stand under its name.
package original

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"slices"
	"strings"
	"time"

	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/reach"
	"humble-rewind/internal/source"
)

// Original is something that can be written as a file, a folder with what is in it, or a link.
type Original interface {
	Type() entry.Type
	Meta() (reach.Meta, error)
	Target() string                     // of a link
	Size() int64                        // of a file, as it was looked at; no more is read of it
	Content() (io.ReadCloser, error)    // of a file
	Children() ([]Named, func(), error) // of a folder; the function closes them
}

// Named is an original with its name.
type Named struct {
	Name string
	Original
}

// Standing is an original that stands in a folder.
type Standing struct {
	ctx    context.Context
	folder reach.Tree
	info   reach.Info
}

// StandingAt looks at what stands under a name.
func StandingAt(ctx context.Context, folder reach.Tree, name string) (Standing, error) {
	info, err := folder.Look(ctx, name)
	return Standing{ctx, folder, info}, err
}

func (s Standing) Type() entry.Type { return s.info.Type }
func (s Standing) Size() int64      { return s.info.Size }

func (s Standing) Meta() (reach.Meta, error) {
	attributes, err := s.folder.Attributes(s.ctx, s.info.Name)
	meta := s.info.Meta()
	meta.Attributes = attributes
	return meta, err
}

// Written is its write time.
func (s Standing) Written() time.Time { return s.info.Written }

func (s Standing) Target() string {
	target, err := s.folder.Target(s.ctx, s.info.Name)
	if err != nil {
		return "" // it vanished; making a link to nothing fails and says so
	}
	return target
}

func (s Standing) Content() (io.ReadCloser, error) {
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

func (s Standing) Children() ([]Named, func(), error) {
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
	children := make([]Named, len(list))
	for n, info := range list {
		children[n] = Named{info.Name, Standing{s.ctx, folder, info}}
	}
	return children, func() { folder.Close() }, nil
}

// Opened is an original for a copy opened by its store.
type Opened struct {
	Standing
	content source.Opened
}

// OpenedBy returns one.
func OpenedBy(ctx context.Context, content source.Opened) Opened {
	return Opened{Standing{ctx: ctx, info: content.Info}, content}
}

func (c Opened) Meta() (reach.Meta, error) {
	meta := c.content.Info.Meta()
	meta.Attributes = c.content.Attributes
	return meta, nil
}

func (c Opened) Target() string { return c.content.Target }

func (c Opened) Content() (io.ReadCloser, error) {
	stream, err := c.content.File.Stream(c.ctx)
	if err != nil {
		return nil, err
	}
	return fileContent{stream, c.content.File, false}, nil
}

func (c Opened) Children() ([]Named, func(), error) {
	list, err := c.content.Folder.List(c.ctx)
	if err != nil {
		return nil, nil, err
	}
	children := make([]Named, len(list))
	for n, info := range list {
		children[n] = Named{info.Name, Standing{c.ctx, c.content.Folder, info}}
	}
	return children, func() {}, nil
}

// Bare is a folder without what is in it.
type Bare struct{ Original }

func (Bare) Children() ([]Named, func(), error) { return nil, func() {}, nil }

// Liked is an original that comes back like something else was: its owner, mode and write time are that one's.
type Liked struct {
	Original
	Like entry.Mark
}

func (l Liked) Meta() (reach.Meta, error) {
	meta, err := l.Original.Meta()
	meta.Mode, meta.UID, meta.GID = l.Like.Mode, l.Like.UID, l.Like.GID
	if l.Like.Written.Known {
		meta.Written = l.Like.Written.Time()
	}
	return meta, err
}

// ErrMounted says that a file system is mounted in what is to be moved or removed as a whole.
var ErrMounted = errors.New("another file system is mounted in it")

// RemoveTree removes an entry and everything in it, never through a link and never on another file system.
func RemoveTree(ctx context.Context, folder reach.Folder, name string) error {
	info, err := folder.Look(ctx, name)
	if err != nil {
		return err
	}
	return removeOn(ctx, folder, info, info.Volume())
}

func removeOn(ctx context.Context, folder reach.Folder, info reach.Info, volume entry.Volume) error {
	if reach.SameVolume(info.Volume(), volume) == reach.No {
		return fmt.Errorf("%w, at %s", ErrMounted, place.Quote(info.Name))
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

// IgnoreGone takes what is not there for removed.
func IgnoreGone(err error) error {
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	return err
}
