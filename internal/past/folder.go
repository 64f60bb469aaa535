package past

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/core/digest"
	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/sealed"
	"humble-rewind/internal/core/trail"
)

// State tells how an entry as of a moment compares with another moment.
type State string

// The states.
const (
	Same    State = "same"
	Changed State = "changed"
	Missing State = "missing" // it was there and is not in the other
	Added   State = "added"   // it was not there and is in the other
	Moved   State = "moved"   // it was there, and is elsewhere in the other
)

// Entry is something below a folder as of a moment.
type Entry struct {
	Path    string // relative to the folder
	Type    entry.Type
	Size    int64 // negative where nothing tells
	Written time.Time
	SHA256  digest.Sum
	Copy    copies.ID       // what to read it from; 0 where only the record is left, and for what is only in the other moment
	Source  copies.SourceID // of the copy
	Stood   copies.ID       // the copy that shows what it was like at the moment, but for its content; mostly Copy itself
	Proved  bool            // else assumed: nobody looked between
	State   State
	MovedTo string // where it is in the other moment, relative to the folder or as a place; "" where it did not move
	Whole   *Whole // of a folder directly in the one that is looked at, where it only makes sense whole

	content contentKey
}

// Whole is what a folder that only makes sense whole holds as of the moment.
type Whole struct {
	Why   string // for behind "it is"
	Files int
	Size  int64 // of all of them, in bytes
}

// contentKey tells equal contents of different places.
type contentKey struct {
	size    int64
	written int64
}

// Cell says what a moment did to a row.
type Cell byte

// The cells.
const (
	Absent   Cell = '.' // not there
	AsBefore Cell = '-'
	Fresh    Cell = '#' // new or other content
	Arrow    Cell = '>' // it moved here or away
)

// Row is one entry of a folder over all moments.
type Row struct {
	Name  string
	Type  entry.Type
	Cells []Cell // one a moment
}

// Moment is a point in time at which something under a folder changed.
type Moment struct {
	At      time.Time
	Changed int
}

// Folder is a folder as of a moment.
type Folder struct {
	Place   place.Place
	AsOf    time.Time     // zero: now
	Against time.Time     // zero: now
	Was     place.Place   // the folder that it was before it came up here; zero where it was none
	Entries []Entry       // by path
	Moments []Moment      // oldest first
	Rows    []Row         // of what is directly in it, by name; the first MaxRows
	Left    int           // how many rows are left out
	Counts  map[State]int // how many files below it are in each state
}

// MaxRows is of how many entries directly in a folder it is told what every moment did to them: more can neither be drawn nor read.
const MaxRows = 10_000

// Level returns the entries that lie directly in the folder, by name; what is deeper shows in the state of the folders.
func (f *Folder) Level() []Entry {
	var level []Entry
	within := map[string]*inside{}
	at := map[string]int{}
	for _, e := range f.Entries {
		name, rest, deeper := strings.Cut(e.Path, "/")
		if _, ok := at[name]; !ok {
			at[name] = len(level)
			top := e
			if deeper {
				top = standIn(name, e)
			}
			level = append(level, top)
		}
		if deeper && rest != "" {
			if within[name] == nil {
				within[name] = &inside{states: map[State]bool{}}
			}
			within[name].states[e.State] = true
			within[name].add(rest, e)
		}
	}
	for name, in := range within {
		in.tell(&level[at[name]])
	}
	byPath(level)
	return level
}

// inside is what the entries in one of the folders of a folder are like.
type inside struct {
	first  Entry // where it is gathered as a page is
	states map[State]bool
	tally  sealed.Tally // of what was there at the moment
	files  int
	size   int64
}

// add counts an entry in the folder, by its path relative to that.
func (in *inside) add(path string, e Entry) {
	if e.State == Added {
		return
	}
	in.tally.Add(path)
	if e.Type == entry.File {
		in.files++
		in.size += max(e.Size, 0)
	}
}

// tell says of the folder what is in it.
func (in *inside) tell(of *Entry) {
	of.State = stateWith(of.State, in.states)
	if why := in.tally.Why(); why != "" {
		of.Whole = &Whole{Why: why, Files: in.files, Size: in.size}
	}
}

// byPath sorts entries, which mostly are in order already.
func byPath(all []Entry) {
	for i := 1; i < len(all); i++ {
		if all[i].Path < all[i-1].Path {
			slices.SortFunc(all, func(x, y Entry) int { return strings.Compare(x.Path, y.Path) })
			return
		}
	}
}

// standIn is the entry of a folder that was never seen itself, or not then, for the first of those in it.
func standIn(name string, in Entry) Entry {
	return Entry{Path: name, Type: entry.Folder, Size: -1, State: in.State, Proved: in.Proved}
}

// stateWith is the state of a folder in which entries of some states lie.
func stateWith(of State, inside map[State]bool) State {
	for state := range inside {
		if state != of && state != Same && of != Missing && of != Added {
			return Changed
		}
	}
	return of
}

// ErrNothingThere says that no source ever saw anything under a folder.
var ErrNothingThere = fmt.Errorf("no source has seen anything there: %w", catalogue.ErrNotFound)

// Folder puts a folder together as it stood at a moment, from whatever sources saw it, and compares it with another. A
// zero time is now.
func (r *Reader) Folder(ctx context.Context, p place.Place, asOf, against time.Time) (Folder, error) {
	f := Folder{Place: p, AsOf: asOf, Against: against}
	a := &assembly{Folder: &f, moments: map[time.Time]int{}, rows: map[string]*row{}}
	a.each = a.take
	if err := a.walk(ctx, r); err != nil {
		return f, err
	}
	a.finish()
	return f, nil
}

// Entries is Folder without moments and rows, compared with what is there now.
func (r *Reader) Entries(ctx context.Context, p place.Place, asOf time.Time) (Folder, error) {
	f := Folder{Place: p, AsOf: asOf}
	a := &assembly{Folder: &f}
	a.each = a.entry
	if err := a.walk(ctx, r); err != nil {
		return f, err
	}
	a.finish()
	return f, nil
}

// Under calls each with the trail of everything below a folder, by its path relative to the folder. Neither the trail nor
// the copies may be kept. Nothing there is ErrNothingThere.
func (r *Reader) Under(ctx context.Context, p place.Place, each func(path string, t *trail.Trail, seen []*copies.Copy)) error {
	a := &assembly{
		Folder: &Folder{Place: p},
		each:   func(rel string, t *trail.Trail, seen []*copies.Copy) { each(rel, t, seen) },
	}
	return a.walk(ctx, r)
}
