// Package block is the form in which the catalogue keeps what is known of one folder of a store: its spans, packed into one piece of
// bytes. It is pure: values in, bytes out, and back.
//
// The form, version 1, all numbers being varints (encoding/binary), signed ones marked ±:
//
//	version      one byte
//	spans        how many there are
//	letters      bytes of all names together
//	times        how many; then each, ± nanoseconds since 1970, as the difference to the one before. Captures are numbered by where
//	             they stand in it, from 1
//	forms        how many; then each, see below. What spans of one folder mostly have in common
//	span         for each, in the order of names and then of first captures, see below
//	checksum     CRC-32C over everything before it, four bytes, little endian
//
// A form is, in this order: flags (what is known, and what is the same as something else), the type and the type of the mark (numbered
// as in package entry: file 1, folder 2, link 3, other 4; 0 is none), the mode, ± user and ± group of the mark, and the person, as its
// length and its bytes.
//
// A span is, in this order: how many bytes its name has in common with the one before, how many more there are, and those; its form; ± its
// number less that of the span before and 1; the numbers of the captures that first and last showed it, 0 for one that still stands; then,
// each only where its form's flags say so: size; ± seconds of the write time less those before, nanoseconds; ± the number of its file less
// the one before; ± size of the mark; ± seconds and nanoseconds of the write time of the mark; the file number of the mark; ± seconds of
// the change time less those of the write time, nanoseconds; the number of the record; ± seconds of its change time, nanoseconds; ± bytes
// inside; the kind of the content id and its value; how many bytes the path of the place has in common with the one before and the rest of
// it; ± seconds and nanoseconds of the deletion; target; claimed; lies; ref; how many notes, and those; author; message; ± seconds and
// nanoseconds of when its store tells that it became the content; how much is intact, as its state and thousandths. Texts are their length
// and their bytes. What was added later has the last flags, so that blocks written before are read like those written now.
package block

import (
	"math"

	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/intact"
)

// Open is the last capture of a span that still stands.
const Open = math.MaxInt64

// Span is a version of an entry of a folder of a store: from the capture that first showed it to the one that last did.
type Span struct {
	ID          copies.ID
	Name        string // in its store
	Type        entry.Type
	Size        int64 // bytes; -1 where nothing tells
	Written     entry.Instant
	Number      uint64 // tells a renamed file from another; 0 where it does not
	Mark        entry.Mark
	First, Last int64  // captures, as nanoseconds since 1970; Open while it stands
	Person      string // whose it is
	Readable    bool   // when it was seen; false where only a record of it was left
	Within      bool   // it lies in a folder that is a copy itself
	OriginKnown bool
	Place       string // the path it came from; "" where that is Name in the place of its folder
	Gone        entry.Instant
	Target      string // of a link
	Claimed     string // what a record says of where it came from, which is not trusted
	Lies        string // where it lies, for people; "" where that is its path
	Ref         string // by which its store finds it; "" where that is made of its path
	Notes       []string
	Beside      bool          // of no capture: see sighting.Sighting
	Author      string        // who made it
	Message     string        // what they said of it
	Told        entry.Instant // when it became the content, where its store tells
	Nameless    bool          // what it was called is lost
	Intact      intact.Intact // of a trace: how much of its blocks is still its own
}

// Stands tells whether the latest capture still shows it.
func (s *Span) Stands() bool { return s.Last == Open }

// At tells whether a capture showed it.
func (s *Span) At(capture int64) bool { return s.First <= capture && capture <= s.Last }

// Flags of a form.
const (
	readable = 1 << iota
	within
	originKnown
	modeKnown
	uidKnown
	gidKnown
	sized           // the size is told
	written         // the write time is told
	numbered        // the number is told
	markSized       // the size of the mark is another than the size
	markWritten     // the write time of the mark is told and another than the write time
	markWrittenSame // it is the write time
	markNumbered    // the file number of the mark is another than the number
	markNumberSame  // it is the number
	markChanged
	recorded
	recordChanged
	inside
	named // the content has an id
	placed
	gone
	targeted
	claimed
	lies
	reffed
	noted
	beside
	authored
	messaged
	told
	nameless
	intactTold
	allFlags = 1<<iota - 1
)

// types are numbered by where they stand here.
var types = []entry.Type{"", entry.File, entry.Folder, entry.Link, entry.Other}

// contentKinds are numbered by where they stand here, from 1.
var contentKinds = []entry.ContentKind{entry.SHA256, entry.GitBlob, entry.EntityTag, entry.CRC32Size}

// form is what spans mostly have in common.
type form struct {
	flags         uint32
	typ, markType byte
	mode          uint32
	uid, gid      int64
	person        string
}
