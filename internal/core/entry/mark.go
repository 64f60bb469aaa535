// Package entry describes the entries of file systems as far as that tells one from another and a changed one from an
// unchanged one. It is pure: values in, values out.
package entry

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io/fs"

	"humble-rewind/internal/core/plan"
)

// File tells one file of a file system from another and from itself before a change: its inode number and its change time,
// which nothing can set back. The zero File is unknown.
type File struct {
	Inode   uint64
	Changed Instant
}

// Mark is what tells a changed entry of a store from an unchanged one. Marks are compared field by field, by [Mark.Same], or
// whole with ==. What a store does not tell is left at its zero value. The zero Mark is of nothing.
type Mark struct {
	Type    plan.Type
	Size    int64   // bytes; 0 for folders
	Written Instant // unknown for folders: their times say nothing about what is in them
	Mode    fs.FileMode
	UID     int64
	GID     int64
	File    File
	Record  File  // of what a store keeps beside the entry, such as the record of a trash
	Inside  int64 // bytes of all files in it, of a folder that is one item
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
		m.File = File{}
	case SameFile:
		m.File.Changed = Instant{}
	}
	return m
}

// Same tells whether two marks are of an entry that did not change, in a store whose unchanged entries keep what by says.
func (m Mark) Same(o Mark, by Keeps) bool { return m.of(by) == o.of(by) }

// IsZero tells whether it is the mark of nothing.
func (m Mark) IsZero() bool { return m == Mark{} }

// The binary form of a mark: a byte for its version, a byte for the type, a byte of flags for the instants that are known,
// then its numbers in the order of the fields as varints (encoding/binary).
const version = 1

var types = []plan.Type{"", plan.File, plan.Folder, plan.Link, plan.Other}

const (
	knowsWritten = 1 << iota
	knowsChanged
	knowsRecord
)

// Append appends the binary form.
func (m Mark) Append(b []byte) []byte {
	var typ, flags byte
	for i, t := range types {
		if t == m.Type {
			typ = byte(i)
		}
	}
	for i, at := range [...]Instant{m.Written, m.File.Changed, m.Record.Changed} {
		if at.Known {
			flags |= 1 << i
		}
	}
	b = append(b, version, typ, flags)
	b = binary.AppendVarint(b, m.Size)
	b = m.Written.append(b)
	b = binary.AppendUvarint(b, uint64(m.Mode))
	b = binary.AppendVarint(b, m.UID)
	b = binary.AppendVarint(b, m.GID)
	b = binary.AppendUvarint(b, m.File.Inode)
	b = m.File.Changed.append(b)
	b = binary.AppendUvarint(b, m.Record.Inode)
	b = m.Record.Changed.append(b)
	return binary.AppendVarint(b, m.Inside)
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
	if len(b) < 3 || b[0] != version || int(b[1]) >= len(types) || b[2] > knowsWritten|knowsChanged|knowsRecord {
		return Mark{}, fmt.Errorf("%w: %.16x", ErrNotMark, b)
	}
	m := Mark{Type: types[b[1]]}
	flags := b[2]
	r := reader{b: b[3:]}
	m.Size = r.signed()
	m.Written = r.instant(flags&knowsWritten != 0)
	m.Mode = fs.FileMode(r.unsigned())
	m.UID, m.GID = r.signed(), r.signed()
	m.File.Inode = r.unsigned()
	m.File.Changed = r.instant(flags&knowsChanged != 0)
	m.Record.Inode = r.unsigned()
	m.Record.Changed = r.instant(flags&knowsRecord != 0)
	m.Inside = r.signed()
	if r.bad || len(r.b) > 0 {
		return Mark{}, fmt.Errorf("%w: %.16x", ErrNotMark, b)
	}
	return m, nil
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
