// Package source reads the copies that stores hold: trash folders, snapshots and whatever else is registered.
//
// What the kinds can know differs, and each says it in what it reports:
//
//	kind       clock                          deletion time  expiry       owner, mode  names  points in time
//	trash      1 s, local time without zone   recorded       by policy    the item's   bytes  now
//	live       the file system's              none           none         the file's   bytes  now
//	snapshots  the copy's file system's       none           by thinning  the copy's   bytes  many, dated by name
//
// A new kind is one package that offers a [Kind], registered in one line where the program is put together. What only
// some kinds can do is a further interface that their Source implements (see [Giver]) and that is asked for; nothing
// branches on a kind's name.
package source

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/plan"
	"humble-rewind/internal/reach"
)

// Locator says where in its store a copy is: the point in time (its folder, relative to the source's location; "" in a
// store that holds only one), a folder below that (clean; "" for itself) and a name in it.
type Locator struct{ Capture, Dir, Name string }

// Path returns the locator as one path relative to the source's location.
func (l Locator) Path() string {
	return strings.TrimPrefix(place.Join(place.Join("/"+l.Capture, l.Dir), l.Name), "/")
}

// Capture is one of several points in time that a store holds.
type Capture struct {
	Name string // its folder, relative to the source's location
	At   time.Time
	Same bool // it was read completely before; no sightings follow
}

// Sighting is one thing that the store holds at the moment of the survey.
type Sighting struct {
	At   Locator
	Mark entry.Mark // tells at the next survey whether anything about it changed; never zero
	Same bool       // nothing changed since Mark was last reported; all other fields may be zero

	Origin   string // the path on the machine that it came from; "" where nothing tells
	Claimed  string // the path that a record says, which its owner could have forged; "" where it is trusted or nothing tells
	Type     plan.Type
	Size     int64 // bytes; of a folder, of all files in it; negative where nothing tells
	UID      int64 // its owner; negative where unknown
	Written  time.Time
	GoneAt   time.Time // when it was deleted from Origin; zero where it was not or nothing tells
	Within   bool      // it lies in a folder that is a copy itself
	Readable bool      // false where only a record of it is left
	Inode    uint64    // tells a renamed file from another; 0 where it does not
	Target   string    // of a link
	Notes    []string  // sentences on what is wrong with it or was assumed
}

// Known tells what earlier surveys reported.
type Known interface {
	// Marks returns a look-up of the marks of what a folder of the store held, by name; the zero Mark is not known. In a
	// store of many points in time that is what the one before the capture begun last held.
	Marks(ctx context.Context, dir string) (func(name string) entry.Mark, error)
	// Unchanged tells whether a folder of the store holds just what it held when it was last read, by a digest over the
	// names and marks of its entries, which is kept for the next time. If so, none of them need be sighted.
	Unchanged(ctx context.Context, dir string, print []byte, entries int) (bool, error)
	// Captures lists the points in time that were read completely, by name.
	Captures(ctx context.Context) (map[string]time.Time, error)
}

// Reporter takes what a survey finds. Sightings come folder by folder: once one of another Dir has come, none of the
// earlier Dir may follow. An error ends the survey and must be returned by it.
type Reporter interface {
	Sight(Sighting) error
	// Unread says that a folder of the store could not be read, so that what is known below it must stay as it is.
	Unread(dir string, why error) error
	// Note adds a sentence about the store as a whole.
	Note(text string)
	// Begin begins one of several points in time; what is sighted from here on was in it. A store that holds many calls
	// it for each before anything else; those it does not call it for are gone.
	Begin(Capture) error
	// Discard takes back the point in time begun last: it vanished while it was read, or is still being written.
	Discard(why string) error
}

// Source reads the copies that one store holds. It is safe for concurrent use.
type Source interface {
	// Survey reports everything that the store holds now. What it neither reports nor calls unread is gone from there.
	// An error means that the store as a whole could not be read; everything then stays as it is known.
	Survey(ctx context.Context, known Known, report Reporter) error
	// Open opens one copy. It wraps fs.ErrNotExist where the copy is no longer there.
	Open(ctx context.Context, at Locator) (Content, error)
}

// Content is an open copy. Just one of File, Folder and Target is set, by the Type of Info; none for other types.
type Content struct {
	Info   reach.Info
	File   reach.File
	Folder reach.Reader
	Target string
	// Attributes are those that could be read.
	Attributes reach.Attributes
}

