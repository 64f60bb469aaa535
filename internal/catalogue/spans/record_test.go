package spans

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humble-rewind/internal/catalogue/rows"
	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/sighting"
	"humble-rewind/internal/core/traits"
)

// A survey is killed after it recorded what it saw and before the names of that were fed to the search.
func TestNamesLeftUnfedByAKilledSurveyAreFedAtTheNextStart(t *testing.T) {
	dir, ctx := t.TempDir(), t.Context()
	c, err := open(ctx, dir)
	require.NoError(t, err)
	_, err = c.Machines.Add(ctx, rows.Machine{Name: "loft", At: "/x", Zone: "UTC"})
	require.NoError(t, err)
	src, err := c.Sources.Add(ctx, rows.Source{Source: copies.Source{Machine: "loft", AtMachine: "loft", Kind: "trash", At: "/home/ines"}})
	require.NoError(t, err)
	d := c.Surveys.Begin(ctx, src, time.Unix(100, 0), Following{})
	require.NoError(t, d.Sight(sighting.Sighting{At: sighting.Locator{Dir: "files", Name: "offsets"}, Mark: entry.Mark{Size: 1},
		Origin: "/offsets", Type: entry.File, Readable: true}))
	require.NoError(t, d.finish())
	require.NoError(t, c.Close())
	c, err = open(ctx, dir)
	require.NoError(t, err)
	defer c.Close()
	found, err := c.Search.Find(ctx, Query{Words: "offsets"})
	require.NoError(t, err)
	assert.Len(t, found.Copies, 1)
}

// Copies are taken out of a store while a survey, which has read what is known of them, is still at work.
func TestASurveyDoesNotWriteOverWhatChangedMeanwhile(t *testing.T) {
	ctx := t.Context()
	c, err := open(ctx, t.TempDir())
	require.NoError(t, err)
	defer c.Close()
	_, err = c.Machines.Add(ctx, rows.Machine{Name: "loft", At: "/x", Zone: "UTC"})
	require.NoError(t, err)
	src, err := c.Sources.Add(ctx, rows.Source{Source: copies.Source{Machine: "loft", AtMachine: "loft", Kind: "trash", At: "/home/ines",
		Traits: traits.Traits{Shape: traits.Removals}}})
	require.NoError(t, err)
	sight := func(d *Difference, names ...string) {
		for _, name := range names {
			require.NoError(t, d.Sight(sighting.Sighting{At: sighting.Locator{Dir: "files", Name: name}, Mark: entry.Mark{Size: 1},
				Origin: "/" + name, Type: entry.File, Readable: true}))
		}
	}
	d := c.Surveys.Begin(ctx, src, time.Unix(100, 0), Following{})
	sight(d, "offsets", "quote")
	_, err = d.End(nil)
	require.NoError(t, err)
	d = c.Surveys.Begin(ctx, src, time.Unix(200, 0), Following{})
	sight(d, "offsets", "order", "quote")
	found, err := c.Search.Find(ctx, Query{Words: "quote"})
	require.NoError(t, err)
	require.NoError(t, c.Surveys.End(ctx, []copies.ID{found.Copies[0].ID}))
	_, err = d.End(nil)
	require.ErrorIs(t, err, ErrMeanwhile)
	d = c.Surveys.Begin(ctx, src, time.Unix(300, 0), Following{})
	sight(d, "offsets", "order")
	_, err = d.End(nil)
	require.NoError(t, err)
	found, err = c.Search.Find(ctx, Query{})
	require.NoError(t, err)
	assert.Len(t, found.Copies, 2)
}

// points opens a catalogue with one store of points in time, and returns what sights one of those.
func points(t *testing.T) (c *records, src rows.Source, sight func(d *Difference, point string, names ...string)) {
	ctx := t.Context()
	c, err := open(ctx, t.TempDir())
	require.NoError(t, err)
	t.Cleanup(func() { c.Close() })
	_, err = c.Machines.Add(ctx, rows.Machine{Name: "loft", At: "/x", Zone: "UTC"})
	require.NoError(t, err)
	src, err = c.Sources.Add(ctx, rows.Source{Source: copies.Source{Machine: "loft", AtMachine: "loft", Kind: "snapshots", At: "/srv",
		Traits: traits.Traits{Shape: traits.Points}}})
	require.NoError(t, err)
	return c, src, func(d *Difference, point string, names ...string) {
		for _, name := range names {
			require.NoError(t, d.Sight(sighting.Sighting{At: sighting.Locator{Capture: point, Dir: "drawings", Name: name},
				Mark: entry.Mark{Size: 1}, Origin: "/" + name, Type: entry.File, Readable: true}))
		}
	}
}

// A survey is killed while it reads a point in time that is gone before the next, which reads another.
func TestWhatAnInterruptedPointShowedStaysWhereALaterOneShowsItToo(t *testing.T) {
	c, src, sight := points(t)
	d := c.Surveys.Begin(t.Context(), src, time.Unix(1, 0), Following{})
	require.NoError(t, d.Begin(sighting.Capture{Name: "a", At: time.Unix(100, 0)}))
	sight(d, "a", "keel", "mast")
	require.NoError(t, d.capture.closeFolder(t.Context()))
	require.NoError(t, d.capture.flush(t.Context()))
	d.Abandon()
	d = c.Surveys.Begin(t.Context(), src, time.Unix(2, 0), Following{})
	require.NoError(t, d.Begin(sighting.Capture{Name: "b", At: time.Unix(200, 0)}))
	sight(d, "b", "keel")
	_, err := d.End(nil)
	require.NoError(t, err)
	found, err := c.Search.Find(t.Context(), Query{Records: true})
	require.NoError(t, err)
	require.Len(t, found.Copies, 1, "the mast was in a alone")
	assert.Equal(t, "/keel", found.Copies[0].Place.Path)
	assert.Equal(t, time.Unix(200, 0).UTC(), found.Copies[0].Captured)
	assert.True(t, found.Copies[0].Readable)
}

