package past_test

import (
	"fmt"
	"maps"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/trail"
	"humble-rewind/internal/past"
	"humble-rewind/internal/registry"
	"humble-rewind/internal/sitetest"
)

var first = time.Date(2026, 9, 7, 6, 0, 0, 0, time.UTC)

// loft captures a machine's home day by day as full copies; each day is what is there, content by path.
type loft struct {
	*sitetest.Site
	t   *testing.T
	day int
}

func (l *loft) capture(files map[string]string) {
	at := first.AddDate(0, 0, l.day)
	l.day++
	dir := "/srv/points/" + at.Format("2006-01-02T1504")
	l.Lay(map[string]string{dir + "/home/ines/": ""})
	for path, content := range files {
		text, when, dated := strings.Cut(content, " @")
		written := first.Add(-time.Hour)
		if dated {
			var day float64
			_, err := fmt.Sscan(when, &day)
			require.NoError(l.t, err)
			written = first.Add(time.Duration(day * 24 * float64(time.Hour)))
		}
		l.Lay(map[string]string{dir + path: text})
		if !strings.HasPrefix(text, "=> ") && !strings.HasSuffix(path, "/") {
			require.NoError(l.t, os.Chtimes(l.Path(dir+path), written, written))
		}
	}
}

func newLoft(t *testing.T, days ...map[string]string) *loft {
	l := &loft{Site: sitetest.New(t), t: t}
	for _, files := range days {
		l.capture(files)
	}
	src, err := l.AddSource(
		t.Context(),
		registry.NewSource{Machine: "loft", Kind: "snapshots", At: "/srv/points", Zone: "UTC", Named: "%Y-%m-%dT%H%M"},
	)
	require.NoError(t, err)
	l.Survey(src)
	return l
}

// trail writes a place's trail: the names its versions had with their sizes, and the kinds of what happened.
func (l *loft) trail(path string) string {
	l.t.Helper()
	t, err := l.Past.Trail(l.t.Context(), place.Place{Machine: "loft", Path: path})
	require.NoError(l.t, err)
	var parts []string
	for _, v := range t.Versions {
		parts = append(parts, fmt.Sprintf("%s:%d", strings.TrimPrefix(v.Place.Path, "/home/ines/"), v.Size))
	}
	for _, e := range t.Events {
		if e.Kind != trail.Gap {
			parts = append(parts, string(e.Kind))
		}
	}
	return strings.Join(parts, " ")
}

func TestAFileIsFollowedThroughItsNames(t *testing.T) {
	l := newLoft(
		t,
		map[string]string{"/home/ines/Quote.odt": "a quote @-3.1", "/home/ines/other.odt": "another"},
		map[string]string{"/home/ines/Quote.odt": "a longer quote @0.5", "/home/ines/other.odt": "another"},
		map[string]string{"/home/ines/Old/Quote final.odt": "a longer quote @0.5", "/home/ines/other.odt": "another"},
		map[string]string{
			"/home/ines/Old/Quote final.odt": "a longer quote, and more @2.5",
			"/home/ines/other.odt":           "another",
			"/home/ines/Quote.odt":           "a stranger @2.6",
		},
	)
	want := "Quote.odt:7 Quote.odt:14 Old/Quote final.odt:14 Old/Quote final.odt:24 moved"
	assert.Equal(t, want, l.trail("/home/ines/Old/Quote final.odt"), "from its last name")
	assert.Contains(t, l.trail("/home/ines/Quote.odt"), "moved", "and from its first, where a stranger stands by now")
	assert.Equal(t, "other.odt:7", l.trail("/home/ines/other.odt"))
}

func TestAFileThatWasRenamedAndWorkedOnIsKnownAgain(t *testing.T) {
	draft := strings.Repeat("Planking in larch on oak, fastened with copper. ", 8)
	l := newLoft(t,
		map[string]string{"/home/ines/draft.txt": draft + "@-1", "/home/ines/list.txt": "nails, tar, oakum @-1"},
		map[string]string{"/home/ines/tender.txt": draft + "And a new end. @0.5", "/home/ines/things.txt": "something else entirely @0.6"},
	)
	assert.Equal(
		t,
		fmt.Sprintf("draft.txt:%d tender.txt:%d moved", len(draft)-1, len(draft)+len("And a new end.")),
		l.trail("/home/ines/tender.txt"),
	)
	assert.Equal(t, "things.txt:23", l.trail("/home/ines/things.txt"))
}

