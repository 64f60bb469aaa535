package block

import (
	"encoding/binary"
	"hash/crc32"
	"slices"

	"humble-rewind/internal/core/entry"
)

const version = 1

var castagnoli = crc32.MakeTable(crc32.Castagnoli)

// Encode packs spans, which must be in the order of names and, of one name, of first captures. None are packed into nothing.
func Encode(spans []Span) []byte {
	if len(spans) == 0 {
		return nil
	}
	w := writer{forms: map[form]int{}, times: map[int64]int{Open: 0}}
	letters := 0
	for i := range spans {
		letters += len(spans[i].Name)
		w.span(&spans[i])
	}
	b := make([]byte, 0, len(w.body)+len(w.heads)+len(w.moments)*6+32)
	b = binary.AppendUvarint(append(b, version), uint64(len(spans)))
	b = binary.AppendUvarint(b, uint64(letters))
	b = binary.AppendUvarint(b, uint64(len(w.moments)))
	before := int64(0)
	for _, t := range w.moments {
		b = binary.AppendVarint(b, t-before)
		before = t
	}
	b = binary.AppendUvarint(b, uint64(len(w.forms)))
	b = append(append(b, w.heads...), w.body...)
	return binary.LittleEndian.AppendUint32(b, crc32.Checksum(b, castagnoli))
}

// writer packs spans one after the other.
type writer struct {
	forms   map[form]int
	heads   []byte // the forms
	times   map[int64]int
	moments []int64
	body    []byte
	last    form // and its number, for neighbours mostly have the same
	lastNo  int

	id     int64
	name   string
	second int64
	number uint64
	place  string
}

func (w *writer) uint(v uint64) { w.body = binary.AppendUvarint(w.body, v) }
func (w *writer) int(v int64)   { w.body = binary.AppendVarint(w.body, v) }

func (w *writer) text(s string) {
	w.uint(uint64(len(s)))
	w.body = append(w.body, s...)
}

// shared writes a text that begins like the one before.
func (w *writer) shared(s, before string) {
	n := common(s, before)
	w.uint(uint64(n))
	w.text(s[n:])
}

func common(a, b string) int {
	n := min(len(a), len(b))
	for i := range n {
		if a[i] != b[i] {
			return i
		}
	}
	return n
}

// instant writes a time that is known.
func (w *writer) instant(i entry.Instant, before int64) {
	w.int(i.Sec - before)
	w.uint(uint64(i.Nano))
}

func (w *writer) span(s *Span) {
	w.shared(s.Name, w.name)
	w.name = s.Name
	f := formOf(s)
	w.uint(uint64(w.form(f)))
	w.int(int64(s.ID) - w.id - 1)
	w.id = int64(s.ID)
	w.uint(uint64(w.time(s.First)))
	w.uint(uint64(w.time(s.Last)))
	has := func(flag uint32) bool { return f.flags&flag != 0 }
	m := &s.Mark
	if has(sized) {
		w.uint(uint64(s.Size))
	}
	if has(written) {
		w.instant(s.Written, w.second)
		w.second = s.Written.Sec
	}
	if has(numbered) {
		w.int(int64(s.Number - w.number))
		w.number = s.Number
	}
	if has(markSized) {
		w.int(m.Size)
	}
	if has(markWritten) {
		w.instant(m.Written, 0)
	}
	if has(markNumbered) {
		w.uint(m.File.Number)
	}
	if has(markChanged) {
		w.instant(m.File.Changed, w.second)
	}
	if has(recorded) {
		w.uint(m.Record.Number)
	}
	if has(recordChanged) {
		w.instant(m.Record.Changed, w.second)
	}
	if has(inside) {
		w.int(m.Inside)
	}
	if has(named) {
		w.body = append(w.body, byte(slices.Index(contentKinds, m.Content.Kind)+1))
		w.text(m.Content.Value)
	}
	if has(placed) {
		w.shared(s.Place, w.place)
		w.place = s.Place
	}
	if has(gone) {
		w.instant(s.Gone, 0)
	}
	for _, t := range [...]struct {
		flag uint32
		text string
	}{{targeted, s.Target}, {claimed, s.Claimed}, {lies, s.Lies}, {reffed, s.Ref}} {
		if has(t.flag) {
			w.text(t.text)
		}
	}
	if has(noted) {
		w.uint(uint64(len(s.Notes)))
		for _, n := range s.Notes {
			w.text(n)
		}
	}
	if has(authored) {
		w.text(s.Author)
	}
	if has(messaged) {
		w.text(s.Message)
	}
	if has(told) {
		w.instant(s.Told, 0)
	}
	if has(intactTold) {
		w.uint(uint64(s.Intact.State))
		w.uint(uint64(s.Intact.Share))
	}
}

func formOf(s *Span) form {
	m := &s.Mark
	f := form{typ: typeNumber(s.Type), markType: typeNumber(m.Type), mode: uint32(m.Mode.Value), uid: m.UID.Value, gid: m.GID.Value,
		person: s.Person}
	for _, flag := range [...]struct {
		bit uint32
		set bool
	}{
		{readable, s.Readable}, {within, s.Within}, {originKnown, s.OriginKnown}, {sized, s.Size >= 0}, {written, s.Written.Known},
		{numbered, s.Number != 0}, {markSized, m.Size != max(s.Size, 0)},
		{markWritten, m.Written.Known && m.Written != s.Written}, {markWrittenSame, m.Written.Known && m.Written == s.Written},
		{markNumbered, m.File.Number != 0 && m.File.Number != s.Number},
		{markNumberSame, m.File.Number != 0 && m.File.Number == s.Number},
		{markChanged, m.File.Changed.Known}, {recorded, m.Record.Number != 0}, {recordChanged, m.Record.Changed.Known},
		{inside, m.Inside != 0}, {named, m.Content != entry.ContentID{}}, {placed, s.Place != ""}, {gone, s.Gone.Known},
		{targeted, s.Target != ""}, {claimed, s.Claimed != ""}, {lies, s.Lies != ""}, {reffed, s.Ref != ""}, {noted, len(s.Notes) > 0},
		{beside, s.Beside}, {authored, s.Author != ""}, {messaged, s.Message != ""}, {told, s.Told.Known},
		{nameless, s.Nameless}, {intactTold, s.Intact.Known()},
		{modeKnown, m.Mode.Known}, {uidKnown, m.UID.Known}, {gidKnown, m.GID.Known},
	} {
		if flag.set {
			f.flags |= flag.bit
		}
	}
	return f
}

func typeNumber(t entry.Type) byte { return byte(max(0, slices.Index(types, t))) }

func (w *writer) form(f form) int {
	if len(w.forms) > 0 && f == w.last {
		return w.lastNo
	}
	n, ok := w.forms[f]
	if !ok {
		n = len(w.forms)
		w.forms[f] = n
		h := binary.AppendUvarint(w.heads, uint64(f.flags))
		h = binary.AppendUvarint(append(h, f.typ, f.markType), uint64(f.mode))
		h = binary.AppendUvarint(binary.AppendVarint(binary.AppendVarint(h, f.uid), f.gid), uint64(len(f.person)))
		w.heads = append(h, f.person...)
	}
	w.last, w.lastNo = f, n
	return n
}

func (w *writer) time(t int64) int {
	n, ok := w.times[t]
	if !ok {
		w.moments = append(w.moments, t)
		n = len(w.moments)
		w.times[t] = n
	}
	return n
}
