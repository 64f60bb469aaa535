// Package entry describes the entries of file systems and of stores: their types, what is told about them, which may be nothing,
// and what tells one from another and a changed one from an unchanged one. It is pure: values in, values out.
package entry

import (
	"encoding/base64"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"slices"
)

// Identity tells one file of a file system from another and from itself before a change: the number that its file system knows it
// by, and when anything about it last changed, which nothing can set back. The zero Identity is unknown.
type Identity struct {
	Number  uint64 // 0 is unknown: no file system gives it to a file
	Changed Instant
}

// Mark is what tells a changed entry of a store from an unchanged one. Marks are compared field by field, by [Mark.Same], or
// whole with ==. What a store does not tell is left at its zero value. The zero Mark is of nothing.
type Mark struct {
	Type    Type
	Size    int64   // bytes; 0 for folders
	Written Instant // unknown for folders: their times say nothing about what is in them
	Mode    Maybe[fs.FileMode]
	UID     Maybe[int64]
	GID     Maybe[int64]
	File    Identity
	Record  Identity // of what a store keeps beside the entry, such as the record of a trash
	Inside  int64    // bytes of all files in it, of a folder that is one item
	Content ContentID
}

// Keeps says which part of its mark an unchanged entry keeps from one point in time of a store to the next.
type Keeps byte

// What an unchanged entry keeps, from the least to all.
const (
	Likeness Keeps = iota // what it is like; a full copy is another file each time
	SameFile              // that, and which file it is: trees whose unchanged files are hard links
	All                   // that, and when anything about it last changed: snapshots of file systems, a live tree
)

// of returns the part of a mark that an unchanged entry keeps; the rest is zero.
func (m Mark) of(by Keeps) Mark {
	switch by {
	case Likeness:
		m.File = Identity{}
	case SameFile:
		m.File.Changed = Instant{}
	}
	return m
}

// Same tells whether two marks are of an entry that did not change, in a store whose unchanged entries keep what by says.
func (m Mark) Same(o Mark, by Keeps) bool { return m.of(by) == o.of(by) }

// IsZero tells whether it is the mark of nothing.
func (m Mark) IsZero() bool { return m == Mark{} }

// The binary form of a mark: a byte for its version, a byte for the type, a byte of flags for what is known, then its numbers in the
// order of the fields as varints (encoding/binary), then the content's id: a byte for its kind and its value to the end. Version 1,
// which is still read, knew modes and owners of everything that had a type, and no contents.
const version = 2

var types = []Type{"", File, Folder, Link, Other}

const (
	knowsWritten = 1 << iota
	knowsChanged
	knowsRecord
	knowsMode
	knowsUID
	knowsGID
	knowsContent
	knowsAll = 1<<iota - 1
)

// Append appends the binary form.
func (m Mark) Append(b []byte) []byte {
	var flags byte
	for i, known := range [...]bool{m.Written.Known, m.File.Changed.Known, m.Record.Changed.Known, m.Mode.Known, m.UID.Known, m.GID.Known,
		m.Content != ContentID{}} {
		if known {
			flags |= 1 << i
		}
	}
	b = append(b, version, byte(max(0, slices.Index(types, m.Type))), flags)
	b = binary.AppendVarint(b, m.Size)
	b = m.Written.append(b)
	b = binary.AppendUvarint(b, uint64(m.Mode.Value))
	b = binary.AppendVarint(b, m.UID.Value)
	b = binary.AppendVarint(b, m.GID.Value)
	b = binary.AppendUvarint(b, m.File.Number)
	b = m.File.Changed.append(b)
	b = binary.AppendUvarint(b, m.Record.Number)
	b = m.Record.Changed.append(b)
	b = binary.AppendVarint(b, m.Inside)
	if flags&knowsContent != 0 {
		b = append(append(b, byte(slices.Index(kinds, m.Content.Kind)+1)), m.Content.Value...)
	}
	return b
}

// AppendKept appends the binary form of the part that an unchanged entry keeps: equal for two marks just where Same is true.
func (m Mark) AppendKept(b []byte, by Keeps) []byte { return m.of(by).Append(b) }

