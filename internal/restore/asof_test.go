package restore_test

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/plan"
	"humble-rewind/internal/core/problem"
	"humble-rewind/internal/reach"
	"humble-rewind/internal/reach/local"
	"humble-rewind/internal/registry"
	"humble-rewind/internal/restore"
	"humble-rewind/internal/restore/steps"
	"humble-rewind/internal/sitetest"
)

var monday = time.Date(2026, 9, 7, 6, 0, 0, 0, time.UTC)

// yard is a machine whose documents were captured on Monday and worked on since.
func yard(t *testing.T) *sitetest.Site { return yardWith(t, reach.Ways{local.Way()}) }

func yardWith(t *testing.T, ways reach.Ways) *sitetest.Site {
	s := sitetest.NewWith(t, ways)
	then := map[string]string{
		"/home/ines/Documents/kept.txt":            "kept",
		"/home/ines/Documents/changed.txt":         "as it was on Monday",
		"/home/ines/Documents/lost.txt":            "lost",
		"/home/ines/Documents/Quotes/a.odt":        "quote a",
		"/home/ines/Documents/Quotes/deep/b.odt":   "quote b",
		"/home/ines/Documents/Empty/":              "",
		"/home/ines/Documents/link to the quotes":  "=> Quotes",
		"/home/ines/Documents/became a folder.txt": "it was a file",
	}
	at := "/srv/points/" + monday.Format("2006-01-02T1504")
	for path, content := range then {
		s.Lay(map[string]string{at + path: content})
		if path != "/home/ines/Documents/lost.txt" && !strings.Contains(path, "/Quotes/") && !strings.HasSuffix(path, "Empty/") &&
			!strings.Contains(path, "became") {
			s.Lay(map[string]string{path: content})
		}
	}
	s.Lay(
		map[string]string{
			"/home/ines/Documents/changed.txt":                    "worked on since",
			"/home/ines/Documents/later/new.txt":                  "came later",
			"/home/ines/Documents/new.txt":                        "came later too",
			"/home/ines/Documents/became a folder.txt/inside.txt": "it is a folder now",
		},
	)
	require.NoError(t, unix.Setxattr(s.Path(at+"/home/ines/Documents/Quotes/a.odt"), "user.note", []byte("for Nell"), 0))
	require.NoError(t, os.Chmod(s.Path(at+"/home/ines/Documents/Quotes"), 0o710))
	stamp(t, s.Path(at), monday.Add(-time.Hour))
	stamp(t, s.Path("/home/ines/Documents"), monday.Add(50*time.Hour))
	for _, path := range []string{"/home/ines/Documents/kept.txt"} {
		require.NoError(t, os.Chtimes(s.Path(path), monday.Add(-time.Hour), monday.Add(-time.Hour)))
	}
	if os.Geteuid() == 0 {
		require.NoError(t, filepath.WalkDir(s.Path(at+"/home/ines"), func(path string, _ os.DirEntry, err error) error {
			require.NoError(t, err)
			return os.Lchown(path, 1001, 1001)
		}))
	}
	for kind, at := range map[string]string{"snapshots": "/srv/points", "live": "/home"} {
		src, err := s.AddSource(t.Context(), registry.NewSource{Machine: "loft", Kind: kind, At: at, Zone: "UTC"})
		require.NoError(t, err)
		s.Survey(src)
	}
	return s
}

// stamp gives everything below a folder one write time.
func stamp(t *testing.T, dir string, at time.Time) {
	spec := unix.NsecToTimespec(at.UnixNano())
	require.NoError(t, filepath.WalkDir(dir, func(path string, _ os.DirEntry, err error) error {
		require.NoError(t, err)
		return unix.UtimesNanoAt(unix.AT_FDCWD, path, []unix.Timespec{spec, spec}, unix.AT_SYMLINK_NOFOLLOW)
	}))
}

func asOf(path string, only restore.Only) restore.Request {
	return restore.Request{AsOf: &restore.AsOf{Place: place.Place{Machine: "loft", Path: path}, At: monday, Only: only}}
}

// does lists a receipt's items: what happened to which path.
func does(s *sitetest.Site, r sitetest.Receipt) (all []string) {
	for _, i := range r.Items {
		all = append(all, fmt.Sprintf("%s %s %s", i.Outcome, i.Type, strings.TrimPrefix(i.To.Path, "/home/ines/Documents/")))
	}
	return all
}

