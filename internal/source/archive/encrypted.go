package archive

import (
	"archive/zip"
	"context"
	"crypto/aes"
	"crypto/cipher"
	"crypto/hmac"
	"crypto/pbkdf2"
	"crypto/sha1"
	"crypto/subtle"
	"encoding/binary"
	"errors"
	"fmt"
	"hash"
	"hash/crc32"
	"io"

	"humble-rewind/internal/core/archived"
	"humble-rewind/internal/core/problem"
)

// errPassword says that a member does not open with the password that was given.
var errPassword = fmt.Errorf("the password does not open it: %w", problem.Locked)

// errLocked says that a member needs a password, and none was given.
var errLocked = fmt.Errorf("it is encrypted: %w", problem.Locked)

// cryptic is how a member of a zip is encrypted, and packed before that.
type cryptic struct {
	method uint16 // of packing
	// Of the AES encryption (extra field 0x9901; versions 1 and 2, strengths 1 to 3): how many bytes a key has; 0 for the classic one
	// (APPNOTE 6.1).
	key int
	// unchecked says that no CRC-32 is kept, because it would tell of the content (AES version 2).
	unchecked bool
	size      int64 // of what it holds, in bytes
	check     byte  // of the classic encryption: what the last byte of its head must be
}

// Bits of a member's flags (APPNOTE 4.4.4).
const (
	flagDescriptor = 1 << 3 // checksum and sizes follow the content
	flagStrong     = 1 << 6
)

// crypticOf tells how a member is encrypted; ok is false where it is in a way that is not read.
func crypticOf(h archived.Head) (c cryptic, ok bool) {
	c.method = h.Method
	if h.Flags&flagStrong != 0 {
		return c, false
	}
	if h.Method != archived.MethodAES {
		c.check = byte(h.CRC32 >> 24)
		if h.Flags&flagDescriptor != 0 {
			c.check = byte(h.Clock >> 8)
		}
		return c, h.Method == zip.Store || h.Method == zip.Deflate
	}
	of := h.Cryptic
	if len(of) < 7 {
		return c, false
	}
	version, strength := binary.LittleEndian.Uint16(of), of[4]
	c.method, c.key, c.unchecked = binary.LittleEndian.Uint16(of[5:]), 8+8*int(strength), version == 2
	known := (version == 1 || version == 2) && strength >= 1 && strength <= 3
	return c, known && (c.method == zip.Store || c.method == zip.Deflate)
}

// mostTried bounds, in bytes, what is read of an archive to try a password; the smallest member is read.
const mostTried = 1 << 20

// Opens tells how many archives with encrypted members the secret opens, and how many it does not.
func (s *store) Opens(ctx context.Context) (open, locked int, err error) {
	files, err := s.list(ctx)
	if err != nil {
		return 0, 0, err
	}
	for _, file := range files {
		if f, _ := formatOf(file.name); !f.locks {
			continue
		}
		o, release, err := s.get(ctx, file.name)
		if err != nil {
			if ctx.Err() != nil {
				return 0, 0, ctx.Err()
			}
			continue // which every survey says
		}
		needed, opens := o.tryPassword(ctx)
		release()
		switch {
		case opens:
			open++
		case needed:
			locked++
		}
	}
	return open, locked, nil
}

// tryPassword tells whether an archive needs a password, and whether it has the right one.
func (o *opened) tryPassword(ctx context.Context) (needed, opens bool) {
	number := -1
	for n, c := range o.cryptic {
		if number < 0 || c.size < o.cryptic[number].size {
			number = n
		}
	}
	if number < 0 {
		return false, false
	}
	r, err := o.decrypt(ctx, member{number: number, size: o.cryptic[number].size}, o.cryptic[number])
	if err != nil {
		return true, false
	}
	defer r.Close()
	_, err = io.Copy(io.Discard, io.LimitReader(r, mostTried))
	return true, err == nil
}

// decrypt reads a member's bytes as they were before they were encrypted and packed.
func (o *opened) decrypt(ctx context.Context, m member, c cryptic) (io.ReadCloser, error) {
	if o.secret == nil {
		return nil, errLocked
	}
	raw, err := o.raw(ctx, m.number)
	if err != nil {
		return nil, err
	}
	size := o.heads[m.number].size
	raw = io.LimitReader(raw, size)
	var plain io.Reader
	if c.key > 0 {
		plain, err = newAES(raw, size, c.key, o.secret)
	} else {
		plain, err = newClassic(raw, c.check, o.secret)
	}
	if err != nil {
		return nil, err
	}
	return o.plain(ctx, plain, m, c.method, !c.unchecked)
}

// plain unpacks a member's bytes.
func (o *opened) plain(ctx context.Context, r io.Reader, m member, method uint16, checked bool) (_ io.ReadCloser, err error) {
	p := &packedMember{from: r, left: m.size, want: o.heads[m.number].crc, packed: io.NopCloser(r)}
	if checked {
		p.sum = crc32.NewIEEE()
	}
	if method == zip.Deflate {
		p.packed, err = o.unpacker.Unpack(ctx, "deflate", r)
	}
	return p, err
}

// packedMember is the content of a member. What does not match in the end is said with errDamaged.
type packedMember struct {
	packed io.ReadCloser
	from   io.Reader // the bytes as they are packed
	left   int64
	sum    hash.Hash32 // nil: none was kept
	want   uint32
}

