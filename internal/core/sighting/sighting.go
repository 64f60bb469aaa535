// Package sighting is what a survey of a store reports, as values: what it held at which moment, and how a copy is found in it again.
package sighting

import (
	"encoding/binary"
	"errors"
	"fmt"
	"strings"
	"time"

	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/intact"
	"humble-rewind/internal/core/place"
)

// Locator says where in the order of a survey something is: the point in time (its name; "" in a store that holds only one), a folder
// of the store (clean; "" for itself) and a name in it. Names in a folder are different; what a store without folders makes of this is
// its own affair.
type Locator struct{ Capture, Dir, Name string }

// Path returns the locator as one path relative to the source's location.
func (l Locator) Path() string {
	return strings.TrimPrefix(place.Join(place.Join("/"+l.Capture, l.Dir), l.Name), "/")
}

// Ref is how a store finds one of its copies again. Its bytes mean something to the kind of the store alone.
type Ref string

// Ref is the ref of a copy in a store that needs no more than the locator to find it: its three parts, each after its length as a
// varint (encoding/binary).
func (l Locator) Ref() Ref {
	var b []byte
	for _, part := range [...]string{l.Capture, l.Dir, l.Name} {
		b = append(binary.AppendUvarint(b, uint64(len(part))), part...)
	}
	return Ref(b)
}

// ErrNotRef says that bytes are no ref of the kind that was asked.
var ErrNotRef = errors.New("not a ref of this kind of store")

// Locator reads a ref that was made of a locator; the error wraps ErrNotRef.
func (r Ref) Locator() (Locator, error) {
	var l Locator
	b := []byte(r)
	for _, part := range [...]*string{&l.Capture, &l.Dir, &l.Name} {
		size, n := binary.Uvarint(b)
		if n <= 0 || size > uint64(len(b)-n) {
			return Locator{}, fmt.Errorf("%w: %.16x", ErrNotRef, string(r))
		}
		*part, b = string(b[n:n+int(size)]), b[n+int(size):]
	}
	if len(b) > 0 {
		return Locator{}, fmt.Errorf("%w: %.16x", ErrNotRef, string(r))
	}
	return l, nil
}

// Capture is one of several points in time that a store holds.
type Capture struct {
	Name string // unique in the store; of a tree its folder, relative to the source's location
	At   time.Time
	Same bool // it was read completely before; no sightings follow
	// Since names the latest point in time that was read completely: what is sighted is only what changed since. "" is everything.
	Since string
}

// Sighting is one thing that the store holds at the moment of the survey.
type Sighting struct {
	At   Locator
	Ref  Ref        // "" where that of At is enough
	Mark entry.Mark // tells at the next survey whether anything about it changed; never zero
	Same bool       // nothing changed since Mark was last reported; all other fields may be zero

	Origin   string // the path on the machine that it came from; "" where nothing tells
	Claimed  string // the path that a record says, which its owner could have forged; "" where it is trusted or nothing tells
	Nameless bool   // what it was called is lost; the name of At is the store's own
	Type     entry.Type
	Size     int64              // bytes; of a folder, of all files in it; negative where nothing tells
	UID      entry.Maybe[int64] // its owner
	Written  time.Time          // zero where nothing tells
	GoneAt   time.Time          // when it was deleted from Origin; zero where it was not or nothing tells
	Within   bool               // it lies in a folder that is a copy itself
	Readable bool               // false where only a record of it is left
	Number   uint64             // tells a renamed file from another; 0 where it does not
	Target   string             // of a link
	Lies     string             // where it lies, for people; "" where that is the path of At
	Beside   bool               // of no point in time: a version that stood on another line than that of the store's points, or nobody knows when
	Author   string             // who made this version, as the store tells
	Message  string             // what they said of it
	Notes    []string           // sentences on what is wrong with it or was assumed
	Intact   intact.Intact      // of a trace: how much of its blocks is still its own

	// From and Until are the first and the last of the points in time that showed it, of a store that told its whole line at once; a zero
	// Until: the latest still does.
	From, Until time.Time
	// Told is when it became the content, of a store that keeps the versions of each file and knows; zero where it does not.
	Told time.Time
}
