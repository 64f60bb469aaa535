package advice

import (
	"cmp"
	"slices"
	"time"

	"humble-rewind/internal/core/condition"
	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/masschange"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/remark"
	"humble-rewind/internal/core/trail"
)

// FolderFile is what is known of one file of a folder over time. It is kept small: a folder may have hundreds of thousands.
type FolderFile struct {
	Path      string // relative to the folder
	Versions  []FolderVersion
	Leftovers []Stray // that are named as this file's
}

// FolderVersion is one of its versions; times are nanoseconds since 1970, 0 where there is none.
type FolderVersion struct {
	Written, Arrived, LastSeen, Superseded int64 // Superseded 0: it stands
	Stamp                                  int64 // the write time as it was recorded, by the machine's own clock
	// After and First are the captures between which it came: the last without it, and the first with it.
	After, First int64
	Size         int64     // bytes
	Copy         copies.ID // what it is best read from; 0 where it cannot be
	Live         copies.ID // the copy of it that stands on the machine; 0 where none does
	Thrown       copies.ID // the copy of it that was thrown away; 0 where none was
	ThrownAt     int64
	Content      int32 // equal for equal contents
	Proved       bool  // its arrival is its write time
	Doubted      bool  // its write time is not believed
	Ends         bool  // nothing took its place
	Hidden       bool  // it came by a change that kept size and write time
}

// Nameless is a leftover whose name does not tell whose it is.
type Nameless struct {
	Beside  string // the folder that it is in, where it is of a file in that; "" where it may be of any
	Written int64  // nanoseconds since 1970
	Size    int64  // bytes
}

// Thrown is the folder itself as one item of a store, thrown away at a moment.
type Thrown struct {
	Copy   Candidate
	At     time.Time
	Source string // where it is, for the middle of a sentence
}

// FolderEvidence is everything known about a folder.
type FolderEvidence struct {
	Place    place.Place
	Files    []FolderFile
	Nameless []Nameless
	Thrown   []Thrown
	Sealed   bool // it only makes sense whole, so that only the moment is wanted
	Now      time.Time
}

// FolderReading reads contents for a folder, within a budget: what lies beyond it is unread.
type FolderReading interface {
	Reading
	// Recall finds out in one go what is known of some copies, and reads none of them.
	Recall(some []copies.ID)
	// Ahead examines some copies in one go, as far as the budget allows.
	Ahead(some []Sized)
	// MovedTo tells where a file that is gone stands now, if it was moved or renamed: the same content, come when it went.
	MovedTo(f *FolderFile) (place.Place, bool)
	// Anew gathers everything known of one file, as for a single one, and reads its copies: two may have the same size and date, and
	// yet not the same content. ok is false where the budget does not allow that.
	Anew(f *FolderFile) (ev Evidence, ok bool)
}

// Sized is a copy with its size in bytes.
type Sized struct {
	ID   copies.ID
	Size int64
}

// Part says what becomes of a file in a folder that is brought back.
type Part string

// The parts.
const (
	PartCertain Part = "certain" // its best copy is proved to be what stood there
	PartAssumed Part = "assumed" // likely: one thing is assumed, and named
	PartMissing Part = "missing" // no copy of it can be read any more
	PartKept    Part = "kept"    // it was worked on since, and stays
	PartCame    Part = "came"    // it came with the mass change, and stays for a technician to remove
)

// FolderEntry is one file of the folder that is not simply as it was.
type FolderEntry struct {
	Path string    // relative to the folder
	Copy copies.ID // what to bring back; 0 where nothing is
	Size int64
	Part Part
	Note Reason
	AsOf time.Time // the moment as of which it comes back; zero where nothing does
}

// FolderAdvice is the advice for a folder: each file its own best copy.
type FolderAdvice struct {
	AsOf    time.Time // the moment that is offered
	Mass    *masschange.Mass
	Because []Reason
	Costs   []Reason
	Notes   []Reason
	Entries []FolderEntry // by path
	Counts  map[Part]int
	Same    int // files that stand as they did then
	Bytes   int64
	Whole   *Thrown     // the folder comes back as this one item
	MovedTo place.Place // where the folder stands now, if it moved
	Sure    Sure
}

// AdviseFolder answers a question about a folder, each file of it by the rules for single files.
func AdviseFolder(q Question, ev FolderEvidence, reading FolderReading) FolderAdvice {
	c := newFolderChooser(q, ev, reading)
	switch c.Loss {
	case Deleted, Misplaced:
		c.deleted()
	case Overwritten:
		c.overwritten()
	case Damaged:
		c.damaged()
	default:
		c.unsaved()
	}
	c.count()
	if c.Whole == nil && c.MovedTo == (place.Place{}) && !c.Sealed {
		c.account()
	}
	c.surely()
	return c.FolderAdvice
}

