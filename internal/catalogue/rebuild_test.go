package catalogue

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/sighting"
)

// What technicians did comes back from the daily copy; what surveys saw is to be read anew, and no number is given twice.
func TestADamagedCatalogueIsRebuiltFromTheDailyCopy(t *testing.T) {
	dir, ctx := t.TempDir(), t.Context()
	c, err := Open(ctx, dir)
	require.NoError(t, err)
	for i := range 60 {
		_, err := c.Machines.Add(ctx, Machine{Name: fmt.Sprintf("m%d", i), At: "/", Zone: "UTC", Notes: []string{"so that there are pages"}})
		require.NoError(t, err)
	}
	src, err := c.Sources.Add(ctx, Source{Source: copies.Source{Kind: "trash", Machine: "m1", AtMachine: "m1", At: "/home"}})
	require.NoError(t, err)
	d := c.Surveys.Begin(ctx, src, time.Unix(100, 0), Following{})
	require.NoError(t, d.Sight(sighting.Sighting{At: sighting.Locator{Name: "quote"}, Mark: entry.Mark{Size: 1}, Origin: "/home/quote",
		Type: entry.File, Readable: true}))
	_, err = d.End(nil)
	require.NoError(t, err)
	r, err := c.Receipts.Begin(ctx, Receipt{At: time.Unix(200, 0), By: "technician"}, func(put func([]ReceiptItem) error) error {
		return put([]ReceiptItem{{Copy: 1, Outcome: ItemDone, Work: []byte("{}")}})
	})
	require.NoError(t, err)
	require.NoError(t, c.CopyRecords(ctx))
	require.NoError(t, c.CopyRecords(ctx), "and over an older one")
	want, err := c.Machines.All(ctx)
	require.NoError(t, err)
	require.NoError(t, c.Close())
	require.NoError(t, os.Truncate(filepath.Join(dir, File), 5000))
	_, err = Open(ctx, dir)
	require.ErrorIs(t, err, ErrDamaged)

	aside, from, err := Rebuild(ctx, dir, time.Now())
	require.NoError(t, err)
	assert.WithinDuration(t, time.Now(), from, time.Minute)
	assert.FileExists(t, filepath.Join(aside, File), "the damaged one is kept")
	c, err = Open(ctx, dir)
	require.NoError(t, err)
	defer c.Close()
	now, err := c.Machines.All(ctx)
	require.NoError(t, err)
	assert.Equal(t, want, now)
	items, err := c.Receipts.Items(ctx, r.ID, 0, 0)
	require.NoError(t, err)
	assert.Len(t, items, 1)
	_, err = c.Everything().Copies.ByID(ctx, 1)
	assert.ErrorContains(t, err, "read anew")
	problem, err := c.Check(ctx, nil)
	require.NoError(t, err)
	assert.Empty(t, problem)
}

// readAnew are the tables of what surveys find again, and of what nobody needs after a rebuild: console sessions.
var readAnew = []string{"blocks", "captures", "contents", "counters", "dirs", "elsewhere", "examined", "folders", "former_copies",
	"goose_db_version", "id_runs", "key_chunks", "key_runs", "link_targets", "name_chunks", "pending_blocks", "pending_folders", "sessions", "sliced_folders"}

// Every table is copied daily, or it is known that what is in it can be read anew: none is forgotten.
func TestEveryTableIsCopiedOrReadAnew(t *testing.T) {
	c, err := Open(t.Context(), t.TempDir())
	require.NoError(t, err)
	defer c.Close()
	rows, err := c.f.Read.QueryContext(t.Context(), "SELECT name FROM sqlite_master WHERE type = 'table' AND name NOT LIKE 'sqlite_%' ORDER BY name")
	require.NoError(t, err)
	defer rows.Close()
	var all []string
	for rows.Next() {
		var name string
		require.NoError(t, rows.Scan(&name))
		all = append(all, name)
	}
	require.NoError(t, rows.Err())
	known := slices.Concat(copied, readAnew)
	slices.Sort(known)
	assert.Equal(t, all, known)
}
