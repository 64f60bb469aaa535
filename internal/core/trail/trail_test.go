package trail_test

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/core/digest"
	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/trail"
	"humble-rewind/internal/core/traits"
)

var base = time.Date(2026, 9, 7, 0, 0, 0, 0, time.UTC)

// hour is a time by hours since the beginning.
func hour(h float64) time.Time { return base.Add(time.Duration(h * float64(time.Hour))) }

func hours(hs ...float64) (all []time.Time) {
	for _, h := range hs {
		all = append(all, hour(h))
	}
	return all
}

func store(captures ...float64) copies.Store {
	return copies.Store{Source: copies.Source{Traits: traits.Traits{Shape: traits.Points}}, Captures: hours(captures...), Resolution: time.Nanosecond}
}

// spot is what one of the stores of a test saw.
type spot struct {
	copies.Copy
	source int // index
}

// build builds the trail of what stores saw.
func build(seen []spot, stores []copies.Store, names []trail.Name) trail.Trail {
	in := make([]*copies.Store, len(stores))
	for i := range stores {
		in[i] = &stores[i]
		in[i].ID = copies.SourceID(i + 1)
	}
	all := make([]*copies.Copy, len(seen))
	for i := range seen {
		all[i] = &seen[i].Copy
		all[i].Store = in[seen[i].source]
	}
	return trail.Build(all, in, names, nil)
}

// sum is a digest by which a content is known again, and text that content.
func sum(content string) (s digest.Sum) {
	copy(s[:], content)
	return s
}

func text(s digest.Sum) string { return strings.TrimRight(string(s[:]), "\x00") }

var quote = place.Place{Machine: "front-office", Path: "/home/ines/Quote.odt"}

// seen is content written at a time and shown from one capture to another.
func seen(source int, content string, written, first, last float64) spot {
	return spot{copies.Copy{Place: quote, Type: entry.File, Size: int64(len(content)), SHA256: sum(content), Written: hour(written),
		First: hour(first), Last: hour(last), Readable: true}, source}
}

// folder is a folder that stood at the place.
func folder(source int, first, last float64) spot {
	return spot{copies.Copy{Place: quote, Type: entry.Folder, Size: -1, First: hour(first), Last: hour(last), Readable: true}, source}
}

func open(s spot) spot {
	s.Open = true
	return s
}

// show writes a trail as content:arrived-lastseen-superseded, in hours.
func show(t trail.Trail) string {
	at := func(moment time.Time) string {
		if moment.IsZero() {
			return ""
		}
		return strings.TrimSuffix(fmt.Sprintf("%.1f", moment.Sub(base).Hours()), ".0")
	}
	var parts []string
	for _, v := range t.Versions {
		parts = append(parts, fmt.Sprintf("%s:%s-%s-%s", text(v.SHA256), at(v.Arrived), at(v.LastSeen), at(v.Superseded)))
	}
	for _, e := range t.Events {
		parts = append(parts, fmt.Sprintf("%s@%s", e.Kind, at(e.At)))
	}
	return strings.Join(parts, " ")
}

func TestVersionsFollowTheCaptures(t *testing.T) {
	nightly := store(0, 24, 48, 72)
	trash := copies.Store{Captures: hours(80)}
	gone := seen(1, "b", 30, 80, 80)
	gone.Gone = hour(60)
	doubt := seen(0, "b", 500, 48, 72)
	for name, c := range map[string]struct {
		seen    []spot
		sources []copies.Store
		want    string
	}{
		"one that never changed": {[]spot{open(seen(0, "a", -5, 0, 72))}, []copies.Store{nightly}, "a:-5-72-"},
		"one that was saved over arrives when it was written": {
			[]spot{seen(0, "a", -5, 0, 24), open(seen(0, "b", 30, 48, 72))}, []copies.Store{nightly}, "a:-5-24-30 b:30-72-"},
		"old times brought in from elsewhere do not make it older than what it replaced": {
			[]spot{seen(0, "a", -5, 0, 24), open(seen(0, "b", -90, 48, 72))}, []copies.Store{nightly}, "a:-5-24-24 b:24-72-"},
		"a write time from the future is not believed": {
			[]spot{seen(0, "a", -5, 0, 24), open(doubt)}, []copies.Store{nightly}, "a:-5-24-48 b:48-72- clock@48"},
		"a clock that was never set is not believed": {
			[]spot{open(seen(0, "a", -500_000, 24, 72))}, []copies.Store{nightly}, "a:24-72- clock@24"},
		"a file that becomes a folder and back is told": {
			[]spot{seen(0, "a", -5, 0, 0), folder(0, 24, 24), open(seen(0, "a", -5, 48, 72))}, []copies.Store{nightly},
			"a:-5-0-24 :24-24-24 a:24-72- type@24 returned@24 type@48"},
		"one that vanished was removed after it was last seen": {
			[]spot{seen(0, "a", -5, 0, 24)}, []copies.Store{nightly}, "a:-5-24-48 removed@48"},
		"content that comes back has a span of its own": {
			[]spot{seen(0, "a", -5, 0, 0), seen(0, "b", 10, 24, 24), open(seen(0, "a", -5, 48, 72))}, []copies.Store{nightly},
			"a:-5-0-10 b:10-24-24 a:24-72- returned@24"},
		"a trash tells what was saved after the last capture, and when it went": {
			[]spot{seen(0, "a", -5, 0, 24), gone}, []copies.Store{store(0, 24, 72), trash}, "a:-5-24-30 b:30-60-60 removed@60"},
		"a source that would show it and does not tells of a removal": {
			[]spot{open(seen(0, "a", -5, 0, 72))}, []copies.Store{nightly, store(100, 110)}, "a:-5-72-100 removed@100"},
		"what another store still shows was not removed": {
			[]spot{seen(0, "a", -5, 0, 24), open(seen(1, "a", -5, 12, 90))}, []copies.Store{nightly, store(12, 36, 60, 90)},
			"a:-5-90-"},
		"a long time in which nobody looked is named": {
			[]spot{seen(0, "a", -5, 0, 3), open(seen(0, "b", 90, 99, 99))}, []copies.Store{store(0, 1, 2, 3, 99)},
			"a:-5-3-90 b:90-99- gap@90"},
	} {
		t.Run(name, func(t *testing.T) {
			assert.Equal(t, c.want, show(build(c.seen, c.sources, nil)))
		})
	}
}

