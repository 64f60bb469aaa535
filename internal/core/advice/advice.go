// Package advice chooses the right copy of a lost file, or of each file of a folder, and says why.
//
// It is pure: what is known comes in as values, and what has to be read of contents is asked of a [Reading], content by content
// and only where it decides something. The rules run in a fixed order instead of adding up weights, so that every decision can be
// said in a sentence: what can be read before what cannot; then what is nearest to the wanted moment; then what is sound; then
// the place itself before its other names; then, among copies of one version, by where they are. What decides by its size is
// in one place, with the reason for it; what is said is in another.
package advice

import (
	"time"

	"humble-rewind/internal/core/condition"
	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/core/digest"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/remark"
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
	Wrong   map[digest.Sum]bool // digests of contents that a technician found to be the wrong ones
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

// Candidate is what the choice needs of a copy. It is small: a folder may have hundreds of thousands.
type Candidate struct {
	ID       copies.ID
	Rank     int // of its source, among copies of equal content: the lower is taken first
	Source   int // index into the evidence's sources; negative where it is in none
	Live     bool
	Remote   bool // its source is on another machine than its place
	Unproved bool // what it holds may be another's: its digest alone tells, see traits.Traits
	Leftover bool // a program left it behind, and may do away with it
	Access   Access
	Verified bool // its digest is known
	Proves   bool // its store keeps a checksum of it: reading it to its end shows whether it is whole
	Costs    bool // opening it costs more than opening a file
	Expires  time.Time
	Place    place.Place
	Record   *copies.Copy // what it is made of; nil in a folder
}

// CandidateOf makes a candidate of a copy from one of the evidence's sources, by its index.
func CandidateOf(c *copies.Copy, source int) Candidate {
	a := Candidate{ID: c.ID, Rank: c.Store.Traits.Rank, Source: source, Live: c.Store.Traits.Live(), Unproved: c.Store.Traits.Unproved,
		Leftover: c.Store.Traits.Leftovers, Proves: c.Store.Traits.Proves, Costs: c.Store.Costs(),
		Remote: c.Store.AtMachine != c.Place.Machine, Verified: c.SHA256.Known(), Expires: c.Expires(), Place: c.Place, Record: c}
	switch {
	case !c.Readable:
		a.Access = Recorded
	case c.Store.Trouble != "":
		a.Access = Doubted
	}
	return a
}

// Access says whether a copy's bytes can be had, best first.
type Access int

// The accesses.
const (
	Readable Access = iota
	Doubted         // its source could not be read last; trying tells
	Recorded        // the bytes are nowhere any more
)

// Stray is a leftover that may belong to the document.
type Stray struct {
	Copy     Candidate
	What     string    // such as "an autosave"
	Earliest time.Time // the earliest write time known of its content
	Size     int64     // bytes
	SHA256   digest.Sum
	// Named tells that its name, by the rules, is that of a leftover of this document, Sure that it is of no other's, Beside that
	// it lies in its folder, and Backup that it keeps what was there before the save that made it.
	Named, Sure, Beside, Backup bool
}

// content is what is read of a leftover, judged under the document's name.
func (s *Stray) content(name string) Content {
	return Content{Copies: []Candidate{s.Copy}, Size: s.Size, SHA256: s.SHA256, As: name}
}

// Elsewhere is a file outside the places of the trail that may be the one that is looked for: it stands somewhere now, or
// a store has it without a record of where it came from. Whether it is the one is not judged here.
type Elsewhere struct {
	Copy   Candidate
	Size   int64 // bytes
	SHA256 digest.Sum
	At     time.Time // when it was written
	// Back says which of the file's last contents it has, byte for byte: 1 is the last one, 2 the one before; 0: none of them.
	Back  int
	Named bool // it has the file's name
	Lost  bool // it stands nowhere; no record that is trusted says where it came from
	// Claimed says that a record does which may be forged: that it came from this place.
	Claimed bool
	Came    time.Time // when something was first seen at its place
	// Seen and Gone tell of what stands there no more when it was last seen, and when it was deleted; zero where it stands, or
	// where nobody recorded it.
	Seen, Gone time.Time
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
	Seen      []*copies.Copy
	Copies    []Candidate // beside Seen
	Sources   []Source
	Strays    []Stray
	Elsewhere []Elsewhere
	Locks     []Reason // who has it open since when
	// Neighbours stand beside the place under its name with another extension, and may have been made from it.
	Neighbours []Neighbour
	Now        time.Time
}

// Content is one content that may be read, from any of its copies.
type Content struct {
	Copies []Candidate // those that may be read, the best first
	Size   int64       // bytes
	SHA256 digest.Sum
	As     string // the name under which it is judged; "": that of the copy's own place
}

// Reading reads contents.
type Reading interface {
	// Condition examines a content; which copies could not be read is returned with why.
	Condition(c Content) Examined
	// Holds tells whether all words are in a content; what lacks is named. ok is false where it cannot be read as text.
	Holds(c Content, words []string) (lacking []string, ok bool)
	// Kept returns the share of a's content that b still has, from 0 to 1, and of b's that a had; ok is false where that cannot be told.
	Kept(a, b Content) (kept, had float64, ok bool)
	// Same tells whether two contents are the same, byte for byte; ok is false where that cannot be told.
	Same(a, b Content) (same, ok bool)
	// Cut holds the end of a content against an earlier one.
	Cut(c, earlier Content) Cut
	// Only returns some words in a row that are in one content and not in the other, "" where there are none or it is no text.
	Only(c, other Content) string
	// Rivals returns contents of other documents of the same kind that a leftover of one may be of as well, with where they are.
	Rivals(of place.Place, s *Stray) []Rival
}

// Rival is another document that a leftover may be of.
type Rival struct {
	Place   place.Place
	Content Content
}

// Cut says what the end of a content tells, held against an earlier one. Saves end where a line ends.
type Cut int

// The ends.
const (
	NotCut    Cut = iota
	CutToo        // the earlier one ends no better, so nothing is told
	Ragged        // it ends in the middle of a line, as the earlier one does not
	Prefix        // it is the beginning of the earlier one and nothing more, up to where a line ends
	Beginning     // it is that, cut off in the middle
)

// Examined is the outcome of examining a content.
type Examined struct {
	condition.Verdict
	SHA256 digest.Sum           // unknown where it was not read to its end
	Failed map[copies.ID]Reason // copies that could not be read, and why
}

// Sure is how sure an advice is.
type Sure string

// The degrees of being sure.
const (
	Certain Sure = "certain" // captures and content prove it
	Likely  Sure = "likely"  // right unless one thing fails that is assumed and named
	Open    Sure = "open"    // it takes an answer or a look
)

// Reason is one thing that an advice is founded on, or that it costs.
type Reason = remark.Remark

// Advice is the answer.
type Advice struct {
	Recommended *Recommended
	Others      []Other
	FoundAt     []place.Place
	Looked      []Looked
	Notes       []Reason // what does not fit together, and what is not known
	Next        []Reason // what remains to be tried
	Because     []Reason // why nothing is recommended, where nothing is
	Ask         *Ask     // what would settle it; nil where nothing is to be settled
}

// Recommended is the copy to bring back.
type Recommended struct {
	Copy      Candidate
	Version   int         // index into the trail's; -1 for a leftover or what stands elsewhere
	To        place.Place // where it goes, under the name that it should have
	Condition condition.Verdict
	Sure      Sure
	Because   []Reason
	Plain     int // how many of the first reasons say why it is this one, in words for the user
	Costs     []Reason
}

// Ask is a question to the user that settles between two candidates, with what each answer would give.
type Ask struct {
	Reason
	Answers []AskAnswer
}

// AskAnswer is one answer.
type AskAnswer struct {
	Says Reason
	Copy Candidate // what it would give
	// Hints lead to it when the question is asked again with them.
	Hints Hints
}

// Other is a runner-up.
type Other struct {
	Copy    Candidate
	Version int // -1 for what is no version of the place
	State   condition.State
	Why     Reason // why not
}

// Looked says what one source had.
type Looked struct {
	Source   int
	Found    bool
	Excluded string // the pattern that leaves the place out of it; "" where none does
	Note     []Reason
}
