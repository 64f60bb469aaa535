package archive

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"

	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/problem"
	"humble-rewind/internal/core/sighting"
	"humble-rewind/internal/reach"
	"humble-rewind/internal/source"

	"github.com/hashicorp/golang-lru/v2/simplelru"
	"golang.org/x/sync/singleflight"
)

// maxOpen is how many archives of a store are kept open with their members known.
const maxOpen = 4

// store is one archive or a folder of them.
type store struct {
	source.Setup
	reading singleflight.Group // of members, by the archive's name: without the lock

	mu   sync.Mutex
	open *simplelru.LRU[string, *opened] // by their names
}

// Close lets go of all archives that nobody reads any more, and of the others once nobody does.
func (s *store) Close() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.open.Purge()
	return nil
}

// Vouches names the archive.
func (s *store) Vouches(_ context.Context, at sighting.Locator) []string {
	name := fileName(at.Capture)
	if name == place.Name(s.At) { // the location is the archive, or a folder called as it is
		return []string{s.At}
	}
	return []string{place.Join(s.At, name)}
}

// newStore returns one with nothing open.
func newStore(setup source.Setup) *store {
	open, _ := simplelru.NewLRU(maxOpen, dropped) // it fails for no size alone
	return &store{Setup: setup, open: open}
}

// dropped is called with an archive that is no longer one of those that are open. mu is held.
func dropped(_ string, o *opened) {
	if o.gone = true; o.users == 0 {
		_ = o.close() // nothing was written to it
	}
}

// use counts a user of an archive; the function ends that. mu is held, and must not be for the function.
func (s *store) use(o *opened) func() {
	o.users++
	return sync.OnceFunc(func() {
		s.mu.Lock()
		defer s.mu.Unlock()
		if o.users--; o.users == 0 && o.gone {
			_ = o.close()
		}
	})
}

// get returns an archive with its members known, as it is now, to be let go of with the function.
func (s *store) get(ctx context.Context, name string) (*opened, func(), error) {
	for {
		from, now, err := s.openFile(ctx, name)
		if err != nil {
			return nil, nil, err
		}
		if o, release, ok := s.known(now); ok {
			return o, release, from.Close()
		}
		mine := false
		_, err, _ = s.reading.Do(name, func() (any, error) {
			mine = true
			return nil, s.read(ctx, from, now)
		})
		if !mine {
			_ = from.Close()
		}
		if left := errors.Is(err, context.Canceled) || errors.Is(err, context.DeadlineExceeded); err != nil && (mine || !left) {
			return nil, nil, err // else somebody who wanted the same went away
		}
		if o, release, ok := s.known(now); ok {
			return o, release, nil
		}
		if ctx.Err() != nil {
			return nil, nil, ctx.Err()
		}
	}
}

// known returns an archive that is open as a file is now.
func (s *store) known(now file) (*opened, func(), bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	o, ok := s.open.Get(now.name)
	if !ok || o.file != now {
		return nil, nil, false
	}
	return o, s.use(o), true
}

// read finds out the members of an archive and keeps it open.
func (s *store) read(ctx context.Context, from reach.File, now file) error {
	f, _ := formatOf(now.name)
	o := &opened{file: now, called: now.name, format: f, secret: s.Secret, zone: s.Zone, page: s.Options[optionNames], from: from,
		unpacker: s.Unpacker}
	o.close = func() error {
		if o.at.ReaderAt != nil {
			_ = o.at.Close()
		}
		o.kept.close()
		return from.Close()
	}
	if err := f.read(o, ctx); err != nil {
		_ = o.close()
		return err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.keep(o)
	return nil
}

// keep keeps an archive open. mu is held.
func (s *store) keep(o *opened) {
	s.open.Remove(o.file.name) // as it was before
	s.open.Add(o.file.name, o)
}

// folder is where the store's archives lie.
func (s *store) folder(ctx context.Context) (string, error) {
	info, err := reach.Look(ctx, s.Files, s.At)
	if err == nil && info.Type == entry.Folder {
		return s.At, nil
	}
	return place.Folder(s.At), err
}

func (s *store) openFile(ctx context.Context, name string) (reach.File, file, error) {
	at, err := s.folder(ctx)
	if err != nil {
		return nil, file{}, err
	}
	if f, _ := formatOf(name); f == nil || at != s.At && name != place.Name(s.At) {
		return nil, file{}, problem.NotThere
	}
	folder, err := s.Files.Tree(ctx, at)
	if err != nil {
		return nil, file{}, err
	}
	defer folder.Close()
	from, err := folder.Open(ctx, name)
	if err != nil {
		return nil, file{}, err
	}
	info, err := from.Info(ctx)
	if err != nil {
		from.Close()
		return nil, file{}, err
	}
	return from, file{name, info.Size, info.Written}, nil
}

// revised is what is remembered of an archive from survey to survey. One that is replaced under its name is another point in time.
type revised struct {
	Size     int64         `json:"size"`
	Written  entry.Instant `json:"written"`
	At       time.Time     `json:"at"`
	Revision int           `json:"revision"`
}

// point is an archive as one point in time.
type point struct {
	sighting.Capture
	file file
}

func (s *store) Open(ctx context.Context, ref sighting.Ref) (source.Opened, error) {
	l, err := ref.Locator()
	if err != nil {
		return source.Opened{}, err
	}
	c, err := s.openMember(ctx, l)
	if err != nil {
		return source.Opened{}, fmt.Errorf("open %s in an archive: %w", place.Quote(l.Path()), err)
	}
	return c, nil
}

func (s *store) openMember(ctx context.Context, l sighting.Locator) (source.Opened, error) {
	o, release, err := s.get(ctx, fileName(l.Capture))
	if err != nil {
		return source.Opened{}, err
	}
	m, ok := o.find(join(l.Dir, l.Name))
	if !ok {
		inner, closeInner, path, err := s.nestedFor(ctx, o, join(l.Dir, l.Name))
		release() // the inner one keeps it
		if err != nil {
			return source.Opened{}, err
		}
		if o, release = inner, closeInner; path == "" {
			m = member{path: path, typ: entry.Folder}
		} else if m, ok = o.find(path); !ok {
			release()
			return source.Opened{}, problem.NotThere
		}
	}
	c := source.Opened{Info: m.info(), Target: m.target}
	switch m.typ {
	case entry.File:
		c.File = &memberFile{o, m, release}
	case entry.Folder:
		c.Folder = &tree{o, m.path, release}
	default:
		release()
	}
	return c, nil
}
