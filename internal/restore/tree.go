package restore

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"math"
	"slices"
	"strings"
	"sync"

	"humble-rewind/internal/contents"
	"humble-rewind/internal/core/digest"
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

// written is what writing an original came to.
type written struct {
	digest string // of a file, in hex
	bytes  int64
	lost   []string // what could not be kept
	notes  []string // what else is to be said
}

var errDiffers = errors.New("what was written reads back differently")

// write makes an original anew under a name that must be free, reads every file back and compares it by digest. What
// was begun is removed on failure.
func write(ctx context.Context, o original, folder reach.Folder, name string) (written, error) {
	var w written
	err := w.entry(ctx, o, folder, name)
	if o.Type() != entry.File {
		w.digest = ""
	}
	if err != nil {
		err = errors.Join(err, ignoreGone(removeTree(context.WithoutCancel(ctx), folder, name)))
	}
	return w, err
}

func (w *written) entry(ctx context.Context, o original, folder reach.Folder, name string) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	meta, err := o.Meta()
	if err != nil {
		return err
	}
	switch o.Type() {
	case entry.File:
		err = w.file(ctx, o, meta, folder, name)
	case entry.Link:
		if err = folder.Symlink(ctx, o.Target(), name); err == nil {
			err = folder.SetLinkMeta(ctx, name, meta)
		}
	case entry.Folder:
		err = w.folder(ctx, o, meta, folder, name)
	default:
		return fmt.Errorf("%s is a device, pipe or socket, which cannot be copied", place.Quote(name))
	}
	if lost, ok := errors.AsType[*reach.MetaError](err); ok {
		w.lose(lost.Lost)
		return nil
	}
	return err
}

func (w *written) lose(lost []string) {
	for _, l := range lost {
		if !slices.Contains(w.lost, l) && len(w.lost) < 10 {
			w.lost = append(w.lost, l)
		}
	}
}

func (w *written) folder(ctx context.Context, o original, meta reach.Meta, folder reach.Folder, name string) error {
	if err := folder.Mkdir(ctx, name); err != nil {
		return err
	}
	into, err := folder.Into(ctx, name)
	if err != nil {
		return err
	}
	defer into.Close()
	children, done, err := o.Children()
	if err != nil {
		return err
	}
	defer done()
	for _, child := range children {
		if err := w.entry(ctx, child.original, into, child.name); err != nil {
			return err
		}
	}
	return into.SetMeta(ctx, meta)
}

// buffers serve copying one small file after the other without garbage.
var buffers = sync.Pool{New: func() any {
	b := make([]byte, 256<<10)
	return &b
}}

func (w *written) file(ctx context.Context, o original, meta reach.Meta, folder reach.Folder, name string) error {
	content, err := o.Content()
	if err != nil {
		return err
	}
	defer content.Close()
	f, err := folder.Create(ctx, name)
	if err != nil {
		return err
	}
	defer f.Close()
	buffer := buffers.Get().(*[]byte)
	defer buffers.Put(buffer)
	n, sent, err := w.fill(ctx, content, o.Size(), f, *buffer)
	if err != nil {
		return err
	}
	written, back, err := contents.DigestOf(ctx, f, -1)
	if err != nil {
		return fmt.Errorf("read %s back: %w", place.Quote(name), err)
	}
	if back != n || written.Hex() != sent {
		return fmt.Errorf("%s: %w", place.Quote(name), errDiffers)
	}
	w.digest, w.bytes = sent, w.bytes+n
	return f.SetMeta(ctx, meta)
}

// fill writes a content, long runs of zeros as holes, and returns its length and digest. Where the file system can share
// the bytes, they are not copied, but read as they are sent all the same: the digest is the content's, not the copy's. Of a
// content that grew since it was looked at, only what it was then is written; one that shrank changed. One whose size nobody told
// (negative) is written to its end.
func (w *written) fill(ctx context.Context, content io.Reader, size int64,
	f reach.NewFile, buffer []byte) (n int64, sum string, err error) {
	h := digest.New()
	cloned := false
	if shared, ok := content.(interface{ Shared() reach.File }); ok {
		if c, ok := f.(reach.Cloner); ok {
			cloned = c.Clone(shared.Shared())
		}
	}
	told := size >= 0
	if !told {
		size = math.MaxInt64
	}
	for ended := false; n < size && !ended; {
		if err := ctx.Err(); err != nil {
			return n, "", err
		}
		k, err := io.ReadFull(content, buffer[:min(int64(len(buffer)), size-n)])
		ended = errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF)
		switch {
		case ended && told:
			return n, "", errChanged
		case err != nil && !ended:
			return n, "", err
		}
		piece := buffer[:k]
		h.Write(piece)
		n += int64(k)
		err = nil
		switch {
		case cloned:
		case k == len(buffer) && allZero(piece):
			err = f.Skip(ctx, int64(k))
		default:
			_, err = f.Write(piece)
		}
		if err != nil {
			return n, "", err
		}
	}
	switch k, err := io.ReadFull(content, buffer[:1]); {
	case err != nil && !errors.Is(err, io.EOF):
		return n, "", err
	case k > 0 && len(w.notes) < 10:
		w.notes = append(w.notes, fmt.Sprintf("it grew while it was copied; its first %d bytes are here", n))
	}
	if cloned {
		err = f.Cut(ctx, n)
	}
	return n, h.Hex(), err
}

func allZero(b []byte) bool {
	return len(b) > 0 && b[0] == 0 && bytes.Equal(b[:len(b)-1], b[1:])
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