func TestWithoutDigestsSizeAndTimeWithinTheCoarserClockTell(t *testing.T) {
	live, card := store(50, 60), store(10)
	card.Resolution = 2 * time.Second
	a, b := seen(1, "aaaa", 5, 10, 10), open(seen(0, "bbbb", 5, 50, 60))
	a.SHA256, b.SHA256 = digest.Sum{}, digest.Sum{}
	b.Written = b.Written.Add(1200 * time.Millisecond)
	assert.Len(t, build([]spot{a, b}, []copies.Store{live, card}, nil).Versions, 1, "FAT keeps every other second")
	card.Resolution = 0
	assert.Len(
		t,
		build([]spot{a, b}, []copies.Store{live, card}, nil).Versions,
		2,
		"a clock cut off at the second is less than one behind",
	)
	b.Written = b.Written.Add(-400 * time.Millisecond)
	assert.Len(t, build([]spot{a, b}, []copies.Store{live, card}, nil).Versions, 1)
	card.Resolution = 2 * time.Second
	b.Written = b.Written.Add(3 * time.Second)
	assert.Len(t, build([]spot{a, b}, []copies.Store{live, card}, nil).Versions, 2)

	hidden := build([]spot{seen(0, "keel", 5, 50, 50), open(seen(0, "heel", 5, 60, 60))}, []copies.Store{live}, nil)
	assert.Equal(t, "keel:5-50-50 heel:50-60- hidden-change@60", show(hidden))
}

// What a store says by a wall clock somewhere is dated by one that knows zones and has the same content, if the two can mean one moment.
func TestAStoreWithoutZonesIsDatedByOneThatKnowsThem(t *testing.T) {
	zip, live := store(10), store(12, 20)
	zip.Traits.Zoneless = true
	for _, c := range []struct{ there, want float64 }{{5, 5}, {-40, 7}} {
		both := []spot{seen(0, "keel", 7, 10, 10), open(seen(1, "keel", c.there, 12, 20))}
		got := build(both, []copies.Store{zip, live}, nil)
		require.Len(t, got.Versions, 1)
		assert.Equal(t, hour(c.want), got.Versions[0].Arrived)
		assert.Equal(t, hour(c.want), got.Versions[0].Written)
	}
	zip.Traits.Zoneless = false
	got := build([]spot{seen(0, "keel", 7, 10, 10), open(seen(1, "keel", 5, 12, 20))}, []copies.Store{zip, live}, nil)
	assert.Equal(t, hour(7), got.Versions[0].Arrived, "of two that know zones the first to show it counts")
}

func TestANameIsOnlyFollowedWhileItWasTheFiles(t *testing.T) {
	before, after := seen(0, "a", -5, 0, 24), open(seen(0, "a", -5, 48, 72))
	before.Place.Path = "/home/ines/Old name.odt"
	stranger := open(seen(0, "x", 60, 72, 72))
	stranger.Place = before.Place
	move := &trail.Event{At: hour(48), After: hour(24), Kind: trail.Moved, From: before.Place, To: quote}
	names := []trail.Name{{Place: quote}, {Place: before.Place, Until: hour(48), Move: move}}
	got := build([]spot{before, after, stranger}, []copies.Store{store(0, 24, 48, 72)}, names)
	assert.Equal(t, "a:-5-24-24 a:24-72- moved@48", show(got))
	assert.Equal(t, before.Place, got.Versions[0].Place)
	assert.Equal(t, quote, got.Versions[1].Place)
}

