package reach_test

import (
	"context"
	"io"
	"os"
	"path/filepath"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humble-rewind/internal/reach"
	"humble-rewind/internal/reach/local"
)

// What a file offers is offered through whatever stands around its session, and each call is counted there.
func TestWhatAFileOffersPassesThrough(t *testing.T) {
	dir := t.TempDir()
	f, err := os.Create(filepath.Join(dir, "sparse"))
	require.NoError(t, err)
	require.NoError(t, f.Truncate(8<<20))
	_, err = f.WriteAt([]byte("plank"), 4<<20)
	require.NoError(t, err)
	require.NoError(t, f.Close())
	plain, err := local.Open(dir)
	require.NoError(t, err)
	defer plain.Close()
	calls := atomic.Int32{}
	around := reach.Around(plain, func(context.Context) (func(), error) {
		calls.Add(1)
		return func() {}, nil
	})
	counted := func(what string, call func()) {
		before := calls.Load()
		call()
		assert.Greater(t, calls.Load(), before, "%s goes past what stands around it", what)
	}
	asked := map[string][2]any{}
	for i, files := range []reach.Session{plain, around} {
		folder, err := files.Folder(t.Context(), "/")
		require.NoError(t, err)
		defer folder.Close()
		file, err := folder.Open(t.Context(), "sparse")
		require.NoError(t, err)
		defer file.Close()
		gaps, ok := file.(reach.Gaps)
		require.True(t, ok)
		note := func(what string, answer any) {
			both := asked[what]
			both[i] = answer
			asked[what] = both
		}
		call := func(what string, call func()) {
			if i == 1 {
				counted(what, call)
			} else {
				call()
			}
		}
		call("where the next bytes are", func() {
			start, end, err := gaps.NextData(1 << 20)
			note("gaps", []any{start, end, err})
		})
		made, err := folder.Create(t.Context(), []string{"plain", "around"}[i])
		require.NoError(t, err)
		defer made.Close()
		call("sharing bytes", func() { note("cloned", made.(reach.Cloner).Clone(file)) })
		call("writing", func() { _, err = io.WriteString(made, "oak") })
		require.NoError(t, err)
		call("reading back", func() {
			back := make([]byte, 3)
			n, err := made.(io.ReaderAt).ReadAt(back, 0)
			note("back", []any{n, err})
		})
		call("forgetting", func() { note("forgotten", reach.Forget(t.Context(), made, 0, 3)) })
		call("the mode", func() { note("mode", reach.SetMode(t.Context(), made, 0o600)) })
	}
	assert.Len(t, asked, 5)
	for what, both := range asked {
		assert.Equal(t, both[0], both[1], what)
	}
}

// Whoever waits for a turn to read or to write leaves when his context ends.
func TestWaitingForATurnCanBeLeft(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "keel"), []byte("oak"), 0o644))
	plain, err := local.Open(dir)
	require.NoError(t, err)
	defer plain.Close()
	busy := make(chan struct{}, 1)
	files := reach.Around(plain, func(ctx context.Context) (func(), error) {
		select {
		case busy <- struct{}{}:
			return func() { <-busy }, nil
		case <-ctx.Done():
			return nil, ctx.Err()
		}
	})
	folder, err := files.Folder(t.Context(), "/")
	require.NoError(t, err)
	defer folder.Close()
	file, err := folder.Open(t.Context(), "keel")
	require.NoError(t, err)
	defer file.Close()
	ctx, leave := context.WithTimeout(t.Context(), 50*time.Millisecond)
	defer leave()
	made, err := folder.Create(ctx, "mast")
	require.NoError(t, err)
	defer made.Close()
	busy <- struct{}{} // somebody else has the only turn, for ever
	_, err = reach.UntilAt(ctx, file.(io.ReaderAt)).ReadAt(make([]byte, 3), 0)
	require.ErrorIs(t, err, context.DeadlineExceeded)
	_, err = made.Write([]byte("oak"))
	require.ErrorIs(t, err, context.DeadlineExceeded)
}
