package catalogue_test

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/sighting"
)

var now = time.Date(2026, 11, 20, 12, 0, 0, 0, time.UTC)

// shelf is a catalogue with one source, filled by hand.
type shelf struct {
	*catalogue.Catalogue
	t      *testing.T
	source catalogue.Source
	dir    string
}

func newShelf(t *testing.T) *shelf {
	s := &shelf{t: t, dir: t.TempDir()}
	var err error
	s.Catalogue, err = catalogue.Open(t.Context(), s.dir)
	require.NoError(t, err)
	t.Cleanup(func() { s.Close() })
	_, err = s.Machines.Add(t.Context(), catalogue.Machine{Name: "loft", At: "/x", Zone: "UTC", RetentionDays: 30})
	require.NoError(t, err)
	s.source, err = s.Sources.Add(t.Context(), catalogue.Source{Source: copies.Source{Machine: "loft", AtMachine: "loft", Kind: "trash", At: "/home/ines"}})
	require.NoError(t, err)
	return s
}

// capture records names, deleted an hour after one another, newest first.
func (s *shelf) capture(names ...string) {
	s.t.Helper()
	ctx := s.t.Context()
	d := s.Surveys.Begin(ctx, s.source, now, catalogue.Following{Owner: func(string, entry.Maybe[int64]) string { return "ines" }})
	var all []sighting.Sighting
	for i, name := range names {
		all = append(
			all,
			sighting.Sighting{At: sighting.Locator{Dir: "files", Name: name}, Mark: entry.Mark{Size: 1}, Origin: "/home/ines/" + name,
				Type: entry.File, Size: int64(1000 - i), GoneAt: now.Add(-time.Duration(i) * time.Hour), Written: now, Readable: true},
		)
	}
	slices.SortFunc(all, func(a, b sighting.Sighting) int { return strings.Compare(a.At.Name, b.At.Name) })
	for _, one := range all {
		require.NoError(s.t, d.Sight(one))
	}
	_, err := d.End(nil)
	require.NoError(s.t, err)
}

func (s *shelf) names(q catalogue.Query) []string {
	s.t.Helper()
	found, err := s.Everything().Search.Find(s.t.Context(), q)
	require.NoError(s.t, err)
	names := []string{}
	for _, c := range found.Copies {
		names = append(names, c.Place.Name())
	}
	return names
}

func TestWordsAreFoundWhateverTheirLength(t *testing.T) {
	s := newShelf(t)
	s.capture(
		"Orçamento Nº 7.odt",
		"offsets draft.csv",
		"Offsets.csv",
		"zq",
		"ÉTÉ.jpg",
		`quote "x" 100%_.txt`,
		"caf\xe9 notes.txt",
		"日本語の船.svg",
	)
	for words, want := range map[string][]string{
		"offsets":       {"offsets draft.csv", "Offsets.csv"},
		"draft offsets": {"offsets draft.csv"},
		"orcamento":     {"Orçamento Nº 7.odt"},
		"ORÇA":          {"Orçamento Nº 7.odt"},
		"zq":            {"zq"},
		"q":             {"zq", `quote "x" 100%_.txt`},
		"7":             {"Orçamento Nº 7.odt"},
		"ete":           {"ÉTÉ.jpg"},
		`"x"`:           {`quote "x" 100%_.txt`},
		"100%_":         {`quote "x" 100%_.txt`},
		"NOT OR":        {},
		"* ^":           {},
		"notes":         {"caf\xe9 notes.txt"},
		"本語の":           {"日本語の船.svg"},
		"船":             {"日本語の船.svg"},
		"setsoff":       {}, // has all trigrams of neither
	} {
		assert.Equal(t, want, s.names(catalogue.Query{Words: words}), "%q", words)
	}
	assert.Len(t, s.names(catalogue.Query{}), 8, "no words: everything")
}

