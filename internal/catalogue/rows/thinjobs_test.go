package rows_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humble-rewind/internal/catalogue"
)

// Of surveys by which nothing was found one a day is kept; what was found, what went wrong and everything else stays.
func TestSurveysThatFoundNothingAreNotKeptForEver(t *testing.T) {
	c, err := catalogue.Open(t.Context(), t.TempDir())
	require.NoError(t, err)
	defer c.Close()
	begun := time.Date(2026, 3, 1, 0, 30, 0, 0, time.UTC)
	kept := map[int64]string{}
	add := func(at time.Time, kind string, state catalogue.JobState, why string, outcomes ...catalogue.Outcome) {
		j, err := c.Jobs.Add(t.Context(), catalogue.Job{Kind: kind, By: "oda", Request: []byte("{}"), CreatedAt: at})
		require.NoError(t, err)
		j.State, j.EndedAt, j.Outcomes = state, at.Add(time.Minute), outcomes
		j.Parts = []catalogue.Part{{Source: 1, State: state}}
		require.NoError(t, c.Jobs.Save(t.Context(), j))
		if why != "" {
			kept[j.ID] = why
		}
	}
	none := catalogue.Outcome{Found: 7}
	for h := range 24 * 10 {
		at := begun.Add(time.Duration(h) * time.Hour)
		switch {
		case h == 30:
			add(at, "survey", catalogue.JobDone, "it found something", none, catalogue.Outcome{Fresh: 1}, none)
		case h == 31:
			add(at, "survey", catalogue.JobPart, "it failed", catalogue.Outcome{Error: "it is away"}, none)
		case h == 32:
			add(at, "bring-back", catalogue.JobDone, "it is no survey")
		case h >= 24*8:
			add(at, "survey", catalogue.JobDone, "of the last days", none)
		case h%24 == 0:
			add(at, "survey", catalogue.JobDone, "the first of its day", none)
		default:
			add(at, "survey", catalogue.JobDone, "", none)
		}
	}
	dropped, err := c.Jobs.Thin(t.Context(), "survey", begun.AddDate(0, 0, 10))
	require.NoError(t, err)
	assert.EqualValues(t, 240-len(kept), dropped)
	left, err := c.Everything().Jobs.Before(t.Context(), "", 0, 1000)
	require.NoError(t, err)
	assert.Len(t, left, len(kept))
	for _, j := range left {
		assert.NotEmpty(t, kept[j.ID], "job %d", j.ID)
		if kept[j.ID] == "it found something" {
			assert.Equal(t, []catalogue.Outcome{{Fresh: 1}}, j.Outcomes)
		}
	}
	again, err := c.Jobs.Thin(t.Context(), "survey", begun.AddDate(0, 0, 10))
	require.NoError(t, err)
	assert.Zero(t, again)
}
