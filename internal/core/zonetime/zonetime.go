// Package zonetime turns local times without a zone, as many records keep them, into moments.
//
// When clocks go back an hour, a local time happens twice; when they go forward, some never happen. Both are told
// apart here instead of being settled in silence.
package zonetime

import "time"

// Doubt says how sure a resolved time is.
type Doubt int

// The doubts, from none to most.
const (
	Sure     Doubt = iota // the local time happened once
	Repeated              // it happened twice and the hint decided
	Guessed               // it happened twice and nothing decided: the earlier is taken
	Skipped               // it never happened: clocks went over it, the moment as counted before the switch is taken
)

// Resolve returns the moment at which clocks in zone showed wall, whose own zone is ignored. Where that happened twice,
// the one nearer to hint is taken; a zero hint is no hint.
func Resolve(wall time.Time, zone *time.Location, hint time.Time) (time.Time, Doubt) {
	y, mo, d := wall.Date()
	h, mi, s := wall.Clock()
	base := time.Date(y, mo, d, h, mi, s, wall.Nanosecond(), time.UTC)
	var found []time.Time
	// The offsets in force around the time are the only ones that it can have been written in.
	_, before := base.Add(-36 * time.Hour).In(zone).Zone()
	_, after := base.Add(36 * time.Hour).In(zone).Zone()
	_, near := time.Date(y, mo, d, h, mi, s, 0, zone).Zone()
	for _, offset := range []int{before, near, after} {
		t := base.Add(-time.Duration(offset) * time.Second)
		if _, o := t.In(zone).Zone(); o == offset && !contains(found, t) {
			found = append(found, t)
		}
	}
	switch len(found) {
	case 0:
		return base.Add(-time.Duration(before) * time.Second).UTC(), Skipped
	case 1:
		return found[0].UTC(), Sure
	}
	earlier, later := found[0], found[len(found)-1]
	if later.Before(earlier) {
		earlier, later = later, earlier
	}
	if hint.IsZero() {
		return earlier.UTC(), Guessed
	}
	if hint.Sub(earlier).Abs() <= hint.Sub(later).Abs() {
		return earlier.UTC(), Repeated
	}
	return later.UTC(), Repeated
}

func contains(list []time.Time, t time.Time) bool {
	for _, have := range list {
		if have.Equal(t) {
			return true
		}
	}
	return false
}
