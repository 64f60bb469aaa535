package trash_test

import (
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/problem"
	"humble-rewind/internal/registry"
	"humble-rewind/internal/sitetest"
	"humble-rewind/internal/source"
	"humble-rewind/internal/source/sourcetest"
	"humble-rewind/internal/source/trash"
	"humble-rewind/internal/survey"
)

func TestHoldsTheContractOfSources(t *testing.T) {
	s := sitetest.New(t)
	s.Discard("/home/ines/a.txt", "a")
	s.Discard("/home/ines/Moulds/", "one.svg\nfull size/three.svg\nfull size/four.svg\n")
	files, err := s.Files(t.Context(), "loft")
	require.NoError(t, err)
	sourcetest.Run(t, trash.Kind, source.Setup{Files: files, At: "/home/ines", Zone: time.UTC})
}

func notes(c catalogue.Shown) string { return strings.Join(c.Notes, " ") }

func TestBrokenTrashesStayVisible(t *testing.T) {
	s := sitetest.New(t)
	s.Discard("/home/ines/whole.txt", "x")
	s.Lay(map[string]string{
		sitetest.HomeTrash + "/files/no record.txt":            "x",
		sitetest.HomeTrash + "/files/broken.txt":               "x",
		sitetest.HomeTrash + "/info/broken.txt.trashinfo":      "nonsense",
		sitetest.HomeTrash + "/files/link":                     "=> /etc/passwd",
		sitetest.HomeTrash + "/info/huge.txt.trashinfo":        "[Trash Info]\n" + strings.Repeat("X=1\n", 1<<16),
		sitetest.HomeTrash + "/files/huge.txt":                 "x",
		sitetest.HomeTrash + "/info/planted.txt.trashinfo":     "=> /etc/passwd",
		sitetest.HomeTrash + "/files/planted.txt":              "x",
		sitetest.HomeTrash + "/info/a note without ending.txt": "not a record",
	})
	s.Record(sitetest.HomeTrash, "link", "/home/ines/link", "2026-11-03T16:30:00")
	s.Record(sitetest.HomeTrash, "lost.txt", "/home/ines/lost.txt", "2026-11-03T16:30:00")
	s.Survey(s.AddTrash("/home/ines"))

	assert.False(t, s.Named("whole").Lost)
	for words, want := range map[string]string{"no record": "It has no record", "broken": "does not begin with",
		"huge": "cannot be read", "planted": "cannot be read"} {
		c := s.Named(words)
		assert.True(t, c.Lost, words)
		assert.Contains(t, notes(c), want)
		assert.True(t, c.Readable, words)
		assert.Equal(t, c.LiesAt(), c.Place, "%s: where nothing tells the origin, its place is where it lies", words)
	}
	assert.Equal(t, entry.Link, s.Named("link").Type)
	assert.Empty(t, s.Find(catalogue.Query{Words: "lost"}))
	lost := s.Find(catalogue.Query{Words: "lost", Records: true})
	require.Len(t, lost, 1)
	assert.False(t, lost[0].Readable)
	assert.Contains(t, notes(lost[0]), "Only the record is left")
	assert.Equal(t, "/home/ines/lost.txt", lost[0].Place.Path)
}

func TestDeletionTimesAreInTheMachinesZone(t *testing.T) {
	s := sitetest.New(t)
	add := func(name, when string, recordWritten time.Time) {
		s.Lay(map[string]string{sitetest.HomeTrash + "/files/" + name: "x"})
		s.Record(sitetest.HomeTrash, name, "/home/ines/"+name, when)
		require.NoError(t, os.Chtimes(s.Path(sitetest.HomeTrash+"/info/"+name+".trashinfo"), recordWritten, recordWritten))
	}
	late := time.Date(2026, 10, 25, 1, 30, 1, 0, time.UTC)
	add("summer", "2026-07-01T12:00:00", late)
	add("first", "2026-10-25T01:30:00", late.Add(-time.Hour))
	add("second", "2026-10-25T01:30:00", late)
	add("never", "2026-03-29T01:30:00", late)
	add("undated", "", late)
	s.Survey(s.AddTrash("/home/ines"))
	for words, want := range map[string]string{"summer": "2026-07-01T11:00:00Z", "first": "2026-10-25T00:30:00Z",
		"second": "2026-10-25T01:30:00Z",
		"never":  "2026-03-29T01:30:00Z", "undated": "2026-10-25T01:30:01Z"} {
		assert.Equal(t, want, s.Named(words).Gone.Format(time.RFC3339), words)
	}
	assert.Empty(t, notes(s.Named("summer")))
	assert.Contains(t, notes(s.Named("second")), "twice that night")
	assert.Contains(t, notes(s.Named("never")), "Clocks skipped")
	assert.Contains(t, notes(s.Named("undated")), "the record's own write time")
}