// A folder that was renamed takes along what changed meanwhile, and what was gone before.
func TestAFolderIsFollowed(t *testing.T) {
	before, after := map[string]string{}, map[string]string{}
	for i := range 6 {
		before[fmt.Sprintf("/home/ines/Offers/%d.odt", i)] = fmt.Sprintf("offer %d @-%d", i, i+1)
		after[fmt.Sprintf("/home/ines/Quotes/%d.odt", i)] = fmt.Sprintf("offer %d @-%d", i, i+1)
	}
	before["/home/ines/Offers/changes.bin"] = "\x00one @-1"
	after["/home/ines/Quotes/changes.bin"] = "\x00two, quite other @0.4"
	l := newLoft(t, before, after)
	assert.Equal(t, "Offers/changes.bin:4 Quotes/changes.bin:17 moved", l.trail("/home/ines/Quotes/changes.bin"))

	f, err := l.Past.Folder(t.Context(), place.Place{Machine: "loft", Path: "/home/ines/Quotes"}, first.Add(time.Hour), time.Time{})
	require.NoError(t, err)
	assert.Equal(t, "/home/ines/Offers", f.Was.Path)
	states := map[past.State]int{}
	for _, e := range f.Entries {
		states[e.State]++
	}
	assert.Equal(t, map[past.State]int{past.Same: 6, past.Changed: 1}, states, "as of a time when it had another name")
}

func TestRedirectedFoldersAreOnePlace(t *testing.T) {
	l := newLoft(
		t,
		map[string]string{
			"/home/ines/Documents/a.txt":        "one @-1",
			"/home/ines/.config/user-dirs.dirs": "XDG_DOCUMENTS_DIR=\"$HOME/Documents\"\n @-2",
			"/home/ines/Pictures/p.txt":         "p",
		},
		map[string]string{
			"/data/ines/a.txt":                  "one, changed @0.4",
			"/home/ines/.config/user-dirs.dirs": "XDG_DOCUMENTS_DIR=\"/data/ines\"\n @0.3",
			"/home/ines/Pictures":               "=> ../../data/pictures",
			"/data/pictures/p.txt":              "p, changed @0.5",
		},
	)
	assert.Equal(t, "Documents/a.txt:3 /data/ines/a.txt:12 redirected", l.trail("/data/ines/a.txt"))
	assert.Equal(t, "Documents/a.txt:3 /data/ines/a.txt:12 redirected", l.trail("/home/ines/Documents/a.txt"))
	assert.Equal(t, "Pictures/p.txt:1 /data/pictures/p.txt:10 redirected", l.trail("/home/ines/Pictures/p.txt"))

	// Another home in the accounts.
	_, err := l.AddSource(t.Context(), registry.NewSource{Machine: "loft", Kind: "live", At: "/srv/homes"})
	require.Error(t, err, "there is nothing yet")
	l.Lay(map[string]string{"/srv/homes/ines/Pictures/q.txt": "q"})
	live, err := l.AddSource(t.Context(), registry.NewSource{Machine: "loft", Kind: "live", At: "/srv/homes"})
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(l.Path("/etc/passwd"), []byte("ines:x:1001:1001:Inês Falk:/srv/homes/ines:/bin/sh\n"), 0o644))
	require.NoError(t, l.RefreshPeople(t.Context(), "loft", first.AddDate(0, 0, 5)))
	l.Survey(live)
	got, err := l.Past.Trail(t.Context(), place.Place{Machine: "loft", Path: "/srv/homes/ines/Pictures/p.txt"})
	require.NoError(t, err, "what was in the old home is found under the new one")
	assert.NotEmpty(t, got.Versions)
}

