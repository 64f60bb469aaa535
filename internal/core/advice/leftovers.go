package advice

import (
	"cmp"
	"slices"
	"time"

	"humble-rewind/internal/core/condition"
	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/core/digest"
	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/remark"
	"humble-rewind/internal/core/trail"
)

// mixed says what the versions of a trail are in which leftovers have their places.
type mixed struct {
	of     []int    // the index that each has in the trail as it was given; -1 of a leftover's
	strays []*Stray // beside; nil of what was captured
	stale  []int    // of a leftover's: the version that is proved to have stood there when it was written; -1 where none is
	trust  map[*Stray]trust
	out    map[copies.ID]Reason // why a leftover is no version, by its copy
}

// leftover returns the leftover that a version is; nil where it was captured.
func (m *mixed) leftover(n int) *Stray {
	if n < 0 || n >= len(m.strays) {
		return nil
	}
	return m.strays[n]
}

// interleave gives the leftovers their places among the versions, by the earliest write time known of their contents. One with the content
// of a version is one more copy of that.
func (c *chooser) interleave() {
	c.mixed = mixed{trust: map[*Stray]trust{}, out: map[copies.ID]Reason{}}
	versions := slices.Clone(c.Trail.Versions)
	c.mixed.of, c.mixed.strays, c.mixed.stale = make([]int, len(versions)), make([]*Stray, len(versions)), make([]int, len(versions))
	for n := range versions {
		c.mixed.of[n], c.mixed.stale[n] = n, -1
	}
	c.Trail.Versions = versions
	if c.Loss != Unsaved && c.Loss != Misplaced {
		c.mix()
	}
}

// mix does so once it is known that the file is not elsewhere, nor only unsaved.
func (c *chooser) mix() {
	c.Copies = slices.Clone(c.Copies)
	next := 0
	for _, v := range c.Trail.Versions {
		next = max(next, v.Content+1)
	}
	strays := make([]*Stray, len(c.Strays))
	for i := range c.Strays {
		strays[i] = &c.Strays[i]
	}
	slices.SortStableFunc(strays, func(a, b *Stray) int {
		return cmp.Or(a.Earliest.Compare(b.Earliest), cmp.Compare(a.Copy.ID, b.Copy.ID))
	})
	contents := map[digest.Sum]int{} // of leftovers, by their digests
	for _, s := range strays {
		if s.Copy.Access == Recorded || s.Size == 0 || s.Earliest.IsZero() {
			continue
		}
		if n := c.sameAs(s); n >= 0 {
			c.addCopy(n, s.Copy)
			continue
		}
		number, ok := contents[s.SHA256]
		if !ok || !s.SHA256.Known() {
			number = next
			next++
			contents[s.SHA256] = number
		}
		c.insert(s, number)
	}
}

// sameAs finds the captured version that has a leftover's content; -1 where none has.
func (c *chooser) sameAs(s *Stray) int {
	if !s.SHA256.Known() {
		return -1
	}
	return slices.IndexFunc(c.Trail.Versions, func(v trail.Version) bool { return v.SHA256 == s.SHA256 && v.Type == entry.File })
}

// addCopy adds a copy to a version that does not have it yet.
func (c *chooser) addCopy(n int, copy Candidate) {
	v := &c.Trail.Versions[n]
	if slices.ContainsFunc(v.Seen, func(i int) bool { return c.Copies[i].ID == copy.ID }) {
		return
	}
	copy.Leftover = true
	c.Copies = append(c.Copies, copy)
	v.Seen = append(slices.Clone(v.Seen), len(c.Copies)-1)
}

// insert makes a leftover a version of its own, of the content with a number.
func (c *chooser) insert(s *Stray, number int) {
	all := c.Trail.Versions
	at := s.Earliest
	k := -1 // the version before it
	for n := range all {
		if !all[n].Arrived.After(at) {
			k = n
		}
	}
	if s.Backup && k >= 0 && at.Sub(all[k].Arrived) <= backupAfter && (k > 0 || all[k].After.IsZero() || all[k].After.Before(at)) &&
		c.mixed.strays[k] == nil {
		at, k = all[k].Arrived.Add(-1), k-1 // it keeps what was there before the save that made it
	}
	stale := -1
	if k >= 0 && !at.After(all[k].LastSeen) {
		stale = k
	}
	if why := c.noVersion(s, k, stale); why.Code != "" {
		c.mixed.out[s.Copy.ID] = why
		return
	}
	copy := s.Copy
	copy.Leftover = true
	c.Copies = append(c.Copies, copy)
	v := trail.Version{Place: c.Evidence.Place, Type: entry.File, Size: s.Size, SHA256: s.SHA256, Content: number, Written: s.Earliest,
		Arrived: at, First: at, LastSeen: at, Seen: []int{len(c.Copies) - 1}}
	switch {
	case k < 0:
		v.Superseded = at.Add(1)
		if len(all) > 0 {
			v.Superseded = all[0].Arrived
		}
	default:
		before := &all[k]
		v.Superseded = before.Superseded
		if before.Superseded.IsZero() { // what is there now is newer, though it may be broken
			v.Superseded = c.Evidence.Now
		}
		if v.Superseded.Before(at) {
			v.Superseded = at.Add(1)
		} else if stale < 0 && !before.Superseded.IsZero() {
			before.Superseded = at
		}
	}
	c.Trail.Versions = slices.Insert(all, k+1, v)
	c.mixed.of = slices.Insert(c.mixed.of, k+1, -1)
	c.mixed.strays = slices.Insert(c.mixed.strays, k+1, s)
	c.mixed.stale = slices.Insert(c.mixed.stale, k+1, stale)
	for n := range c.mixed.stale {
		if n > k+1 && c.mixed.stale[n] > k {
			c.mixed.stale[n]++
		}
	}
}

