// Package source reads the copies that stores hold: trash folders, snapshots, archives and whatever else is registered.
//
// What the kinds can know differs: each says it as data, see package traits, and in what it reports.
//
// A new kind is one package that offers a [Kind], registered in one line, see package kinds. What only
// some kinds can do is a further interface that their Store implements (see [Emptied]) and that is asked for; nothing
// branches on a kind's name.
package source

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"time"

	"humble-rewind/internal/core/archived"
	"humble-rewind/internal/core/disk"
	"humble-rewind/internal/core/disk/scan"
	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/problem"
	"humble-rewind/internal/core/refs"
	"humble-rewind/internal/core/sighting"
	"humble-rewind/internal/core/traits"
	"humble-rewind/internal/reach"
)

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
	// Latest is the latest point in time that was read completely; "" where there is none.
	Latest(ctx context.Context) (name string, at time.Time, err error)
	// Cursor is where a survey goes on that ended a slice with Again; nil at the beginning of one.
	Cursor() []byte
	// Memo is what the last complete survey asked to be remembered; nil where there was none.
	Memo() []byte
}

// Reporter takes what a survey finds. Sightings come folder by folder, and in a folder in the order of the bytes of their names: once one
// of another Dir has come, none of the earlier Dir may follow. An error ends the survey and must be returned by it.
type Reporter interface {
	Sight(sighting.Sighting) error
	// Gone says of a point in time that reports only what changed that something is no longer in it. It counts as a sighting of
	// its folder.
	Gone(at sighting.Locator) error
	// Unread says that a folder of the store could not be read, so that what is known below it must stay as it is.
	Unread(dir string, why error) error
	// Note adds a sentence about the store as a whole.
	Note(text string)
	// Begin begins one of several points in time; what is sighted from here on was in it. A store that holds many calls
	// it for each before anything else; those it does not call it for are gone. One that reports only what changed since another
	// must name the latest that was read completely.
	Begin(sighting.Capture) error
	// Since says, before anything else, that only what changed since the last complete survey is sighted or called gone. It is for stores
	// that have no points in time.
	Since() error
	// Further says, before anything else, that all points in time that are known are still held: only later ones are begun.
	Further() error
	// Line begins all points in time that a store holds at once, oldest first, in place of Begin and of all that was known. Each thing is then
	// sighted once for all points that show it, which From and Until name; one name several times, in the order of From.
	Line(points []sighting.Capture) error
	// Progress says how much of the whole was read, in a measure of the store's own, and what is being read; total is 0 where that is not known.
	Progress(done, total int64, doing string)
	// Due tells whether the survey has been at it for so long that others should have their turn.
	Due() bool
	// Again ends a slice of the survey: what was reported is kept and shown, and Survey, which has to return nil at once, is called again
	// after others had their turn, with cursor in what is known. It may come between two folders, or between two points in time; a folder
	// that was reported is not reported in a later slice. What is gone is worked out at the end of the last slice. The cursor is read again by
	// the same kind of store alone, but maybe another version of it.
	Again(cursor []byte) error
	// Remember keeps something for the next survey, should this one come to its end.
	Remember(memo []byte)
	// Discard takes back the point in time begun last: it vanished while it was read, or is still being written.
	Discard(why string) error
}

// Store reads the copies that one trash, one folder of snapshots, one archive or the like holds. It is safe for concurrent use.
type Store interface {
	// Vouches names what on the store's machine says where a copy came from, by paths: whoever may write one of them could have forged it.
	// It is nil where no file of a machine does, as of a drive.
	Vouches(ctx context.Context, at sighting.Locator) []string
	// Survey reports everything that the store holds now. What it neither reports nor calls unread is gone from there.
	// An error means that the store as a whole could not be read; everything then stays as it is known.
	Survey(ctx context.Context, known Known, report Reporter) error
	// Open opens one copy. It wraps problem.NotThere where the copy is no longer there, and sighting.ErrNotRef where the ref is not
	// of this kind. What it returns may be read until it is closed, whatever becomes of the store.
	Open(ctx context.Context, ref sighting.Ref) (Opened, error)
	io.Closer
}

// Opened is an open copy. Just one of File, Folder and Target is set, by the Type of Info; none for other types.
type Opened struct {
	Info   reach.Info
	File   reach.File // which is an io.ReaderAt too where the store can be read at any offset
	Folder reach.Tree
	Target string
	// Attributes are those that could be read.
	Attributes reach.Attributes
	// Release is called once when it is closed; nil: nothing is.
	Release func()
}

