package e2e

import (
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humble-rewind/api"
)

// What a desktop's own tool deletes from a real home is found and brought back.
func TestWhatTheDesktopDeletedComesBack(t *testing.T) {
	gio, err := exec.LookPath("gio")
	require.NoError(t, err, "make deps installs it")
	root, err := os.MkdirTemp("/var/tmp", "humble-rewind-e2e-") // a desktop refuses to trash what is on a tmpfs
	require.NoError(t, err)
	t.Cleanup(func() { os.RemoveAll(root) })
	home := filepath.Join(root, "home/ines")
	require.NoError(t, os.MkdirAll(filepath.Join(home, "Quotes/Old ones"), 0o755))
	require.NoError(t, os.MkdirAll(filepath.Join(root, "etc"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(root, "etc/timezone"), []byte("Europe/Lisbon\n"), 0o644))
	file, folder := filepath.Join(home, "Quotes/Orçamento 100%.odt"), filepath.Join(home, "Quotes/Old ones")
	require.NoError(t, os.WriteFile(file, []byte("three coats of paint"), 0o640))
	require.NoError(t, os.WriteFile(filepath.Join(folder, "inside.txt"), []byte("inside"), 0o644))
	deleted := time.Now()
	trash := exec.Command(gio, "trash", file, folder)
	trash.Env = append(os.Environ(), "HOME="+home, "XDG_DATA_HOME=", "TZ=Europe/Lisbon", "DBUS_SESSION_BUS_ADDRESS=disabled:")
	out, err := trash.CombinedOutput()
	require.NoError(t, err, string(out))
	require.NoFileExists(t, file)

	p := start(t, t.TempDir())
	p.add("front-office", root, "/home/ines", root+"=/")
	p.wait(p.beginSurvey())
	var ids []string
	for _, c := range p.all() {
		assert.True(t, c.OriginKnown, c.Notes)
		assert.Empty(t, c.Notes)
		assert.WithinDuration(t, deleted, *c.GoneAt, 5*time.Second)
		if c.ItemOf == nil {
			ids = append(ids, c.Id)
		}
	}
	require.Len(t, ids, 2)
	r, err := p.BringBackWithResponse(t.Context(), api.NewBringBack{Copies: &ids})
	require.NoError(t, err)
	require.NotNil(t, r.JSON202, string(r.Body))
	require.Equal(t, api.JobStateDone, p.wait(r.JSON202.Id).State)
	back, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.Equal(t, "three coats of paint", string(back))
	assert.FileExists(t, filepath.Join(folder, "inside.txt"))
	list := exec.Command(gio, "trash", "--list")
	list.Env = trash.Env
	out, _ = list.CombinedOutput() // where no desktop runs it cannot list, and says so
	assert.NotContains(t, string(out), "Or%C3%A7amento")
	left, err := filepath.Glob(filepath.Join(home, ".local/share/Trash/*/*"))
	require.NoError(t, err)
	assert.Empty(t, left)
}
