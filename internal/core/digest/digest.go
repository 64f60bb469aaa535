// Package digest is the one place that digests: SHA-256 (FIPS 180-4), written in hex wherever people or records see it.
package digest

import (
	"crypto/sha256"
	"encoding/hex"
	"hash"
	"io"
	"sync"
)

// Digest gathers what is written to it. Its zero value is not ready; use New.
type Digest struct{ hash.Hash }

// New returns a digest of nothing.
func New() Digest { return Digest{sha256.New()} }

// Bytes returns the digest of what was written so far.
func (d Digest) Bytes() []byte { return d.Sum(nil) }

// Hex returns it in hex.
func (d Digest) Hex() string { return hex.EncodeToString(d.Sum(nil)) }

// buffers serve digesting one small file after the other without garbage.
var buffers = sync.Pool{New: func() any {
	b := make([]byte, 256<<10)
	return &b
}}

// Of reads to the end and returns the digest of what was read, and how many bytes that were.
func Of(r io.Reader) (Digest, int64, error) {
	d := New()
	buffer := buffers.Get().(*[]byte)
	defer buffers.Put(buffer)
	n, err := io.CopyBuffer(struct{ io.Writer }{d}, struct{ io.Reader }{r}, *buffer)
	return d, n, err
}