// withTimes adds the write times of folders to a tree.
func withTimes(t *testing.T, s *sitetest.Site, path string) string {
	lines := []string{s.Tree(path)}
	require.NoError(t, filepath.WalkDir(s.Path(path), func(at string, d os.DirEntry, err error) error {
		if err == nil && d.IsDir() {
			info, e := d.Info()
			require.NoError(t, e)
			lines = append(lines, at+" "+info.ModTime().String())
		}
		return err
	}))
	return strings.Join(lines, "\n")
}

func TestOnlyWhatIsMissingComesBack(t *testing.T) {
	s := yard(t)
	before := withTimes(t, s, "/home")
	r := s.BringBack(asOf("/home/ines/Documents", restore.OnlyMissing))
	assert.Equal(
		t,
		[]string{
			"done folder Empty",
			"done folder Quotes",
			"done folder Quotes/deep",
			"done file Quotes/a.odt",
			"done file Quotes/deep/b.odt",
			"done file lost.txt",
		},
		does(s, r),
	)
	content, err := os.ReadFile(s.Path("/home/ines/Documents/changed.txt"))
	require.NoError(t, err)
	assert.Equal(t, "worked on since", string(content))
	// Folders, files, attributes and times are as the snapshot has them.
	point := "/srv/points/" + monday.Format("2006-01-02T1504") + "/home/ines/Documents"
	assert.Equal(t, withTimesBelow(t, s, point, "Quotes"), withTimesBelow(t, s, "/home/ines/Documents", "Quotes"))
	require.NoError(t, s.Undo(r.ID))
	assert.Equal(t, before, withTimes(t, s, "/home"), "times of folders included")
}

func withTimesBelow(t *testing.T, s *sitetest.Site, dir, name string) string {
	return strings.ReplaceAll(withTimes(t, s, dir+"/"+name), s.Path(dir), "")
}

func TestWhatChangedComesBackBesideOrInstead(t *testing.T) {
	s := yard(t)
	r := s.BringBack(asOf("/home/ines/Documents", restore.OnlyChanged))
	assert.Contains(t, does(s, r), "done file changed (as of 2026-09-07 07.00).txt", "both are kept, the old one named by its moment")
	for _, path := range []string{"kept.txt", "link to the quotes"} {
		assert.NotContains(t, strings.Join(does(s, r), "\n"), path, "what stands unchanged is left alone")
	}
	require.NoError(t, s.Undo(r.ID))
	request := asOf("/home/ines/Documents", restore.OnlyChanged)
	request.Rule = plan.SetAside
	r = s.BringBack(request)
	assert.Contains(t, does(s, r), "done file changed.txt")
	content, err := os.ReadFile(s.Path("/home/ines/Documents/changed.txt"))
	require.NoError(t, err)
	assert.Equal(t, "as it was on Monday", string(content))
}

// Exactly as it was: what is newer is set aside, never deleted, and undo gives it back byte for byte.
func TestAFolderComesBackExactlyAsItWas(t *testing.T) {
	s := yard(t)
	before := withTimes(t, s, "/home")
	r := s.BringBack(asOf("/home/ines/Documents", restore.OnlyExact))
	assert.Equal(t, catalogue.ReceiptDone, r.State, "%v", does(s, r))
	point := "/srv/points/" + monday.Format("2006-01-02T1504") + "/home/ines/Documents"
	names := func(path string) (all []string) {
		require.NoError(t, filepath.WalkDir(s.Path(path), func(at string, d os.DirEntry, err error) error {
			rel, _ := filepath.Rel(s.Path(path), at)
			content, _ := os.ReadFile(at)
			all = append(all, rel+" "+d.Type().String()+" "+string(content))
			return err
		}))
		return all
	}
	assert.Equal(t, names(point), names("/home/ines/Documents"))
	require.NoError(t, s.Undo(r.ID))
	assert.Equal(t, before, withTimes(t, s, "/home"))
	again := s.BringBack(asOf("/home/ines/Documents", restore.OnlyExact))
	assert.Len(t, again.Items, len(r.Items), "and it can be done again")
}

func TestAFileComesBackAsOfAMoment(t *testing.T) {
	s := yard(t)
	r := s.BringBack(asOf("/home/ines/Documents/changed.txt", ""))
	assert.Equal(t, []string{"done file changed (from 2026-09-07 06.00).txt"}, does(s, r))
	r = s.BringBack(
		restore.Request{
			AsOf:     asOf("/home/ines/Documents/Quotes", "").AsOf,
			To:       &place.Place{Machine: "loft", Path: "/srv/back"},
			ToFolder: true,
		},
	)
	content, err := os.ReadFile(s.Path("/srv/back/Quotes/deep/b.odt"))
	require.NoError(t, err, "%v", does(s, r))
	assert.Equal(t, "quote b", string(content))
	_, err = s.Restorer.Plan(t.Context(), asOf("/home/ines/Nowhere", ""))
	assert.ErrorIs(t, err, problem.ErrInput)
}

