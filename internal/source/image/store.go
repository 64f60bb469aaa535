package image

import (
	"context"
	"fmt"
	"io"
	"io/fs"
	"sync"
	"time"

	"github.com/fxamacker/cbor/v2"

	"humble-rewind/internal/core/disk"
	"humble-rewind/internal/core/disk/scan"
	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/problem"
	"humble-rewind/internal/core/sighting"
	"humble-rewind/internal/core/traits"
	"humble-rewind/internal/reach"
	"humble-rewind/internal/source"
)

// store is one image.
type store struct {
	source.Setup
	erased bool

	mu   sync.Mutex
	open *opened // nil until it is needed
}

// opened is an image that is open, as long as somebody reads it.
type opened struct {
	reach.Anywhere
	from    reach.File
	size    int64
	written time.Time
	changed time.Time
	layout  scan.Layout
	known   bool // the layout is
	users   int
	gone    bool // another one took its place, or the store is closed
}

// Close lets go of the image once nobody reads it.
func (s *store) Close() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.drop()
	return nil
}

// drop lets go of the image that is open. mu is held.
func (s *store) drop() {
	if o := s.open; o != nil {
		if s.open, o.gone = nil, true; o.users == 0 {
			o.close()
		}
	}
}

func (o *opened) close() {
	if o.ReaderAt != nil {
		_ = o.Anywhere.Close() // nothing was written to it
	}
	_ = o.from.Close()
}

// Vouches names the image.
func (s *store) Vouches(context.Context, sighting.Locator) []string { return []string{s.At} }