// Close closes what is open.
func (c Content) Close() error {
	switch {
	case c.File != nil:
		return c.File.Close()
	case c.Folder != nil:
		return c.Folder.Close()
	}
	return nil
}

// OpenContent opens an entry of a folder as Content.
func OpenContent(folder reach.Reader, name string) (Content, error) {
	info, err := folder.Lstat(name)
	if err != nil {
		return Content{}, err
	}
	c := Content{Info: info}
	switch info.Type {
	case plan.File:
		c.File, err = folder.Open(name)
	case plan.Folder:
		c.Folder, err = folder.Enter(name)
	case plan.Link:
		c.Target, err = folder.Readlink(name)
	}
	if err != nil {
		return Content{}, err
	}
	if c.File != nil || c.Folder != nil {
		// What cannot be read of them is lost like on any copy; the content is what counts.
		c.Attributes, _ = folder.Attributes(name)
	}
	return c, nil
}

// Holding is what a store remembers about an item besides its content, so that the item can be put back exactly.
type Holding []byte

// Giver is a Source whose items lie as such in the machine's file system and leave the store when brought back.
type Giver interface {
	Source
	// Lies returns where the copy lies, and whether it leaves the store as a whole when it is brought back; a file inside
	// a folder that was deleted whole does not.
	Lies(at Locator) (path string, leaves bool)
	// Hold reads what the store remembers about items that are about to leave, in their order.
	Hold(ctx context.Context, items []Locator) ([]Holding, error)
	// Release makes the store forget items that have left. Forgetting one twice is no error.
	Release(ctx context.Context, held []Holding) error
	// Return makes the store remember again, byte for byte where nothing else changed meanwhile. Given all holdings of a
	// bring-back at once, also their order is as it was. Returning one twice is no error.
	Return(ctx context.Context, held []Holding) error
}

// Map says that what the store calls From is To on the machine.
type Map struct{ From, To string }

// Apply rewrites a path by the first map whose From it lies under.
func Apply(maps []Map, path string) string {
	for _, m := range maps {
		if rest, ok := place.Below(path, m.From); ok {
			return place.Join(m.To, rest)
		}
	}
	return path
}

// Setup is what a kind needs to read one store.
type Setup struct {
	Files reach.Files // of the machine that the store is on
	At    string      // the location there, an absolute clean path
	Zone  *time.Location
	Homes []string // home folders of the machine's people
	// Own are the files of the machine whose copies the store holds; nil where it cannot be reached now. People live there.
	Own    reach.Files
	People []Person
	Maps   []Map
	Named  string // strftime pattern of the names of points in time; "" where it is worked out
	// Exclusions are patterns of what is left out: of names, or of paths where they hold a slash.
	Exclusions []string
	Stores     []string // folders below At that other sources read
}

// Person is somebody who lives on a machine.
type Person struct {
	UID   int64
	Homes []string // the present one and former ones
}

// Described is what a location turned out to be.
type Described struct {
	Drive string // the name of the drive that the store belongs to; "" where it is the machine's own
	Live  bool   // its files are the machine's own, as they are now
	Dated bool   // it holds several points in time
	Notes []string
}

// Suggestion is a store found on a machine.
type Suggestion struct {
	At    string
	Drive string
	Why   string
}

// Kind is a kind of source.
type Kind interface {
	Name() string
	// Open gives access to a store without reading it yet.
	Open(Setup) Source
	// Describe looks at a location and says with an error why it cannot be such a store.
	Describe(ctx context.Context, setup Setup) (Described, error)
	// Suggest looks for stores of this kind in the usual places of a machine; At is ignored.
	Suggest(ctx context.Context, setup Setup) ([]Suggestion, error)
}

// Kinds are the kinds that a program knows.
type Kinds []Kind

// ErrUnknownKind says that a kind of source is not registered.
var ErrUnknownKind = errors.New("unknown kind of source")

// Named returns a kind by its name, or ErrUnknownKind.
func (k Kinds) Named(name string) (Kind, error) {
	if i := slices.IndexFunc(k, func(kind Kind) bool { return kind.Name() == name }); i >= 0 {
		return k[i], nil
	}
	known := make([]string, len(k))
	for i, kind := range k {
		known[i] = kind.Name()
	}
	return nil, fmt.Errorf("%w %q: known are %q", ErrUnknownKind, name, known)
}
