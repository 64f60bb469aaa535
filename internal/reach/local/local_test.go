package local_test

import (
	"os"
	"path/filepath"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/problem"
	"humble-rewind/internal/reach"
	"humble-rewind/internal/reach/local"
	"humble-rewind/internal/reach/reachtest"
)

// all is what the service's own host tells.
var all = reachtest.Tells{Identity: true, Changed: true, Links: true, Owners: true, Room: true, Random: true}

func TestHoldsTheContractOfReach(t *testing.T) {
	files, err := local.Open(t.TempDir())
	require.NoError(t, err)
	defer files.Close()
	reachtest.Run(t, files, all)
}

// What a way cannot tell is unknown to whoever asks, and nothing else of the contract suffers from that.
func TestHoldsTheContractThroughAPoorWayAndALimit(t *testing.T) {
	files, err := local.Open(t.TempDir())
	require.NoError(t, err)
	defer files.Close()
	reachtest.Run(t, reach.Limited(reachtest.Poor(files, 0), 1), reachtest.Tells{})
	files, err = local.Open(t.TempDir())
	require.NoError(t, err)
	defer files.Close()
	reachtest.Run(t, reach.Limited(files, 1), all)
}

func TestOpenRefusesWhatIsNoDirectory(t *testing.T) {
	file := filepath.Join(t.TempDir(), "file")
	require.NoError(t, os.WriteFile(file, nil, 0o644))
	for _, at := range []string{"relative", file, file + "-missing"} {
		_, err := local.Open(at)
		assert.Error(t, err, at)
	}
	_, err := reach.Ways{local.Way()}.Open(t.Context(), "sftp://x/")
	assert.ErrorContains(t, err, "no way is known")
}

func TestSpecialFilesNeitherBlockNorCount(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, unix.Mkfifo(filepath.Join(dir, "pipe"), 0o644))
	files, err := local.Open(dir)
	require.NoError(t, err)
	defer files.Close()
	root, err := files.Tree(t.Context(), "/")
	require.NoError(t, err)
	defer root.Close()
	i, err := root.Look(t.Context(), "pipe")
	require.NoError(t, err)
	assert.Equal(t, entry.Other, i.Type)
	_, err = root.Open(t.Context(), "pipe")
	assert.ErrorIs(t, err, problem.NotFile)
	_, err = reach.ReadFile(t.Context(), root, "pipe", 10)
	assert.ErrorIs(t, err, problem.NotFile)
}

// A folder is swapped for a link, over and over, while it is being opened: it is opened itself or not at all.
func TestASwappedFolderIsNeverEnteredThroughItsLink(t *testing.T) {
	dir := t.TempDir()
	for _, d := range []string{"home/docs", "secret"} {
		require.NoError(t, os.MkdirAll(filepath.Join(dir, d), 0o755))
	}
	require.NoError(t, os.WriteFile(filepath.Join(dir, "secret/key"), nil, 0o600))
	require.NoError(t, os.Symlink("../secret", filepath.Join(dir, "home/link")))
	files, err := local.Open(dir)
	require.NoError(t, err)
	defer files.Close()
	stop := make(chan struct{})
	var swapping sync.WaitGroup
	swapping.Go(func() {
		for {
			select {
			case <-stop:
				return
			default:
				_ = unix.Renameat2(
					unix.AT_FDCWD,
					filepath.Join(dir, "home/docs"),
					unix.AT_FDCWD,
					filepath.Join(dir, "home/link"),
					unix.RENAME_EXCHANGE,
				)
			}
		}
	})
	entered := 0
	for range 3000 {
		folder, err := files.Folder(t.Context(), "/home/docs")
		if err != nil {
			continue
		}
		entered++
		_, err = folder.Look(t.Context(), "key")
		assert.Error(t, err, "the secret folder was entered")
		folder.Close()
	}
	close(stop)
	swapping.Wait()
	assert.Positive(t, entered)
}
