// Package advice chooses the right copy of a lost file and says why.
//
// It is pure: what is known of the file comes in as values, and what has to be read of contents is asked of a [Reading],
// version by version and only where it decides something. The rules run in a fixed order instead of adding up weights, so
// that every decision can be said in a sentence: what can be read before what cannot; then what is nearest to the wanted
// moment; then what is sound; then the place itself before its other names; then, among copies of one version, by where
// they are.
package advice

import (
	"time"

	"humble-rewind/internal/core/condition"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/trail"
)

// Loss is what happened to a file.
type Loss string

// The losses.
const (
	Deleted     Loss = "deleted"
	Overwritten Loss = "overwritten"
	Damaged     Loss = "damaged"
	Misplaced   Loss = "misplaced"
	Unsaved     Loss = "unsaved"
)

// Losses are all of them, in the order in which they are offered.
var Losses = []Loss{Deleted, Overwritten, Damaged, Misplaced, Unsaved}

// Question is what is asked.
type Question struct {
	Loss    Loss
	Good    time.Time // when it was last known right; zero: not known
	Noticed time.Time // zero: now
	Hints   Hints
	Wrong   map[string]bool // digests of contents that a technician found to be the wrong ones
}

// Hints narrow what the wanted content may be. Zero fields do not.
type Hints struct {
	Words   []string // must be in it
	Without []string // must not
	Least   int64    // bytes
	Most    int64
	Media   string // the beginning of its media type, such as image/
}

func (h Hints) reads() bool { return len(h.Words)+len(h.Without) > 0 }

// Copy is one copy of what was seen, beside its trail.Seen.
type Copy struct {
	ID       int64
	Rank     int // of its source, among copies of equal content: the lower is taken first
	Source   int // index into the evidence's sources; negative where it is in none
	Live     bool
	Remote   bool // its source is on another machine than its place
	Leftover bool // a program left it behind, and may do away with it
	Access   Access
	Verified bool // its digest is known
	Expires  time.Time
	Place    place.Place
}

// Access says whether a copy's bytes can be had, best first.
type Access int

// The accesses.
const (
	Readable Access = iota
	Doubted         // its source could not be read last; trying tells
	Recorded        // the bytes are nowhere any more
)

// Stray is a leftover that belongs to the document.
type Stray struct {
	Copy     Copy
	What     string    // such as "an autosave"
	Earliest time.Time // the earliest write time known of its content
	Size     int64
	SHA256   string
	Why      []string // why it belongs
	Trust    Trust
}

// Trust says how surely a stray belongs to a document.
type Trust int

// The trusts.
const (
	Weak Trust = iota // listed, and recommended only where its content agrees
	Likely
	Sure
)

// Elsewhere is a file outside the places of the trail that may be the one that is looked for: it stands somewhere now, or
// a store has it without a record of where it came from.
type Elsewhere struct {
	Copy   Copy
	Size   int64
	SHA256 string
	Why    string // how it is known to be it
	Proved bool   // the same content, or followed there
	Newer  bool   // a descendant: worked on since
	Old    bool   // it has the content of an older version, not of the last
	Lost   bool   // it stands nowhere; no record says where it came from
	At     time.Time
}

// Neighbour is a file beside the one that was lost.
type Neighbour struct {
	Name    string
	Written time.Time
}

// Source is a store that was asked.
type Source struct {
	Name     string      // as it is shown
	Captures []time.Time // oldest first
	Covers   bool        // it would have shown the place, had something been there
	Excluded string      // the pattern that leaves the place out; "" where none does
	Trouble  string      // why it could not be read last
	Keeps    int         // days until it removes what was deleted; 0: never
	Since    time.Time   // when the folder was first seen in it; zero: from its first capture
}

// Evidence is everything known about the file.
type Evidence struct {
	Place     place.Place
	Trail     trail.Trail
	Seen      []trail.Seen
	Copies    []Copy // beside Seen
	Sources   []Source
	Strays    []Stray
	Elsewhere []Elsewhere
	Locks     []string // sentences on who has it open since when
	// Neighbours stand beside the place under its name with another extension, and may have been made from it.
	Neighbours []Neighbour
	Now        time.Time
	Zone       *time.Location // in which times are said
}

// Reading reads contents. Versions are indexes into the trail's.
type Reading interface {
	// Condition examines a version; which copy it read is returned, because others may have failed.
	Condition(version int) Examined
	// Holds tells whether all words are in a version; what lacks is named. ok is false where it cannot be read as text.
	Holds(version int, words []string) (lacking []string, ok bool)
	// Kept returns the share of a's content that b still has, from 0 to 1; ok is false where that cannot be told.
	Kept(a, b int) (share float64, ok bool)
	// Cut holds the end of a version against an earlier one.
	Cut(version, earlier int) Cut
	// ConditionOf examines a single copy that is no version of the place.
	ConditionOf(c Copy) Examined
	// HoldsOf is Holds for such a copy.
	HoldsOf(c Copy, words []string) (lacking []string, ok bool)
}

// Cut says what the end of a content tells, held against an earlier one. Saves end where a line ends.
type Cut int

// The ends.
const (
	NotCut    Cut = iota
	CutToo        // the earlier one ends no better, so nothing is told
	Ragged        // it ends in the middle of a line, as the earlier one does not
	Beginning     // it is the beginning of the earlier one and nothing more, cut off in the middle
)

// Examined is the outcome of examining a version.
type Examined struct {
	condition.Verdict
	Failed map[int64]string // copies that could not be read, and why
}

// Advice is the answer.
type Advice struct {
	Recommended *Recommended
	Others      []Other
	FoundAt     []place.Place
	Looked      []Looked
	Notes       []string // what does not fit together, and what is not known
	Next        []string // what remains to be tried
	Because     []string // why nothing is recommended, where nothing is
}

// Recommended is the copy to bring back.
type Recommended struct {
	Copy      Copy
	Version   int         // index into the trail's; -1 for a stray or what stands elsewhere
	To        place.Place // where it goes, under the name that it should have
	Condition condition.Verdict
	Because   []string
	Plain     int // how many of the first reasons say why it is this one, in words for the user
	Costs     []string
}

// Other is a runner-up.
type Other struct {
	Copy    Copy
	Version int // -1 for what is no version of the place
	State   condition.State
	Why     string // why not
}

// Looked says what one source had.
type Looked struct {
	Source int
	Found  bool
	Note   string
}
