package archive

import (
	"archive/tar"
	"context"
	"errors"
	"fmt"
	"io"
	"sync"

	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/problem"
	"humble-rewind/internal/reach"
	"humble-rewind/internal/reach/spool"
)

// readTar reads all headers of a tar. A tar that ends in the middle is read as far as it goes.
func (o *opened) readTar(ctx context.Context) error {
	if _, ok := o.from.(io.ReaderAt); ok && o.format.packed == "" {
		if err := o.anywhere(ctx); err != nil {
			return err
		}
	}
	s, err := o.start(ctx)
	if err != nil {
		return err
	}
	defer s.Close()
	counted := &counting{r: s}
	var from io.Reader = counted
	if o.at.ReaderAt != nil {
		from = io.NewSectionReader(o.at, 0, o.at.Size) // which can be sought in, past contents
	}
	r := tar.NewReader(from)
	left := passed{}
	for {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		h, err := r.Next()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil && !errors.Is(err, tar.ErrInsecurePath) {
			if ctx.Err() != nil {
				return ctx.Err()
			}
			if len(o.members) == 0 {
				return fmt.Errorf("%w (%w)", errDamaged, err)
			}
			o.notes = append(
				o.notes,
				fmt.Sprintf("%s: it cannot be read to its end, so members may be missing: %v.", place.Readable(o.called), err),
			)
			break
		}
		if err := o.takeTar(h, position(from, counted), left); err != nil {
			return err
		}
	}
	o.length = counted.n
	o.settle(left)
	return nil
}

// counting counts what was read.
type counting struct {
	r io.Reader
	n int64
}

func (c *counting) Read(p []byte) (int, error) {
	n, err := c.r.Read(p)
	c.n += int64(n)
	return n, err
}

// position is how far a reader has come: after a header, where the content begins.
func position(from io.Reader, c *counting) int64 {
	if s, ok := from.(io.Seeker); ok {
		at, _ := s.Seek(0, io.SeekCurrent) // which asks for nothing
		return at
	}
	return c.n
}

func (o *opened) takeTar(h *tar.Header, at int64, left passed) error {
	m := member{size: h.Size, written: h.ModTime.UTC(), zoned: true, at: at}
	switch h.Typeflag {
	case tar.TypeReg, '\x00':
		m.typ = entry.File
		if sparse(h) {
			m.why = "It is packed as a file with holes, which are not read."
		}
	case tar.TypeDir:
		m.typ, m.size = entry.Folder, 0
	case tar.TypeSymlink:
		m.typ, m.size, m.target = entry.Link, 0, h.Linkname
	case tar.TypeLink:
		left["are second names of others (hard links)"]++
		return nil
	case tar.TypeXGlobalHeader:
		return nil
	case tar.TypeGNUSparse:
		left["are files with holes"]++
		return nil
	default:
		left["are devices, pipes or sockets"]++
		return nil
	}
	return o.take(m, h.Name, left)
}

// sparse tells whether a member is packed without its holes, so that its bytes do not lie in one piece.
func sparse(h *tar.Header) bool {
	return h.PAXRecords["GNU.sparse.major"] != "" || h.PAXRecords["GNU.sparse.map"] != "" || h.PAXRecords["GNU.sparse.numblocks"] != ""
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
	if o.format.packed == "" || o.length > packedFew { // how much room it takes without its zeros shows
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
