package datedname_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humble-rewind/internal/core/datedname"
)

func TestPatternsReadNames(t *testing.T) {
	for _, c := range []struct{ pattern, name, want string }{
		{"%Y-%m-%dT%H%M", "2026-03-04T1705", "2026-03-04 17:05:00"},
		{"daily_%y%m%d", "daily_260304", "2026-03-04 00:00:00"},
		{"%F %T", "2026-03-04 17:05:06", "2026-03-04 17:05:06"},
		{"%Y.%j", "2026.063", "2026-03-04 00:00:00"},
		{"%s", "1772643906", "2026-03-04 17:05:06"},
		{"%Y-%m-%dT%H:%M%z", "2026-03-04T18:05+01:00", "2026-03-04 17:05:00"},
		{"100%%-%F", "100%-2026-03-04", "2026-03-04 00:00:00"},
		{"%Y-%m-%d", "2026-02-30", ""}, {"%Y-%m-%d", "2026-13-01", ""}, {"%Y-%m-%d", "latest", ""}, {"%Y-%m-%d", "2026-03-04.part", ""},
		{"%Y.%j", "2026.366", ""},
	} {
		p, err := datedname.Compile(c.pattern)
		require.NoError(t, err, c.pattern)
		wall, ok := p.Read(c.name)
		assert.Equal(t, c.want != "", ok, "%s in %s", c.pattern, c.name)
		if ok {
			assert.Equal(t, c.want, wall.Time.UTC().Format(time.DateTime), "%s in %s", c.pattern, c.name)
		}
	}
	for _, bad := range []string{"", "backup", "%H:%M", "%Y-%m", "%Q-%F", "%F%"} {
		_, err := datedname.Compile(bad)
		assert.ErrorIs(t, err, datedname.ErrPattern, "%q", bad)
	}
}

func TestThePatternIsWorkedOutFromTheNames(t *testing.T) {
	for _, c := range []struct {
		names []string
		want  []string
	}{
		{[]string{"2026-03-04T1705", "latest", "README"}, []string{"2026-03-04 17:05"}},
		{[]string{"@GMT-2026.03.04-17.05.06"}, []string{"2026-03-04 17:05"}},
		{[]string{"hourly.2026-03-04_17-05", "daily.2026-03-03", "lost+found"}, []string{"2026-03-04 17:05", "2026-03-03 00:00"}},
		{[]string{"20260304-170506", "20260305-170506"}, []string{"2026-03-04 17:05", "2026-03-05 17:05"}},
		{[]string{"2026-03-04T17:05:06Z"}, []string{"2026-03-04 17:05"}},
		{[]string{"03-04-2026", "13-04-2026"}, []string{"2026-04-03 00:00", "2026-04-13 00:00"}}, // the second tells days from months
		{[]string{"03-04-2026", "04-13-2026"}, []string{"2026-03-04 00:00", "2026-04-13 00:00"}},
		{[]string{"snap 1772643906"}, []string{"2026-03-04 17:05"}},
	} {
		dated, err := datedname.Infer(c.names)
		require.NoError(t, err, c.names)
		var got []string
		for _, d := range dated {
			got = append(got, d.Wall.Time.UTC().Format("2006-01-02 15:04"))
		}
		assert.Equal(t, c.want, got, c.names)
	}
	_, err := datedname.Infer([]string{"03-04-2026", "05-06-2026"})
	assert.ErrorIs(t, err, datedname.ErrAmbiguous)
	_, err = datedname.Infer([]string{"first", "second.2"})
	assert.ErrorIs(t, err, datedname.ErrUndated)
}

func FuzzInfer(f *testing.F) {
	f.Add("2026-03-04T1705", "daily.2026-03-03")
	f.Add("@GMT-2026.03.04-17.05.06", "01-02-2026")
	f.Fuzz(func(t *testing.T, a, b string) {
		dated, err := datedname.Infer([]string{a, b})
		if err != nil {
			return
		}
		for _, d := range dated {
			if d.Name != a && d.Name != b {
				t.Fatalf("%q is neither of the names", d.Name)
			}
			if d.Before+d.Behind == d.Name {
				t.Fatalf("nothing of %q tells a time", d.Name)
			}
		}
	})
}
