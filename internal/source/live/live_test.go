package live_test

import (
	"context"
	"io/fs"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/sighting"
	"humble-rewind/internal/reach/local"
	"humble-rewind/internal/source"
	"humble-rewind/internal/source/live"
)

type report struct {
	source.Reporter
	origins []string
}

func (r *report) Sight(s sighting.Sighting) error {
	r.origins = append(r.origins, s.Origin)
	return nil
}

type nothing struct{ source.Known }

func (nothing) Marks(context.Context, string) (func(string) entry.Mark, error) {
	return func(string) entry.Mark { return entry.Mark{} }, nil
}

func (nothing) Unchanged(context.Context, string, []byte, int) (bool, error) { return false, nil }

// A machine's own files are read but for its trashes, what other sources read, folders that hold no files, and what is excluded; an empty
// folder is taken for a drive that is not mounted.
func TestAMachinesOwnFilesAreReadOnce(t *testing.T) {
	root := t.TempDir()
	for _, file := range []string{"home/ines/Keel.svg", "home/ines/.local/share/Trash/files/old.svg", "home/ines/Scratch/half.svg",
		"home/ines/.hidden/Keel.svg", "proc/1/mem", "srv/points/2026-11-01/Keel.svg", "srv/Plans/Keel.svg"} {
		require.NoError(t, os.MkdirAll(filepath.Join(root, filepath.Dir(file)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(root, file), []byte("oak"), 0o600))
	}
	require.NoError(t, os.Mkdir(filepath.Join(root, "mnt"), 0o755))
	files, err := local.Open(root)
	require.NoError(t, err)
	defer files.Close()
	setup := source.Setup{Files: files, At: "/", Exclusions: []string{"Scratch"}, Stores: []string{"/srv/points"}}
	store, err := live.Kind.Open(t.Context(), setup)
	require.NoError(t, err)
	var got report
	require.NoError(t, store.Survey(t.Context(), nothing{}, &got))
	assert.ElementsMatch(t, []string{"/home", "/home/ines", "/home/ines/.hidden", "/home/ines/.hidden/Keel.svg", "/home/ines/.local",
		"/home/ines/.local/share", "/home/ines/Keel.svg", "/mnt", "/srv", "/srv/Plans", "/srv/Plans/Keel.svg"}, got.origins)

	setup.At = "/mnt"
	store, err = live.Kind.Open(t.Context(), setup)
	require.NoError(t, err)
	assert.ErrorIs(t, store.Survey(t.Context(), nothing{}, &got), fs.ErrNotExist, "what is known of it stays")
	setup.At = "/gone"
	_, err = live.Kind.Describe(t.Context(), setup)
	assert.ErrorIs(t, err, fs.ErrNotExist)
	setup.At, setup.Exclusions = "/", []string{"a[b"}
	_, err = live.Kind.Describe(t.Context(), setup)
	assert.Error(t, err, "a pattern that cannot be read leaves nothing out")
}

// The folders that hold the homes are suggested, each once; a home at the root is one by itself.
func TestHomesAreSuggestedByTheFolderThatHoldsThem(t *testing.T) {
	assert.Equal(t, []string{"/home", "/root", "/srv/homes"},
		live.HomeFolders([]string{"/home/ines", "/srv/homes/oda", "/root", "/home/tomas"}))
	root := t.TempDir()
	require.NoError(t, os.MkdirAll(filepath.Join(root, "home/ines"), 0o755))
	files, err := local.Open(root)
	require.NoError(t, err)
	defer files.Close()
	found, err := live.Kind.Suggest(t.Context(), source.Setup{Files: files, Homes: []string{"/home/ines", "/srv/homes/oda"}})
	require.NoError(t, err)
	require.Len(t, found, 1, "what is not there is not suggested")
	assert.Equal(t, "/home", found[0].At)
}
