// Package digest is the one place that digests: SHA-256 (FIPS 180-4). A digest is a value of 32 bytes, a [Sum], and is written in hex
// where people or records see it.
package digest

import (
	"crypto/sha256"
	"encoding/hex"
	"hash"
	"io"
	"sync"
)

// Sum is the SHA-256 of a content. The zero Sum is unknown.
type Sum [sha256.Size]byte

// Known tells whether it is the digest of something.
func (s Sum) Known() bool { return s != Sum{} }

// Hex returns it in hex, in lower case; "" where it is unknown.
func (s Sum) Hex() string {
	if !s.Known() {
		return ""
	}
	return hex.EncodeToString(s[:])
}

// Bytes returns its 32 bytes; nil where it is unknown.
func (s Sum) Bytes() []byte {
	if !s.Known() {
		return nil
	}
	return s[:]
}

// From returns the digest with some bytes; unknown where those are not 32.
func From(b []byte) (s Sum) {
	if len(b) == len(s) {
		copy(s[:], b)
	}
	return s
}

// Parse reads what Hex wrote; unknown where a text is no digest.
func Parse(text string) Sum {
	b, err := hex.DecodeString(text)
	if err != nil {
		return Sum{}
	}
	return From(b)
}

// Digest gathers what is written to it. Its zero value is not ready; use New.
type Digest struct{ hash.Hash }

// New returns a digest of nothing.
func New() Digest { return Digest{sha256.New()} }

// Value returns the digest of what was written so far.
func (d Digest) Value() (s Sum) {
	d.Sum(s[:0])
	return s
}

// Hex returns it in hex.
func (d Digest) Hex() string { return d.Value().Hex() }

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
