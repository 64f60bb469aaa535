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
