package ledger_test

import (
	"context"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/choosing"
	"humble-rewind/internal/core/advice"
	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/problem"
	"humble-rewind/internal/core/trail"
	"humble-rewind/internal/kinds"
	"humble-rewind/internal/reach"
	"humble-rewind/internal/reach/local"
	"humble-rewind/internal/reach/reachtest"
	"humble-rewind/internal/registry"
	"humble-rewind/internal/restore"
	"humble-rewind/internal/sitetest"
	"humble-rewind/internal/source"
	"humble-rewind/internal/source/sourcetest"
	"humble-rewind/internal/source/sourcetest/ledger"
	"humble-rewind/internal/survey"
)

var day = time.Date(2026, 3, 2, 12, 0, 0, 0, time.UTC)

func TestHoldsTheContractOfStores(t *testing.T) {
	root := t.TempDir()
	require.NoError(
		t,
		ledger.Write(
			filepath.Join(root, "book"),
			"first",
			day,
			map[string]string{"/home/ines/a": "one", "/home/ines/b": "b", "?": "nameless"},
		),
	)
	require.NoError(
		t,
		ledger.Write(
			filepath.Join(root, "book"),
			"second",
			day.AddDate(0, 0, 1),
			map[string]string{"/home/ines/a": "two", "/home/ines/b": "gone"},
		),
	)
	files, err := local.Open(root)
	require.NoError(t, err)
	defer files.Close()
	sourcetest.Run(t, ledger.Kind, source.Setup{Files: reachtest.Poor(files, time.Millisecond), At: "/book", Zone: time.UTC})
}

// A machine that can only be reached slowly and poorly holds a ledger: it is surveyed by what changed, found, in a trail, and brought
// back, without anything in between knowing what it is.
func TestALedgerIsReadFromEndToEnd(t *testing.T) {
	s := sitetest.NewWith(t, reach.Ways{local.Way(), reachtest.PoorWay(local.Way(), 100*time.Microsecond)})
	rules, _ := kinds.Leftovers()
	s.Kinds = append(kinds.All(rules), ledger.Kind)
	ctx := t.Context()
	_, err := s.AddMachine(ctx, registry.NewMachine{Name: "quay", At: "poor://" + s.Root, Zone: "Europe/Lisbon"})
	require.NoError(t, err)
	book := s.Path("/book")
	require.NoError(
		t,
		ledger.Write(book, "c1", day, map[string]string{"/home/ines/a.txt": "one", "/home/ines/b.txt": "same", "?": "nobody knows"}),
	)
	require.NoError(t, ledger.Write(book, "c2", day.AddDate(0, 0, 1), map[string]string{"/home/ines/a.txt": "two"}))
	s.Lay(map[string]string{"/book/lock": "oak"})
	_, err = s.AddSource(ctx, registry.NewSource{Machine: "loft", Kind: "ledger", At: "quay:/book"})
	assert.ErrorIs(t, err, source.ErrLocked, "before it is unlocked nothing of it is believed")
	src, err := s.Catalogue.Sources.Add(
		ctx,
		catalogue.Source{Source: copies.Source{Machine: "loft", AtMachine: "quay", Kind: "ledger", At: "/book", Traits: ledger.Kind.Traits(),
			Maps: []place.Map{{From: "/", To: "/"}}}}, // the way tells no owners: a technician vouches for it
	)
	require.NoError(t, err)
	_, _, err = s.Unlock(t.Context(), src.Source, []byte("elm"))
	assert.ErrorIs(t, err, problem.ErrInput, "another secret opens nothing")
	opened, locked, err := s.Unlock(t.Context(), src.Source, []byte("oak"))
	require.NoError(t, err)
	assert.Equal(t, []int{1, 0}, []int{opened, locked})

	first := s.Survey(src)
	assert.EqualValues(t, 4, first.Fresh)
	require.NoError(
		t,
		ledger.Write(book, "c3", day.AddDate(0, 0, 2), map[string]string{"/home/ines/b.txt": "gone", "/home/ines/a.txt": "one"}),
	)
	src, err = s.Catalogue.Sources.ByID(ctx, src.ID)
	require.NoError(t, err)
	second := s.Survey(src)
	assert.Equal(t, catalogue.Counts{Found: 5, Fresh: 1, Gone: 2}, second.Counts, "only what changed is told")

	tr, err := s.Past.Trail(ctx, place.Place{Machine: "loft", Path: "/home/ines/a.txt"})
	require.NoError(t, err)
	assert.Equal(t, []string{"one", "two", "one"}, contentsOf(t, s, tr.Versions, tr.Seen))
	for _, f := range tr.Seen {
		assert.True(t, f.SHA256.Known(), "what the store calls a content need not be read to be known")
	}
	b, err := s.Past.Trail(ctx, place.Place{Machine: "loft", Path: "/home/ines/b.txt"})
	require.NoError(t, err)
	last := b.Versions[len(b.Versions)-1]
	assert.False(t, last.Superseded.IsZero(), "a commit removed it")

	nameless := s.Find(catalogue.Query{Words: "c1-", Records: true})
	require.Len(t, nameless, 1)
	assert.True(t, nameless[0].Lost)
	assert.Contains(t, nameless[0].Notes[0], "What it was called is lost")
	assert.Contains(t, nameless[0].Lies, "of commit c1")

	receipt := s.BringBack(
		restore.Request{Copies: []copies.ID{nameless[0].ID}, To: &place.Place{Machine: "loft", Path: "/home/ines/found.txt"}},
	)
	require.Equal(t, catalogue.ReceiptDone, receipt.State, receipt.Items[0].Note)
	assert.Contains(t, receipt.Items[0].Note, "its store tells neither whose it is nor who may read it")
	assert.Contains(t, s.Tree("/home/ines/found.txt"), "100644 ")
}