// noVersion says why a leftover is no version of the document at all; the zero reason where it may be one. What is damaged may be all that
// stood there when a leftover was written, which shows when it is examined. before is the version that came before it.
func (c *chooser) noVersion(s *Stray, before, stale int) Reason {
	switch {
	case stale >= 0 && c.Loss == Damaged:
		return Reason{}
	case stale >= 0:
		return remark.New("leftover-stale", "at", s.Earliest, "seen", c.Trail.Versions[stale].LastSeen)
	case before >= 0 && ends(c.Trail.Versions, before) && s.Earliest.After(c.Trail.Versions[before].Superseded):
		return remark.New("leftover-later", "at", s.Earliest)
	}
	return c.trusted(s).against
}

// giveBack counts the versions as they were given again.
func (c *chooser) giveBack() {
	original := func(n int) int {
		if n < 0 || n >= len(c.mixed.of) {
			return n
		}
		return c.mixed.of[n]
	}
	if r := c.Recommended; r != nil {
		r.Version = original(r.Version)
	}
	for i := range c.Others {
		c.Others[i].Version = original(c.Others[i].Version)
	}
}

// trust is how surely a leftover belongs to the document.
type trust struct {
	belongs bool
	sure    bool
	why     []Reason // why it does
	against Reason   // why not
}

// trusted finds out whether a leftover belongs to the document: by the rules that name it, or by descent, as it shares most of its
// content with the document's versions and with no other's as much.
func (c *chooser) trusted(s *Stray) trust {
	if known, ok := c.mixed.trust[s]; ok {
		return known
	}
	t := c.judgeTrust(s)
	c.mixed.trust[s] = t
	return t
}

func (c *chooser) judgeTrust(s *Stray) (t trust) {
	own := s.content(c.Evidence.Place.Name())
	share, told := c.likeness(own, s.Earliest)
	name := place.Readable(s.Copy.Place.Name())
	if s.Named {
		t.why = append(t.why, remark.New("leftover-name", "name", name, "what", s.What))
	}
	if s.Beside {
		t.why = append(t.why, remark.New("leftover-beside"))
	} else {
		t.why = append(t.why, remark.New("leftover-folder", "folder", place.Readable(place.Folder(s.Copy.Place.Path))))
	}
	switch {
	case share > 0:
		t.why = append(t.why, remark.New("leftover-shares", "share", remark.Share(share)))
	case !told && s.Size > 0 && c.known():
		t.why = append(t.why, remark.New("leftover-too-big"))
	}
	if s.Named && s.Sure && s.Beside && s.Backup { // a rule proves it, whatever it holds
		t.belongs, t.sure = true, true
		return t
	}
	switch {
	case !told && c.known() && s.Size > c.largest()*leftoverTimes:
		t.against = remark.New("leftover-too-big")
		return t
	case !s.Named && (!told || share < leftoverNameless):
		t.against = remark.New("leftover-by-chance")
		return t
	case s.Named && told && share < leftoverUnlike && (c.Loss != Unsaved || !s.Sure):
		t.against = remark.New("leftover-unlike")
		return t
	case s.Named && !s.Sure && !s.Beside && share < leftoverNamed:
		t.against = remark.New("leftover-by-chance")
		return t
	}
	if !(s.Named && s.Beside) && !(s.Sure && s.Named) { // a name that is used in this folder alone is no other's
		if why := c.rivalled(s, own, share); why.Code != "" {
			t.against = why
			return t
		}
	}
	t.belongs, t.sure = true, s.Sure
	return t
}

// known tells whether there is a version that a leftover could be held against.
func (c *chooser) known() bool {
	return slices.ContainsFunc(c.Trail.Versions, func(v trail.Version) bool { return v.Type == entry.File && v.Size > 0 })
}

// largest is the size of the largest version, in bytes.
func (c *chooser) largest() (most int64) {
	for n := range c.Trail.Versions {
		if c.mixed.leftover(n) == nil {
			most = max(most, c.Trail.Versions[n].Size)
		}
	}
	return most
}