// The same content under the same name on another machine, where it came up after it went away here.
func TestAFileIsFollowedAcrossMachines(t *testing.T) {
	l := newLoft(
		t,
		map[string]string{"/home/ines/Lines of the ferry.svg": "lines @-1.3", "/home/ines/x": "x"},
		map[string]string{"/home/ines/x": "x"},
	)
	other := t.TempDir()
	at := filepath.Join(other, "points")
	for day, files := range [][]string{{"y"}, {"y", "Lines of the ferry.svg"}} {
		dir := filepath.Join(at, first.AddDate(0, 0, day+1).Format("2006-01-02T1504"), "home/tomas")
		require.NoError(t, os.MkdirAll(dir, 0o755))
		for _, name := range files {
			path := filepath.Join(dir, name)
			require.NoError(t, os.WriteFile(path, []byte("lines"), 0o644))
			written := first.Add(time.Duration(-1.3 * 24 * float64(time.Hour)))
			require.NoError(t, os.Chtimes(path, written, written))
		}
	}
	_, err := l.AddMachine(t.Context(), registry.NewMachine{Name: "store", At: other})
	require.NoError(t, err)
	src, err := l.AddSource(
		t.Context(),
		registry.NewSource{Machine: "store", Kind: "snapshots", At: "/points", Zone: "UTC", Named: "%Y-%m-%dT%H%M"},
	)
	require.NoError(t, err)
	l.Survey(src)
	got, err := l.Past.Trail(t.Context(), place.Place{Machine: "loft", Path: "/home/ines/Lines of the ferry.svg"})
	require.NoError(t, err)
	require.Len(t, got.Names, 2)
	assert.Equal(t, place.Place{Machine: "store", Path: "/home/tomas/Lines of the ferry.svg"}, got.Names[1].Place)
}

// A file that the machine's own survey does not find is gone, whatever the last snapshot says.
func TestTheLiveTreeSaysWhatIsGone(t *testing.T) {
	l := newLoft(t, map[string]string{"/home/ines/a.txt": "a @-1", "/home/ines/b.txt": "b @-1"})
	l.Lay(map[string]string{"/home/ines/b.txt": "b"})
	written := first.AddDate(0, 0, -1)
	require.NoError(t, os.Chtimes(l.Path("/home/ines/b.txt"), written, written))
	live, err := l.AddSource(t.Context(), registry.NewSource{Machine: "loft", Kind: "live"})
	require.NoError(t, err)
	assert.Equal(t, "/home", live.At, "the homes, where nothing else is said")
	l.Survey(live)
	assert.Equal(t, "a.txt:1 removed", l.trail("/home/ines/a.txt"))
	assert.Equal(t, "b.txt:1", l.trail("/home/ines/b.txt"))
	f, err := l.Past.Folder(t.Context(), place.Place{Machine: "loft", Path: "/home/ines"}, first.Add(time.Hour), time.Time{})
	require.NoError(t, err)
	states := map[string]past.State{}
	for _, e := range f.Level() {
		states[e.Path] = e.State
	}
	assert.Equal(t, map[string]past.State{"a.txt": past.Missing, "b.txt": past.Same, ".profile": past.Added}, states)
}

// A machine whose clock is an hour ahead writes times that are put right.
// A folder in pages is the folder whole, whatever came, went, changed and moved in it, and however much is on a page.
func TestAFolderInPagesIsTheFolder(t *testing.T) {
	for seed := range uint64(12) {
		random := rand.New(rand.NewPCG(seed, 7))
		names := []string{"a", "a-b", "b", "Old", "Old.odt", "x", "caf\xe9"}
		var days []map[string]string
		for range 4 {
			files := map[string]string{}
			for range 14 {
				path := "/home/ines/" + []string{"Quotes", "Offers"}[random.IntN(2)]
				for range 1 + random.IntN(3) {
					path += "/d-" + names[random.IntN(len(names))]
				}
				path = place.Folder(path) + "/" + names[random.IntN(len(names))] + ".odt"
				// What moves keeps its size and write time.
				files[path] = fmt.Sprintf("%s @%d", strings.Repeat("x", 5+random.IntN(6)), -random.IntN(2))
			}
			days = append(days, files)
		}
		l := newLoft(t, days...)
		for range 12 {
			p := place.Place{Machine: "loft", Path: []string{"/home/ines", "/home/ines/Quotes", "/home/ines/Offers"}[random.IntN(3)]}
			asOf, against := first.Add(time.Duration(random.IntN(90))*time.Hour), time.Time{}
			if random.IntN(2) == 0 {
				against = first.Add(time.Duration(random.IntN(90)) * time.Hour)
			}
			whole, err := l.Past.Folder(t.Context(), p, asOf, against)
			require.NoError(t, err)
			one, next, err := l.Past.FolderPage(t.Context(), p, asOf, against, "", 1000)
			require.NoError(t, err)
			require.Empty(t, next)
			assert.Equal(t, whole.Level(), one.Entries, "seed %d: %s as of %s", seed, p, asOf)
			assert.Equal(t, whole.Counts, one.Counts)
			assert.Equal(t, whole.Moments, one.Moments)
			assert.Equal(t, whole.Rows, one.Rows)

			var entries []past.Entry
			after, limit := "", 1+random.IntN(3)
			for n := 0; n == 0 || after != ""; n++ {
				page, next, err := l.Past.FolderPage(t.Context(), p, asOf, against, after, limit)
				require.NoError(t, err)
				require.LessOrEqual(t, len(page.Entries), limit)
				require.Less(t, n, 100)
				entries, after = append(entries, page.Entries...), next
			}
			require.Len(t, entries, len(one.Entries))
			for i, e := range one.Entries {
				if e.State == past.Moved { // to another page
					entries[i].State, entries[i].MovedTo = e.State, e.MovedTo
				}
				assert.Equal(t, e.Path, entries[i].Path)
				assert.Equal(t, e.Copy, entries[i].Copy)
				if e.State != past.Added && e.Type != entry.Folder {
					assert.Equal(t, e.State, entries[i].State, e.Path)
				}
			}
		}
	}
}

