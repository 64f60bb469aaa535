// Package trail puts everything that is known of one place over time in order: its versions, the spans over which each
// is proved or assumed, gaps, removals, and moves.
//
// What sources saw is grouped into versions by content: by digest where both are known, else by size and write time as
// far as the coarser clock tells. Captures decide when a version was current; write times only say when, between two
// captures, it began, and only where they can be believed. Content that comes back has a span of its own each time.
package trail

import (
	"cmp"
	"slices"
	"time"

	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/core/digest"
	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/place"
)

// Version is a span of time with one content at the place.
type Version struct {
	Place      place.Place
	Type       entry.Type
	Size       int64
	SHA256     digest.Sum
	Target     string
	Content    int       // equal for equal contents
	Written    time.Time // as recorded; see Doubt
	Doubt      Doubt     // why the write time is not believed; "" where it is
	After      time.Time // the last capture that still showed something else, or nothing; zero where there was none
	Arrived    time.Time
	First      time.Time // the first capture that showed it
	LastSeen   time.Time // the last one
	Superseded time.Time // zero while it stands
	Seen       []int     // indexes of what was seen of this content, as given
	Beside     bool      // nothing shows that it stood there, or when: it is one of Trail.Beside
	Hidden     bool      // of the same size and write time as the version before, and yet of another content
}

// Name is a place that the trail's file was known under.
type Name struct {
	Place place.Place
	From  time.Time // what was seen there before is of something else; zero: no bound
	Until time.Time // likewise from then on
	Move  *Event    // how it came to this name or left it; nil for the place asked for
}

// Trail is everything known about a place over time.
type Trail struct {
	Versions []Version // in order of arrival
	// Beside are versions that are known of the place, but not that they ever stood there, or when: in order of their times.
	Beside []Version
	Events []Event // in order of time
}

// Build puts what was seen in order. Seen outside the time that its name was the file's is passed over. The stores are those of all that
// was seen, and those that could have seen something: covers tells whether a store that did not show a place would have, had something
// been there; nil is true for all. What was seen is left as it is.
func Build(seen []*copies.Copy, stores []*copies.Store, names []Name, covers func(source copies.SourceID, p place.Place) bool) Trail {
	if covers == nil {
		covers = func(copies.SourceID, place.Place) bool { return true }
	}
	b := builder{seen: seen, stores: stores, covers: covers, spans: make([]span, len(seen))}
	for i, s := range seen {
		b.spans[i] = span{s.First, s.Last, slices.IndexFunc(stores, func(store *copies.Store) bool { return store.ID == s.Store.ID })}
	}
	b.choose(names)
	b.group()
	t := Trail{Versions: b.fold()}
	t.Beside = b.besides(t.Versions)
	t.Events = b.events(t.Versions)
	for _, n := range names {
		if n.Move != nil {
			t.Events = append(t.Events, *n.Move)
		}
	}
	slices.SortStableFunc(t.Events, func(a, b Event) int { return a.At.Compare(b.At) })
	return t
}

type builder struct {
	seen    []*copies.Copy
	stores  []*copies.Store
	spans   []span // of each seen
	covers  func(source copies.SourceID, p place.Place) bool
	used    []int     // indexes into seen, by their first capture
	content []int     // of each used one
	kinds   []content // by number
	byStore [][]int   // the used ones of each store, by their first capture
	of      [][]int   // the used ones of each content
}

// span is what walking through time needs of something seen, side by side with others.
type span struct {
	first, last time.Time // captures; of what its store told, last is until when it was the content
	store       int       // index
}

// store is the one that something was seen in.
func (b *builder) store(i int) *copies.Store { return b.stores[b.spans[i].store] }

// sum is the digest of something seen, its own or that of equal content.
func (b *builder) sum(i int) digest.Sum {
	if own := b.seen[i].SHA256; own.Known() {
		return own
	}
	return b.kinds[b.content[i]].sha
}