func TestUndoIsRefusedWhereSomethingWasPutIntoAFolderSince(t *testing.T) {
	s := yard(t)
	r := s.BringBack(asOf("/home/ines/Documents", restore.OnlyExact))
	s.Lay(map[string]string{"/home/ines/Documents/Quotes/deep/fresh.txt": "work"})
	err := s.Undo(r.ID)
	refused := &steps.RefusedError{}
	require.ErrorAs(t, err, &refused)
	assert.Contains(t, strings.Join(refused.Reasons, "\n"), "fresh.txt was put into it since")
}

// A hole stays a hole, and a hard link is named as what it no longer is.
func TestHolesAndHardLinks(t *testing.T) {
	s := sitetest.New(t)
	at := "/srv/points/" + monday.Format("2006-01-02T1504") + "/home/ines"
	s.Lay(map[string]string{at + "/one": "the same file", "/home/ines/other": ""})
	require.NoError(t, os.Link(s.Path(at+"/one"), s.Path(at+"/two")))
	sparse, err := os.Create(s.Path(at + "/sparse"))
	require.NoError(t, err)
	_, err = sparse.WriteAt([]byte("end"), 64<<20)
	require.NoError(t, err)
	require.NoError(t, sparse.Close())
	stamp(t, s.Path(at), monday.Add(-time.Hour))
	src, err := s.AddSource(t.Context(), registry.NewSource{Machine: "loft", Kind: "snapshots", At: "/srv/points", Zone: "UTC"})
	require.NoError(t, err)
	s.Survey(src)
	r := s.BringBack(asOf("/home/ines", ""))
	require.Equal(t, catalogue.ReceiptDone, r.State)
	var st unix.Stat_t
	require.NoError(t, unix.Stat(s.Path("/home/ines/sparse"), &st))
	assert.EqualValues(t, 64<<20+3, st.Size)
	assert.Less(t, st.Blocks*512, int64(4<<20), "the hole takes no room")
	notes := ""
	for _, i := range r.Items {
		notes += i.Note
	}
	assert.Contains(t, notes, "hard link")
}

// Every writing operation of a folder's coming back exactly fails once: each file is then as it was on Monday or as it was
// before, as the receipt says, and what did arrive can be undone.
func TestWhateverFailsAFolderIsAsTheReceiptSays(t *testing.T) {
	t.Parallel()
	for n := 1; ; n++ {
		f := &faults{err: syscall.ENOSPC}
		s := yardWith(t, reach.Ways{f.way()})
		before := contents(t, s, "/home/ines/Documents")
		monday := contents(t, s, "/srv/points/"+monday.Format("2006-01-02T1504")+"/home/ines/Documents")
		receipt := s.Begin(asOf("/home/ines/Documents", restore.OnlyExact))
		f.countdown = n
		_ = s.Restorer.Carry(t.Context(), receipt.ID, func(int64, int64, string) {})
		struck := f.countdown <= 0
		f.countdown = 0
		receipt = s.Receipt(receipt.ID)
		now := contents(t, s, "/home/ines/Documents")
		for _, item := range receipt.Items {
			if item.Type != entry.File {
				continue
			}
			path := strings.TrimPrefix(item.To.Path, "/home/ines/Documents/")
			want := before[path]
			if item.Outcome == catalogue.ItemDone {
				want = monday[path]
			}
			assert.Equal(t, want, now[path], "operation %d: %s is %s", n, path, item.Outcome)
		}
		if receipt.Done > 0 {
			require.NoError(t, s.Undo(receipt.ID), "operation %d", n)
			assert.Equal(t, before, contents(t, s, "/home/ines/Documents"), "operation %d, undone", n)
		}
		if !struck {
			require.Greater(t, n, 30)
			t.Logf("%d operations failed in turn", n-1)
			return
		}
	}
}

// contents returns the files below a path by their relative paths.
func contents(t *testing.T, s *sitetest.Site, path string) map[string]string {
	all := map[string]string{}
	require.NoError(t, filepath.WalkDir(s.Path(path), func(at string, d os.DirEntry, err error) error {
		if err != nil || !d.Type().IsRegular() {
			return err
		}
		rel, _ := filepath.Rel(s.Path(path), at)
		content, err := os.ReadFile(at)
		all[rel] = string(content)
		return err
	}))
	return all
}