// A folder that only makes sense whole is one item with a size, whole or in pages, as it was at the moment.
func TestAFolderThatOnlyMakesSenseWholeIsOneItem(t *testing.T) {
	vault := map[string]string{"/home/ines/Vault/gocryptfs.conf": "{}", "/home/ines/Vault/9aKq2LmZx81TtQ-Vw7Yd0c": "four", "/home/ines/Notes.txt": "n"}
	grown := maps.Clone(vault)
	grown["/home/ines/Vault/in4Hd82kfLq0ZsMn3VtB5w/7yPq0ZsMn3VtB5wX81TtQ"] = "later"
	l := newLoft(t, vault, grown)
	home := place.Place{Machine: "loft", Path: "/home/ines"}
	for day, want := range []past.Whole{{Files: 2, Size: 6}, {Files: 3, Size: 11}} {
		want.Why = "a folder of encrypted files: it holds gocryptfs.conf"
		at := first.AddDate(0, 0, day)
		whole, err := l.Past.Folder(t.Context(), home, at, time.Time{})
		require.NoError(t, err)
		page, _, err := l.Past.FolderPage(t.Context(), home, at, time.Time{}, "", 10)
		require.NoError(t, err)
		for _, level := range [][]past.Entry{whole.Level(), page.Entries} {
			require.Len(t, level, 2)
			assert.Nil(t, level[0].Whole)
			assert.Equal(t, &want, level[1].Whole)
		}
	}
	for path, in := range map[string]string{"/home/ines/Vault": "/home/ines/Vault", "/home/ines/Vault/in4Hd82kfLq0ZsMn3VtB5w": "/home/ines/Vault",
		"/home/ines": ""} {
		folder, _, err := l.Past.SealedWith(t.Context(), place.Place{Machine: "loft", Path: path})
		require.NoError(t, err)
		assert.Equal(t, in, folder, path)
	}
}

func TestAWrongClockIsPutRight(t *testing.T) {
	l := newLoft(
		t,
		map[string]string{"/home/ines/a.txt": "one @-1", "/home/ines/b": "b @-1"},
		map[string]string{"/home/ines/a.txt": "later @0.5", "/home/ines/b": "b @-1"},
	)
	m, err := l.AddMachine(t.Context(), registry.NewMachine{Name: "ahead", At: l.Root, ClockAhead: 6 * time.Hour})
	require.NoError(t, err)
	src, err := l.AddSource(
		t.Context(),
		registry.NewSource{Machine: m.Name, Kind: "snapshots", At: "/srv/points", Zone: "UTC", Named: "%Y-%m-%dT%H%M"},
	)
	require.NoError(t, err)
	l.Survey(src)
	arrived := func(machine string) time.Time {
		got, err := l.Past.Trail(t.Context(), place.Place{Machine: machine, Path: "/home/ines/a.txt"})
		require.NoError(t, err)
		require.Len(t, got.Versions, 2)
		return got.Versions[1].Arrived
	}
	assert.Equal(t, first.Add(12*time.Hour), arrived("loft"))
	assert.Equal(t, first.Add(6*time.Hour), arrived("ahead"))
}
