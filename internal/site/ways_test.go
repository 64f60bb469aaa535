package site_test

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humble-rewind/internal/core/traits"
	"humble-rewind/internal/reach"
	"humble-rewind/internal/reach/local"
	"humble-rewind/internal/reach/reachtest"
	"humble-rewind/internal/registry"
	"humble-rewind/internal/sitetest"
)

// What the way to a machine can tell is kept with the machine, is what its stores are judged by without asking it, and is another once it is
// reached in another way.
func TestWaysAreKeptWithTheirMachines(t *testing.T) {
	s := sitetest.NewWith(t, reach.Ways{local.Way(), reachtest.PoorWay(local.Way(), time.Millisecond)})
	root := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(root, "Keel.txt"), []byte("oak"), 0o644))
	written := time.Date(2026, 11, 3, 16, 30, 0, 123456789, time.UTC)
	require.NoError(t, os.Chtimes(filepath.Join(root, "Keel.txt"), written, written))
	m, err := s.AddMachine(t.Context(), registry.NewMachine{Name: "slip", At: "poor://" + root})
	require.NoError(t, err)
	far := traits.Way{RoundTrip: time.Millisecond, Clock: time.Second}
	assert.Equal(t, far, m.Way)
	src, err := s.AddSource(t.Context(), registry.NewSource{Machine: "slip", Kind: "live", At: "/"})
	require.NoError(t, err)
	s.Survey(src)
	judged := func() (traits.Way, time.Duration) {
		stores, err := s.View.Copies.Stores(t.Context())
		require.NoError(t, err)
		return stores[src.ID].Way, stores[src.ID].Resolution
	}
	way, tick := judged()
	assert.Equal(t, far, way)
	assert.Equal(t, time.Second, tick, "its files cannot be told apart more finely than it tells")

	_, err = s.ChangeMachine(t.Context(), "slip", registry.MachineChanges{At: &root})
	require.NoError(t, err)
	_, err = s.Site.Files(t.Context(), "slip")
	require.NoError(t, err)
	src, err = s.Catalogue.Sources.ByID(t.Context(), src.ID)
	require.NoError(t, err)
	s.Survey(src)
	way, tick = judged()
	assert.Equal(t, traits.Way{Owners: true}, way)
	assert.Less(t, tick, time.Second)
}
