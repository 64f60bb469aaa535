package restore

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"math"
	"slices"
	"strings"
	"sync"

	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/plan"
	"humble-rewind/internal/reach"
	"humble-rewind/internal/source"
)

// original is something that can be written as a file, a folder with what is in it, or a link.
type original interface {
	Type() plan.Type
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
	folder reach.Reader
	info   reach.Info
}

func standingAt(ctx context.Context, folder reach.Reader, name string) (standing, error) {
	info, err := folder.Lstat(name)
	return standing{ctx, folder, info}, err
}

func (s standing) Type() plan.Type { return s.info.Type }
func (s standing) Size() int64     { return s.info.Size }

func (s standing) Meta() (reach.Meta, error) {
	attributes, err := s.folder.Attributes(s.info.Name)
	return reach.Meta{Mode: s.info.Mode, UID: s.info.UID, GID: s.info.GID, Written: s.info.Written, Attributes: attributes}, err
}

func (s standing) Target() string {
	target, err := s.folder.Readlink(s.info.Name)
	if err != nil {
		return "" // it vanished; making a link to nothing fails and says so
	}
	return target
}

func (s standing) Content() (io.ReadCloser, error) {
	f, err := s.folder.Open(s.info.Name)
	if err != nil {
		return nil, err
	}
	return fileContent{reach.Sequential(s.ctx, f, math.MaxInt64), f}, nil
}

// fileContent is the content of a file that stands somewhere, whose bytes another on the same file system may share.
type fileContent struct {
	io.Reader
	file reach.File
}

func (c fileContent) Close() error       { return c.file.Close() }
func (c fileContent) Shared() reach.File { return c.file }

func (s standing) Children() ([]named, func(), error) {
	folder, err := s.folder.Enter(s.info.Name)
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

// contentOf is an original for a copy opened by its store.
type contentOf struct {
	standing
	content source.Content
}

func (c contentOf) Meta() (reach.Meta, error) {
	i := c.content.Info
	return reach.Meta{Mode: i.Mode, UID: i.UID, GID: i.GID, Written: i.Written, Attributes: c.content.Attributes}, nil
}

func (c contentOf) Target() string { return c.content.Target }

func (c contentOf) Content() (io.ReadCloser, error) {
	return lent{fileContent{reach.Sequential(c.ctx, c.content.File, math.MaxInt64), c.content.File}}, nil
}

// lent is a fileContent whose file somebody else closes.
type lent struct{ fileContent }

func (lent) Close() error { return nil }

func (c contentOf) Children() ([]named, func(), error) {
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
	if o.Type() != plan.File {
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
	case plan.File:
		err = w.file(ctx, o, meta, folder, name)
	case plan.Link:
		if err = folder.Symlink(o.Target(), name); err == nil {
			err = folder.SetLinkMeta(name, meta)
		}
	case plan.Folder:
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
	if err := folder.Mkdir(name); err != nil {
		return err
	}
	into, err := folder.Enter(name)
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
	return into.SetMeta(meta)
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
	f, err := folder.Create(name)
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
	h := sha256.New()
	if _, err := io.CopyBuffer(struct{ io.Writer }{h}, counted{ctx, io.NewSectionReader(f, 0, n+1)}, *buffer); err != nil {
		return fmt.Errorf("read %s back: %w", place.Quote(name), err)
	}
	if !bytes.Equal(h.Sum(nil), sent) {
		return fmt.Errorf("%s: %w", place.Quote(name), errDiffers)
	}
	w.digest, w.bytes = hex.EncodeToString(sent), w.bytes+n
	return f.SetMeta(meta)
}

// fill writes a content, long runs of zeros as holes, and returns its length and digest. Where the file system can share
// the bytes, they are not copied, but read as they are sent all the same: the digest is the content's, not the copy's. Of a
// content that grew since it was looked at, only what it was then is written; one that shrank changed.
func (w *written) fill(ctx context.Context, content io.Reader, size int64,
	f reach.NewFile, buffer []byte) (n int64, digest []byte, err error) {
	h := sha256.New()
	cloned := false
	if shared, ok := content.(interface{ Shared() reach.File }); ok {
		if c, ok := f.(reach.Cloner); ok {
			cloned = c.Clone(shared.Shared())
		}
	}
	for n < size {
		if err := ctx.Err(); err != nil {
			return n, nil, err
		}
		piece := buffer[:min(int64(len(buffer)), size-n)]
		k, err := io.ReadFull(content, piece)
		if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
			return n, nil, errChanged
		}
		if err != nil {
			return n, nil, err
		}
		h.Write(piece)
		n += int64(k)
		switch {
		case cloned:
		case k == len(buffer) && allZero(piece):
			err = f.Skip(int64(k))
		default:
			_, err = f.Write(piece)
		}
		if err != nil {
			return n, nil, err
		}
	}
	switch k, err := io.ReadFull(content, buffer[:1]); {
	case err != nil && !errors.Is(err, io.EOF):
		return n, nil, err
	case k > 0 && len(w.notes) < 10:
		w.notes = append(w.notes, fmt.Sprintf("it grew while it was copied; its first %d bytes are here", n))
	}
	if cloned {
		err = f.Cut(n)
	}
	return n, h.Sum(nil), err
}

func allZero(b []byte) bool {
	return len(b) > 0 && b[0] == 0 && bytes.Equal(b[:len(b)-1], b[1:])
}

type counted struct {
	ctx context.Context
	io.Reader
}

func (c counted) Read(p []byte) (int, error) {
	if err := c.ctx.Err(); err != nil {
		return 0, err
	}
	return c.Reader.Read(p)
}

// errMounted says that a file system is mounted in what is to be moved or removed as a whole.
var errMounted = errors.New("another file system is mounted in it")

// removeTree removes an entry and everything in it, never through a link and never on another file system.
func removeTree(ctx context.Context, folder reach.Folder, name string) error {
	info, err := folder.Lstat(name)
	if err != nil {
		return err
	}
	return removeOn(ctx, folder, info, info.Device)
}

func removeOn(ctx context.Context, folder reach.Folder, info reach.Info, device uint64) error {
	if info.Device != device {
		return fmt.Errorf("%w, at %s", errMounted, place.Quote(info.Name))
	}
	if info.Type == plan.Folder {
		inside, err := folder.Enter(info.Name)
		if err != nil {
			return err
		}
		defer inside.Close()
		list, err := inside.List(ctx)
		if err != nil {
			return err
		}
		for _, i := range list {
			if err := removeOn(ctx, inside, i, device); err != nil {
				return err
			}
		}
	}
	return folder.Remove(info.Name)
}

func ignoreGone(err error) error {
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	return err
}