func TestPagesGoOnWhereTheyEnded(t *testing.T) {
	s := newShelf(t)
	var all []string
	for i := range 25 {
		all = append(all, fmt.Sprintf("plank %02d.txt", i))
	}
	s.capture(append(all, "undated")...)
	for _, sort := range []catalogue.Sort{catalogue.ByGone, catalogue.ByWritten, catalogue.ByName, catalogue.BySize, catalogue.ByExpiry} {
		whole := s.names(catalogue.Query{Sort: sort, Limit: 100})
		var paged []string
		for cursor, pages := "", 0; ; pages++ {
			found, err := s.Everything().Search.Find(t.Context(), catalogue.Query{Sort: sort, Limit: 7, Cursor: cursor})
			require.NoError(t, err)
			assert.Equal(t, 26, found.Total)
			assert.True(t, found.Exact)
			for _, c := range found.Copies {
				paged = append(paged, c.Place.Name())
			}
			if cursor = found.Next; cursor == "" {
				assert.Equal(t, 3, pages)
				break
			}
		}
		assert.Equal(t, whole, paged, sort)
	}
	assert.Equal(t, all[:3], s.names(catalogue.Query{Limit: 3}), "newest deletion first")
	for _, cursor := range []string{"nonsense", "bm9uc2Vuc2U", "eyJ2IjoxfQ", "eyJ2IjoiYSIsImkiOjF9"} {
		_, err := s.Everything().Search.Find(t.Context(), catalogue.Query{Cursor: cursor})
		assert.ErrorIs(t, err, catalogue.ErrCursor, cursor)
	}
}

func TestFiltersNarrow(t *testing.T) {
	s := newShelf(t)
	s.capture("a.odt", "b.csv", "c.jpg")
	assert.Equal(t, []string{"b.csv"}, s.names(catalogue.Query{Class: "spreadsheets"}))
	assert.Equal(t, []string{"a.odt"}, s.names(catalogue.Query{GoneSince: now.Add(-30 * time.Minute)}))
	assert.Len(t, s.names(catalogue.Query{Under: "/home/ines"}), 3)
	assert.Empty(t, s.names(catalogue.Query{Under: "/home/in"}), "a folder's name in part is another folder")
	assert.Empty(t, s.names(catalogue.Query{People: map[string][]string{"loft": {"oda"}}}))
	assert.Len(t, s.names(catalogue.Query{State: "gone", Machine: "loft", Kind: "trash", People: map[string][]string{"loft": {"ines"}, "slip": {"oda"}}}), 3)
	assert.Equal(t, []string{"c.jpg"}, s.names(catalogue.Query{ExpiresBefore: now.Add(30*24*time.Hour - 90*time.Minute)}))
}

func TestASurveyAddsWhatBeganAndEndsWhatIsGone(t *testing.T) {
	s := newShelf(t)
	s.capture("a", "b")
	first := s.names(catalogue.Query{})
	s.capture("a", "c")
	assert.Equal(t, []string{"a", "b"}, first)
	assert.ElementsMatch(t, []string{"a", "c"}, s.names(catalogue.Query{}))
	assert.ElementsMatch(t, []string{"a", "b", "c"}, s.names(catalogue.Query{Records: true}), "records are never deleted")
	s.capture("a", "b", "c")
	assert.Len(t, s.names(catalogue.Query{Records: true}), 4, "what comes back is a span of its own")
}

func TestForgettingLeavesNoTraceInTheSearch(t *testing.T) {
	s := newShelf(t)
	s.capture("offsets.csv")
	require.NoError(t, s.RemoveSource(t.Context(), s.source.ID))
	assert.Empty(t, s.names(catalogue.Query{Words: "offsets", Records: true}))
	var err error
	s.source, err = s.Sources.Add(t.Context(), catalogue.Source{Source: copies.Source{Machine: "loft", AtMachine: "loft", Kind: "trash", At: "/home/ines"}})
	require.NoError(t, err)
	s.capture("offsets.csv")
	assert.Equal(t, []string{"offsets.csv"}, s.names(catalogue.Query{Words: "offsets"}))
	_, err = s.Sources.Add(t.Context(), catalogue.Source{Source: copies.Source{Machine: "loft", AtMachine: "loft", Kind: "trash", At: "/home/ines"}})
	assert.ErrorIs(t, err, catalogue.ErrTaken)
	require.NoError(t, s.ForgetMachine(t.Context(), "loft"))
	assert.ErrorIs(t, s.ForgetMachine(t.Context(), "loft"), catalogue.ErrNotFound)
}

func TestDamageIsFoundAtTheStart(t *testing.T) {
	s := newShelf(t)
	var names []string
	for i := range 3000 {
		names = append(names, fmt.Sprintf("plank %04d", i))
	}
	s.capture(names...)
	require.NoError(t, s.Close())
	path := filepath.Join(s.dir, "catalogue.sqlite")
	content, err := os.ReadFile(path)
	require.NoError(t, err)
	for i := len(content) / 2; i < len(content)/2+40_000; i++ {
		content[i] ^= 0x5a
	}
	require.NoError(t, os.WriteFile(path, content, 0o600))
	_, err = catalogue.Open(t.Context(), s.dir)
	assert.ErrorIs(t, err, catalogue.ErrDamaged)
}
