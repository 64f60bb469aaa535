package safekeeping_test

import (
	"context"
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"testing/iotest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humble-rewind/internal/safekeeping"
)

func files(t *testing.T, dir string) (all []string) {
	require.NoError(t, filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
		if err == nil && !d.IsDir() {
			all = append(all, path)
		}
		return err
	}))
	return all
}

func TestContentsAreKeptOnceAndCheckedWhenRead(t *testing.T) {
	dir := t.TempDir()
	s, err := safekeeping.Open(dir, 0)
	require.NoError(t, err)
	defer s.Close()
	digest, size, err := s.Put(t.Context(), strings.NewReader("kept"))
	require.NoError(t, err)
	assert.EqualValues(t, 4, size)
	again, _, err := s.Put(t.Context(), strings.NewReader("kept"))
	require.NoError(t, err)
	assert.Equal(t, digest, again)
	require.Len(t, files(t, dir), 1)

	r, err := s.Get(digest)
	require.NoError(t, err)
	content, err := io.ReadAll(r)
	require.NoError(t, err)
	assert.Equal(t, "kept", string(content))
	require.NoError(t, r.Close())

	path := files(t, dir)[0]
	require.NoError(t, os.Chmod(path, 0o600))
	require.NoError(t, os.WriteFile(path, []byte("kepT"), 0o600))
	r, err = s.Get(digest)
	require.NoError(t, err)
	defer r.Close()
	_, err = io.Copy(io.Discard, r)
	assert.ErrorIs(t, err, safekeeping.ErrDamaged)
}

func TestAFailedPutLeavesNothing(t *testing.T) {
	dir := t.TempDir()
	s, err := safekeeping.Open(dir, 0)
	require.NoError(t, err)
	defer s.Close()
	fault := errors.New("drive fault")
	_, _, err = s.Put(t.Context(), io.MultiReader(strings.NewReader("half"), iotest.ErrReader(fault)))
	assert.ErrorIs(t, err, fault)
	cancelled, cancel := context.WithCancel(t.Context())
	cancel()
	_, _, err = s.Put(cancelled, strings.NewReader("x"))
	assert.ErrorIs(t, err, context.Canceled)
	assert.Empty(t, files(t, dir))
	_, err = s.Get("../../etc/passwd")
	assert.ErrorContains(t, err, "not a digest")
}

func TestSafekeepingHasALimitAndAnExpiry(t *testing.T) {
	dir := t.TempDir()
	s, err := safekeeping.Open(dir, 10)
	require.NoError(t, err)
	old, _, err := s.Put(t.Context(), strings.NewReader("old"))
	require.NoError(t, err)
	_, _, err = s.Put(t.Context(), strings.NewReader("fresh"))
	require.NoError(t, err)
	_, _, err = s.Put(t.Context(), strings.NewReader("fresh"))
	require.NoError(t, err, "what is kept already takes no more room")
	_, _, err = s.Put(t.Context(), strings.NewReader("too much"))
	require.ErrorIs(t, err, safekeeping.ErrFull)
	assert.EqualValues(t, 8, s.Size())
	assert.Len(t, files(t, dir), 2, "what did not fit leaves nothing behind")

	past := time.Now().Add(-48 * time.Hour)
	require.NoError(t, os.Chtimes(filepath.Join(dir, old[:2], old[2:]), past, past))
	removed, err := s.Expire(time.Now(), 1)
	require.NoError(t, err)
	assert.EqualValues(t, 3, removed)
	_, _, err = s.Put(t.Context(), strings.NewReader("fits!"))
	require.NoError(t, err, "what expired makes room")
	_, err = s.Get(old)
	assert.ErrorIs(t, err, fs.ErrNotExist)
	require.NoError(t, s.Close())
	again, err := safekeeping.Open(dir, 10)
	require.NoError(t, err)
	defer again.Close()
	assert.EqualValues(t, 10, again.Size(), "the size is known after a restart")
}

// A clock that jumps by years does away with nothing, however often the service is started meanwhile; days that pass do.
func TestAWrongClockExpiresNothing(t *testing.T) {
	s, err := safekeeping.Open(t.TempDir(), 0)
	require.NoError(t, err)
	defer s.Close()
	now := time.Now()
	expire := func(at time.Time, want string) {
		t.Helper()
		removed, err := s.Expire(at, 30)
		require.NoError(t, err)
		assert.EqualValues(t, len(want), removed)
	}
	expire(now, "")
	_, _, err = s.Put(t.Context(), strings.NewReader("old"))
	require.NoError(t, err)
	for range 20 {
		expire(now.AddDate(10, 0, 0), "")
	}
	expire(now.AddDate(-50, 0, 0), "")
	for day := range 30 {
		expire(now.AddDate(0, 0, day), "")
	}
	expire(now.AddDate(0, 0, 30).Add(time.Hour), "old")
}

// What turns out too large is noticed before it fills the drive; what is kept already needs no room.
func TestTheLimitIsHeldWhileWriting(t *testing.T) {
	dir := t.TempDir()
	s, err := safekeeping.Open(dir, 1<<20)
	require.NoError(t, err)
	defer s.Close()
	kept := strings.Repeat("plank ", 100_000)
	digest, _, err := s.Put(t.Context(), strings.NewReader(kept))
	require.NoError(t, err)
	most := int64(0)
	_, _, err = s.Put(t.Context(), io.LimitReader(watched{func() {
		files, err := filepath.Glob(filepath.Join(dir, "incoming-*"))
		require.NoError(t, err)
		for _, f := range files {
			if info, err := os.Stat(f); err == nil {
				most = max(most, info.Size())
			}
		}
	}}, 20<<20))
	require.ErrorIs(t, err, safekeeping.ErrFull)
	assert.LessOrEqual(t, most, int64(1<<20))
	again, _, err := s.Put(t.Context(), strings.NewReader(kept))
	require.NoError(t, err)
	assert.Equal(t, digest, again)
}

// watched reads x for ever, and calls itself each time.
type watched struct{ look func() }

func (w watched) Read(p []byte) (int, error) {
	w.look()
	for i := range p {
		p[i] = 'x'
	}
	return len(p), nil
}
