package trail

import (
	"slices"
	"time"

	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/remark"
)

// EventKind is a kind of event.
type EventKind string

// The kinds of events.
const (
	Removed   EventKind = "removed"
	Returned  EventKind = "returned" // content that had been there before
	Moved     EventKind = "moved"    // or renamed
	Gap       EventKind = "gap"      // nobody looked for long, and it changed meanwhile
	Hidden    EventKind = "hidden-change"
	Doubted   EventKind = "clock" // a write time that is not believed
	Redirect  EventKind = "redirected"
	TypeShift EventKind = "type" // a file became a folder or the like
)

// Event is something that happened to the place, or that is to be known about the trail.
type Event struct {
	At    time.Time
	After time.Time // it happened after this and not later than At; zero where At is exact
	Kind  EventKind
	Says  remark.Remark
	From  place.Place
	To    place.Place
}

// Change is a moment at which something began to stand at the place, or to be missing from it.
type Change struct {
	At      time.Time
	Version int // -1: nothing stands from then on
}

// Changes lists the moments at which captures, or records of a removal, first showed something else.
func (t *Trail) Changes() []Change {
	var all []Change
	for n := range t.Versions {
		v := &t.Versions[n]
		at := v.First
		if v.First.Equal(v.Superseded) { // known from the record of its removal alone
			at = v.Arrived
		}
		all = append(all, Change{at, n})
		if !v.Superseded.IsZero() && (n+1 == len(t.Versions) || v.Superseded.Before(t.Versions[n+1].Arrived)) {
			all = append(all, Change{v.Superseded, -1})
		}
	}
	return all
}

func (b *builder) events(versions []Version) (all []Event) {
	usual := b.usual()
	before := map[int]bool{} // contents of the versions so far
	for n := range versions {
		v := &versions[n]
		var next *Version
		if n+1 < len(versions) {
			next = &versions[n+1]
		}
		if v.Doubt != "" {
			all = append(
				all,
				Event{
					At:   v.First,
					Kind: Doubted,
					Says: remark.New("doubted", "written", v.Written.Format(time.RFC3339), "why", remark.New("doubt-"+string(v.Doubt))),
				},
			)
		}
		if n > 0 && v.Hidden {
			all = append(
				all,
				Event{At: v.First, After: v.After, Kind: Hidden, Says: remark.New("hidden")},
			)
		}
		if n > 0 && versions[n-1].Type != v.Type {
			all = append(
				all,
				Event{
					At:    v.First,
					After: v.After,
					Kind:  TypeShift,
					Says:  remark.New("type-shift", "was", versions[n-1].Type, "is", v.Type),
				},
			)
		}
		if n > 0 && v.Type == entry.File && versions[n-1].Content != v.Content && before[v.Content] {
			all = append(all, Event{At: v.Arrived, Kind: Returned, Says: remark.New("returned")})
		}
		before[v.Content] = true
		if !v.Superseded.IsZero() && (next == nil || v.Superseded.Before(next.Arrived)) {
			e := Event{At: v.Superseded, Kind: Removed, Says: remark.New("removed"), From: v.Place}
			if !v.LastSeen.Equal(v.Superseded) {
				e.After, e.Says = v.LastSeen, remark.New("removed-between")
			}
			all = append(all, e)
		}
		if next != nil && next.Content != v.Content && next.Arrived.Sub(v.LastSeen) > usual && !next.Arrived.After(v.Superseded) {
			all = append(
				all,
				Event{
					At:    next.Arrived,
					After: v.LastSeen,
					Kind:  Gap,
					Says:  remark.New("gap"),
				},
			)
		}
	}
	return all
}

// usual is three times what is usual from one capture that shows what stands to the next, of the store that is looked at most often; at least an
// hour.
func (b *builder) usual() time.Duration {
	least := time.Duration(0)
	for source := range b.byStore {
		s := b.stores[source]
		if !s.Traits.Shows() {
			continue
		}
		step := s.Step
		if step == 0 {
			step = median(s.Captures)
		}
		if step > 0 && (least == 0 || step < least) {
			least = step
		}
	}
	if least == 0 {
		return 24 * time.Hour
	}
	return max(time.Hour, 3*least)
}

// median is the median distance between moments, which are ascending; 0 where there are fewer than two.
func median(all []time.Time) time.Duration {
	steps := make([]time.Duration, 0, len(all))
	for i := 1; i < len(all); i++ {
		steps = append(steps, all[i].Sub(all[i-1]))
	}
	if len(steps) == 0 {
		return 0
	}
	slices.Sort(steps)
	return steps[len(steps)/2]
}