func contentsOf(t *testing.T, s *sitetest.Site, versions []trail.Version, seen []*copies.Copy) (all []string) {
	for _, v := range versions {
		content, err := s.Contents.Bytes(t.Context(), seen[v.Seen[len(v.Seen)-1]], 100)
		require.NoError(t, err)
		all = append(all, string(content))
	}
	return all
}

// A store that tells what changed since a point in time that is not the latest known is not believed.
func TestWhatChangedSinceSomethingElseIsRefused(t *testing.T) {
	s := sitetest.New(t)
	rules, _ := kinds.Leftovers()
	s.Kinds = append(kinds.All(rules), ledger.Kind)
	book := s.Path("/book")
	require.NoError(t, ledger.Write(book, "c2", day, map[string]string{"/home/ines/a.txt": "two"}))
	src, err := s.AddSource(t.Context(), registry.NewSource{Machine: "loft", Kind: "ledger", At: "/book"})
	require.NoError(t, err)
	s.Survey(src)
	require.NoError(t, ledger.Write(book, "c1", day.AddDate(0, 0, -1), map[string]string{"/home/ines/a.txt": "one"}))
	_, err = survey.Run(context.Background(), s.Site, src, day, survey.Following{})
	assert.ErrorContains(t, err, "what changed since c2")
}

// An entry of a ledger whose contents may have been given to others is never taken for a version that it has the size, the time and even the name
// of: its own bytes tell. The same entry of one that can be believed is.
func TestWhatIsUnprovedIsKnownByItsBytesAlone(t *testing.T) {
	for _, c := range []struct {
		unproved bool
		bytes    string // that stand where the entry's are said to be; "" none can be read
		one      bool   // the version of the snapshot and the entry are one content
		later    bool   // it says so only once it was surveyed
	}{{false, "oakoak", true, false}, {false, "", true, false}, {true, "oakoak", true, false}, {true, "xxxxxx", false, false}, {true, "", false, false},
		{true, "oakoak", true, true}, {true, "xxxxxx", false, true}, {true, "", false, true}} {
		s := sitetest.New(t)
		rules, _ := kinds.Leftovers()
		s.Kinds = append(kinds.All(rules), ledger.Kind)
		book := s.Path("/book")
		require.NoError(t, ledger.Write(book, "c1", day, map[string]string{"/home/ines/a.txt": "oakoak"}))
		contents, err := os.ReadDir(filepath.Join(book, "contents"))
		require.NoError(t, err)
		at := filepath.Join(book, "contents", contents[0].Name())
		if c.bytes == "" {
			require.NoError(t, os.Remove(at))
		} else {
			require.NoError(t, os.WriteFile(at, []byte(c.bytes), 0o644))
		}
		if c.unproved && !c.later {
			s.Lay(map[string]string{"/book/unproved": ""})
		}
		s.Lay(map[string]string{"/srv/points/2026-01-01T0000/home/ines/a.txt": "oakoak", "/home/ines/other.txt": "x"})
		written := day.Add(-time.Minute)
		require.NoError(t, os.Chtimes(s.Path("/srv/points/2026-01-01T0000/home/ines/a.txt"), written, written))
		for _, n := range []registry.NewSource{{Machine: "loft", Kind: "snapshots", At: "/srv/points", Zone: "UTC", Named: "%Y-%m-%dT%H%M"},
			{Machine: "loft", Kind: "ledger", At: "/book"}} {
			src, err := s.AddSource(t.Context(), n)
			require.NoError(t, err)
			s.Survey(src)
			if c.later && n.Kind == "ledger" {
				s.Lay(map[string]string{"/book/unproved": ""})
				src, err = s.Catalogue.Sources.ByID(t.Context(), src.ID)
				require.NoError(t, err)
				s.Survey(src)
			}
			now, err := s.Catalogue.Sources.ByID(t.Context(), src.ID)
			require.NoError(t, err)
			assert.Equal(t, c.unproved && n.Kind == "ledger", now.Traits.Unproved, "what a store says of itself is kept with it")
		}
		require.NoError(t, s.Site.Begin(t.Context())) // a start keeps what kinds declare, and not over that
		tr, err := s.Past.Trail(t.Context(), place.Place{Machine: "loft", Path: "/home/ines/a.txt"})
		require.NoError(t, err)
		stores := map[int]map[copies.SourceID]bool{}
		for _, v := range tr.Versions {
			if stores[v.Content] == nil {
				stores[v.Content] = map[copies.SourceID]bool{}
			}
			for _, n := range v.Seen {
				stores[v.Content][tr.Seen[n].Store.ID] = true
			}
		}
		both := false
		for _, of := range stores {
			both = both || len(of) == 2
		}
		assert.Equal(t, c.one, both, "%+v", c)

		answer, err := s.Adviser.Advise(t.Context(), choosing.Question{Question: advice.Question{Loss: advice.Deleted},
			Place: place.Place{Machine: "loft", Path: "/home/ines/a.txt"}})
		require.NoError(t, err)
		if r := answer.Recommended; c.unproved && !c.one && r != nil {
			assert.False(t, r.Copy.Unproved && r.Sure == advice.Certain, "%+v: it is never certain by such a store alone", c)
		}
	}
}
