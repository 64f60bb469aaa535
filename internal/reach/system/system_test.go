package system_test

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humble-rewind/internal/core/problem"
	"humble-rewind/internal/reach/system"
)

// What the system really answers becomes the problem that it is, whichever call it came of, and without the path that was tried.
func TestWhatTheSystemAnswersIsAProblem(t *testing.T) {
	dir := t.TempDir()
	at := func(name string) string { return filepath.Join(dir, name) }
	require.NoError(t, os.WriteFile(at("file"), nil, 0o600))
	require.NoError(t, os.Mkdir(at("folder"), 0o700))
	require.NoError(t, os.WriteFile(at("folder/in it"), nil, 0o600))
	require.NoError(t, os.Symlink("loop", at("loop")))
	for name, c := range map[string]struct {
		do   func() error
		want problem.Code
	}{
		"nothing there":     {func() error { _, err := os.Stat(at("gone")); return err }, problem.NotThere},
		"a file in the way": {func() error { _, err := os.Stat(at("file/gone")); return err }, problem.FileInTheWay},
		"taken":             {func() error { return os.Mkdir(at("folder"), 0o700) }, problem.Taken},
		"taken by a link":   {func() error { return os.Symlink("x", at("file")) }, problem.Taken},
		"not empty":         {func() error { return syscall.Rmdir(at("folder")) }, problem.NotEmpty},
		"a folder":          {func() error { _, err := os.ReadFile(at("folder")); return err }, problem.FolderInTheWay},
		"a loop":            {func() error { _, err := os.ReadFile(at("loop")); return err }, problem.LinkInTheWay},
		"too long":          {func() error { return os.Mkdir(at(strings.Repeat("x", 300)), 0o700) }, problem.NameTooLong},
		"full":              {func() error { return os.WriteFile("/dev/full", []byte("x"), 0) }, problem.Full},
	} {
		err := c.do()
		require.Error(t, err, name)
		assert.Equal(t, error(c.want), system.Problem(err), name)
		assert.NotContains(t, system.Problem(err).Error(), dir, name)
		assert.ErrorIs(t, system.Problem(fmt.Errorf("wrapped: %w", err)), c.want, name)
		raw, ok := system.Raw(err)
		assert.True(t, ok && strings.Contains(err.Error(), raw), "%s: %q is what the system says", name, raw)
	}
}

// A number that nobody thought of is still one of the system's, and an error that is none of them stays as it is.
func TestWhatIsNotKnownIsSaidAsItIs(t *testing.T) {
	assert.NoError(t, system.Problem(nil))
	for number := syscall.Errno(1); number < 134; number++ {
		err := system.Problem(&fs.PathError{Op: "open", Path: "/home/ines/Keel.svg", Err: number})
		code, ok := problem.Of(err)
		assert.True(t, ok, "%d: %v", number, err)
		if code == problem.System {
			assert.Contains(t, err.Error(), number.Error(), "a number without a meaning here keeps the system's words")
		}
	}
	own := errors.New("its record is torn")
	assert.Equal(t, own, system.Problem(own))
	_, ok := system.Raw(own)
	assert.False(t, ok)
}
