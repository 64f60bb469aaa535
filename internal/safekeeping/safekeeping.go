// Package safekeeping is the service's own store for what was set aside: contents under their SHA-256 digest, each kept
// once, verified whenever they are read. Layout: DIR/ab/cdef…, one read-only file a content, and DIR/counted.json,
// by which it counts days.
package safekeeping

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"hash"
	"io"
	"io/fs"
	"math"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"
)

// Store is an open store. It is safe for concurrent use.
type Store struct {
	root  *os.Root
	limit int64

	mu   sync.Mutex
	size int64 // of all contents, in bytes
}

// Sentinels that callers branch on.
var (
	ErrDamaged = errors.New("the kept content is damaged") // it no longer has the digest it was kept under
	ErrFull    = errors.New("safekeeping is full")
)

// Open opens the store in dir and makes it where there is none. It holds at most limit bytes; 0 is no limit. What an
// interrupted Put left is removed.
func Open(dir string, limit int64) (*Store, error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, fmt.Errorf("open safekeeping: %w", err)
	}
	left, err := filepath.Glob(filepath.Join(dir, "incoming-*"))
	if err != nil {
		return nil, err
	}
	for _, path := range left {
		if err := os.Remove(path); err != nil {
			return nil, fmt.Errorf("open safekeeping: %w", err)
		}
	}
	root, err := os.OpenRoot(dir)
	if err != nil {
		return nil, fmt.Errorf("open safekeeping: %w", err)
	}
	s := &Store{root: root, limit: limit}
	err = s.each(func(_ string, info fs.FileInfo) error { s.size += info.Size(); return nil })
	if err != nil {
		return nil, errors.Join(fmt.Errorf("open safekeeping: %w", err), root.Close())
	}
	return s, nil
}

// each calls see with every content and its file.
func (s *Store) each(see func(path string, info fs.FileInfo) error) error {
	return fs.WalkDir(s.root.FS(), ".", func(path string, d fs.DirEntry, err error) error {
		if err != nil || !d.Type().IsRegular() || strings.HasPrefix(d.Name(), "incoming-") || path == countFile {
			return err
		}
		info, err := d.Info()
		if errors.Is(err, fs.ErrNotExist) {
			return nil
		}
		if err != nil {
			return err
		}
		return see(path, info)
	})
}

// Size returns how many bytes are kept.
func (s *Store) Size() int64 {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.size
}

// Expire removes what was put so many days ago, and returns how many bytes that were. Days are counted by the store itself: a clock that is
// wrong must not do away with everything. The store's count follows the clock by at most a week each time, and is not moved again before
// the clock says that it is another day; so a service that was off for a year keeps things a little longer.
func (s *Store) Expire(now time.Time, days int) (removed int64, err error) {
	reached, err := s.count(now)
	if err != nil {
		return 0, fmt.Errorf("expire kept content: %w", err)
	}
	before := reached.AddDate(0, 0, -days)
	err = s.each(func(path string, info fs.FileInfo) error {
		if !info.ModTime().Before(before) {
			return nil
		}
		if err := s.root.Remove(path); err != nil {
			return fmt.Errorf("expire kept content: %w", err)
		}
		removed += info.Size()
		return nil
	})
	s.mu.Lock()
	defer s.mu.Unlock()
	s.size -= removed
	return removed, err
}

// counted is how far the store's count of days has come, and what the clock said when it was moved last.
type counted struct {
	Reached time.Time `json:"reached"`
	Moved   time.Time `json:"moved"`
}

const (
	countFile = "counted.json"
	another   = 20 * time.Hour // of the clock, until it counts as another day
	mostMoved = 7 * 24 * time.Hour
)

// count moves the count of days towards what the clock says, and returns it.
func (s *Store) count(now time.Time) (time.Time, error) {
	now = now.UTC().Round(0)
	var c counted
	text, err := s.root.ReadFile(countFile)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return now, err
	}
	if err != nil || json.Unmarshal(text, &c) != nil { // it has come as far as the latest that was put
		err := s.each(func(_ string, info fs.FileInfo) error {
			if at := info.ModTime(); at.After(c.Reached) {
				c.Reached = at.UTC()
			}
			return nil
		})
		if err != nil {
			return now, err
		}
		if c.Reached.IsZero() {
			c.Reached = now
		}
	}
	if now.Sub(c.Moved).Abs() < another {
		return c.Reached, nil
	}
	if now.After(c.Reached) {
		c.Reached = c.Reached.Add(min(now.Sub(c.Reached), mostMoved))
	}
	c.Moved = now
	text, err = json.Marshal(c)
	if err != nil {
		return c.Reached, err
	}
	return c.Reached, s.root.WriteFile(countFile, text, 0o600)
}

