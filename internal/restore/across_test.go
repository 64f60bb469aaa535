package restore_test

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/registry"
	"humble-rewind/internal/restore"
)

// What comes back to another machine belongs to the account there of whose it is, as far as it was said that both are one person's: else to whom
// the folder belongs. Neither numbers nor names of users mean anything from one machine to the next; and an undo is exact.
func TestOnAnotherMachineItBelongsToThePersonsAccountThere(t *testing.T) {
	s := town(t)
	quay := t.TempDir()
	lay := func(path, content string, uid int) {
		at := filepath.Join(quay, path)
		require.NoError(t, os.MkdirAll(filepath.Dir(at), 0o755))
		require.NoError(t, os.WriteFile(at, []byte(content), 0o644))
		for dir := at; dir != filepath.Join(quay, "home"); dir = filepath.Dir(dir) {
			require.NoError(t, os.Lchown(dir, uid, uid+10))
		}
	}
	lay("home/ines/.profile", "", 2001)
	lay("home/ada/.profile", "", 1001) // whose number there is another's here
	require.NoError(t, os.MkdirAll(filepath.Join(quay, "etc"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(quay, "etc/passwd"),
		[]byte("ines:x:2001:2011::/home/ines:/bin/sh\nada:x:1001:1011::/home/ada:/bin/sh\n"), 0o644))
	_, err := s.AddMachine(t.Context(), registry.NewMachine{Name: "quay", At: quay})
	require.NoError(t, err)

	s.Lay(map[string]string{"/backup/2026-11-01/home/ines/Papers/Keel.txt": "oak", "/backup/2026-11-01/home/ines/Papers/Deep/Mast.txt": "larch",
		"/backup/2026-11-01/home/ines/tool": "#!/bin/sh\n"})
	own(t, s, "/backup/2026-11-01/home/ines", ines)
	require.NoError(t, os.Chmod(s.Path("/backup/2026-11-01/home/ines/tool"), 0o755|os.ModeSetuid))
	src, err := s.AddSource(t.Context(), registry.NewSource{Machine: "town", Kind: "snapshots", At: "/backup"})
	require.NoError(t, err)
	s.Survey(src)
	keel, tool := s.Named("keel"), s.Named("tool")

	owner := func(path string) [2]uint32 {
		var st unix.Stat_t
		require.NoError(t, unix.Lstat(filepath.Join(quay, path), &st), path)
		return [2]uint32{st.Uid, st.Gid}
	}
	bring := func(to string, keep bool) (undo func()) {
		at := &place.Place{Machine: "quay", Path: to}
		one := s.BringBack(restore.Request{Copies: []copies.ID{keel.ID, tool.ID}, To: at, ToFolder: true, KeepOwners: keep})
		require.Equal(t, 2, one.Done, "%+v", one.Items)
		folder := s.BringBack(restore.Request{AsOf: &restore.AsOf{Place: place.Place{Machine: "town", Path: "/home/ines/Papers"},
			At: time.Date(2026, 11, 2, 0, 0, 0, 0, time.UTC), Only: restore.OnlyMissing}, To: &place.Place{Machine: "quay", Path: to + "/Papers"}, KeepOwners: keep})
		require.Equal(t, folder.Count, folder.Done, "%+v", folder.Items)
		return func() {
			require.NoError(t, s.Undo(folder.ID))
			require.NoError(t, s.Undo(one.ID))
		}
	}
	before := tree(t, quay)
	for _, c := range []struct {
		says string
		keep bool
		home string
		owns [2]uint32
	}{
		{"two persons of one name", false, "/home/ines", [2]uint32{2001, 2011}},
		{"and of one number", false, "/home/ada", [2]uint32{1001, 1011}},
		{"", false, "/home/ada", [2]uint32{2001, 2011}}, // said to be one
		{"", true, "/home/ada", [2]uint32{ines, ines}},
	} {
		if c.says == "" && !c.keep {
			_, err := s.JoinPersons(t.Context(), []registry.AccountName{{Machine: "town", Name: "ines"}, {Machine: "quay", Name: "ines"}})
			require.NoError(t, err)
		}
		undo := bring(c.home, c.keep)
		for _, path := range []string{"/Keel.txt", "/tool", "/Papers/Keel.txt", "/Papers/Deep", "/Papers/Deep/Mast.txt"} {
			assert.Equal(t, c.owns, owner(c.home+path), "%s in %s", path, c.home)
		}
		info, err := os.Stat(filepath.Join(quay, c.home, "tool"))
		require.NoError(t, err)
		assert.Equal(t, c.keep, info.Mode()&os.ModeSetuid != 0, "%s: nobody runs as somebody of another machine", info.Mode())
		undo()
		assert.Equal(t, before, tree(t, quay))
	}
}

// tree describes what is on a machine.
func tree(t *testing.T, root string) string {
	var lines []string
	require.NoError(t, filepath.WalkDir(root, func(at string, _ os.DirEntry, err error) error {
		require.NoError(t, err)
		var st unix.Stat_t
		require.NoError(t, unix.Lstat(at, &st))
		lines = append(lines, fmt.Sprintf("%q %o %d:%d %d", strings.TrimPrefix(at, root), st.Mode, st.Uid, st.Gid, st.Mtim.Nano()))
		return nil
	}))
	return strings.Join(lines, "\n")
}
