package archive

import (
	"context"
	"errors"
	"fmt"
	"io"
	"sync"

	"humble-rewind/internal/core/archived"
	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/problem"
	"humble-rewind/internal/reach"
	"humble-rewind/internal/reach/spool"
)

// readTar reads all heads of a tar. A tar that ends in the middle is read as far as it goes.
func (o *opened) readTar(ctx context.Context) error {
	left := passed{}
	told, err := o.tarHeads(ctx, func(h archived.Head) error { return o.takeTar(h, left) })
	if err != nil {
		return o.misread(err)
	}
	if told.Why != "" {
		o.notes = append(o.notes, fmt.Sprintf("%s: it cannot be read to its end, so members may be missing: %s.", place.Readable(o.called), told.Why))
	}
	o.length = told.Length
	o.settle(left)
	return nil
}

func (o *opened) tarHeads(ctx context.Context, each func(archived.Head) error) (told archived.Told, err error) {
	if _, ok := o.from.(io.ReaderAt); ok && o.format.packed == "" {
		if err := o.anywhere(ctx); err != nil {
			return told, err
		}
		return o.unpacker.Tar(ctx, o.at, o.at.Size, each)
	}
	s, err := o.from.Stream(ctx)
	if err != nil {
		return told, err
	}
	told, err = o.unpacker.PackedTar(ctx, o.format.packed, s, o.mostUnpacked(), each)
	return told, errors.Join(err, s.Close())
}

func (o *opened) takeTar(h archived.Head, left passed) error {
	m := member{size: h.Size, written: h.Written.Time(), zoned: true, at: h.At}
	switch h.Kind {
	case archived.File:
		m.typ = entry.File
	case archived.Holes:
		if h.Size < 0 {
			left["are files with holes"]++
			return nil
		}
		m.typ, m.why = entry.File, "It is packed as a file with holes, which are not read."
	case archived.Folder:
		m.typ = entry.Folder
	case archived.Link:
		m.typ, m.target = entry.Link, h.Target
	case archived.Second:
		left["are second names of others (hard links)"]++
		return nil
	case archived.None:
		return nil
	default:
		left["are devices, pipes or sockets"]++
		return nil
	}
	if m.size < 0 || m.at < 0 {
		m.why = senselessSize
	}
	return o.take(m, h.Name, left)
}

// streamTar reads a member's bytes: where they lie or, in a tar that can only be read from its beginning, after all before them.
func (o *opened) streamTar(ctx context.Context, m member) (io.ReadCloser, error) {
	if o.at.ReaderAt != nil {
		return whole{reach.Until(ctx, io.NewSectionReader(o.at, m.at, m.size)), io.NopCloser(nil), m.size}.start(), nil
	}
	if at, release := o.kept.get(ctx, o); at != nil {
		return whole{reach.Until(ctx, io.NewSectionReader(at, m.at, m.size)), closer(release), m.size}.start(), nil
	}
	s, err := o.start(ctx)
	if err != nil {
		return nil, err
	}
	if _, err := io.CopyN(io.Discard, s, m.at); err != nil {
		return nil, errors.Join(fmt.Errorf("%w (%w)", errDamaged, err), s.Close())
	}
	return whole{io.LimitReader(s, m.size), s, m.size}.start(), nil
}

// keptTar is a packed tar as it was unpacked, once a member of it was asked for: members can be read apart then. It gives way where others
// need the room, and is unpacked again when it is asked for.
type keptTar struct {
	unpacking sync.Mutex // held while it is unpacked

	mu    sync.Mutex
	file  *spool.File
	users int
	gone  bool // it is closed as soon as nobody reads it

	refused bool // it does not fit, which need not be found out again; unpacking guards it
}

// get returns the unpacked tar, and what to call when it is not read any more; nil where it is not packed, or is more than is kept.
func (k *keptTar) get(ctx context.Context, o *opened) (io.ReaderAt, func()) {
	if o.format.packed == "" || o.length > archived.PackedFew { // how much room it takes without its zeros shows
		return nil, nil
	}
	k.unpacking.Lock()
	defer k.unpacking.Unlock()
	if at, release := k.use(); at != nil {
		return at, release
	}
	if k.refused {
		return nil, nil
	}
	if err := k.unpack(ctx, o); err != nil {
		k.refused = errors.Is(err, spool.ErrNoRoom)
		return nil, nil // reading it from its beginning says why, where it still cannot be read
	}
	return k.use()
}

func (k *keptTar) use() (io.ReaderAt, func()) {
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.file == nil || k.gone {
		return nil, nil
	}
	k.users++
	k.file.Used()
	return k.file, sync.OnceFunc(func() {
		k.mu.Lock()
		defer k.mu.Unlock()
		k.users--
		k.end()
	})
}

// end closes what has to go and is not read. mu is held.
func (k *keptTar) end() {
	if k.gone && k.users == 0 && k.file != nil {
		_ = k.file.Close()
		k.file, k.gone = nil, false
	}
}

func (k *keptTar) unpack(ctx context.Context, o *opened) error {
	k.mu.Lock()
	busy := k.file != nil
	k.mu.Unlock()
	if busy {
		return problem.Full // the former one is still read, and has to go first
	}
	f, err := spool.Common.File(k.close)
	if err != nil {
		return err
	}
	s, err := o.start(ctx)
	if err == nil {
		err = errors.Join(f.Fill(s, o.length), s.Close())
	}
	if err != nil {
		return errors.Join(err, f.Close())
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	k.file, k.gone = f, false
	return nil
}

// close lets go of it as soon as nobody reads it.
func (k *keptTar) close() {
	k.mu.Lock()
	defer k.mu.Unlock()
	k.gone = k.file != nil
	k.end()
}

// closer is a function as an io.Closer.
type closer func()

func (c closer) Close() error { c(); return nil }

// whole is a member's bytes, of which none may be missing.
type whole struct {
	io.Reader
	io.Closer
	left int64
}

func (w whole) start() *whole { return &w }

func (w *whole) Read(p []byte) (int, error) {
	n, err := w.Reader.Read(p)
	w.left -= int64(n)
	if err == io.EOF && w.left > 0 {
		err = fmt.Errorf("%w (it ends %d bytes early)", errDamaged, w.left)
	}
	return n, err
}
