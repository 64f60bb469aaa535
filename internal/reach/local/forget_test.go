//go:build linux

package local_test

import (
	"bytes"
	"io"
	"os"
	"path/filepath"
	"slices"
	"testing"
	"unsafe"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"humble-rewind/internal/reach"
	"humble-rewind/internal/reach/local"
)

// What is forgotten is no longer in memory, so that the next read comes from the drive; and it reads the same.
func TestWhatIsForgottenIsReadFromTheDrive(t *testing.T) {
	dir := t.TempDir()
	var fs unix.Statfs_t
	require.NoError(t, unix.Statfs(dir, &fs))
	if fs.Type == unix.TMPFS_MAGIC {
		t.Skip("a file system in memory forgets nothing")
	}
	files, err := local.Open(dir)
	require.NoError(t, err)
	defer files.Close()
	folder, err := files.Folder(t.Context(), "/")
	require.NoError(t, err)
	defer folder.Close()
	made, err := folder.Create(t.Context(), "film")
	require.NoError(t, err)
	defer made.Close()
	want := bytes.Repeat([]byte("larch plank\n"), 100_000)
	_, err = made.Write(want)
	require.NoError(t, err)
	require.True(t, slices.Contains(resident(t, filepath.Join(dir, "film")), true), "what was just written is in memory")
	require.NoError(t, reach.Forget(t.Context(), made, 0, int64(len(want))))
	kept := resident(t, filepath.Join(dir, "film"))
	assert.False(t, slices.Contains(kept[:len(kept)-1], true), "but for the last page, which may be needed to grow it")
	content, err := made.Stream(t.Context())
	require.NoError(t, err)
	defer content.Close()
	is, err := io.ReadAll(content)
	require.NoError(t, err)
	assert.Equal(t, want, is)
}

// resident tells which pages of a file are in memory (mincore).
func resident(t *testing.T, path string) []bool {
	f, err := os.Open(path)
	require.NoError(t, err)
	defer f.Close()
	info, err := f.Stat()
	require.NoError(t, err)
	mapped, err := unix.Mmap(int(f.Fd()), 0, int(info.Size()), unix.PROT_READ, unix.MAP_SHARED)
	require.NoError(t, err)
	defer func() { assert.NoError(t, unix.Munmap(mapped)) }()
	pages := make([]byte, (len(mapped)+os.Getpagesize()-1)/os.Getpagesize())
	_, _, errno := unix.Syscall(unix.SYS_MINCORE, uintptr(unsafe.Pointer(&mapped[0])), uintptr(len(mapped)), uintptr(unsafe.Pointer(&pages[0])))
	require.Zero(t, errno)
	in := make([]bool, len(pages))
	for n, page := range pages {
		in[n] = page&1 != 0
	}
	return in
}
