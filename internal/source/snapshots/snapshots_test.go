package snapshots_test

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/sighting"
	"humble-rewind/internal/reach/local"
	"humble-rewind/internal/source"
	"humble-rewind/internal/source/live"
	"humble-rewind/internal/source/snapshots"
	"humble-rewind/internal/source/sourcetest"
)

// setup lays files by their paths below a machine's root; content that begins with "=> " makes a link.
func setup(t *testing.T, files map[string]string) source.Setup {
	t.Helper()
	root := t.TempDir()
	for path, content := range files {
		at := filepath.Join(root, path)
		require.NoError(t, os.MkdirAll(filepath.Dir(at), 0o755))
		if target, link := strings.CutPrefix(content, "=> "); link {
			require.NoError(t, os.Symlink(target, at))
		} else if strings.HasSuffix(path, "/") {
			require.NoError(t, os.MkdirAll(at, 0o755))
		} else {
			require.NoError(t, os.WriteFile(at, []byte(content), 0o644))
		}
	}
	reached, err := local.Open(root)
	require.NoError(t, err)
	t.Cleanup(func() { reached.Close() })
	lisbon, err := time.LoadLocation("Europe/Lisbon")
	require.NoError(t, err)
	return source.Setup{Files: reached, At: "/points", Zone: lisbon, Homes: []string{"/home/ines"}}
}

func TestContract(t *testing.T) {
	s := setup(
		t,
		map[string]string{
			"points/2026-03-04T1705/home/a":      "a",
			"points/2026-03-04T1705/home/deep/b": "bb",
			"points/2026-03-05T1705/home/a":      "a",
			"points/2026-03-05T1705/home/c":      "=> a",
		},
	)
	sourcetest.Run(t, snapshots.Kind, s)
	s.At = "/points/2026-03-04T1705"
	sourcetest.Run(t, live.Kind, s)
}

// listing records what a survey reports.
type listing struct {
	source.Known // of which, and of the reporter, only what follows is asked
	source.Reporter

	known    map[string]time.Time
	captures []string
	places   []string
	notes    []string
}

func (l *listing) Marks(context.Context, string) (func(string) entry.Mark, error) {
	return func(string) entry.Mark { return entry.Mark{} }, nil
}
func (l *listing) Unchanged(context.Context, string, []byte, int) (bool, error) { return false, nil }
func (l *listing) Captures(context.Context) (map[string]time.Time, error)       { return l.known, nil }
func (l *listing) Unread(dir string, why error) error {
	l.notes = append(l.notes, dir+": "+why.Error())
	return nil
}
func (l *listing) Progress(int64, int64, string) {}
func (l *listing) Due() bool                     { return false }
func (l *listing) Note(text string)              { l.notes = append(l.notes, text) }
func (l *listing) Begin(c sighting.Capture) error {
	l.captures = append(l.captures, c.Name+" "+c.At.UTC().Format(time.RFC3339))
	return nil
}
func (l *listing) Memo() []byte                { return nil }
func (l *listing) Remember([]byte)             {}
func (l *listing) Gone(sighting.Locator) error { return os.ErrInvalid }
func (l *listing) Discard(why string) error    { return os.ErrInvalid }
func (l *listing) Sight(s sighting.Sighting) error {
	l.places = append(l.places, s.Origin)
	return nil
}

func survey(t *testing.T, k source.Kind, s source.Setup) *listing {
	t.Helper()
	l := &listing{}
	store, err := k.Open(t.Context(), s)
	require.NoError(t, err)
	require.NoError(t, store.Survey(t.Context(), l, l))
	return l
}

func TestWhatIsNoPointInTimeIsPassedOverOrLeftAlone(t *testing.T) {
	l := survey(t, snapshots.Kind, setup(t, map[string]string{
		"points/2026-03-04T1705/a": "a", "points/latest": "=> 2026-03-04T1705", "points/README": "about", "points/scripts/x": "x",
		"points/2026-03-05T1705.partial/a": "half", "points/2026-03-04T17:05:00/a": "another of the same time",
	}))
	assert.Equal(t, []string{"2026-03-04T1705 2026-03-04T17:05:00Z"}, l.captures)
	notes := strings.Join(l.notes, "\n")
	assert.Contains(t, notes, "2026-03-05T1705.partial is still being written")
	assert.Contains(t, notes, "2026-03-04T1705 and 2026-03-04T17:05:00 are of the same time")
	assert.Contains(t, notes, "carry no time: scripts")
}

