package local_test

import (
	"bytes"
	"context"
	"io"
	"math"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humble-rewind/internal/reach"
	"humble-rewind/internal/reach/local"
)

func TestSequentialReadingSkipsHolesAndReadsTheSame(t *testing.T) {
	dir := t.TempDir()
	f, err := os.Create(filepath.Join(dir, "sparse"))
	require.NoError(t, err)
	require.NoError(t, f.Truncate(40<<20))
	for _, at := range []int64{0, 5<<20 + 17, 39 << 20} {
		_, err := f.WriteAt([]byte("plank"), at)
		require.NoError(t, err)
	}
	require.NoError(t, f.Close())
	want, err := os.ReadFile(filepath.Join(dir, "sparse"))
	require.NoError(t, err)
	files, err := local.Open(dir)
	require.NoError(t, err)
	defer files.Close()
	root, err := files.Tree(t.Context(), "/")
	require.NoError(t, err)
	defer root.Close()
	for _, size := range []int64{0, 3, 4 << 20, 40 << 20, math.MaxInt64} {
		file, err := root.Open(t.Context(), "sparse")
		require.NoError(t, err)
		stream, err := reach.AtMost(t.Context(), file, size)
		require.NoError(t, err)
		got, err := io.ReadAll(stream)
		require.NoError(t, err)
		assert.True(t, bytes.Equal(want[:min(size, int64(len(want)))], got), "%d bytes", size)
		require.NoError(t, file.Close())
	}
	// Two TiB of nothing do not keep anybody from leaving.
	require.NoError(t, os.Truncate(filepath.Join(dir, "sparse"), 2<<40))
	file, err := root.Open(t.Context(), "sparse")
	require.NoError(t, err)
	defer file.Close()
	ctx, cancel := context.WithTimeout(t.Context(), 100*time.Millisecond)
	defer cancel()
	stream, err := file.Stream(ctx)
	require.NoError(t, err)
	_, err = io.Copy(io.Discard, stream)
	assert.ErrorIs(t, err, context.DeadlineExceeded)
}
