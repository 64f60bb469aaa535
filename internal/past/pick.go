package past

import (
	"slices"
	"time"

	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/core/trail"
)

// Pick says from which of the things seen of a version it is best read, and which of them stood at the place at a moment:
// the content is the same, but owner, mode and times may not be. Both are indexes into what was seen; -1 where there is none.
type Pick struct{ From, Stood int }

// PickOf picks what a version is read from as of a moment; a zero moment is now. What shows the very moment comes before what
// does not; then what stays there even when the machine's own file changes; then what costs little; then the latest.
func PickOf(v *trail.Version, seen []*copies.Copy, moment time.Time) Pick {
	r := Pick{From: -1, Stood: stood(v, seen, moment)}
	var best [3]int // the first that differs decides
	for _, i := range v.Seen {
		s := seen[i].Store
		if !seen[i].Readable {
			continue
		}
		score := [3]int{0, 1, 0}
		if !s.Costs() {
			score[2] = 1
		}
		if r.Stood >= 0 && (i == r.Stood || shows(seen[i], moment) && seen[i].WrittenWith(seen[r.Stood])) {
			score[0] = 1
		}
		switch {
		case s.Traits.Dated():
			score[1] = 3
		case !s.Traits.Live():
			score[1] = 2
		}
		better := slices.Compare(score[:], best[:])
		if r.From < 0 || better > 0 || better == 0 && seen[i].Last.After(seen[r.From].Last) {
			r.From, best = i, score
		}
	}
	if r.Stood < 0 {
		r.Stood = r.From
	}
	return r
}

// shows tells whether a store whose captures show what stood shows something at a moment.
func shows(s *copies.Copy, moment time.Time) bool {
	return s.Store.Traits.Shows() && !moment.IsZero() && !s.First.After(moment) && !s.Last.Before(moment)
}

// stood picks what of a version stood at a moment: what came last at or before it. When that was, between two captures, the
// write time tells where it lies there; else it counts from the capture that first showed it.
func stood(v *trail.Version, seen []*copies.Copy, moment time.Time) int {
	if moment.IsZero() {
		return -1
	}
	best, first := -1, -1
	var since time.Time
	for _, i := range v.Seen {
		if !seen[i].Store.Traits.Shows() {
			continue
		}
		if first < 0 || seen[i].First.Before(seen[first].First) {
			first = i
		}
		came := seen[i].First
		if w := seen[i].Written; !w.IsZero() && w.Before(came) && w.After(before(v, seen, i)) {
			came = w
		}
		if !came.After(moment) && (best < 0 || came.After(since)) {
			best, since = i, came
		}
	}
	if best < 0 {
		return first
	}
	return best
}

// before is the last capture that showed the version otherwise before something of it was first seen; zero where there is none.
func before(v *trail.Version, seen []*copies.Copy, than int) (last time.Time) {
	for _, i := range v.Seen {
		if i != than && seen[i].Store.Traits.Shows() && seen[i].Last.Before(seen[than].First) &&
			seen[i].Last.After(last) {
			last = seen[i].Last
		}
	}
	return last
}