func TestNamesThatCanBeReadInTwoWaysAreAnError(t *testing.T) {
	s := setup(t, map[string]string{"points/03-04-2026/a": "a", "points/05-06-2026/a": "a"})
	_, err := snapshots.Kind.Describe(t.Context(), s)
	assert.ErrorContains(t, err, "read in two ways")
	s.Named = "%d-%m-%Y"
	described, err := snapshots.Kind.Describe(t.Context(), s)
	require.NoError(t, err)
	assert.Contains(t, described.Notes[0], "2 points in time, from 2026-04-02T23:00:00Z", "in the machine's zone, in which it is summer")
	s.At = "/nothing"
	_, err = snapshots.Kind.Describe(t.Context(), s)
	assert.ErrorIs(t, err, os.ErrNotExist)
}

// In the hour that clocks show twice, write times decide.
func TestWriteTimesDecideWhatANameLeavesOpen(t *testing.T) {
	s := setup(t, map[string]string{"points/2026-10-25T0130/a": "a", "points/2026-10-26T0130/a": "a"})
	l := survey(t, snapshots.Kind, s)
	assert.Contains(
		t,
		l.captures[0],
		"2026-10-25T0130 2026-10-25T01:30:00Z",
		"its file was written after the first time that clocks showed 1:30",
	)
	assert.Contains(t, strings.Join(l.notes, " "), "twice that night")
}

func TestMapsSayWhatIsWhere(t *testing.T) {
	files := map[string]string{"points/2026-03-04T1705/front-office/home/ines/a": "a", "points/2026-03-04T1705/store/srv/b": "b"}
	s := setup(t, files)
	s.Maps = []place.Map{{From: "/front-office", To: "/"}}
	assert.Equal(
		t,
		[]string{"/home", "/home/ines", "/home/ines/a"},
		survey(t, snapshots.Kind, s).places,
		"another machine's files are not this one's",
	)
	s.Maps = []place.Map{{From: "/store/srv", To: "/data"}}
	assert.Contains(t, survey(t, snapshots.Kind, s).places, "/data/b")
	s.Maps, s.Exclusions = nil, []string{"store", "/front-office/home/ines/*"}
	assert.Equal(t, []string{"/front-office", "/front-office/home", "/front-office/home/ines"}, survey(t, snapshots.Kind, s).places)
}

func TestTheLiveTreeLeavesOutStoresAndWhatIsExcluded(t *testing.T) {
	s := setup(
		t,
		map[string]string{
			"home/ines/a":                          "a",
			"home/ines/.local/share/Trash/files/b": "b",
			"home/ines/big.iso":                    "x",
			"home/ines/Cache/c":                    "c",
			"home/points/2026-03-04T1705/a":        "a",
			"home/loop":                            "=> ../home",
		},
	)
	s.At, s.Stores, s.Exclusions = "/home", []string{"/home/points"}, []string{"*.iso", "/home/*/Cache"}
	assert.ElementsMatch(
		t,
		[]string{"/home/ines", "/home/ines/a", "/home/ines/.local", "/home/ines/.local/share", "/home/loop"},
		survey(t, live.Kind, s).places,
	)
	empty := setup(t, map[string]string{"mnt/": ""})
	empty.At = "/mnt"
	l := &listing{}
	store, err := live.Kind.Open(t.Context(), empty)
	require.NoError(t, err)
	assert.ErrorContains(t, store.Survey(t.Context(), l, l), "as if its drive were not mounted")
	s.Exclusions = []string{"a/b"}
	_, err = live.Kind.Describe(t.Context(), s)
	assert.ErrorContains(t, err, "write the whole path")
}
