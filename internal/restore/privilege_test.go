package restore_test

import (
	"io/fs"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/plan"
	"humble-rewind/internal/reach"
	"humble-rewind/internal/registry"
	"humble-rewind/internal/restore"
	"humble-rewind/internal/say"
	"humble-rewind/internal/sitetest"
)

const ines, ada = 1001, 1002

// town is a machine on which ines and ada live, each with a home of her own. It needs root, to give things owners.
func town(t *testing.T, ways ...reach.Way) *sitetest.Site {
	if os.Geteuid() != 0 {
		t.Skip("only root can give files to users")
	}
	s := sitetest.New(t)
	if ways != nil {
		s = sitetest.NewWith(t, ways)
	}
	s.Lay(map[string]string{"/home/ada/.bash_profile": "ada's own\n", "/home/ines/Papers/": "", "/srv/shared/": "",
		"/etc/group": "root:x:0:\nboats:x:2000:ada,ines\n", "/tmp/": ""})
	require.NoError(t, os.WriteFile(s.Path("/etc/passwd"),
		[]byte("root:x:0:0::/root:/bin/sh\nines:x:1001:1001::/home/ines:/bin/sh\nada:x:1002:1002::/home/ada:/bin/sh\n"), 0o644))
	own(t, s, "/home/ines", ines)
	own(t, s, "/home/ada", ada)
	require.NoError(t, os.Chmod(s.Path("/home/ada"), 0o700))
	require.NoError(t, os.Chmod(s.Path("/tmp"), 0o777|fs.ModeSticky))
	require.NoError(t, os.Chown(s.Path("/srv/shared"), 0, 2000))
	require.NoError(t, os.Chmod(s.Path("/srv/shared"), 0o775))
	_, err := s.AddMachine(t.Context(), registry.NewMachine{Name: "town", At: s.Root})
	require.NoError(t, err)
	return s
}

func own(t *testing.T, s *sitetest.Site, dir string, uid int) {
	require.NoError(t, filepath.WalkDir(s.Path(dir), func(path string, _ fs.DirEntry, err error) error {
		require.NoError(t, err)
		return os.Lchown(path, uid, uid)
	}))
}

// trashOf adds a trash of the town and surveys it.
func trashOf(t *testing.T, s *sitetest.Site, at string) catalogue.Source {
	src, err := s.AddSource(t.Context(), registry.NewSource{Machine: "town", Kind: "trash", At: at})
	require.NoError(t, err)
	s.Survey(src)
	return src
}

func stat(t *testing.T, s *sitetest.Site, path string) unix.Stat_t {
	var st unix.Stat_t
	require.NoError(t, unix.Lstat(s.Path(path), &st), path)
	return st
}

// A drive of a user's own, on which she could make any file she likes, gives her nobody's rights.
func TestSetIDBitsAndForeignOwnersOfAUsersDriveAreNotBelieved(t *testing.T) {
	for _, keep := range []bool{false, true} {
		s := town(t, (&faults{otherDevice: true}).way())
		s.Lay(map[string]string{"/other/.Trash-1001/files/tool": "#!/bin/sh\n", "/other/.Trash-1001/files/Kit/inner": "x",
			"/other/.Trash-1001/files/hers": "y"})
		for _, name := range []string{"tool", "Kit", "hers"} {
			s.Record("/other/.Trash-1001", name, name, "2026-11-03T16:30:00")
		}
		own(t, s, "/other/.Trash-1001", ines)
		for _, path := range []string{"tool", "Kit/inner"} {
			at := s.Path("/other/.Trash-1001/files/" + path)
			require.NoError(t, os.Chown(at, 0, 42))
			require.NoError(t, os.Chmod(at, 0o755|fs.ModeSetuid|fs.ModeSetgid))
		}
		require.NoError(
			t,
			unix.Setxattr(s.Path("/other/.Trash-1001/files/tool"), "security.capability", []byte{1, 0, 0, 2, 0, 4, 0, 0, 0, 0, 0,
				0, 0, 0, 0, 0, 0, 0, 0, 0}, 0),
		)
		trashOf(t, s, "/other")
		var some []copies.ID
		for _, c := range s.Find(catalogue.Query{Machine: "town"}) {
			if !c.Within {
				some = append(some, c.ID)
			}
		}
		request := restore.Request{Copies: some, To: &place.Place{Machine: "town", Path: "/home/ines/Papers"}, KeepOwners: keep}
		planned, err := s.Restorer.Plan(t.Context(), request)
		require.NoError(t, err)
		notes := map[string]string{}
		for _, i := range items(t, planned) {
			notes[i.To.Name()] = say.Speaker{}.Joined(i.Notes)
		}
		receipt := s.BringBack(request)
		require.Equal(t, catalogue.ReceiptDone, receipt.State, receipt.Items)
		value := make([]byte, 64)
		_, err = unix.Getxattr(s.Path("/home/ines/Papers/tool"), "security.capability", value)
		assert.ErrorIs(t, err, unix.ENODATA)
		for _, path := range []string{"tool", "Kit/inner"} {
			st := stat(t, s, "/home/ines/Papers/"+path)
			if keep {
				assert.EqualValues(t, 0o6755, st.Mode&0o7777, path)
				assert.EqualValues(t, 0, st.Uid, path)
				continue
			}
			assert.EqualValues(t, 0o755, st.Mode&0o7777, path)
			assert.EqualValues(t, ines, st.Uid, path)
			assert.EqualValues(t, ines, st.Gid, path)
		}
		if !keep {
			assert.Contains(t, notes["tool"], "set-id bits are dropped")
			assert.Contains(t, notes["tool"], "belongs to user 0")
			assert.NotContains(t, notes["hers"], "belongs")
		}
		require.NoError(t, s.Undo(receipt.ID))
	}
}

