// Package copies holds the one record of what is known of a copy. The catalogue fills it; everything above takes it as it is.
package copies

import (
	"strconv"
	"time"

	"humble-rewind/internal/core/condition"
	"humble-rewind/internal/core/digest"
	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/fileclass"
	"humble-rewind/internal/core/intact"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/sighting"
)

// ID numbers a copy. It means something to the catalogue alone; 0 is no copy.
type ID int64

// String returns the number as it is shown, such as c12.
func (id ID) String() string { return "c" + strconv.FormatInt(int64(id), 10) }

// Copy is what is known of one copy: what a store held for a place, unchanged from one of its captures to another.
type Copy struct {
	ID    ID
	Store *Store // that holds it; shared by many copies, and never changed

	Place   place.Place // where it came from; where nobody knows that, where it lies
	Lost    bool        // no record that is trusted says where it came from
	Claimed string      // the path that a record says it came from, which is not trusted; "" where there is none
	Type    entry.Type
	Size    int64  // bytes; negative where nothing tells
	Target  string // of a link
	Number  uint64 // tells hard links and renamed files from equal ones; 0 where it does not
	Mark    entry.Mark
	SHA256  digest.Sum // unknown until it was read
	// Condition is what examining the content means under the copy's name.
	Condition condition.State

	// Written and Gone are put right by what is known of the machine's clock; see Recorded and GoneRecorded.
	Written time.Time // zero where nothing tells
	Gone    time.Time // when it was removed from its place, where its store recorded that
	// Captured is the capture that first showed it. First is that, or, where Told, the earlier moment at which it became the content, as
	// its store says itself. Last is the capture that last showed it, the latest where Open.
	Captured, First, Last time.Time
	Told                  bool
	Open                  bool // the latest capture shows it

	Readable bool // its store still holds the bytes
	Within   bool // it lies in a folder that is a copy itself
	Beside   bool // it stood on no line of captures: on another branch, or nobody knows when

	At      sighting.Locator // where it lies in its store; of one with points in time in the latest that still holds it
	OwnRef  sighting.Ref     // by which its store finds it, where that of At is not enough
	Lies    string           // where it lies, for people; "" where that is the path of LiesAt
	Person  string           // whose it is
	Author  string           // who made it, where its store tells
	Message string           // what they said of it
	Notes   []string         // what is wrong with it or was assumed

	Nameless bool          // what it was called is lost; its name is one that its store made up
	Intact   intact.Intact // of a trace: how much of its blocks is still its own
}

// Ref is how the copy's store finds it.
func (c *Copy) Ref() sighting.Ref {
	if c.OwnRef != "" {
		return c.OwnRef
	}
	return c.At.Ref()
}

// LiesAt returns the place of the copy's own bytes.
func (c *Copy) LiesAt() place.Place {
	return place.Place{Machine: c.Store.AtMachine, Path: place.Join(c.Store.At, c.At.Path())}
}

// Class is what kind of file it is, by its name.
func (c *Copy) Class() fileclass.Class {
	if c.Type == entry.Folder {
		return fileclass.Folders
	}
	return fileclass.Of(c.Place.Name())
}

// Recorded returns the write time as it is recorded, by the machine's own clock; the zero Time where nothing tells.
func (c *Copy) Recorded() time.Time { return c.Store.asRecorded(c.Written) }

// GoneRecorded returns the time of the removal as it is recorded, by the machine's own clock; the zero Time where it is not.
func (c *Copy) GoneRecorded() time.Time { return c.Store.asRecorded(c.Gone) }

// Expires returns when the store's policy removes the copy; the zero Time where it never does.
func (c *Copy) Expires() time.Time { return c.Store.Expires(c.GoneRecorded()) }
