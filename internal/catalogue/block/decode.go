package block

import (
	"encoding/binary"
	"errors"
	"hash/crc32"
	"io/fs"
	"strings"

	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/intact"
)

// ErrDamaged says that bytes are not what Encode wrote.
var ErrDamaged = errors.New("the records of a folder are damaged")

// maxLetters bounds what the names of one block take, which may be more than the bytes they are packed into.
const maxLetters = 64 << 20

// Reader reads the spans of a block, one after the other.
type Reader struct {
	Span Span // the one that Next has read

	b       []byte
	bad     bool
	left    int
	forms   []form
	moments []int64
	letters strings.Builder // all names, so that they are one piece of memory
	room    int             // of it that is left
	scratch []byte          // the name read last
	place   []byte
	second  int64
	number  uint64
}

// Read begins to read a block. The error wraps ErrDamaged. Nothing is a block without spans.
func Read(b []byte) (*Reader, error) {
	r := &Reader{}
	if len(b) == 0 {
		return r, nil
	}
	if len(b) < 5 || b[0] != version || crc32.Checksum(b[:len(b)-4], castagnoli) != binary.LittleEndian.Uint32(b[len(b)-4:]) {
		return nil, ErrDamaged
	}
	r.b = b[1 : len(b)-4]
	r.left = r.count(1)
	letters := r.uint()
	if letters > maxLetters {
		return nil, ErrDamaged
	}
	before := int64(0)
	r.moments = make([]int64, r.count(1))
	for i := range r.moments {
		before += r.int()
		r.moments[i] = before
	}
	r.forms = make([]form, r.count(6))
	for i := range r.forms {
		r.forms[i] = r.form()
	}
	if r.bad {
		return nil, ErrDamaged
	}
	r.room = int(letters)
	r.letters.Grow(r.room)
	return r, nil
}

// Len is how many spans there still are.
func (r *Reader) Len() int { return r.left }

// Next reads the next span into r.Span; false at the end, or where Err says that the block is damaged.
func (r *Reader) Next() bool {
	if r.left == 0 || r.bad {
		return false
	}
	r.left--
	r.span()
	if r.left == 0 && len(r.b) > 0 {
		r.bad = true
	}
	return !r.bad
}

// Err wraps ErrDamaged where a span could not be read.
func (r *Reader) Err() error {
	if r.bad {
		return ErrDamaged
	}
	return nil
}

// Decode reads all spans of a block. The error wraps ErrDamaged.
func Decode(b []byte) ([]Span, error) {
	r, err := Read(b)
	if err != nil {
		return nil, err
	}
	if r.left == 0 {
		return nil, nil
	}
	spans := make([]Span, 0, r.left)
	for r.Next() {
		spans = append(spans, r.Span)
	}
	return spans, r.Err()
}

func (r *Reader) uint() uint64 {
	if len(r.b) > 0 && r.b[0] < 0x80 { // most are
		v := uint64(r.b[0])
		r.b = r.b[1:]
		return v
	}
	v, n := binary.Uvarint(r.b)
	if n <= 0 {
		r.bad = true
		return 0
	}
	r.b = r.b[n:]
	return v
}

func (r *Reader) int() int64 {
	v := r.uint()
	return int64(v>>1) ^ -int64(v&1)
}

// count reads how many things of at least a size follow.
func (r *Reader) count(size int) int {
	n := r.uint()
	if n > uint64(len(r.b)/size) {
		r.bad = true
		return 0
	}
	return int(n)
}

func (r *Reader) byte() byte {
	if len(r.b) == 0 {
		r.bad = true
		return 0
	}
	v := r.b[0]
	r.b = r.b[1:]
	return v
}

func (r *Reader) bytes() []byte {
	n := r.count(1)
	v := r.b[:n]
	r.b = r.b[n:]
	return v
}

func (r *Reader) text() string { return string(r.bytes()) }

// shared completes a text that begins like the one before.
func (r *Reader) shared(before []byte) []byte {
	n := r.uint()
	if n > uint64(len(before)) {
		r.bad = true
		return before[:0]
	}
	return append(before[:n], r.bytes()...)
}

func (r *Reader) instant(before int64) entry.Instant {
	i := entry.Instant{Known: true, Sec: before + r.int()}
	nano := r.uint()
	if nano > 999_999_999 {
		r.bad = true
	}
	i.Nano = int32(nano)
	return i
}

