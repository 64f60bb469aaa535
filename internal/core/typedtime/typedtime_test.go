package typedtime_test

import (
	"testing"
	"time"
	_ "time/tzdata"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humble-rewind/internal/core/typedtime"
)

func TestParse(t *testing.T) {
	zone, err := time.LoadLocation("Europe/Lisbon")
	require.NoError(t, err)
	now := time.Date(2026, 7, 8, 15, 20, 0, 0, zone) // a Wednesday, UTC+1
	for text, want := range map[string]string{
		"2026-03-04T17:00:00Z":      "2026-03-04T17:00:00Z",
		"2026-03-04t17:00:00+02:00": "2026-03-04T15:00:00Z",
		"2026-03-04 17:00":          "2026-03-04T17:00:00Z",
		"2026-07-04 17:00:30":       "2026-07-04T16:00:30Z",
		"2026-07-04":                "2026-07-03T23:00:00Z",
		"14:00":                     "2026-07-08T13:00:00Z",
		"17:00":                     "2026-07-07T16:00:00Z", // today's is yet to come
		"yesterday 17:00":           "2026-07-07T16:00:00Z",
		"  Yesterday   17:00 ":      "2026-07-07T16:00:00Z",
		"friday 18:30":              "2026-07-03T17:30:00Z",
		"wed":                       "2026-06-30T23:00:00Z", // the last one, not today
		"3d ago":                    "2026-07-05T14:20:00Z",
		"90s":                       "2026-07-08T14:18:30Z",
		"now":                       "2026-07-08T14:20:00Z",
		"Friday evening":            "2026-07-03T19:00:00Z",
		"on friday in the evening":  "2026-07-03T19:00:00Z",
		"last night":                "2026-07-07T22:00:00Z",
		"this morning":              "2026-07-08T08:00:00Z",
		"yesterday at noon":         "2026-07-07T11:00:00Z",
		"two hours ago":             "2026-07-08T12:20:00Z",
		"about a week ago":          "2026-07-01T14:20:00Z",
		"3 march":                   "2026-03-03T00:00:00Z",
		"march 3, 5pm":              "2026-03-03T17:00:00Z",
		"24 december":               "2025-12-24T00:00:00Z",
		"it was fine 3d ago":        "2026-07-05T14:20:00Z",
		"3 days ago in the evening": "2026-07-05T19:00:00Z",
		"evening":                   "2026-07-07T19:00:00Z", // today's is yet to come
		"the day before yesterday":  "2026-07-05T23:00:00Z",
		"before lunch on monday":    "2026-07-06T11:00:00Z",
		"last friday at 5":          "2026-07-03T16:00:00Z",
		"5 pm yesterday":            "2026-07-07T16:00:00Z",
		"half past four yesterday":  "2026-07-07T15:30:00Z",
		"quarter to nine on monday": "2026-07-06T07:45:00Z",
		"monday last week":          "2026-06-28T23:00:00Z",
		"friday the 3rd":            "2026-07-02T23:00:00Z",
		"3rd of march 2025":         "2025-03-03T00:00:00Z",
		"3.7.2026 14:00":            "2026-07-03T13:00:00Z",
		"half an hour ago":          "2026-07-08T13:50:00Z",
		"before the weekend":        "2026-07-03T23:00:00Z",
		"in may":                    "2026-04-30T23:00:00Z",
		"just now":                  "2026-07-08T14:20:00Z",
	} {
		got, err := typedtime.Parse(text, now, zone)
		assert.NoError(t, err, text)
		assert.Equal(t, want, got.Format(time.RFC3339), text)
	}
	for _, text := range []string{"", "soon", "25:00", "2026-13-01", "yesterday never", "fine", "13pm", "3y ago", "-3d", "9999999999d",
		"2026-07-04 17:00 sharp", "half past yesterday", "at 25", "friday now", "5/6/2026"} {
		_, err := typedtime.Parse(text, now, zone)
		assert.ErrorContains(t, err, "write it like", "%q", text)
	}
}

func FuzzParse(f *testing.F) {
	for _, seed := range []string{"yesterday 17:00", "3d ago", "2026-03-04T17:00:00Z", "17:00", "friday evening", "two hours ago",
		"march 3, 5pm", "half past four on the 3rd", "monday last week at 5"} {
		f.Add(seed)
	}
	now := time.Date(2026, 7, 8, 15, 20, 0, 0, time.UTC)
	f.Fuzz(func(t *testing.T, text string) {
		got, err := typedtime.Parse(text, now, time.UTC)
		if err != nil {
			return
		}
		again, err := typedtime.Parse(got.Format(time.RFC3339Nano), now, time.UTC)
		if got.Year() >= 0 && got.Year() < 10000 && (err != nil || !again.Equal(got)) {
			t.Errorf("Parse(%q) = %v, which reads back as %v, %v", text, got, again, err)
		}
	})
}
