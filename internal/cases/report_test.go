package cases_test

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humble-rewind/internal/cases"
	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/core/advice"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/site"
	"humble-rewind/internal/sitetest"
)

// What somebody typed into a case, and what advice gives its reasons as, reads as text in every report, and does nothing.
func TestAReportSaysSentencesAndNothingInItActs(t *testing.T) {
	s := sitetest.New(t)
	s.Discard("/home/ines/Keel.txt", strings.Repeat("an oak keel\n", 30))
	s.Survey(s.AddTrash("/home/ines"))
	live, err := s.AddSource(t.Context(), site.NewSource{Machine: "loft", Kind: "live", At: "/home"})
	require.NoError(t, err)
	s.Survey(live)
	book := &cases.Book{Site: s.Site, Adviser: s.Adviser, Now: time.Now}
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