// Close closes what is open.
func (o Opened) Close() (err error) {
	switch {
	case o.File != nil:
		err = o.File.Close()
	case o.Folder != nil:
		err = o.Folder.Close()
	}
	if o.Release != nil {
		o.Release()
	}
	return err
}

// OpenEntry opens an entry of a folder.
func OpenEntry(ctx context.Context, folder reach.Tree, name string) (Opened, error) {
	info, err := folder.Look(ctx, name)
	if err != nil {
		return Opened{}, err
	}
	c := Opened{Info: info}
	switch info.Type {
	case entry.File:
		c.File, err = folder.Open(ctx, name)
	case entry.Folder:
		c.Folder, err = folder.Enter(ctx, name)
	case entry.Link:
		c.Target, err = folder.Target(ctx, name)
	}
	if err != nil {
		return Opened{}, err
	}
	if (c.File != nil || c.Folder != nil) && forContents(ctx) == nil {
		// What cannot be read of them is lost like on any copy; the content is what counts.
		c.Attributes, _ = folder.Attributes(ctx, name)
	}
	return c, nil
}

// OpenBelow opens the copy that a ref made of a locator leads to, in a store whose copies lie as such below a folder of a machine.
func OpenBelow(ctx context.Context, files reach.Session, at string, ref sighting.Ref) (Opened, error) {
	l, err := ref.Locator()
	if err != nil {
		return Opened{}, err
	}
	folder, release, err := forContents(ctx).get(ctx, files, place.Join(at, place.Join("/"+l.Capture, l.Dir)))
	if err != nil {
		return Opened{}, fmt.Errorf("%s: %w", place.Quote(l.Path()), err)
	}
	defer release()
	c, err := OpenEntry(ctx, folder, l.Name)
	if err != nil {
		return Opened{}, fmt.Errorf("%s: %w", place.Quote(l.Path()), err)
	}
	return c, nil
}

// Setup is what a kind needs to read one store.
type Setup struct {
	Files reach.Session // of the machine that the store is on
	At    string        // the location there, an absolute clean path
	Zone  *time.Location
	Homes []string // home folders of the machine's people
	// Own are the files of the machine whose copies the store holds; nil where it cannot be reached now. People live there. Elsewhere says
	// that the store is not on it.
	Own       reach.Session
	Elsewhere bool
	People    []Person
	Maps      []place.Map
	Named     string // strftime pattern of the names of points in time; "" where it is worked out
	// Exclusions are patterns of what is left out: of names, or of paths where they hold a slash.
	Exclusions []string
	Stores     []string // folders below At that other sources read
	// Options are those of the kind, by name, see CheckOptions.
	Options map[string]string
	// Secret is what unlocks the store, kept in memory only; nil where none was given.
	Secret []byte
	// Keep is a folder of the service's host that the source has for itself, in which a kind may keep what it has fetched; "" where it is not
	// one that is looked after yet.
	Keep string
	// Unpacker unpacks and takes apart what users have written.
	Unpacker Unpacker
}

// Unpacker unpacks streams and takes apart what users can write, apart from the service: whoever wrote it may have meant harm.
type Unpacker interface {
	// Unpack unpacks what is packed in a form: deflate, gzip, bzip2, xz or zstd. What is damaged is read as far as it goes, to an error. Closing
	// the answer does not close what is packed.
	Unpack(ctx context.Context, form string, packed io.Reader) (io.ReadCloser, error)
	// Zip, Tar and PackedTar call each with what an archive says of each member, in their order, until it fails. A tar can be read at any
	// offset, or is packed as one stream in a form of Unpack, of
	// which no more than most bytes are unpacked.
	Zip(ctx context.Context, at io.ReaderAt, size int64, each func(archived.Head) error) (archived.Told, error)
	Tar(ctx context.Context, at io.ReaderAt, size int64, each func(archived.Head) error) (archived.Told, error)
	PackedTar(ctx context.Context, form string, packed io.Reader, most int64, each func(archived.Head) error) (archived.Told, error)
	// Volumes finds the file systems of a drive of so many bytes; Walk calls each with the files of one, those that stand or those that
	// were erased, folder by folder until it fails, and note with what was wrong. What of the drive cannot be read is missing.
	Volumes(ctx context.Context, drive io.ReaderAt, size int64) (scan.Layout, error)
	Walk(ctx context.Context, drive io.ReaderAt, size int64, v scan.Volume, erased bool, each func(scan.Trace) error, note func(disk.Note)) error
	// Sweep calls each with what begins in so many bytes of what is free on a file system, from an offset of the drive on, by its own
	// structure. next is where to go on; 0 is the end.
	Sweep(ctx context.Context, drive io.ReaderAt, size int64, v scan.Volume, from, most int64, each func(scan.Trace) error, note func(disk.Note)) (next int64, err error)
	// Refs calls each with what the lines of a text of a git repository name, in their order, until it fails.
	Refs(ctx context.Context, form refs.Form, text io.Reader, each func(refs.Named) error) error
}