func newFolderChooser(q Question, ev FolderEvidence, reading FolderReading) *folderChooser {
	c := &folderChooser{Question: q, FolderEvidence: ev, reading: reading,
		moved: map[int]place.Place{}, FolderAdvice: FolderAdvice{Counts: map[Part]int{}}}
	c.Noticed = LastRight(time.Time{}, q.Noticed, ev.Now)
	if c.Good.After(c.Noticed) {
		c.Good = time.Time{}
	}
	return c
}

type folderChooser struct {
	Question
	FolderEvidence
	FolderAdvice
	reading FolderReading
	moved   map[int]place.Place // files that were moved or renamed
	masses  []masschange.Mass

	read, broken, noise int // files read as they stand, and what they are
	unread              int // that stand and nobody examined
	unexamined          int // that come back and nobody examined
	also                int // that were broken, but not by the mass change
	window              time.Duration

	breaks  []time.Time // saves of files that clearly went wrong
	unclear []unclear

	known   map[string]bool // files that do not stand, by path, once endings was worked out
	endings []string        // that names got with a mass change

	replaced   int         // files in whose place a mass change put others
	returnedAt []time.Time // when older content was put back
	goingOn    []goingOn
}

func moment(n int64) time.Time {
	if n == 0 {
		return time.Time{}
	}
	return time.Unix(0, n).UTC()
}

// last is a file's last version.
func (f *FolderFile) last() *FolderVersion { return &f.Versions[len(f.Versions)-1] }

// stands tells whether a file stands now.
func (f *FolderFile) stands() bool { return f.last().Superseded == 0 }

// At returns the index of the version that stood at a moment, -1 where none did, and whether that is proved. A version whose
// write time says nothing had not come yet at the last capture without it; where it stands there now, it is what went wrong,
// and had not come before the first capture with it either.
func (f *FolderFile) At(at int64) (int, bool) {
	for n := len(f.Versions) - 1; n >= 0; n-- {
		v := &f.Versions[n]
		if v.Arrived > at || !v.Proved && v.After != 0 && (at <= v.After || v.Superseded == 0 && at < v.First) {
			continue
		}
		if v.Ends && at >= v.Superseded {
			return -1, true
		}
		return n, at <= v.LastSeen
	}
	return -1, true
}

// removal is when a file was removed last by a moment: the version that was, and between which moments; ok is false where it was not.
func (f *FolderFile) removal(noticed time.Time) (n int, from, to int64, ok bool) {
	for n := len(f.Versions) - 1; n >= 0; n-- {
		v := &f.Versions[n]
		if v.Ends && v.Superseded != 0 {
			if from := min(v.LastSeen, v.Superseded); from <= noticed.UnixNano() {
				return n, from, v.Superseded, true
			}
		}
	}
	return -1, 0, 0, false
}

// at is the place of a file.
func (c *folderChooser) at(f *FolderFile) place.Place {
	return place.Place{Machine: c.Place.Machine, Path: place.Join(c.Place.Path, f.Path)}
}

// evidence is what is known of one file, as for a single one.
func (c *folderChooser) evidence(f *FolderFile) Evidence {
	own := c.at(f)
	ev := Evidence{Place: own, Now: c.Now, Strays: f.Leftovers}
	for i := range f.Versions {
		v := &f.Versions[i]
		version := trail.Version{Place: own, Type: entry.File, Size: v.Size, Content: int(v.Content), Written: moment(v.Written),
			After: moment(v.After), Arrived: moment(v.Arrived), First: moment(v.First), LastSeen: moment(v.LastSeen), Superseded: moment(v.Superseded),
			Hidden: v.Hidden, Seen: []int{len(ev.Copies)}}
		if v.Doubted {
			version.Doubt = trail.Late
		}
		copy := Candidate{ID: v.Copy, Source: -1, Live: v.Copy == v.Live, Place: own}
		if v.Copy == 0 {
			copy.Access = Recorded
		}
		ev.Copies = append(ev.Copies, copy)
		if v.Live != 0 && v.Live != v.Copy {
			version.Seen = append(version.Seen, len(ev.Copies))
			ev.Copies = append(ev.Copies, Candidate{ID: v.Live, Source: -1, Live: true, Place: own})
		}
		ev.Trail.Versions = append(ev.Trail.Versions, version)
	}
	return ev
}

// single asks for one file as if it had been asked for alone.
func (c *folderChooser) single(f *FolderFile, q Question) Advice {
	q.Wrong, q.Hints = c.Wrong, c.Hints
	if q.Loss != Unsaved && c.silently(f) || c.namelessOf(f) {
		if ev, ok := c.reading.Anew(f); ok {
			a := Advise(q, ev, c.reading)
			f.Leftovers = ev.Strays
			if r := a.Recommended; r != nil && r.Version >= 0 { // its versions are counted otherwise
				r.Version = f.versionOf(ev.Trail.Versions[r.Version].Arrived)
			}
			return a
		}
	}
	return Advise(q, c.evidence(f), c.reading)
}