// TestATrailAgreesWithTheHistoryThatMadeIt makes random histories of saves and removals, lets several stores capture them
// at random times, and asks the trail what stood at each capture.
func TestATrailAgreesWithTheHistoryThatMadeIt(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 11))
	for round := range 500 {
		type step struct {
			at      time.Time
			written time.Time // at, or earlier where old times were brought along
			content string    // "" removes it
		}
		var history []step
		for h := r.Float64() * 5; h < 200; h += 0.5 + r.Float64()*40 {
			content := ""
			if r.IntN(5) > 0 {
				content = strings.Repeat("x", 1+r.IntN(3)) + fmt.Sprint(r.IntN(4))
			}
			written := hour(h)
			if r.IntN(4) == 0 {
				written = hour(h - 300*r.Float64())
			}
			history = append(history, step{hour(h), written, content})
		}
		at := func(m time.Time) (content string, written time.Time) {
			for _, s := range history {
				if s.at.After(m) {
					break
				}
				if s.content != content {
					content, written = s.content, s.written
				}
			}
			return content, written
		}
		var sources []copies.Store
		var all []spot
		for source := range 1 + r.IntN(3) {
			var captures []float64
			for h := r.Float64() * 10; h < 210; h += 1 + r.Float64()*30 {
				captures = append(captures, h)
			}
			s := store(captures...)
			var span *spot
			for i, capture := range s.Captures {
				content, written := at(capture)
				if span != nil && (sum(content) != span.SHA256 || !written.Equal(span.Written)) {
					all = append(all, *span)
					span = nil
				}
				if content != "" && span == nil {
					span = new(seen(source, content, 0, 0, 0))
					span.Written, span.First = written, capture
				}
				if span != nil {
					span.Last, span.Open = capture, i == len(s.Captures)-1
				}
			}
			if span != nil {
				all = append(all, *span)
			}
			sources = append(sources, s)
		}
		got := build(all, sources, nil)
		require.True(
			t,
			slices.IsSortedFunc(got.Versions, func(a, b trail.Version) int { return a.Arrived.Compare(b.Arrived) }),
			"round %d: %s",
			round,
			show(got),
		)
		for _, s := range sources {
			for _, capture := range s.Captures {
				want, _ := at(capture)
				stands, n := "", -1
				if len(all) > 0 {
					if n, _ = got.Current(capture); n >= 0 {
						stands = text(got.Versions[n].SHA256)
					}
				}
				require.Equal(t, want, stands, "round %d at hour %.2f: %s\n%v", round, capture.Sub(base).Hours(), show(got), history)
			}
		}
	}
}

// BenchmarkBuild is the trail of a place with a thousand sightings in ten sources.
func BenchmarkBuild(b *testing.B) {
	var all []spot
	var sources []copies.Store
	for source := range 10 {
		var captures []float64
		for n := range 100 {
			h := float64(n*24 + source)
			captures = append(captures, h)
			all = append(all, seen(source, fmt.Sprintf("%d of %d", n, source), h-0.1, h, h))
		}
		sources = append(sources, store(captures...))
	}
	for b.Loop() {
		build(all, sources, nil)
	}
}

// removed is content known from the record of its removal alone.
func removed(source int, content string, written, gone float64) spot {
	s := seen(source, content, written, 100, 100)
	s.Gone = hour(gone)
	return s
}

// What was removed from a place stood there until then, so nothing that stood there later had come before it, however old
// its write time is.
func TestARecordedRemovalBoundsWhatCameAfterIt(t *testing.T) {
	bin := copies.Store{Captures: hours(100), Resolution: time.Nanosecond}
	three := build(
		[]spot{removed(0, "a", 9, 10), removed(0, "b", 8, 11), removed(0, "c", 7, 12)},
		[]copies.Store{bin},
		nil,
	)
	require.Len(t, three.Versions, 3)
	for n, v := range three.Versions[:2] {
		next := three.Versions[n+1]
		assert.Equal(t, hour(10+float64(n)), v.Superseded)
		assert.True(t, next.Arrived.After(v.Superseded), "%v came after the removal before it", next)
	}
	for at, want := range map[float64]int{9.5: 0, 10.5: 1, 11: 1, 11.5: 2} {
		n, _ := three.Current(hour(at))
		if at == 11 {
			n, _ = three.Current(hour(at).Add(-1))
		}
		assert.Equal(t, want, n, at)
	}
	kinds := []trail.EventKind{}
	for _, e := range three.Events {
		kinds = append(kinds, e.Kind)
	}
	assert.Equal(t, []trail.EventKind{trail.Removed, trail.Removed, trail.Removed}, kinds)

	// A capture after the removal still shows what was there before: it is there again, and had been.
	shown := build([]spot{seen(0, "x", 1, 2, 6), removed(1, "a", 0, 4.5)}, []copies.Store{store(2, 3, 4, 5, 6), bin}, nil)
	n, _ := shown.Current(hour(5))
	require.GreaterOrEqual(t, n, 0)
	assert.Equal(t, "x", text(shown.Versions[n].SHA256))
}