func TestDrivesCarryTheirOwnTrash(t *testing.T) {
	s := sitetest.New(t)
	card := "/media/ines/CARD"
	lay := func(can, name, recorded string) {
		s.Lay(map[string]string{can + "/files/" + name: "x"})
		s.Record(can, name, recorded, "2026-11-03T16:30:00")
	}
	lay(card+"/.Trash-1001", "own.jpg", "DCIM/own.jpg")
	lay(card+"/.Trash-1001", "climbs.jpg", "../../climbs.jpg")
	lay(card+"/.Trash-1001", "absolute.jpg", "/etc/absolute.jpg")
	lay(card+"/.Trash/1001", "shared.jpg", "DCIM/shared.jpg")
	s.Lay(map[string]string{card + "/.Trash-7": "=> /etc", card + "/.Trash-staff/files/x": "no user number"})

	if os.Geteuid() == 0 { // as a card is mounted for whom it belongs to
		require.NoError(t, os.Chown(s.Path(card), 1001, 1001))
	}

	src := s.AddTrash(card)
	assert.Equal(t, "CARD", src.Drive)
	notSticky := s.Survey(src)
	assert.Contains(t, strings.Join(notSticky.Notes, " "), "lacks the sticky bit")
	assert.Contains(t, strings.Join(notSticky.Notes, " "), ".Trash-7 is a link")
	assert.Empty(t, s.Find(catalogue.Query{Words: "shared"}), "a shared trash that fails the checks is not read")
	require.NoError(t, os.Chmod(s.Path(card+"/.Trash"), 0o777|os.ModeSticky))
	s.Survey(src)

	own := s.Named("own.jpg")
	assert.Equal(t, card+"/DCIM/own.jpg", own.Place.Path)
	assert.Equal(t, "ines", own.Person)
	assert.Equal(t, card+"/DCIM/shared.jpg", s.Named("shared").Place.Path)
	for _, words := range []string{"climbs", "absolute"} {
		assert.True(t, s.Named(words).Lost, words)
		assert.Contains(t, notes(s.Named(words)), "not trusted")
	}
	// The same trash by its own folder.
	direct, err := s.AddSource(t.Context(), registry.NewSource{Machine: "loft", Kind: "trash", At: card + "/.Trash-1001"})
	require.NoError(t, err)
	assert.Equal(t, "CARD", direct.Drive)

	require.NoError(t, os.RemoveAll(s.Path(card)))
	s.Lay(map[string]string{card + "/": ""})
	_, err = survey.Run(t.Context(), s.Site, src, time.Now(), survey.Following{})
	assert.ErrorContains(t, err, "not plugged in")
	assert.Len(t, s.Find(catalogue.Query{Words: "own.jpg"}), 1, "what is known of an absent drive stays")
}

func TestLocationsThatAreNoTrashAreRefused(t *testing.T) {
	s := sitetest.New(t)
	s.Lay(map[string]string{"/srv/plain/file": "x", "/srv/to": "=> plain"})
	for at, want := range map[string]string{"/srv/plain": "there is none", "/srv/missing": "it is not there",
		"/srv/plain/file": "not a folder", "/srv/to": "symbolic link", "srv": "not a place", "/srv/../etc": "climbs"} {
		_, err := s.AddSource(t.Context(), registry.NewSource{Machine: "loft", Kind: "trash", At: at})
		assert.ErrorContains(t, err, want, at)
		assert.ErrorIs(t, err, problem.ErrInput, at)
	}
	_, err := s.AddSource(t.Context(), registry.NewSource{Machine: "loft", Kind: "attic", At: "/"})
	assert.ErrorIs(t, err, source.ErrUnknownKind)
	s.AddTrash("/home/ines") // a home without a trash yet is fine
}

func TestMapsRewriteWhatTheTrashRecorded(t *testing.T) {
	s := sitetest.New(t)
	s.Discard("/old/home/ines/a.txt", "a")
	src, err := s.AddSource(
		t.Context(),
		registry.NewSource{Machine: "loft", Kind: "trash", At: "/home/ines", Maps: []string{"/old/home=/home"}},
	)
	require.NoError(t, err)
	s.Survey(src)
	assert.Equal(t, "/home/ines/a.txt", s.Named("a.txt").Place.Path)
}