func (i Instant) append(b []byte) []byte {
	if !i.Known {
		return b
	}
	return binary.AppendUvarint(binary.AppendVarint(b, i.Sec), uint64(i.Nano))
}

// ErrNotMark says that bytes are not the binary form of a mark.
var ErrNotMark = errors.New("not a mark")

// ParseMark reads the binary form; the error wraps ErrNotMark.
func ParseMark(b []byte) (Mark, error) {
	if len(b) < 3 || b[0] < 1 || b[0] > version || int(b[1]) >= len(types) || b[2] > knowsAll || b[0] == 1 && b[2] >= knowsMode {
		return Mark{}, fmt.Errorf("%w: %.16x", ErrNotMark, b)
	}
	m := Mark{Type: types[b[1]]}
	flags := b[2]
	if b[0] == 1 && m.Type != "" { // marks of a trash had no type and told neither
		flags |= knowsMode | knowsUID | knowsGID
	}
	r := reader{b: b[3:]}
	m.Size = r.signed()
	m.Written = r.instant(flags&knowsWritten != 0)
	m.Mode = Maybe[fs.FileMode]{flags&knowsMode != 0, fs.FileMode(r.unsigned())}
	m.UID = Maybe[int64]{flags&knowsUID != 0, r.signed()}
	m.GID = Maybe[int64]{flags&knowsGID != 0, r.signed()}
	m.File.Number = r.unsigned()
	m.File.Changed = r.instant(flags&knowsChanged != 0)
	m.Record.Number = r.unsigned()
	m.Record.Changed = r.instant(flags&knowsRecord != 0)
	m.Inside = r.signed()
	if flags&knowsContent != 0 {
		m.Content = r.content()
	}
	if r.bad || len(r.b) > 0 {
		return Mark{}, fmt.Errorf("%w: %.16x", ErrNotMark, b)
	}
	return m, nil
}

// MarshalJSON writes the binary form in base64.
func (m Mark) MarshalJSON() ([]byte, error) {
	return json.Marshal(base64.RawStdEncoding.EncodeToString(m.Append(nil)))
}

// UnmarshalJSON reads what MarshalJSON wrote, and the objects that receipts of earlier versions hold.
func (m *Mark) UnmarshalJSON(b []byte) error {
	var text string
	if json.Unmarshal(b, &text) == nil {
		raw, err := base64.RawStdEncoding.DecodeString(text)
		if err == nil {
			*m, err = ParseMark(raw)
		}
		return err
	}
	var former struct {
		Type     Type
		Size     int64
		Written  Instant
		Mode     fs.FileMode
		UID, GID int64
	}
	err := json.Unmarshal(b, &former)
	*m = Mark{
		Type:    former.Type,
		Size:    former.Size,
		Written: former.Written,
		Mode:    Is(former.Mode),
		UID:     Is(former.UID),
		GID:     Is(former.GID),
	}
	return err
}

// reader takes numbers off the front; bad is set once one was not there.
type reader struct {
	b   []byte
	bad bool
}

func (r *reader) signed() int64 {
	v, n := binary.Varint(r.b)
	r.skip(n)
	return v
}

func (r *reader) unsigned() uint64 {
	v, n := binary.Uvarint(r.b)
	r.skip(n)
	return v
}

func (r *reader) skip(n int) {
	if n <= 0 {
		r.bad, n = true, 0
	}
	r.b = r.b[n:]
}

func (r *reader) instant(known bool) Instant {
	if !known {
		return Instant{}
	}
	i := Instant{Known: true, Sec: r.signed()}
	nano := r.unsigned()
	r.bad = r.bad || nano > 999_999_999
	i.Nano = int32(nano)
	return i
}

func (r *reader) content() ContentID {
	if len(r.b) == 0 || r.b[0] == 0 || int(r.b[0]) > len(kinds) {
		r.bad = true
		return ContentID{}
	}
	c := ContentID{kinds[r.b[0]-1], string(r.b[1:])}
	r.b = nil
	return c
}
