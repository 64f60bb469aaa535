package copies_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/fileclass"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/sighting"
	"humble-rewind/internal/core/traits"
)

// Times are put right by the clock of the machine and told as recorded again, whichever way it goes wrong; what is not known stays so.
func TestTimesAreToldAsTheyWereRecorded(t *testing.T) {
	right := time.Date(2026, 11, 3, 16, 30, 0, 0, time.UTC)
	for _, ahead := range []time.Duration{0, 10 * time.Minute, -10 * time.Minute, 11 * 365 * 24 * time.Hour} {
		c := copies.Copy{Store: &copies.Store{Source: copies.Source{ClockAhead: ahead, RetentionDays: 30}}, Written: right, Gone: right}
		assert.Equal(t, right.Add(ahead), c.Recorded())
		assert.Equal(t, right.Add(ahead), c.GoneRecorded())
		assert.Equal(t, right.Add(ahead).AddDate(0, 0, 30), c.Expires(), "the store counts by the machine's clock")
		unknown := copies.Copy{Store: c.Store}
		assert.True(t, unknown.Recorded().IsZero() && unknown.GoneRecorded().IsZero() && unknown.Expires().IsZero())
	}
	forever := copies.Copy{Store: &copies.Store{}, Gone: right}
	assert.True(t, forever.Expires().IsZero(), "a store that keeps everything removes nothing")
}

// Two clocks tell two times apart as finely as the coarser of them ticks; whole seconds may have been cut off.
func TestTimesAreComparedAtTheCoarserClock(t *testing.T) {
	at := time.Date(2026, 11, 3, 16, 30, 0, 123, time.UTC)
	for _, c := range []struct {
		a, b   time.Time
		of, by time.Duration
		one    bool
	}{
		{at, at, 1, 1, true}, {at, at.Add(1), 1, 1, false}, {at, at.Add(1), 0, 0, false}, {at, at.Add(900 * time.Millisecond), time.Second, 1, true},
		{at.Add(1500 * time.Millisecond), at, 1, 2 * time.Second, true}, {at, at.Add(2 * time.Second), 2 * time.Second, 1, false},
		{at, at.Truncate(time.Second), 1, 1, true}, {at.Truncate(time.Second), at.Add(time.Second), 1, 1, false},
		{at, time.Time{}, time.Hour, time.Hour, false},
	} {
		a, b := copies.Copy{Store: &copies.Store{Resolution: c.of}, Written: c.a}, copies.Copy{Store: &copies.Store{Resolution: c.by}, Written: c.b}
		assert.Equal(t, c.one, a.WrittenWith(&b), "%+v", c)
		assert.Equal(t, c.one, b.WrittenWith(&a), "%+v", c)
	}
}

// A copy is found by what its store reported, else by where it lies, and lies below its store whatever its place is.
func TestACopyIsFoundWhereItLies(t *testing.T) {
	c := copies.Copy{
		ID: 12, Store: &copies.Store{Source: copies.Source{ID: 3, AtMachine: "shelf", At: "/srv/points"}}, Type: entry.File,
		Place: place.Place{Machine: "loft", Path: "/home/ines/Keel.SVG"}, At: sighting.Locator{Capture: "2026-11-01", Dir: "home/ines", Name: "Keel.SVG"},
	}
	assert.Equal(t, "shelf:/srv/points/2026-11-01/home/ines/Keel.SVG", c.LiesAt().String())
	assert.Equal(t, c.At.Ref(), c.Ref())
	assert.Equal(t, fileclass.Drawings, c.Class())
	assert.Equal(t, "c12 of s3", c.ID.String()+" of "+c.Store.ID.String())
	c.OwnRef, c.Type = "blob 7", entry.Folder
	assert.Equal(t, sighting.Ref("blob 7"), c.Ref())
	assert.Equal(t, fileclass.Folders, c.Class(), "whatever it is called")
}

// A machine's own source looks after what is below it, but for what it leaves out, its trashes and its location itself.
func TestASourceLooksAfterWhatIsBelowIt(t *testing.T) {
	live := copies.Source{At: "/home/ines", Traits: traits.Traits{Shape: traits.Now}, Exclusions: []string{"Scratch"}}
	for path, looks := range map[string]bool{
		"/home/ines/Keel.svg": true, "/home/ines": false, "/home/inessa/Keel.svg": false, "/home/ines/Scratch/Keel.svg": false,
		"/home/ines/.local/share/Trash/files/Keel.svg": false,
	} {
		assert.Equal(t, looks, live.LooksAfter(path), path)
	}
	kept := live
	kept.Traits = traits.Traits{}
	assert.False(t, kept.LooksAfter("/home/ines/Keel.svg"), "a store that is not the machine's own files shows none")
}
