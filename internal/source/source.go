// Package source reads the copies that stores hold: trash folders, snapshots and whatever else is registered.
//
// What the kinds can know differs, and each says it in what it reports:
//
//	kind    clock                          deletion time  expiry     owner, mode  names
//	trash   1 s, local time without zone   recorded       by policy  the item's   bytes
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
	"time"

	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/plan"
	"humble-rewind/internal/reach"
)

// Locator says where in its store a copy is: a folder of the store (relative to the source's location; clean; "" for
// the location itself) and a name in it.
type Locator struct{ Dir, Name string }

// Path returns the locator as one relative path.
func (l Locator) Path() string {
	if l.Dir == "" {
		return l.Name
	}
	return l.Dir + "/" + l.Name
}

// Sighting is one thing that the store holds at the moment of the survey.
type Sighting struct {
	At   Locator
	Mark string // tells at the next survey whether anything about it changed; never empty
	Same bool   // nothing changed since Mark was last reported; all other fields may be zero

	Origin   string // the path on the machine that it came from; "" where nothing tells
	Type     plan.Type
	Size     int64 // bytes; of a folder, of all files in it
	UID      int64 // its owner; negative where unknown
	Written  time.Time
	GoneAt   time.Time // when it was deleted from Origin; zero where it was not or nothing tells
	Within   bool      // it lies in a folder that is a copy itself
	Readable bool      // false where only a record of it is left
	Notes    []string  // sentences on what is wrong with it or was assumed
}

// Known tells what earlier surveys reported.
type Known interface {
	// Marks returns a look-up of the marks of what a folder of the store held, by name; "" is not known.
	Marks(ctx context.Context, dir string) (func(name string) string, error)
}

// Reporter takes what a survey finds. Sightings come folder by folder: once one of another Dir has come, none of the
// earlier Dir may follow. An error ends the survey and must be returned by it.
type Reporter interface {
	Sight(Sighting) error
	// Unread says that a folder of the store could not be read, so that what is known below it must stay as it is.
	Unread(dir string, why error) error
	// Note adds a sentence about the store as a whole.
	Note(text string)
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
	Maps  []Map
}

// Described is what a location turned out to be.
type Described struct {
	Drive string // the name of the drive that the store belongs to; "" where it is the machine's own
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