func TestWhatCannotBeReadInTheMiddleOfAFolderStaysAsItIsKnown(t *testing.T) {
	c, src, sight := points(t)
	d := c.Surveys.Begin(t.Context(), src, time.Unix(1, 0), Following{})
	require.NoError(t, d.Begin(sighting.Capture{Name: "a", At: time.Unix(100, 0)}))
	sight(d, "a", "bilge", "keel", "mast")
	require.NoError(t, d.Begin(sighting.Capture{Name: "b", At: time.Unix(200, 0)}))
	sight(d, "b", "keel")
	require.NoError(t, d.Unread("drawings"))
	counts, err := d.End(nil)
	require.NoError(t, err)
	assert.EqualValues(t, 1, counts.Gone, "the bilge, which would have come before the keel")
	found, err := c.Search.Find(t.Context(), Query{Words: "mast"})
	require.NoError(t, err)
	require.Len(t, found.Copies, 1)
	assert.True(t, found.Copies[0].Open)
}

// The service's clock is set back between two surveys. Nothing that was seen is lost, what is gone is gone, and the next survey finds
// nothing new.
func TestAClockThatRunsBackwardsLosesNothing(t *testing.T) {
	ctx := t.Context()
	c, err := open(ctx, t.TempDir())
	require.NoError(t, err)
	defer c.Close()
	_, err = c.Machines.Add(ctx, rows.Machine{Name: "loft", At: "/x", Zone: "UTC"})
	require.NoError(t, err)
	src, err := c.Sources.Add(ctx, rows.Source{Source: copies.Source{Machine: "loft", AtMachine: "loft", Kind: "live", At: "/home",
		Traits: traits.Traits{Shape: traits.Now}}})
	require.NoError(t, err)
	for _, survey := range []struct {
		at          int64
		sizes       map[string]int64
		fresh, gone int
	}{
		{1000, map[string]int64{"lines": 1, "mould": 1, "quote": 1}, 3, 0},
		{900, map[string]int64{"lines": 2, "mould": 1}, 1, 2}, // set back: one changed, one gone
		{950, map[string]int64{"lines": 2, "mould": 1}, 0, 0},
		{2000, map[string]int64{"lines": 2, "mould": 1, "quote": 1}, 1, 0}, // and back again
	} {
		src, err = c.Sources.ByID(ctx, src.ID)
		require.NoError(t, err)
		d := c.Surveys.Begin(ctx, src, time.Unix(survey.at, 0), Following{})
		for _, name := range slices.Sorted(maps.Keys(survey.sizes)) {
			require.NoError(t, d.Sight(sighting.Sighting{At: sighting.Locator{Dir: "d", Name: name}, Origin: "/home/d/" + name, Type: entry.File,
				Size: survey.sizes[name], Mark: entry.Mark{Type: entry.File, Size: survey.sizes[name]}, Readable: true}))
		}
		o, err := d.End(nil)
		require.NoError(t, err)
		assert.Equal(t, []int{survey.fresh, survey.gone}, []int{int(o.Fresh), int(o.Gone)}, "at %d", survey.at)
		standing := map[string]int64{}
		for fact, err := range c.Copies.Under(ctx, place.Place{Machine: "loft", Path: "/home/d"}) {
			require.NoError(t, err)
			assert.False(t, fact.Last.Before(fact.First), "%s ends before it began", fact.Place)
			if fact.Last.Equal(must(c.Copies.Stores(ctx))[src.ID].Latest()) {
				standing[fact.Place.Name()] = fact.Size
			}
		}
		assert.Equal(t, survey.sizes, standing, "at %d", survey.at)
	}
	wrong, err := c.Check(ctx, nil)
	require.NoError(t, err)
	assert.Empty(t, wrong)
}

func must[T any](value T, err error) T {
	if err != nil {
		panic(err)
	}
	return value
}

// Names that share 250 bytes, very many in one folder, are told apart, found, and do not take a block beyond its bounds.
func TestNamesThatShareAlmostEverything(t *testing.T) {
	ctx := t.Context()
	c, src, _ := points(t)
	shared := strings.Repeat("offsets of the hull ", 12) + "of 0123456"
	require.Len(t, shared, 250)
	d := c.Surveys.Begin(ctx, src, time.Unix(1000, 0), Following{})
	require.NoError(t, d.Begin(sighting.Capture{Name: "p", At: time.Unix(900, 0)}))
	const names = 5000
	for n := range names {
		name := fmt.Sprintf("%s%05d", shared, n)
		require.NoError(t, d.Sight(sighting.Sighting{At: sighting.Locator{Capture: "p", Dir: "d", Name: name}, Origin: "/d/" + name,
			Type: entry.File, Size: int64(n), Mark: entry.Mark{Type: entry.File, Size: int64(n)}, Readable: true}))
	}
	_, err := d.End(nil)
	require.NoError(t, err)
	for _, n := range []int{0, 1023, 1024, names - 1} {
		found, err := c.Search.Find(ctx, Query{Words: fmt.Sprintf("0123456%05d", n)})
		require.NoError(t, err)
		require.Len(t, found.Copies, 1)
		assert.EqualValues(t, n, found.Copies[0].Size)
	}
	found, err := c.Search.Find(ctx, Query{Words: "hull", Limit: 10})
	require.NoError(t, err)
	assert.Len(t, found.Copies, 10)
	assert.False(t, found.Exact)
}
