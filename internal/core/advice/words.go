package advice

import (
	"fmt"
	"slices"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"humble-rewind/internal/core/condition"
	"humble-rewind/internal/core/copies"
)

// Say writes a time for reading aloud: the day of the week and the day, with the year where it is not this one.
func Say(t, now time.Time, zone *time.Location) string {
	if t.IsZero() {
		return "a time not known"
	}
	t, now = t.In(zone), now.In(zone)
	layout := "Mon 2 Jan, 15:04"
	if t.Year() != now.Year() {
		layout = "Mon 2 Jan 2006, 15:04"
	}
	if t.Second() != 0 && now.Sub(t) < time.Hour && now.Sub(t) > -time.Hour {
		layout += ":05"
	}
	return t.Format(layout)
}

// distance writes a span of time in the unit that fits.
func distance(d time.Duration) string {
	d = d.Abs()
	plural := func(n int, unit string) string {
		if n == 1 {
			return "1 " + unit
		}
		return fmt.Sprintf("%d %ss", n, unit)
	}
	switch {
	case d < 2*time.Minute:
		return plural(int(d.Seconds()), "second")
	case d < 2*time.Hour:
		return plural(int(d.Minutes()), "minute")
	case d < 48*time.Hour:
		return plural(int(d.Hours()), "hour")
	}
	return plural(int(d.Hours()/24), "day")
}

func bytes(n int64) string {
	switch {
	case n < 2<<10:
		return fmt.Sprintf("%d bytes", n)
	case n < 2<<20:
		return fmt.Sprintf("%d KiB", n>>10)
	case n < 2<<30:
		return fmt.Sprintf("%d MiB", n>>20)
	}
	return fmt.Sprintf("%d GiB", n>>30)
}

func percent(share float64) int { return int(share*100 + 0.5) }

func quoted(words []string) string {
	all := make([]string, len(words))
	for i, w := range words {
		all[i] = "“" + w + "”"
	}
	return strings.Join(all, " and ")
}

func capital(s string) string {
	r, n := utf8.DecodeRuneInString(s)
	return string(unicode.ToUpper(r)) + s[n:]
}

// anyOf returns the reason of the lowest key, so that the same evidence gives the same words.
func anyOf(failed map[copies.ID]string) string {
	ids := make([]copies.ID, 0, len(failed))
	for id := range failed {
		ids = append(ids, id)
	}
	if len(ids) == 0 {
		return "no reason is known"
	}
	return strings.TrimSuffix(failed[slices.Min(ids)], ".")
}

// said says what examining a content gave.
func (s Speaker) said(v condition.Verdict) Reason {
	code := map[condition.State]string{condition.Sound: "sound", condition.Doubtful: "doubtful", condition.Broken: "broken"}[v.State]
	if code == "" {
		code = "unread"
	}
	return s.Reason(code, "why", v.Reasons)
}