func (b *builder) choose(names []Name) {
	within := func(s *copies.Copy) bool {
		if len(names) == 0 {
			return true
		}
		for _, n := range names {
			if n.Place == s.Place && (n.Until.IsZero() || s.First.Before(n.Until)) && (n.From.IsZero() || !s.Last.Before(n.From)) {
				return true
			}
		}
		return false
	}
	for i := range b.seen {
		if within(b.seen[i]) {
			b.used = append(b.used, i)
		}
	}
	slices.SortStableFunc(b.used, func(i, j int) int {
		return cmp.Or(b.seen[i].First.Compare(b.seen[j].First), cmp.Compare(b.spans[i].store, b.spans[j].store))
	})
	b.byStore = make([][]int, len(b.stores)) // also of those that saw nothing there, which tells something too
	b.untilNext()
	for _, i := range b.used {
		if s := b.seen[i]; s.Beside || !s.Gone.IsZero() {
			continue
		}
		b.byStore[b.spans[i].store] = append(b.byStore[b.spans[i].store], i)
	}
}

// content is what is known of one content.
type content struct {
	typ    entry.Type
	sha    digest.Sum
	target string
	size   int64
	seen   []int // what was found to be it so far
}

// group numbers the contents.
func (b *builder) group() {
	b.content = make([]int, len(b.seen))
	var all []content
	bySHA, bySize := map[digest.Sum]int{}, map[int64][]int{}
	undigested := map[int64][]int{} // those of bySize that had no digest when they were met
	for _, i := range b.used {
		s := b.seen[i]
		found, known := -1, false
		if s.SHA256.Known() {
			found, known = bySHA[s.SHA256]
		}
		candidates := bySize[s.Size]
		if s.SHA256.Known() { // what has another digest is another content
			candidates = undigested[s.Size]
		}
		for n := len(candidates) - 1; n >= 0 && !known; n-- {
			found = candidates[n]
			known = b.same(i, &all[found])
		}
		if !known {
			found = len(all)
			all = append(all, content{typ: s.Type, target: s.Target, size: s.Size})
			bySize[s.Size] = append(bySize[s.Size], found)
			if !s.SHA256.Known() {
				undigested[s.Size] = append(undigested[s.Size], found)
			}
		}
		c := &all[found]
		if !c.sha.Known() && s.SHA256.Known() {
			c.sha = s.SHA256
			bySHA[c.sha] = found
		}
		c.seen = append(c.seen, i)
		b.content[i] = found
	}
	b.kinds, b.of = all, make([][]int, len(all))
	for _, i := range b.used {
		b.of[b.content[i]] = append(b.of[b.content[i]], i)
	}
}

// same tells whether something seen is of a content.
func (b *builder) same(i int, c *content) bool {
	s := b.seen[i]
	id := s.Mark.Content
	switch {
	case s.Type != c.typ:
		return false
	case s.Type == entry.Folder || s.Type == entry.Other:
		return true
	case s.Type == entry.Link:
		return s.Target == c.target
	case s.SHA256.Known() && c.sha.Known():
		return s.SHA256 == c.sha
	case b.store(i).Traits.Unproved:
		return false
	case id != entry.ContentID{} && slices.ContainsFunc(c.seen, func(o int) bool {
		return !b.store(o).Traits.Unproved && b.seen[o].Mark.Content.Kind == id.Kind && (id.Kind.Names() || b.spans[o].store == b.spans[i].store)
	}):
		return slices.ContainsFunc(c.seen, func(o int) bool { return !b.store(o).Traits.Unproved && b.seen[o].Mark.Content == id })
	case s.Size != c.size:
		return false
	}
	return slices.ContainsFunc(c.seen, func(k int) bool {
		return !b.store(k).Traits.Unproved && s.WrittenWith(b.seen[k])
	})
}

