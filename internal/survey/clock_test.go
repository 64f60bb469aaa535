package survey_test

import (
	"os"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/registry"
	"humble-rewind/internal/sitetest"
	"humble-rewind/internal/survey"
)

// The service's clock may go wrong and be put right. What was seen stays in the order in which it was seen, and no survey fails for it.
func TestSurveysWhileTheClockJumps(t *testing.T) {
	for name, jumps := range map[string][]time.Duration{
		"back":               {0, -48 * time.Hour, -24 * time.Hour},
		"ahead, and back":    {0, 10 * 365 * 24 * time.Hour, time.Hour, 2 * time.Hour},
		"to 1970, and right": {0, -56 * 365 * 24 * time.Hour, time.Hour},
	} {
		t.Run(name, func(t *testing.T) {
			s := sitetest.New(t)
			began := time.Date(2026, 3, 2, 12, 0, 0, 0, time.UTC)
			path := s.Path("/home/ines/Keel.txt")
			src, err := s.AddSource(t.Context(), registry.NewSource{Machine: "loft", Kind: "live"})
			require.NoError(t, err)
			for n, jump := range jumps {
				s.Lay(map[string]string{"/home/ines/Keel.txt": string(rune('a' + n))})
				require.NoError(t, os.Chtimes(path, began.Add(time.Duration(n-10)*time.Hour), began.Add(time.Duration(n-10)*time.Hour)))
				src, err = s.Catalogue.Sources.ByID(t.Context(), src.ID)
				require.NoError(t, err)
				result, err := survey.Run(t.Context(), s.Site, src, began.Add(jump), survey.Following{})
				require.NoError(t, err, "survey %d", n)
				back := n > 0 && jump < slices.Max(jumps[:n])
				assert.Equal(t, back, strings.Contains(strings.Join(result.Notes, " "), "the service's clock was wrong"), "survey %d: %q", n, result.Notes)
			}
			tr, err := s.Past.Trail(t.Context(), place.Place{Machine: "loft", Path: "/home/ines/Keel.txt"})
			require.NoError(t, err)
			assert.Len(t, tr.Versions, len(jumps))
			last := tr.Versions[len(tr.Versions)-1]
			assert.Equal(t, began.Add(time.Duration(len(jumps)-11)*time.Hour), tr.Seen[last.Seen[0]].Written, "what stands now comes last")
		})
	}
}

// A clock that says a year in which times cannot be counted stops surveys, and nothing is recorded by it.
func TestNoSurveyByAClockThatCannotBe(t *testing.T) {
	s := sitetest.New(t)
	s.Lay(map[string]string{"/home/ines/Keel.txt": "oak"})
	src, err := s.AddSource(t.Context(), registry.NewSource{Machine: "loft", Kind: "live"})
	require.NoError(t, err)
	_, err = survey.Run(t.Context(), s.Site, src, time.Date(2276, 1, 1, 0, 0, 0, 0, time.UTC), survey.Following{})
	require.ErrorContains(t, err, "the year 2276")
	assert.Empty(t, s.Find(catalogue.Query{Records: true}))
}