func (r *Reader) form() form {
	flags := r.uint()
	f := form{flags: uint32(flags), typ: r.byte(), markType: r.byte(), mode: uint32(r.uint()), uid: r.int(), gid: r.int()}
	f.person = r.text()
	if flags > allFlags || int(f.typ) >= len(types) || int(f.markType) >= len(types) {
		r.bad = true
	}
	return f
}

func (r *Reader) capture() int64 {
	n := r.uint()
	if n == 0 {
		return Open
	}
	if n > uint64(len(r.moments)) {
		r.bad = true
		return Open
	}
	return r.moments[n-1]
}

// name keeps the name read last among all names.
func (r *Reader) name() string {
	if len(r.scratch) > r.room {
		r.bad = true
		return ""
	}
	r.room -= len(r.scratch)
	from := r.letters.Len()
	r.letters.Write(r.scratch)
	return r.letters.String()[from:]
}

func (r *Reader) span() {
	r.scratch = r.shared(r.scratch)
	number := r.uint()
	if number >= uint64(len(r.forms)) {
		r.bad = true
		return
	}
	f := &r.forms[number]
	has := func(flag uint32) bool { return f.flags&flag != 0 }
	r.Span = Span{
		ID: r.Span.ID + copies.ID(r.int()) + 1, Name: r.name(), Type: types[f.typ], Size: -1, Person: f.person, Readable: has(readable),
		Within: has(within), OriginKnown: has(originKnown), First: r.capture(), Last: r.capture(),
	}
	s := &r.Span
	m := &s.Mark
	m.Type = types[f.markType]
	m.Mode = entry.Maybe[fs.FileMode]{Known: has(modeKnown), Value: fs.FileMode(f.mode)}
	m.UID = entry.Maybe[int64]{Known: has(uidKnown), Value: f.uid}
	m.GID = entry.Maybe[int64]{Known: has(gidKnown), Value: f.gid}
	if has(sized) {
		s.Size = int64(r.uint())
		m.Size = s.Size
		r.bad = r.bad || s.Size < 0
	}
	if has(written) {
		s.Written = r.instant(r.second)
		r.second = s.Written.Sec
	}
	if has(numbered) {
		s.Number = r.number + uint64(r.int())
		r.number = s.Number
	}
	if has(markSized) {
		m.Size = r.int()
	}
	if has(markWritten) {
		m.Written = r.instant(0)
	} else if has(markWrittenSame) {
		m.Written = s.Written
	}
	if has(markNumbered) {
		m.File.Number = r.uint()
	} else if has(markNumberSame) {
		m.File.Number = s.Number
	}
	if has(markChanged) {
		m.File.Changed = r.instant(r.second)
	}
	if f.flags >= recorded { // which few have
		r.rest(f.flags)
	}
}

// rest reads what few spans have.
func (r *Reader) rest(flags uint32) {
	s := &r.Span
	m := &s.Mark
	has := func(flag uint32) bool { return flags&flag != 0 }
	if has(recorded) {
		m.Record.Number = r.uint()
	}
	if has(recordChanged) {
		m.Record.Changed = r.instant(r.second)
	}
	if has(inside) {
		m.Inside = r.int()
	}
	if has(named) {
		kind := int(r.byte())
		if kind < 1 || kind > len(contentKinds) {
			r.bad = true
			return
		}
		m.Content = entry.ContentID{Kind: contentKinds[kind-1], Value: r.text()}
	}
	if has(placed) {
		r.place = r.shared(r.place)
		s.Place = string(r.place)
	}
	if has(gone) {
		s.Gone = r.instant(0)
	}
	for _, t := range [...]struct {
		flag uint32
		text *string
	}{{targeted, &s.Target}, {claimed, &s.Claimed}, {lies, &s.Lies}, {reffed, &s.Ref}} {
		if has(t.flag) {
			*t.text = r.text()
		}
	}
	if has(noted) {
		for range r.count(1) {
			s.Notes = append(s.Notes, r.text())
		}
	}
	s.Beside = has(beside)
	if has(authored) {
		s.Author = r.text()
	}
	if has(messaged) {
		s.Message = r.text()
	}
	if has(told) {
		s.Told = r.instant(0)
	}
	s.Nameless = has(nameless)
	if has(intactTold) {
		state, share := r.uint(), r.uint()
		if state > uint64(intact.Overwritten) || share > uint64(intact.All) {
			r.bad = true
			return
		}
		s.Intact = intact.Intact{State: intact.State(state), Share: intact.Share(share)}
	}
}