// What is moved within a file system stays hers, but for set-id bits; an undo gives them back.
func TestSetIDBitsOfAMovedFileAreDropped(t *testing.T) {
	s := town(t)
	s.Discard("/home/ines/tool", "#!/bin/sh\n")
	own(t, s, "/home/ines", ines)
	require.NoError(t, os.Chmod(s.Path(sitetest.HomeTrash+"/files/tool"), 0o755|fs.ModeSetuid))
	trashOf(t, s, "/home/ines")
	before := s.Tree("/home")
	receipt := s.BringBack(restore.Request{Copies: ids(s.Named("tool"))})
	require.Equal(t, catalogue.ReceiptDone, receipt.State)
	assert.Contains(t, receipt.Items[0].Note, "set-id bits are dropped")
	assert.EqualValues(t, 0o755, stat(t, s, "/home/ines/tool").Mode&0o7777)
	require.NoError(t, s.Undo(receipt.ID))
	assert.Equal(t, before, s.Tree("/home"))
}

// Snapshots that only root writes keep their owners; those in a folder that a user can write do not.
func TestOwnersOfSnapshotsAreKeptWhereOnlyRootWritesThem(t *testing.T) {
	for _, writable := range []bool{false, true} {
		s := town(t)
		at := "/srv/points/2026-09-07T0600"
		s.Lay(map[string]string{at + "/srv/shared/plan.odt": "plan"})
		require.NoError(t, os.Chown(s.Path(at+"/srv/shared/plan.odt"), ada, ada))
		if writable {
			require.NoError(t, os.Chmod(s.Path("/srv/points"), 0o777))
		}
		src, err := s.AddSource(t.Context(), registry.NewSource{Machine: "town", Kind: "snapshots", At: "/srv/points", Zone: "UTC"})
		require.NoError(t, err)
		s.Survey(src)
		copies := restore.Request{Copies: ids(s.Named("plan"))}
		if writable { // by everybody, who could not have put anything into the shared folder
			planned, err := s.Restorer.Plan(t.Context(), copies)
			require.NoError(t, err)
			require.Contains(t, items(t, planned)[0].Asks, plan.TrustClaimed)
			copies.Claimed = true
		}
		receipt := s.BringBack(copies)
		require.Equal(t, catalogue.ReceiptDone, receipt.State)
		owner := ada
		if writable {
			owner = 0 // as the folder it goes into
			assert.Contains(t, receipt.Items[0].Note, "comes to belong to user 0")
		}
		assert.EqualValues(t, owner, stat(t, s, "/srv/shared/plan.odt").Uid)
	}
}

