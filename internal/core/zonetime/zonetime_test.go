package zonetime_test

import (
	"testing"
	"time"
	_ "time/tzdata"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humble-rewind/internal/core/zonetime"
)

// In Lisbon clocks went from 02:00 back to 01:00 on 2026-10-25 and from 01:00 on to 02:00 on 2026-03-29.
func TestResolve(t *testing.T) {
	lisbon, err := time.LoadLocation("Europe/Lisbon")
	require.NoError(t, err)
	at := func(s string) time.Time {
		v, err := time.Parse("2006-01-02T15:04:05Z07:00", s)
		require.NoError(t, err)
		return v
	}
	for name, c := range map[string]struct {
		wall, hint, want string
		doubt            zonetime.Doubt
	}{
		"in winter":                     {"2026-01-10T12:00:00", "", "2026-01-10T12:00:00Z", zonetime.Sure},
		"in summer":                     {"2026-07-10T12:00:00", "", "2026-07-10T11:00:00Z", zonetime.Sure},
		"just before the repeated hour": {"2026-10-25T00:59:59", "", "2026-10-24T23:59:59Z", zonetime.Sure},
		"the hour that repeats, written in summer": {"2026-10-25T01:30:00", "2026-10-25T00:30:02Z", "2026-10-25T00:30:00Z",
			zonetime.Repeated},
		"the hour that repeats, written in winter": {"2026-10-25T01:30:00", "2026-10-25T01:30:02Z", "2026-10-25T01:30:00Z",
			zonetime.Repeated},
		"the hour that repeats, nothing else": {"2026-10-25T01:30:00", "", "2026-10-25T00:30:00Z", zonetime.Guessed},
		"just after it":                       {"2026-10-25T02:00:00", "", "2026-10-25T02:00:00Z", zonetime.Sure},
		"an hour that never was":              {"2026-03-29T01:30:00", "", "2026-03-29T01:30:00Z", zonetime.Skipped},
	} {
		var hint time.Time
		if c.hint != "" {
			hint = at(c.hint)
		}
		got, doubt := zonetime.Resolve(at(c.wall+"Z"), lisbon, hint)
		assert.Equal(t, c.want, got.Format(time.RFC3339), name)
		assert.Equal(t, c.doubt, doubt, name)
	}
}