// Close closes the store.
func (s *Store) Close() error { return s.root.Close() }

// Put keeps a content and returns its digest in hex and its length in bytes. When it returns, the content is on disk.
func (s *Store) Put(ctx context.Context, content io.Reader) (digest string, size int64, err error) {
	incoming, err := os.CreateTemp(s.root.Name(), "incoming-*")
	if err != nil {
		return "", 0, fmt.Errorf("keep safe: %w", err)
	}
	defer os.Remove(incoming.Name())
	defer incoming.Close()
	h := sha256.New()
	room := &roomy{w: incoming, left: s.room()}
	if size, err = io.Copy(io.MultiWriter(room, h), reader{ctx, content}); err != nil {
		return "", 0, fmt.Errorf("keep safe: %w", err)
	}
	digest = hex.EncodeToString(h.Sum(nil))
	if room.full { // unless it is kept already
		if _, err := s.root.Lstat(path(digest)); err != nil {
			return "", 0, fmt.Errorf("keep safe: %w", s.full(s.Size(), size))
		}
		return digest, size, nil
	}
	if err := errors.Join(incoming.Chmod(0o400), incoming.Sync()); err != nil {
		return "", 0, fmt.Errorf("keep safe: %w", err)
	}
	if err := s.root.Mkdir(digest[:2], 0o700); err != nil && !errors.Is(err, fs.ErrExist) {
		return "", 0, fmt.Errorf("keep safe: %w", err)
	}
	if err := s.place(filepath.Base(incoming.Name()), digest, size); err != nil {
		return "", 0, fmt.Errorf("keep safe: %w", err)
	}
	return digest, size, s.sync(digest[:2])
}

// full says that so many bytes more are too many.
func (s *Store) full(held, more int64) error {
	return fmt.Errorf("%w: it holds %d of %d bytes and %d more are needed; raise --safekeeping-limit, or wait until older contents expire",
		ErrFull, held, s.limit, more)
}

// room is how many bytes more may be kept.
func (s *Store) room() int64 {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.limit == 0 {
		return math.MaxInt64
	}
	return s.limit - s.size
}

// roomy writes as long as there is room, and then only takes note: what turns out to be kept already needs none.
type roomy struct {
	w    io.Writer
	left int64
	full bool
}

func (r *roomy) Write(p []byte) (int, error) {
	if r.left -= int64(len(p)); r.left < 0 {
		r.full = true
	}
	if r.full {
		return len(p), nil
	}
	return r.w.Write(p)
}

// place gives a content its name, over the same content where that stands there, so that it counts as put now.
func (s *Store) place(incoming, digest string, size int64) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	_, err := s.root.Lstat(path(digest))
	fresh := errors.Is(err, fs.ErrNotExist)
	if fresh && s.limit > 0 && s.size+size > s.limit {
		return s.full(s.size, size)
	}
	if err := s.root.Rename(incoming, path(digest)); err != nil {
		return err
	}
	if fresh {
		s.size += size
	}
	return nil
}

func (s *Store) sync(dir string) error {
	for _, name := range []string{dir, "."} {
		d, err := s.root.Open(name)
		if err == nil {
			err = errors.Join(d.Sync(), d.Close())
		}
		if err != nil {
			return fmt.Errorf("keep safe: %w", err)
		}
	}
	return nil
}

func path(digest string) string { return digest[:2] + "/" + digest[2:] }

// Get opens a kept content. Reading it to its end fails with ErrDamaged where it is not what was put.
func (s *Store) Get(digest string) (io.ReadCloser, error) {
	if raw, err := hex.DecodeString(digest); err != nil || len(raw) != sha256.Size {
		return nil, fmt.Errorf("open kept content: %q is not a digest", digest)
	}
	f, err := s.root.Open(path(digest))
	if err != nil {
		return nil, fmt.Errorf("open kept content: %w", err)
	}
	return &verified{f, sha256.New(), digest}, nil
}

type verified struct {
	*os.File
	hash   hash.Hash
	digest string
}

func (v *verified) Read(p []byte) (int, error) {
	n, err := v.File.Read(p)
	v.hash.Write(p[:n])
	if err == io.EOF && hex.EncodeToString(v.hash.Sum(nil)) != v.digest {
		return n, fmt.Errorf("%w: %s", ErrDamaged, v.digest)
	}
	return n, err
}

// WriteTo hides that of os.File, which would go past the check.
func (v *verified) WriteTo(w io.Writer) (int64, error) {
	return io.Copy(w, struct{ io.Reader }{v})
}

type reader struct {
	ctx context.Context
	io.Reader
}

func (r reader) Read(p []byte) (int, error) {
	if err := r.ctx.Err(); err != nil {
		return 0, err
	}
	return r.Reader.Read(p)
}