// A record in a user's own trash is believed where she could have deleted from, and only claimed elsewhere.
func TestARecordIsBelievedOnlyWhereItsOwnerCouldHaveDeletedFrom(t *testing.T) {
	s := town(t)
	claims := map[string]bool{ // believed or not
		"/home/ines/quote.odt": true, "/home/ines/gone/deep/quote.odt": true, "/srv/shared/list.ods": true,
		"/etc/ld.so.preload": false, "/root/.ssh/authorized_keys": false, "/home/ada/.bash_profile": false, "/srv/other.txt": false,
		"/home/ines": false, "/home/ines/../ada/x": false,
		"/tmp/hers.txt": true, "/tmp/root's.txt": false,
	}
	for path := range claims {
		name := place.Name(path)
		s.Lay(map[string]string{sitetest.HomeTrash + "/files/" + name: "planted " + name})
		s.Record(sitetest.HomeTrash, name, path, "2026-11-03T16:30:00")
	}
	own(t, s, "/home/ines", ines)
	require.NoError(t, os.Chown(s.Path(sitetest.HomeTrash+"/files/root's.txt"), 0, 0))
	trashOf(t, s, "/home/ines")
	before := s.Tree("/etc") + s.Tree("/home/ada")
	for _, c := range s.Find(catalogue.Query{Machine: "town", Limit: 100}) {
		path := c.Place.Path
		if c.Lost {
			path = c.Claimed
			assert.Equal(t, "ines", c.Person, "%s: her item stays hers", path)
		}
		if path == "" {
			continue // a path that says nothing at all
		}
		believed, listed := claims[path]
		require.True(t, listed, "%q", path)
		assert.Equal(t, believed, !c.Lost, path)
		if believed {
			continue
		}
		assert.Contains(t, c.Notes[len(c.Notes)-1], "not trusted")
		_, err := s.Past.Trail(t.Context(), place.Place{Machine: "town", Path: path})
		assert.ErrorIs(t, err, catalogue.ErrNotFound, "%s: it is no evidence of what stood there", path)
		planned, err := s.Restorer.Plan(t.Context(), restore.Request{Copies: ids(c)})
		require.NoError(t, err)
		assert.Equal(t, plan.Refuse, items(t, planned)[0].Action)
		assert.Contains(t, say.Speaker{}.Joined(items(t, planned)[0].Notes), "claims")
	}
	assert.Equal(t, before, s.Tree("/etc")+s.Tree("/home/ada"))

	// A technician who knows better says so, and is told whose it becomes.
	forged := s.Named("preload")
	receipt := s.BringBack(restore.Request{Copies: ids(forged), Claimed: true})
	require.Equal(t, catalogue.ReceiptDone, receipt.State)
	assert.Contains(t, receipt.Items[0].Note, "you confirmed it")
	assert.Contains(t, receipt.Items[0].Note, "it comes to belong to user 0, as the folder it goes into")
	assert.EqualValues(t, 0, stat(t, s, "/etc/ld.so.preload").Uid)
}

func TestTheServicesOwnDataAndMountsAreLeftAlone(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("only root can mount")
	}
	s := sitetest.New(t)
	s.Lay(map[string]string{"/home/ines/Moulds/now.svg": "now", "/home/ines/Moulds/drive/": ""})
	s.Discard("/home/ines/Moulds/", "one.svg\n")
	s.Survey(s.AddTrash("/home/ines"))
	mounted := s.Path("/home/ines/Moulds/drive")
	if err := unix.Mount("none", mounted, "tmpfs", 0, ""); err != nil {
		t.Skipf("no tmpfs can be mounted here: %v", err)
	}
	defer unix.Unmount(mounted, unix.MNT_DETACH)
	require.NoError(t, os.WriteFile(mounted+"/on the drive.txt", []byte("x"), 0o644))
	item := s.Find(catalogue.Query{Class: "folders"})
	request := restore.Request{Copies: ids(item...), Rule: plan.SetAside}
	planned, err := s.Restorer.Plan(t.Context(), request)
	require.NoError(t, err)
	assert.Equal(t, plan.Refuse, items(t, planned)[0].Action)
	assert.Contains(t, say.Speaker{}.Joined(items(t, planned)[0].Notes), "another file system is mounted in it")
	s.BringBack(request)
	assert.FileExists(t, mounted+"/on the drive.txt")
	assert.FileExists(t, s.Path("/home/ines/Moulds/now.svg"))
}
