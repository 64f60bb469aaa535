// Package safekeeping is the service's own store for what was set aside: contents under their SHA-256 digest, each kept
// once, verified whenever they are read. Layout: DIR/ab/cdef…, one read-only file a content.
package safekeeping

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"hash"
	"io"
	"io/fs"
	"os"
	"path/filepath"
)

// Store is an open store. It is safe for concurrent use.
type Store struct{ root *os.Root }

// ErrDamaged says that a content no longer has the digest it was kept under.
var ErrDamaged = errors.New("the kept content is damaged")

// Open opens the store in dir and makes it where there is none. What an interrupted Put left is removed.
func Open(dir string) (*Store, error) {
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
	return &Store{root}, nil
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
	if size, err = io.Copy(io.MultiWriter(incoming, h), reader{ctx, content}); err != nil {
		return "", 0, fmt.Errorf("keep safe: %w", err)
	}
	digest = hex.EncodeToString(h.Sum(nil))
	if err := errors.Join(incoming.Chmod(0o400), incoming.Sync()); err != nil {
		return "", 0, fmt.Errorf("keep safe: %w", err)
	}
	if err := s.root.Mkdir(digest[:2], 0o700); err != nil && !errors.Is(err, fs.ErrExist) {
		return "", 0, fmt.Errorf("keep safe: %w", err)
	}
	if err := s.root.Rename(filepath.Base(incoming.Name()), path(digest)); err != nil { // the same content may stand there
		return "", 0, fmt.Errorf("keep safe: %w", err)
	}
	return digest, size, s.sync(digest[:2])
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
		return nil, fmt.Errorf("open kept content: %q is no digest", digest)
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