// namelessOf tells whether a leftover may be of a file that no name says is: it is in the same folder, or anywhere that programs
// keep such files, was written since the last version but one came, and is not of quite another size.
func (c *folderChooser) namelessOf(f *FolderFile) bool {
	last := f.last()
	since := last.Arrived
	if n := len(f.Versions); n > 1 {
		since = f.Versions[n-2].Arrived
	}
	dir := place.Folder(c.at(f).Path)
	return slices.ContainsFunc(c.Nameless, func(n Nameless) bool {
		return (n.Beside == "" || n.Beside == dir) && n.Written >= since && NotTooLarge(n.Size, last.Size)
	})
}

// versionOf is the version that had come by a moment.
func (f *FolderFile) versionOf(at time.Time) int {
	for n := len(f.Versions) - 1; n > 0; n-- {
		if f.Versions[n].Arrived <= at.UnixNano() {
			return n
		}
	}
	return 0
}

// silently tells whether something may have changed the bytes of a file's last version and left its size and its date as they were: it is
// broken as it is now, but came long before, so that what was captured first may be whole.
func (c *folderChooser) silently(f *FolderFile) bool {
	v := f.last()
	if v.First >= v.LastSeen || c.Mass != nil && v.Arrived >= c.Mass.Before.UnixNano() {
		return false
	}
	found := c.reading.Condition(Content{Copies: []Candidate{{ID: cmp.Or(v.Live, v.Copy)}}, Size: v.Size, As: c.at(f).Name()})
	return found.State == condition.Broken
}

// content is what a version of a file is read from.
func (c *folderChooser) content(f *FolderFile, n int) Content {
	v := &f.Versions[n]
	id := v.Copy
	if n == len(f.Versions)-1 && v.Live != 0 {
		id = v.Live
	}
	if id == 0 {
		return Content{Size: v.Size}
	}
	return Content{Copies: []Candidate{{ID: id, Place: c.at(f)}}, Size: v.Size, As: c.at(f).Name()}
}

// entryOf makes an entry of what is advised for one file.
func (c *folderChooser) entryOf(f *FolderFile, a Advice, asOf time.Time) FolderEntry {
	e := FolderEntry{Path: f.Path, Part: PartMissing, Size: f.last().Size, Note: remark.New("entry-gone")}
	r := a.Recommended
	if r == nil {
		if len(a.Because) > 0 {
			e.Note = a.Because[len(a.Because)-1]
		}
		return e
	}
	e.Copy, e.AsOf, e.Part, e.Note = r.Copy.ID, asOf, PartCertain, Reason{}
	e.Size = f.last().Size
	if r.Version >= 0 {
		e.Size = f.Versions[r.Version].Size
	} else if i := slices.IndexFunc(f.Leftovers, func(s Stray) bool { return s.Copy.ID == r.Copy.ID }); i >= 0 {
		e.Size = f.Leftovers[i].Size
		e.Note = remark.New("entry-leftover", "what", f.Leftovers[i].What, "at", f.Leftovers[i].Earliest)
	}
	if r.Condition.State == condition.Unread {
		c.unexamined++
	}
	for _, cost := range r.Costs {
		if window, ok := cost.Values["window"].(time.Duration); ok && cost.Code == "small-window" {
			c.window = max(c.window, window)
		}
	}
	if r.Sure != Certain {
		e.Part = PartAssumed
		if last := r.Because[len(r.Because)-1]; e.Note.Code == "" {
			e.Note = last
		}
	}
	if first := r.Because[0]; first.Code == "nearer-unfit" {
		e.Note = first
	}
	return e
}

// add adds an entry.
func (c *folderChooser) add(e FolderEntry) { c.Entries = append(c.Entries, e) }

// count puts the entries in order and adds them up.
func (c *folderChooser) count() {
	slices.SortFunc(c.Entries, func(x, y FolderEntry) int { return cmp.Compare(x.Path, y.Path) })
	c.Counts, c.Bytes = map[Part]int{}, 0
	for _, e := range c.Entries {
		c.Counts[e.Part]++
		if e.Copy != 0 {
			c.Bytes += max(0, e.Size)
		}
	}
}

// because adds a reason.
func (c *folderChooser) because(code string, pairs ...any) {
	c.Because = append(c.Because, remark.New(code, pairs...))
}

func (c *folderChooser) cost(code string, pairs ...any) {
	c.Costs = append(c.Costs, remark.New(code, pairs...))
}

// surely says how sure the advice is as a whole: as its least sure part.
func (c *folderChooser) surely() {
	c.Sure = Certain
	if c.Counts[PartAssumed]+c.Counts[PartMissing] > 0 {
		c.Sure = Likely
	}
	if c.Whole == nil && c.unexamined > 0 {
		c.Sure = Open
	}
}