// likeness is the share that a content has in common with the likest of the versions that are nearest to it in time; told is false where
// none could be held against it. What is itself suspect tells nothing of whose a leftover is.
func (c *chooser) likeness(content Content, at time.Time) (share float64, told bool) {
	var near []int
	for n := range c.Trail.Versions {
		v := &c.Trail.Versions[n]
		if c.mixed.leftover(n) == nil && c.isFile(n) && v.Size > 0 && !c.suspect(n) && len(readable(c.copiesOf(n))) > 0 {
			near = append(near, n)
		}
	}
	away := func(n int) time.Duration { return c.Trail.Versions[n].Arrived.Sub(at).Abs() }
	slices.SortStableFunc(near, func(a, b int) int { return cmp.Or(cmp.Compare(away(a), away(b)), cmp.Compare(b, a)) })
	if len(near) > 0 { // the last one counts in any case: what was saved after a leftover goes on from it
		near = append(near, slices.Max(near))
	}
	met := map[int]bool{}
	for i, n := range near {
		v := &c.Trail.Versions[n]
		if met[v.Content] || len(met) >= leftoverHeld && i+1 < len(near) {
			continue
		}
		met[v.Content] = true
		if kept, had, ok := c.reading.Kept(c.contentOf(n), content); ok {
			share, told = max(share, kept, had), true
		}
	}
	return share, told
}

// suspect tells whether a version is what the user says is wrong, so that nothing is told by what is like it.
func (c *chooser) suspect(n int) bool {
	v := &c.Trail.Versions[n]
	switch {
	case c.Loss == Overwritten && !c.Good.IsZero():
		return v.Arrived.After(c.Good)
	case c.Loss == Overwritten, c.Loss == Damaged:
		return c.present(n)
	}
	return false
}

// present tells whether a version is what stands at the place now.
func (c *chooser) present(n int) bool {
	for k := n + 1; k < len(c.Trail.Versions); k++ {
		if c.mixed.leftover(k) == nil {
			return false
		}
	}
	return c.mixed.leftover(n) == nil && slices.ContainsFunc(c.copiesOf(n), func(copy Candidate) bool { return copy.Live && !copy.Leftover })
}

// rivalled says which other document a leftover is as near to, or nearer.
func (c *chooser) rivalled(s *Stray, own Content, share float64) Reason {
	for _, r := range c.reading.Rivals(c.Evidence.Place, s) {
		kept, had, ok := c.reading.Kept(r.Content, own)
		switch other := max(kept, had); {
		case !ok:
		case other > share:
			return remark.New("leftover-rival", "rival", r.Place)
		case !s.Named && other > share-leftoverLead:
			return remark.New("leftover-as-near", "rival", r.Place)
		}
	}
	return Reason{}
}

// againstLeftover says what keeps a leftover from being taken for a version; the zero reason where nothing does, and of what was captured.
func (c *chooser) againstLeftover(n int) Reason {
	s := c.mixed.leftover(n)
	if s == nil {
		return Reason{}
	}
	if k := c.mixed.stale[n]; k >= 0 && (c.Loss != Damaged || c.isFile(k) && c.examine(k).State != condition.Broken) {
		return remark.New("leftover-stale", "at", s.Earliest, "seen", c.Trail.Versions[k].LastSeen)
	}
	if t := c.trusted(s); !t.belongs {
		return t.against
	}
	switch found := c.examine(n); {
	case found.State == condition.Broken || found.State == condition.Sound || len(found.Failed) > 0:
	case found.State == condition.Doubtful && found.Media != "" && c.alikeDoubtful(n, found):
	default:
		return remark.New("leftover-cut", "why", found.Reasons)
	}
	return Reason{}
}

// alikeDoubtful tells whether what was captured is of the same format, and as little can be proved of it.
func (c *chooser) alikeDoubtful(n int, found Examined) bool {
	earlier := c.earlier(n)
	if len(earlier) == 0 {
		return false
	}
	before := c.examine(earlier[0])
	return before.State == condition.Doubtful && before.Media == found.Media && !remark.Has(found.Reasons, "cut-ragged")
}

// leftoverBecause says why a leftover is taken for a version.
func (c *chooser) leftoverBecause(w candidates, n int, s *Stray) []Reason {
	code := "leftover-taken"
	switch {
	case !slices.ContainsFunc(c.mixed.strays, func(s *Stray) bool { return s == nil }):
		code = "leftover-only"
	case w.strict:
		code = "leftover-newest"
	}
	because := []Reason{remark.New(code, "what", s.What, "at", s.Earliest)}
	if !w.strict && w.nearest == n && len(w.because) > 0 {
		because = append(because, w.because...)
	}
	return append(because, c.trusted(s).why...)
}

// interleaveNone leaves the leftovers out.
func (c *chooser) interleaveNone() {
	c.Strays = nil
	c.interleave()
}

// NotTooLarge tells whether a leftover whose name does not tell whose it is may be of a document by their sizes, in bytes.
func NotTooLarge(leftover, document int64) bool {
	return leftover <= (document+leftoverSmall)*leftoverSizes
}
