package survey_test

import (
	"context"
	"fmt"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/registry"
	"humble-rewind/internal/sitetest"
	"humble-rewind/internal/survey"
)

// Surveyed side by side, sources end with the same records as one after the other.
func TestSourcesSurveyedSideBySideKeepTheirRecordsApart(t *testing.T) {
	known := func(together bool) map[string]string {
		s := sitetest.New(t)
		var sources []catalogue.Source
		for n := range 6 {
			at := fmt.Sprintf("/srv/%d", n)
			files := map[string]string{}
			for f := range 300 {
				files[fmt.Sprintf("%s/%d/plan %d.txt", at, f%20, f)] = fmt.Sprintf("of %d", n)
			}
			s.Lay(files)
			src, err := s.AddSource(t.Context(), registry.NewSource{Machine: "loft", Kind: "live", At: at})
			require.NoError(t, err)
			sources = append(sources, src)
		}
		for range 3 { // the second and third time with changes
			var all sync.WaitGroup
			for n, src := range sources {
				run := func() {
					src, err := s.Catalogue.Sources.ByID(context.Background(), src.ID)
					assert.NoError(t, err)
					_, err = survey.Run(context.Background(), s.Site, src, time.Now(), func(int64, string) {})
					assert.NoError(t, err, n)
				}
				if together {
					all.Go(run)
				} else {
					run()
				}
			}
			all.Wait()
			for n := range sources {
				s.Lay(map[string]string{fmt.Sprintf("/srv/%d/3/plan 3.txt", n): "longer than before", fmt.Sprintf("/srv/%d/new.txt", n): "new"})
			}
		}
		places := map[string]string{}
		for _, c := range s.Find(catalogue.Query{Limit: 5000, Records: true}) {
			places[fmt.Sprintf("%s %d %v", c.Place.Path, c.Size, c.Gone.IsZero())] = c.Store.At
		}
		report, err := s.Catalogue.Check(t.Context(), func(time.Duration) {})
		require.NoError(t, err)
		assert.Empty(t, report)
		return places
	}
	one, other := known(false), known(true)
	require.Greater(t, len(one), 1800)
	assert.Equal(t, one, other)
}
