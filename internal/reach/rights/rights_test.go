package rights_test

import (
	"encoding/binary"
	"io/fs"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"humble-rewind/internal/reach"
	"humble-rewind/internal/reach/local"
	"humble-rewind/internal/reach/rights"
)

const ines, ada, ravi, boats = 1001, 1002, 1003, 2000

// yard is a machine with folders of all sorts; it needs root, to give them away.
func yard(t *testing.T) (root string, m *rights.Machine) {
	if os.Geteuid() != 0 {
		t.Skip("only root can give files to users")
	}
	root = t.TempDir()
	require.NoError(t, os.Chmod(root, 0o755))
	lay := func(path string, uid, gid int, mode fs.FileMode) {
		at := filepath.Join(root, path)
		if filepath.Ext(path) != "" {
			require.NoError(t, os.WriteFile(at, []byte("x"), 0o600))
		} else {
			require.NoError(t, os.MkdirAll(at, 0o755))
		}
		require.NoError(t, os.Chown(at, uid, gid))
		require.NoError(t, os.Chmod(at, mode))
	}
	lay("etc", 0, 0, 0o755)
	require.NoError(t, os.WriteFile(filepath.Join(root, "etc/passwd"), []byte("root:x:0:0::/root:/bin/sh\nines:x:1001:1001::/home/ines:/bin/sh\n"+
		"ada:x:1002:1002::/home/ada:/bin/sh\nravi:x:1003:1003::/home/ravi:/bin/sh\nbroken\nminus:x:-1:-1::/:\n"), 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(root, "etc/group"), []byte("boats:x:2000:ada,ines\nines:x:1001:\n"), 0o644))
	lay("home", 0, 0, 0o755)
	lay("home/ines", ines, ines, 0o755)
	lay("home/ines/plan.txt", ines, ines, 0o600)
	lay("home/ines/roots", 0, 0, 0o755)
	lay("home/ada", ada, ada, 0o700)
	lay("home/ada/open", ada, ada, 0o777)
	lay("srv", 0, 0, 0o755)
	lay("srv/team", 0, boats, 0o770)
	lay("srv/team/list.txt", ada, ada, 0o644)
	lay("srv/sticky", 0, 0, 0o777|fs.ModeSticky)
	lay("srv/sticky/ravis", ravi, ravi, 0o755)
	lay("srv/open.txt", 0, 0, 0o666)
	files, err := local.Open(root)
	require.NoError(t, err)
	t.Cleanup(func() { files.Close() })
	return root, rights.Of(t.Context(), files)
}

func TestWhoMayHaveWritten(t *testing.T) {
	_, m := yard(t)
	for path, want := range map[string]rights.Writers{
		"/srv":                 {},
		"/home/ines/plan.txt":  {Users: []int64{ines}},
		"/home/ines/roots":     {Users: []int64{ines}}, // whose home it can be renamed in
		"/srv/team/list.txt":   {Users: []int64{ines, ada}},
		"/srv/sticky/ravis":    {Users: []int64{ravi}},
		"/srv/sticky":          {Everyone: true},
		"/srv/open.txt":        {Everyone: true},
		"/home/ada/open":       {Users: []int64{ada}}, // nobody else gets there
		"/srv/nothing":         {Unknown: true},
		"/srv/open.txt/inside": {Unknown: true},
	} {
		assert.Equal(t, want, m.Writers(t.Context(), path), path)
	}
}

func TestWhoMayPut(t *testing.T) {
	_, m := yard(t)
	for path, want := range map[string][]int64{
		"/home/ines/new.txt":       {ines},
		"/home/ines/gone/deep.txt": {ines},
		"/home/ines/roots/x.txt":   {ines},
		"/home/ada/open/x.txt":     {ada},
		"/srv/team/list.txt":       {ines, ada},
		"/srv/x.txt":               {},
		"/srv/sticky/new.txt":      {ines, ada, ravi},
		"/srv/sticky/ravis":        {ravi},
		"/srv/sticky/ravis/x.txt":  {ravi},
	} {
		for _, uid := range []int64{ines, ada, ravi} {
			assert.Equal(t, contains(want, uid), m.MayPut(t.Context(), m.User(uid), path), "%d %s", uid, path)
		}
	}
	assert.True(t, m.MayPut(t.Context(), rights.Everyone, "/srv/sticky/new.txt"))
	assert.False(t, m.MayPut(t.Context(), rights.Everyone, "/srv/team/x.txt"))
}

func contains(all []int64, one int64) bool {
	for _, n := range all {
		if n == one {
			return true
		}
	}
	return false
}

// list is an access list as the kernel keeps it.
func list(entries ...[3]uint32) []byte {
	b := binary.LittleEndian.AppendUint32(nil, 2)
	for _, e := range entries {
		b = binary.LittleEndian.AppendUint16(b, uint16(e[0]))
		b = binary.LittleEndian.AppendUint16(b, uint16(e[1]))
		b = binary.LittleEndian.AppendUint32(b, e[2])
	}
	return b
}

// An access list gives and takes beside the mode: the group's bits of the mode are its mask.
func TestAccessListsCount(t *testing.T) {
	root, m := yard(t)
	const none = ^uint32(0)
	acl := list([3]uint32{1, 7, none}, [3]uint32{2, 7, ravi}, [3]uint32{4, 0, none}, [3]uint32{16, 7, none}, [3]uint32{32, 0, none})
	if err := unix.Setxattr(filepath.Join(root, "srv/team"), "system.posix_acl_access", acl, 0); err != nil {
		t.Skipf("no access lists can be set here: %v", err)
	}
	assert.Equal(t, rights.Writers{Users: []int64{ravi}}, m.Writers(t.Context(), "/srv/team/list.txt"),
		"the group may do nothing any more; ada owns the file, but cannot get there")
}

// What lies outside a store is read only where all may read who may write the store; what lies inside is read whoever it belongs to.
func TestAConfinedSessionReadsOutsideAsItsWritersWould(t *testing.T) {
	root, m := yard(t)
	require.NoError(t, os.WriteFile(filepath.Join(root, "home/ines/roots/closed.txt"), []byte("x"), 0o600))
	files := m.Confined("/home/ines", m.Writers(t.Context(), "/home/ines"))
	open := func(folder, name string) error {
		tree, err := files.Tree(t.Context(), folder)
		if err != nil {
			return err
		}
		defer tree.Close()
		f, err := tree.Open(t.Context(), name)
		if err != nil {
			return err
		}
		return f.Close()
	}
	assert.NoError(t, open("/home/ines", "plan.txt"))
	assert.NoError(t, open("/home/ines/roots", "closed.txt"), "inside")
	assert.NoError(t, open("/srv", "open.txt"))
	assert.NoError(t, open("/srv/team", "list.txt"), "she is of the group")
	assert.ErrorIs(t, open("/home/ada", "open"), fs.ErrPermission)
	assert.ErrorIs(t, open("/home/ada/open", "x"), fs.ErrPermission)
	_, err := files.Folder(t.Context(), "/srv/sticky")
	assert.ErrorIs(t, err, fs.ErrPermission, "nothing is written outside")
	_, err = reach.Look(t.Context(), files, "/home/ines")
	assert.NoError(t, err)
}
