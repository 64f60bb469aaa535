package restore_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/plan"
	"humble-rewind/internal/reach"
	"humble-rewind/internal/restore"
	"humble-rewind/internal/say"
	"humble-rewind/internal/sitetest"
)

// poorSite is a site whose machine can only be reached by a way that cannot tell which file one is, when it changed or whose it is.
func poorSite(t *testing.T) *sitetest.Site {
	f := &faults{poor: true}
	return sitetest.NewWith(t, reach.Ways{f.way()})
}

// at sets the write time of a file to a whole second, as a poor way shows it.
func at(t *testing.T, path string, when time.Time) {
	require.NoError(t, os.Chtimes(path, when, when))
}

func TestOverAPoorWayAnUndoLeavesEverythingAsItWas(t *testing.T) {
	s := poorSite(t)
	s.Discard("/home/ines/quote.odt", "from the trash")
	s.Discard("/home/ines/Moulds/", "one.svg\nfull size/two.svg\n")
	s.Lay(map[string]string{"/home/ines/quote.odt": "stood there"})
	old := time.Date(2026, 3, 4, 5, 6, 7, 0, time.UTC)
	require.NoError(t, filepath.Walk(s.Root, func(path string, _ os.FileInfo, err error) error {
		require.NoError(t, err)
		at(t, path, old)
		return nil
	}))
	s.Survey(s.AddTrash("/home/ines"))
	before := s.Tree("/")
	r := s.BringBack(
		restore.Request{Copies: ids(s.Named("quote"), s.Find(catalogue.Query{Words: "moulds", Class: "folders"})[0]), Rule: plan.SetAside},
	)
	require.Equal(t, []catalogue.ItemOutcome{"done", "done"}, outcomes(r), "%+v", r.Items)
	for _, item := range r.Items {
		assert.NotContains(t, item.Note, "not taken out", "it was read again, and is what was copied")
	}
	assert.NoFileExists(t, s.Path(sitetest.HomeTrash+"/files/quote.odt"))
	require.NoError(t, s.Undo(r.ID))
	assert.Equal(t, before, s.Tree("/"))
}

// Work that kept size and write time is seen all the same: where nothing else tells, contents are read.
func TestOverAPoorWayWorkOfTheSameSizeAndTimeIsNotLost(t *testing.T) {
	s := poorSite(t)
	s.Discard("/home/ines/quote.odt", "from the trash")
	s.Discard("/home/ines/Moulds/", "one.svg\n")
	s.Survey(s.AddTrash("/home/ines"))
	r := s.BringBack(restore.Request{Copies: ids(s.Named("quote"), s.Find(catalogue.Query{Words: "moulds", Class: "folders"})[0])})
	require.Equal(t, []catalogue.ItemOutcome{"done", "done"}, outcomes(r))
	for path, was := range map[string]string{"/home/ines/quote.odt": "from the trash", "/home/ines/Moulds/one.svg": "content of " +
		"one.svg\n"} {
		info, err := os.Stat(s.Path(path))
		require.NoError(t, err)
		work := strings.Repeat("w", len(was))
		s.Lay(map[string]string{path: work})
		at(t, s.Path(path), info.ModTime())
		assert.ErrorContains(t, s.Undo(r.ID), "changed after it was brought back", path)
		content, err := os.ReadFile(s.Path(path))
		require.NoError(t, err)
		assert.Equal(t, work, string(content))
		s.Lay(map[string]string{path: was})
		at(t, s.Path(path), info.ModTime())
	}
	require.NoError(t, s.Undo(r.ID), "once both are as they were")
}

// After a kill only what has the very content is taken for what was brought back; nothing else is touched.
func TestOverAPoorWayOnlyTheSameContentHasArrived(t *testing.T) {
	for name, c := range map[string]struct {
		stands  string
		outcome catalogue.ItemOutcome
	}{"the content": {"deleted", catalogue.ItemDone}, "another of its size": {"my own", catalogue.ItemFailed},
		"my own of 7": {"my own.", catalogue.ItemFailed}} {
		t.Run(name, func(t *testing.T) {
			s := poorSite(t)
			s.Discard("/home/ines/a.txt", "deleted")
			lies := s.Path(sitetest.HomeTrash + "/files/a.txt")
			when := time.Date(2026, 3, 4, 5, 6, 7, 0, time.UTC)
			at(t, lies, when)
			s.Survey(s.AddTrash("/home/ines"))
			r := s.Begin(restore.Request{Copies: ids(s.Named("a.txt"))})
			started(t, s, r.ID, 0, "deleted")
			s.Lay(map[string]string{"/home/ines/a.txt": c.stands})
			at(t, s.Path("/home/ines/a.txt"), when)
			require.Empty(t, settle(t, s))
			r = s.Receipt(r.ID)
			assert.Equal(t, []catalogue.ItemOutcome{c.outcome}, outcomes(r), r.Items[0].Note)
			content, err := os.ReadFile(s.Path("/home/ines/a.txt"))
			require.NoError(t, err)
			assert.Equal(t, c.stands, string(content))
			if c.outcome == catalogue.ItemFailed {
				assert.FileExists(t, lies)
				assert.FileExists(t, s.Path(sitetest.HomeTrash+"/info/a.txt.trashinfo"))
			}
		})
	}
}

// Whether a file system is mounted in a folder cannot be told there, so no folder is set aside or taken away as a whole.
func TestOverAPoorWayNoFolderIsSetAside(t *testing.T) {
	s := poorSite(t)
	s.Discard("/home/ines/Moulds/", "one.svg\n")
	s.Lay(map[string]string{"/home/ines/Moulds/other.svg": "stands"})
	s.Survey(s.AddTrash("/home/ines"))
	p, err := s.Restorer.Plan(
		t.Context(),
		restore.Request{Copies: ids(s.Find(catalogue.Query{Words: "moulds", Class: "folders"})[0]), Rule: plan.SetAside},
	)
	require.NoError(t, err)
	planned := items(t, p)
	require.Len(t, planned, 1)
	assert.Equal(t, plan.Refuse, planned[0].Action)
	assert.Contains(t, say.Speaker{}.Joined(planned[0].Notes), "does not tell whether another file system is mounted in it")
	var nowhere place.Place
	assert.NotEqual(t, nowhere, planned[0].To)
}