// OwnFolder returns a folder on the service's host for the store alone, and what to call when it is not needed any more: that of the source,
// which stays, or else one that is removed then.
func (s Setup) OwnFolder() (dir string, release func(), err error) {
	if s.Keep == "" {
		dir, err = os.MkdirTemp("", "humble-rewind-")
		return dir, func() { os.RemoveAll(dir) }, err
	}
	return s.Keep, func() {}, os.MkdirAll(s.Keep, 0o700)
}

// Person is somebody who lives on a machine.
type Person struct {
	UID   int64
	Homes []string // the present one and former ones
}

// Option is something that a store of a kind can be given besides what all are.
type Option struct {
	Name string
	Says string // a sentence on what it is for
	// Check says what is wrong with a value; nil: any is taken.
	Check func(value string) error
}

// CheckOptions says which option a kind does not have, or what is wrong with one.
func CheckOptions(k Kind, given map[string]string) error {
	options := k.Options()
	for name, value := range given {
		i := slices.IndexFunc(options, func(o Option) bool { return o.Name == name })
		if i < 0 {
			return fmt.Errorf("sources of the kind %s have no option %q; they have %q", k.Name(), name, namesOf(options))
		}
		if options[i].Check == nil {
			continue
		}
		if err := options[i].Check(value); err != nil {
			return fmt.Errorf("option %s: %w", name, err)
		}
	}
	return nil
}

func namesOf(options []Option) []string {
	all := []string{}
	for _, o := range options {
		all = append(all, o.Name)
	}
	return all
}

// ErrLocked says that a store has to be unlocked with a secret before what it holds can be read.
const ErrLocked = problem.Locked

// Lockable is a store that holds what a secret opens.
type Lockable interface {
	// Opens tells of how many things that need a secret the one of the store's setup opens, and of how many it does not.
	Opens(ctx context.Context) (opened, locked int, err error)
}

// Returning is a store whose copies go back into it where nobody says otherwise, as new versions beside those that it keeps.
type Returning interface {
	// Returns tells to which path of the store's machine a copy goes back, and whether what is there stays as a version.
	Returns(ref sighting.Ref) (path string, versions bool, err error)
}

// AsReturning returns a store as one that copies go back into, be it one of a pool; false where they do not.
func AsReturning(s Store) (Returning, bool) {
	if lease, ok := s.(*Lease); ok {
		s = lease.Store
	}
	r, ok := s.(Returning)
	return r, ok
}

// Telling is a store that says of itself, once it is open, what its kind cannot say of all: a drive's file systems differ.
type Telling interface {
	// Traits are its own, given those of its kind. They must not take anything from the store's folders that would have to be waited for long.
	Traits(ctx context.Context, declared traits.Traits) traits.Traits
}

// TraitsOf returns a store's traits; told says that they are its own.
func TraitsOf(ctx context.Context, k Kind, s Store) (t traits.Traits, told bool) {
	if lease, ok := s.(*Lease); ok {
		s = lease.Store
	}
	if own, ok := s.(Telling); ok {
		return own.Traits(ctx, k.Traits()), true
	}
	return k.Traits(), false
}

// Described is what a location turned out to be.
type Described struct {
	Drive string // the name of the drive that the store belongs to; "" where it is the machine's own
	// KeepsDays is for how long it keeps what was removed; nil where nothing tells.
	KeepsDays *int
	Notes     []string
}

// Suggestion is a store found on a machine.
type Suggestion struct {
	At      string
	Drive   string
	Why     string
	Besides bool // one more of its kind, not the usual one that is taken where no location is given
}

// Kind is a kind of store.
type Kind interface {
	Name() string
	Traits() traits.Traits
	Options() []Option
	// Open gives access to a store without reading it yet. Whoever opened it closes it.
	Open(ctx context.Context, setup Setup) (Store, error)
	// Describe looks at a location and says with an error why it cannot be such a store.
	Describe(ctx context.Context, setup Setup) (Described, error)
	// Suggest looks for stores of this kind in the usual places of a machine; At is ignored.
	Suggest(ctx context.Context, setup Setup) ([]Suggestion, error)
}

// Kinds are the kinds that a program knows, in the order in which technicians look for copies.
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
