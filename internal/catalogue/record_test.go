package catalogue

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/sighting"
	"humble-rewind/internal/core/traits"
)

// A survey is killed after it recorded what it saw and before the names of that were fed to the search.
func TestNamesLeftUnfedByAKilledSurveyAreFedAtTheNextStart(t *testing.T) {
	dir, ctx := t.TempDir(), t.Context()
	c, err := Open(ctx, dir)
	require.NoError(t, err)
	_, err = c.AddMachine(ctx, Machine{Name: "loft", At: "/x", Zone: "UTC"})
	require.NoError(t, err)
	src, err := c.AddSource(ctx, Source{Machine: "loft", AtMachine: "loft", Kind: "trash", At: "/home/ines"})
	require.NoError(t, err)
	d := c.Survey(ctx, src, time.Unix(100, 0), Following{})
	require.NoError(t, d.Sight(sighting.Sighting{At: sighting.Locator{Dir: "files", Name: "offsets"}, Mark: entry.Mark{Size: 1},
		Origin: "/offsets", Type: entry.File, Readable: true}))
	require.NoError(t, d.finish())
	require.NoError(t, c.Close())
	c, err = Open(ctx, dir)
	require.NoError(t, err)
	defer c.Close()
	found, err := c.Find(ctx, Query{Words: "offsets"})
	require.NoError(t, err)
	assert.Len(t, found.Copies, 1)
}

// Copies are taken out of a store while a survey, which has read what is known of them, is still at work.
func TestASurveyDoesNotWriteOverWhatChangedMeanwhile(t *testing.T) {
	ctx := t.Context()
	c, err := Open(ctx, t.TempDir())
	require.NoError(t, err)
	defer c.Close()
	_, err = c.AddMachine(ctx, Machine{Name: "loft", At: "/x", Zone: "UTC"})
	require.NoError(t, err)
	src, err := c.AddSource(ctx, Source{Machine: "loft", AtMachine: "loft", Kind: "trash", At: "/home/ines",
		Traits: traits.Traits{Shape: traits.Removals}})
	require.NoError(t, err)
	sight := func(d *Difference, names ...string) {
		for _, name := range names {
			require.NoError(t, d.Sight(sighting.Sighting{At: sighting.Locator{Dir: "files", Name: name}, Mark: entry.Mark{Size: 1},
				Origin: "/" + name, Type: entry.File, Readable: true}))
		}
	}
	d := c.Survey(ctx, src, time.Unix(100, 0), Following{})
	sight(d, "offsets", "quote")
	_, err = d.End(nil)
	require.NoError(t, err)
	d = c.Survey(ctx, src, time.Unix(200, 0), Following{})
	sight(d, "offsets", "order", "quote")
	found, err := c.Find(ctx, Query{Words: "quote"})
	require.NoError(t, err)
	require.NoError(t, c.EndCopies(ctx, []int64{found.Copies[0].ID}))
	_, err = d.End(nil)
	require.ErrorIs(t, err, ErrMeanwhile)
	d = c.Survey(ctx, src, time.Unix(300, 0), Following{})
	sight(d, "offsets", "order")
	_, err = d.End(nil)
	require.NoError(t, err)
	found, err = c.Find(ctx, Query{})
	require.NoError(t, err)
	assert.Len(t, found.Copies, 2)
}

// points opens a catalogue with one store of points in time, and returns what sights one of those.
func points(t *testing.T) (c *Catalogue, src Source, sight func(d *Difference, point string, names ...string)) {
	ctx := t.Context()
	c, err := Open(ctx, t.TempDir())
	require.NoError(t, err)
	t.Cleanup(func() { c.Close() })
	_, err = c.AddMachine(ctx, Machine{Name: "loft", At: "/x", Zone: "UTC"})
	require.NoError(t, err)
	src, err = c.AddSource(ctx, Source{Machine: "loft", AtMachine: "loft", Kind: "snapshots", At: "/srv",
		Traits: traits.Traits{Shape: traits.Points}})
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
	d := c.Survey(t.Context(), src, time.Unix(1, 0), Following{})
	require.NoError(t, d.Begin(sighting.Capture{Name: "a", At: time.Unix(100, 0)}))
	sight(d, "a", "keel", "mast")
	require.NoError(t, d.capture.closeFolder(t.Context()))
	require.NoError(t, d.capture.flush(t.Context()))
	d.Abandon()
	d = c.Survey(t.Context(), src, time.Unix(2, 0), Following{})
	require.NoError(t, d.Begin(sighting.Capture{Name: "b", At: time.Unix(200, 0)}))
	sight(d, "b", "keel")
	_, err := d.End(nil)
	require.NoError(t, err)
	found, err := c.Find(t.Context(), Query{Records: true})
	require.NoError(t, err)
	require.Len(t, found.Copies, 1, "the mast was in a alone")
	assert.Equal(t, "/keel", found.Copies[0].Place.Path)
	assert.Equal(t, time.Unix(200, 0).UTC(), found.Copies[0].Captured)
	assert.True(t, found.Copies[0].Readable)
}

func TestWhatCannotBeReadInTheMiddleOfAFolderStaysAsItIsKnown(t *testing.T) {
	c, src, sight := points(t)
	d := c.Survey(t.Context(), src, time.Unix(1, 0), Following{})
	require.NoError(t, d.Begin(sighting.Capture{Name: "a", At: time.Unix(100, 0)}))
	sight(d, "a", "bilge", "keel", "mast")
	require.NoError(t, d.Begin(sighting.Capture{Name: "b", At: time.Unix(200, 0)}))
	sight(d, "b", "keel")
	require.NoError(t, d.Unread("drawings"))
	counts, err := d.End(nil)
	require.NoError(t, err)
	assert.EqualValues(t, 1, counts.Gone, "the bilge, which would have come before the keel")
	found, err := c.Find(t.Context(), Query{Words: "mast"})
	require.NoError(t, err)
	require.Len(t, found.Copies, 1)
	assert.False(t, found.Copies[0].Ended)
}
