package cases_test

import (
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humble-rewind/internal/cases"
	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/clouddrive"
	"humble-rewind/internal/core/advice"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/registry"
	"humble-rewind/internal/sitetest"
)

// What somebody typed into a case, and what advice gives its reasons as, reads as text in every report, and does nothing.
func TestAReportSaysSentencesAndNothingInItActs(t *testing.T) {
	s := sitetest.New(t)
	s.Discard("/home/ines/Keel.txt", strings.Repeat("an oak keel\n", 30))
	s.Survey(s.AddTrash("/home/ines"))
	live, err := s.AddSource(t.Context(), registry.NewSource{Machine: "loft", Kind: "live", At: "/home"})
	require.NoError(t, err)
	s.Survey(live)
	book := cases.NewBook(s.Site, s.Adviser, time.Now, func(int64) {})
	k, err := book.Open(t.Context(), catalogue.Case{Person: "ines", Place: place.Place{Machine: "loft", Path: "/home/ines/Keel.txt"},
		Loss: advice.Deleted, Happened: "gone \x1b[2J\x1b]0;owned\a since \u202enoon"}, "oda")
	require.NoError(t, err)
	k, err = book.Add(t.Context(), k.ID, "oda", catalogue.EntryNote, "she says \x1b[31mred\u202e\u2066", "")
	require.NoError(t, err)
	for _, reader := range []cases.Reader{cases.ForUser, cases.ForFile} {
		report, err := book.Report(t.Context(), k, reader, time.UTC)
		require.NoError(t, err)
		var md, html strings.Builder
		require.NoError(t, report.Markdown(&md))
		require.NoError(t, report.HTML(&html))
		for _, text := range []string{md.String(), html.String()} {
			assert.NotContains(t, text, "\x1b")
			assert.NotContains(t, text, "\u202e")
			assert.NotContains(t, text, "map[")
			assert.NotContains(t, text, "{deleted")
			if reader == cases.ForFile {
				assert.Contains(t, text, "when it was deleted")
			}
		}
	}
}

// What should be put right is told by what was found out: by whatever keeps versions, and by the exclusion that leaves a folder out.
func TestAReportSaysWhatDoesNotProtectTheFolder(t *testing.T) {
	say := func(t *testing.T, s *sitetest.Site, machine, path string) string {
		t.Helper()
		book := cases.NewBook(s.Site, s.Adviser, time.Now, func(int64) {})
		k, err := book.Open(t.Context(), catalogue.Case{Person: "ines", Place: place.Place{Machine: machine, Path: path}, Loss: advice.Deleted}, "oda")
		require.NoError(t, err)
		report, err := book.Report(t.Context(), k, cases.ForFile, time.UTC)
		require.NoError(t, err)
		return strings.Join(report.Each(report.Unprotected), "\n")
	}
	const nothing = "No snapshot, history or drive keeps versions of it"
	t.Run("an exclusion", func(t *testing.T) {
		s := sitetest.New(t)
		s.Discard("/home/ines/Cache/Keel.txt", "oak")
		s.Survey(s.AddTrash("/home/ines"))
		s.Lay(map[string]string{"/srv/points/2026-03-04T1705/home/ines/other.txt": "x"})
		src, err := s.AddSource(t.Context(), registry.NewSource{Machine: "loft", Kind: "snapshots", At: "/srv/points", Exclusions: []string{"Cache"}})
		require.NoError(t, err)
		s.Survey(src)
		said := say(t, s, "loft", "/home/ines/Cache/Keel.txt")
		assert.Contains(t, said, "is left out of ")
		assert.Contains(t, said, "by the exclusion “Cache”")
		assert.Contains(t, said, nothing)
	})
	t.Run("versions on a drive", func(t *testing.T) {
		s := sitetest.New(t)
		drive, err := clouddrive.Open(t.Context(), t.TempDir())
		require.NoError(t, err)
		defer drive.Close()
		require.NoError(t, drive.Admit(t.Context(), "ines", "oak", time.Time{}))
		server := httptest.NewServer(drive.Handler())
		defer server.Close()
		_, _, err = drive.Put(t.Context(), "/Keel.txt", strings.NewReader("oak"), "ines", "", "")
		require.NoError(t, err)
		_, err = s.AddMachine(t.Context(), registry.NewMachine{Name: "drive", At: "dav://ines@" + server.Listener.Addr().String() + "/files",
			Secret: []byte("oak")})
		require.NoError(t, err)
		src, err := s.AddSource(t.Context(), registry.NewSource{Machine: "loft", Kind: "cloud", At: "drive:/", Maps: []string{"/=/home/ines/Drive"}})
		require.NoError(t, err)
		s.Survey(src)
		said := say(t, s, "loft", "/home/ines/Drive/Keel.txt")
		assert.NotContains(t, said, nothing)
		assert.NotContains(t, said, "on the same machine")
	})
}