// fold walks the turns in time and makes a version of each run of one content.
func (b *builder) fold() []Version {
	var all []Version
	open := -1 // index of the version that stands
	var contrary time.Time
	var removed time.Time // the last recorded removal: what stood there then is known, so nothing that came later had come before it
	end := func(t turn) {
		if open < 0 {
			return
		}
		v := &all[open]
		v.LastSeen = b.lastSeen(v, t)
		v.Superseded = t.at
		contrary = v.LastSeen
		open = -1
	}
	for _, t := range b.turns() {
		if t.seen < 0 {
			if !t.exact && (b.shownElsewhere(t) || open >= 0 && !b.covers(b.stores[t.source].ID, all[open].Place)) {
				continue
			}
			if open >= 0 || t.exact {
				end(t)
				contrary = t.at
			}
			if t.exact {
				removed = t.at
			}
			continue
		}
		s := b.seen[t.seen]
		c := b.content[t.seen]
		if open >= 0 && all[open].Content == c {
			if !slices.Contains(all[open].Seen, t.seen) {
				all[open].Seen = append(all[open].Seen, t.seen)
			}
			if s.Place != all[open].Place { // the same content under its next name
				all = b.rename(all, open, t)
				open = len(all) - 1
			}
			continue
		}
		v := Version{
			Place:   s.Place,
			Type:    s.Type,
			Size:    s.Size,
			SHA256:  b.sum(t.seen),
			Target:  s.Target,
			Content: c,
			Seen:    []int{t.seen},
			First:   t.at,
		}
		v.After = b.contrary(contrary, open, all, t)
		b.arrive(&v, removed)
		if open >= 0 {
			prev := &all[open]
			v.Hidden = s.Type == entry.File && prev.Type == entry.File && s.Size == prev.Size &&
				s.Written.Equal(b.seen[prev.Seen[0]].Written)
			end(t)
			v.After = later(v.After, all[len(all)-1].LastSeen)
			b.arrive(&v, removed)
			all[len(all)-1].Superseded = v.Arrived
		}
		all = append(all, v)
		open = len(all) - 1
	}
	if open >= 0 {
		all[open].LastSeen = b.lastSeen(&all[open], turn{})
	}
	return all
}

// rename ends the version under its old name and goes on with the same content under the new one.
func (b *builder) rename(all []Version, open int, t turn) []Version {
	prev := &all[open]
	prev.Seen = slices.DeleteFunc(prev.Seen, func(i int) bool { return i == t.seen })
	prev.LastSeen = b.lastSeen(prev, t)
	v := *prev
	v.Place, v.Seen, v.First, v.After = b.seen[t.seen].Place, []int{t.seen}, t.at, prev.LastSeen
	v.Arrived, v.Superseded = prev.LastSeen, time.Time{}
	if w := b.seen[t.seen].Written; w.After(v.Arrived) && !w.After(t.at) && !b.stores[t.source].Traits.Entire {
		v.Arrived = w
	}
	prev.Superseded = v.Arrived
	return append(all, v)
}

// contrary is the last capture before the turn that showed something else or nothing: that of the source which saw it, of
// any that had shown the place before, or the last removal.
func (b *builder) contrary(removed time.Time, open int, all []Version, t turn) time.Time {
	latest := removed
	if open >= 0 {
		return later(latest, b.lastSeen(&all[open], t))
	}
	for source := range b.byStore {
		if !b.stores[source].Traits.Shows() || !b.covers(b.stores[source].ID, b.seen[t.seen].Place) {
			continue
		}
		if at, ok := b.stores[source].Before(t.at, false); ok && !b.alive(source, at) {
			latest = later(latest, at)
		}
	}
	return latest
}

// earliest is the first write time believed: clocks that lost their battery say 1970 or 1980.
var earliest = time.Date(1980, 1, 2, 0, 0, 0, 0, time.UTC)

// slack is how far a clock may be ahead of a capture without being disbelieved.
const slack = 2 * time.Second

// Doubt says why a recorded write time is not believed. The zero Doubt is none.
type Doubt string

// The doubts.
const (
	Late  Doubt = "late"  // it is later than the capture that shows it
	Early Doubt = "early" // it is from before 1980, as of a clock that was never set
)

