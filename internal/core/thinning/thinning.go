// Package thinning chooses which of the many times at which stores were looked at are still needed: those beside which something began or
// ended, the first, the latest, and one a day. What is worked out from the rest, such as trails and gaps, stays as it is. Times are
// nanoseconds since 1970.
package thinning

import (
	"math"
	"slices"
	"time"
)

// Recent is how long every time is kept.
const Recent = 48 * time.Hour

const day = int64(24 * time.Hour)

// Thinning chooses among the times at which stores were looked at.
type Thinning struct {
	now     time.Time
	stores  [][]int64 // ascending
	events  []int64   // sorted as far as they were put in order
	ordered int
}

// New begins with the times of stores, ascending.
func New(now time.Time, stores ...[]int64) *Thinning { return &Thinning{now: now, stores: stores} }

// Event says that something began or ended at a moment, in whichever store, or elsewhere.
func (t *Thinning) Event(at int64) {
	const least = 1 << 16
	if t.events = append(t.events, at); len(t.events) > 2*t.ordered+least {
		t.order()
	}
}

func (t *Thinning) order() {
	slices.Sort(t.events)
	t.events = slices.Compact(t.events)
	t.ordered = len(t.events)
}

// Dropped lists the times of each store that are needed no more. Call it once all events were told.
func (t *Thinning) Dropped() [][]int64 {
	t.order()
	var turns []int64 // times at which a store first shows what an event did, from which others are looked up in turn
	for _, times := range t.stores {
		for i := 1; i < len(times); i++ {
			if t.happened(times[i-1], times[i]-1) {
				turns = append(turns, times[i])
			}
		}
	}
	t.events = append(t.events, turns...)
	t.order()
	dropped := make([][]int64, len(t.stores))
	since := t.now.Add(-Recent).UnixNano()
	for n, times := range t.stores {
		last := int64(math.MinInt64)
		for i, at := range times {
			of := floor(at, day)
			always := i == 0 || i == len(times)-1 || at >= since || of != last
			if last = of; !always && !t.happened(times[i-1], times[i+1]) {
				dropped[n] = append(dropped[n], at)
			}
		}
	}
	return dropped
}

// happened tells whether something did from one moment to another.
func (t *Thinning) happened(from, to int64) bool {
	i, _ := slices.BinarySearch(t.events, from)
	return i < len(t.events) && t.events[i] <= to
}

func floor(a, b int64) int64 {
	n := a / b
	if a%b < 0 {
		n--
	}
	return n
}

// Steps count how far apart times were that follow on each other, so that what is usual is still known once most are gone. They are kept by
// eighths of octaves of seconds.
type Steps map[int]int64

// Add counts one step.
func (s Steps) Add(step time.Duration) {
	s[int(math.Floor(8*math.Log2(max(step.Seconds(), 1))))]++
}

// Usual is the median step, to an eighth of an octave; 0 where there are none.
func (s Steps) Usual() time.Duration {
	var all, half int64
	keys := make([]int, 0, len(s))
	for k, n := range s {
		keys = append(keys, k)
		all += n
	}
	slices.Sort(keys)
	for _, k := range keys {
		if half += s[k]; 2*half > all {
			return time.Duration(math.Exp2(float64(k+1)/8) * float64(time.Second))
		}
	}
	return 0
}