// image returns the image as it is now, to be let go of with the function.
func (s *store) image(ctx context.Context) (*opened, func(), error) {
	now, err := s.file(ctx)
	if err != nil {
		return nil, nil, err
	}
	s.mu.Lock()
	if o := s.open; o != nil && o.size == now.Size && o.written.Equal(now.Written) && o.changed.Equal(now.Changed) {
		defer s.mu.Unlock()
		return o, s.use(o), nil
	}
	s.mu.Unlock()
	folder, err := s.Files.Tree(ctx, place.Folder(s.At))
	if err != nil {
		return nil, nil, err
	}
	defer folder.Close()
	f, err := folder.Open(ctx, place.Name(s.At))
	if err != nil {
		return nil, nil, err
	}
	o := &opened{from: f, size: now.Size, written: now.Written, changed: now.Changed}
	if o.Anywhere, err = reach.ReadAnywhere(ctx, f); err == nil && !o.Kept { // it is read for others too
		o.Anywhere, err = reach.ReadAnywhere(context.WithoutCancel(ctx), f)
	}
	if err != nil {
		o.close()
		return nil, nil, err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.drop()
	s.open = o
	return o, s.use(o), nil
}

// use counts a user of an image; the function ends that. mu is held, and must not be for the function.
func (s *store) use(o *opened) func() {
	o.users++
	return sync.OnceFunc(func() {
		s.mu.Lock()
		defer s.mu.Unlock()
		if o.users--; o.users == 0 && o.gone {
			o.close()
		}
	})
}

// get returns the image with its file systems known.
func (s *store) get(ctx context.Context) (*opened, func(), error) {
	o, release, err := s.image(ctx)
	if err != nil {
		return nil, nil, err
	}
	s.mu.Lock()
	known := o.known
	s.mu.Unlock()
	if known {
		return o, release, nil
	}
	layout, err := s.Unpacker.Volumes(ctx, o, o.size)
	if err != nil {
		release()
		return nil, nil, err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	o.layout, o.known = layout, true
	return o, release, nil
}

// Traits are those of its file systems: of one without zones and owners they are what they are for the least of them.
func (s *store) Traits(ctx context.Context, t traits.Traits) traits.Traits {
	o, release, err := s.get(ctx)
	if err != nil {
		return t
	}
	defer release()
	for _, v := range o.layout.Volumes {
		switch {
		case !v.Read:
		case v.System == "exFAT":
			t.Zoneless, t.Ownerless = true, true
		case len(v.System) > 3 && v.System[:3] == "FAT":
			t.Zoneless, t.Ownerless, t.Resolution = true, true, max(t.Resolution, 2*time.Second)
		case v.System != "ext4":
			t.Resolution = max(t.Resolution, time.Second)
		}
	}
	return t
}

// ref is how a content is found again: its pieces, of an image of a size.
type ref struct {
	_     struct{} `cbor:",toarray"`
	Kind  uint8    // refKind
	Drive int64    // the image's size in bytes
	Size  int64    // of the content
	Runs  []disk.Run
	Link  string // where a link points
	// What its file system says of it: when it was written, unknown where nothing tells; its owner, -1 where nothing does; with that its
	// permissions.
	Written entry.Instant
	UID     int64
	Mode    uint16
}

// info is what the file system says of the content.
func (r ref) info() reach.Info {
	i := reach.Info{Type: entry.File, Size: r.Size, Written: r.Written.Time()}
	if r.UID >= 0 {
		i.UID = entry.Maybe[int64]{Known: true, Value: r.UID}
		i.Mode = entry.Maybe[fs.FileMode]{Known: true, Value: fs.FileMode(r.Mode & 0o777)}
	}
	return i
}

// refKind tells refs of images from those of other kinds.
const refKind = 0xd1

var refs, _ = cbor.DecOptions{MaxArrayElements: 1 << 16, MaxNestedLevels: 4, UTF8: cbor.UTF8DecodeInvalid}.DecMode()

func (r ref) encoded() (sighting.Ref, error) {
	b, err := cbor.Marshal(r)
	return sighting.Ref(b), err
}

func parseRef(from sighting.Ref) (r ref, err error) {
	if refs.Unmarshal([]byte(from), &r) != nil || r.Kind != refKind || r.Size < 0 || r.Drive < 0 {
		return r, fmt.Errorf("%w: %.16x", sighting.ErrNotRef, string(from))
	}
	for _, run := range r.Runs {
		if run.Size <= 0 || run.At != disk.Hole && (run.At < 0 || run.At > r.Drive-run.Size) {
			return r, fmt.Errorf("%w: it leads outside of the image", sighting.ErrNotRef)
		}
	}
	if disk.Sum(r.Runs) != r.Size && r.Link == "" {
		return r, fmt.Errorf("%w: its pieces are not its size", sighting.ErrNotRef)
	}
	return r, nil
}

func (s *store) Open(ctx context.Context, from sighting.Ref) (source.Opened, error) {
	r, err := parseRef(from)
	if err != nil {
		return source.Opened{}, err
	}
	if r.Link != "" {
		return source.Opened{Info: reach.Info{Type: entry.Link, Size: int64(len(r.Link))}, Target: r.Link}, nil
	}
	o, release, err := s.image(ctx)
	if err != nil {
		return source.Opened{}, err
	}
	if o.size != r.Drive {
		release()
		return source.Opened{}, fmt.Errorf("%s had %d bytes, and has %d now: %w", place.Quote(s.At), r.Drive, o.size, problem.ChangedSinceSurvey)
	}
	return source.Opened{Info: r.info(), File: &content{of: o, ref: r}, Release: release}, nil
}

// content is a file whose pieces lie on an image.
type content struct {
	of  *opened
	ref ref
}

func (c *content) Info(context.Context) (reach.Info, error) {
	return c.ref.info(), nil
}

func (c *content) Stream(ctx context.Context) (io.ReadCloser, error) {
	return reach.Sequential(ctx, c, c.ref.Size), nil
}

func (c *content) ReadAt(p []byte, off int64) (n int, err error) {
	if off < 0 {
		return 0, fmt.Errorf("read %d bytes before the beginning", -off)
	}
	for _, run := range c.ref.Runs {
		if off >= run.Size {
			off -= run.Size
			continue
		}
		for n < len(p) && off < run.Size {
			some := p[n : n+int(min(int64(len(p)-n), run.Size-off))]
			if run.At == disk.Hole {
				clear(some)
			} else if read, err := c.of.ReadAt(some, run.At+off); read < len(some) {
				if err == nil || err == io.EOF {
					err = io.ErrUnexpectedEOF
				}
				return n + read, err
			}
			n, off = n+len(some), off+int64(len(some))
		}
		if off = 0; n == len(p) {
			return n, nil
		}
	}
	return n, io.EOF
}

func (c *content) Close() error { return nil }