// arrive works out from when a version is current: after the last recorded removal, whatever its write time says.
func (b *builder) arrive(v *Version, removed time.Time) {
	s := b.seen[v.Seen[0]]
	written := b.written(v.Seen[0])
	v.Written, v.Doubt = written, ""
	switch {
	case written.IsZero(), b.store(v.Seen[0]).Traits.Entire && !s.Beside: // what was written earlier had not come to the line
		v.Arrived = v.First
	case written.After(s.First.Add(slack)) && (s.Gone.IsZero() || written.After(s.Gone.Add(slack))):
		v.Doubt = Late
	case written.Before(earliest):
		v.Doubt = Early
	default:
		v.Arrived = later(written, v.After)
	}
	if v.Doubt != "" {
		v.Arrived = v.First
	}
	if !removed.IsZero() && !v.Arrived.After(removed) {
		v.Arrived = removed.Add(1)
	}
	if v.Arrived.After(v.First) {
		v.Arrived = v.First
	}
}

// written is the write time of something seen: where its store knows no zones, that of the same content at the place in one that does.
func (b *builder) written(i int) time.Time {
	s := b.seen[i]
	if !b.store(i).Traits.Zoneless {
		return s.Written
	}
	for _, k := range b.of[b.content[i]] {
		o := b.seen[k]
		if !b.store(k).Traits.Zoneless && o.Place == s.Place && !o.Written.IsZero() && o.Written.Sub(s.Written).Abs() <= zones {
			return o.Written
		}
	}
	return s.Written
}

// zones is how far apart what two clocks of one moment show can be.
const zones = 26 * time.Hour

// shownElsewhere tells whether another source showed the place at the moment at which one missed it.
func (b *builder) shownElsewhere(t turn) bool {
	for source := range b.byStore {
		if source != t.source && b.stores[source].Traits.Shows() && b.alive(source, t.at) {
			return true
		}
	}
	return false
}

// lastSeen is the last capture before a turn that shows a version; a zero turn is the end of time.
func (b *builder) lastSeen(v *Version, t turn) time.Time {
	latest := v.First
	for _, i := range b.of[v.Content] {
		s := b.seen[i]
		if s.Place != v.Place {
			continue
		}
		at := b.spans[i].last
		if s.Beside {
			continue
		}
		if !b.shows(i) {
			at = s.Gone
		}
		if !t.at.IsZero() && !at.Before(t.at) {
			if !b.shows(i) {
				if at.After(t.at) || !t.exact {
					continue
				}
			} else {
				bound, ok := b.store(i).Before(t.at, false)
				if !ok || bound.Before(s.First) {
					continue
				}
				at = bound
			}
		}
		if s.First.After(at) && b.shows(i) || at.Before(v.First) {
			continue
		}
		latest = later(latest, at)
		if !slices.Contains(v.Seen, i) {
			v.Seen = append(v.Seen, i)
		}
	}
	return latest
}

// shows tells whether something seen is of a capture that shows what stands, and not the record of a removal.
func (b *builder) shows(i int) bool { return b.store(i).Traits.Shows() && b.seen[i].Gone.IsZero() }

func later(a, b time.Time) time.Time {
	if b.After(a) {
		return b
	}
	return a
}

// Current returns the index of the version that stood at the place at a moment, or -1, and whether that is proved: a
// capture showed it then or later without a break, and it had arrived.
func (t *Trail) Current(at time.Time) (index int, proved bool) {
	for n := len(t.Versions) - 1; n >= 0; n-- {
		v := &t.Versions[n]
		if v.Arrived.After(at) || !v.After.IsZero() && !v.After.Before(at) {
			continue
		}
		// What brought old times with it may count from the very capture that last showed what it replaced.
		replaced := n+1 < len(t.Versions) && t.Versions[n+1].Arrived.Equal(v.Superseded)
		if !v.Superseded.IsZero() && !at.Before(v.Superseded) && !(replaced && !at.After(v.LastSeen)) {
			return -1, true
		}
		return n, !at.After(v.LastSeen) && (!at.Before(v.First) || v.Doubt == "" && v.Arrived.Equal(v.Written))
	}
	return -1, true
}