func (d *packedMember) Read(p []byte) (int, error) {
	if d.left == 0 {
		return 0, d.end()
	}
	n, err := d.packed.Read(p[:min(int64(len(p)), d.left)])
	d.left -= int64(n)
	if d.sum != nil {
		d.sum.Write(p[:n])
	}
	switch {
	case err == io.EOF && d.left > 0:
		err = fmt.Errorf("%w (it ends %d bytes early)", errDamaged, d.left)
	case err == io.EOF:
		err = nil // the end is looked at when it is asked for
	case err != nil && !problemOf(err):
		err = fmt.Errorf("%w (%w)", errDamaged, err)
	}
	return n, err
}

// end reads what is left of the packed bytes, which checks them, and holds the content against its checksum.
func (d *packedMember) end() error {
	if _, err := io.Copy(io.Discard, d.from); err != nil {
		return err
	}
	if d.sum != nil && d.sum.Sum32() != d.want {
		return fmt.Errorf("%w (its checksum is another)", errDamaged)
	}
	return io.EOF
}

func (d *packedMember) Close() error { return d.packed.Close() }

// problemOf tells whether an error says by itself what it is.
func problemOf(err error) bool {
	_, code := errors.AsType[problem.Code](err)
	return code || errors.Is(err, context.Canceled) || errors.Is(err, context.DeadlineExceeded)
}

// newAES reads what is encrypted by AES: a salt, two bytes that a right password has, the content in counter mode, and the first ten bytes
// of an HMAC-SHA1 of it. Keys are made of the password by PBKDF2 with SHA-1 in a thousand rounds.
func newAES(r io.Reader, size int64, key int, password []byte) (io.Reader, error) {
	const rounds, verifier, code = 1000, 2, 10
	head := make([]byte, key/2+verifier)
	if _, err := io.ReadFull(r, head); err != nil || size < int64(len(head)+code) {
		return nil, fmt.Errorf("%w (its head is missing)", errDamaged)
	}
	keys, err := pbkdf2.Key(sha1.New, string(password), head[:key/2], rounds, 2*key+verifier)
	if err != nil {
		return nil, err
	}
	if subtle.ConstantTimeCompare(keys[2*key:], head[key/2:]) == 0 {
		return nil, errPassword
	}
	block, err := aes.NewCipher(keys[:key])
	if err != nil {
		return nil, err
	}
	return &aesReader{r: r, left: size - int64(len(head)) - code, block: block, code: hmac.New(sha1.New, keys[key:2*key])}, nil
}

type aesReader struct {
	r     io.Reader
	left  int64 // bytes of content
	block cipher.Block
	code  hash.Hash

	counter uint64
	pad     [aes.BlockSize]byte
	used    int // of the pad; 0: all
	ended   bool
}

func (a *aesReader) Read(p []byte) (int, error) {
	if a.left == 0 {
		return 0, a.end()
	}
	n, err := a.r.Read(p[:min(int64(len(p)), a.left)])
	a.left -= int64(n)
	a.code.Write(p[:n])
	for i := range n {
		if a.used == 0 {
			a.counter++
			var count [aes.BlockSize]byte // which counts from the other end than counter mode elsewhere does
			binary.LittleEndian.PutUint64(count[:], a.counter)
			a.block.Encrypt(a.pad[:], count[:])
		}
		p[i] ^= a.pad[a.used]
		a.used = (a.used + 1) % aes.BlockSize
	}
	if err == io.EOF && a.left > 0 {
		err = fmt.Errorf("%w (it ends %d bytes early)", errDamaged, a.left)
	}
	return n, err
}

// end holds the code against what follows the content.
func (a *aesReader) end() error {
	if a.ended {
		return io.EOF
	}
	var want [10]byte
	if _, err := io.ReadFull(a.r, want[:]); err != nil {
		return fmt.Errorf("%w (its code is missing)", errDamaged)
	}
	if !hmac.Equal(want[:], a.code.Sum(nil)[:len(want)]) {
		return fmt.Errorf("%w (its code is another)", errDamaged)
	}
	a.ended = true
	return io.EOF
}

// newClassic reads what is encrypted in the classic way (APPNOTE 6.1), which keeps nobody out who tries, but is what old archives have.
func newClassic(r io.Reader, check byte, password []byte) (io.Reader, error) {
	c := &classic{r: r, keys: [3]uint32{0x12345678, 0x23456789, 0x34567890}}
	for _, b := range password {
		c.update(b)
	}
	var head [12]byte
	if _, err := io.ReadFull(r, head[:]); err != nil {
		return nil, fmt.Errorf("%w (its head is missing)", errDamaged)
	}
	c.decrypt(head[:])
	if head[11] != check {
		return nil, errPassword
	}
	return c, nil
}

type classic struct {
	r    io.Reader
	keys [3]uint32
}

func (c *classic) Read(p []byte) (int, error) {
	n, err := c.r.Read(p)
	c.decrypt(p[:n])
	return n, err
}

func (c *classic) decrypt(p []byte) {
	for i := range p {
		t := c.keys[2] | 2
		p[i] ^= byte((t * (t ^ 1)) >> 8)
		c.update(p[i])
	}
}

func (c *classic) update(b byte) {
	c.keys[0] = crc32.IEEETable[byte(c.keys[0])^b] ^ c.keys[0]>>8
	c.keys[1] = (c.keys[1]+c.keys[0]&0xff)*134775813 + 1
	c.keys[2] = crc32.IEEETable[byte(c.keys[2])^byte(c.keys[1]>>24)] ^ c.keys[2]>>8
}
