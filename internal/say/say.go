// Package say has the sentences of the service: it turns codes with values into what technicians read, and read out. It names no command of
// the command line and no page of the console; those say what to do next for themselves, by the codes.
package say

import (
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"humble-rewind/internal/core/remark"

	"github.com/dustin/go-humanize"
)

// sentences are what remarks say, by their codes, a table a subject. {name} is a value; {n|one|many} is chosen by a number.
var sentences = joined(ofAdvice, ofCases, ofCondition, ofContents, ofFirstAid, ofPersons, ofPlans, ofReceipts, ofTrails)

func joined(tables ...map[string]string) map[string]string {
	all := map[string]string{"said": "{text}"}
	for _, table := range tables {
		maps.Copy(all, table)
	}
	return all
}

// Speaker says remarks. It knows when now is and in which zone times are said; the zero Speaker says them in UTC, with the year.
type Speaker struct {
	Now  time.Time
	Zone *time.Location
}

// gap is where a sentence takes a value: {at}, or, where a number decides between one and many, {n|one file is|%d files are}.
var gap = regexp.MustCompile(`\{([a-z_]+)(?:\|([^|}]*)\|([^}]*))?\}`)

// Remark says a remark; "" where there is nothing to say.
func (s Speaker) Remark(r remark.Remark) string {
	if !r.Any() {
		return ""
	}
	sentence, ok := sentences[r.Code]
	if !ok {
		sentence = r.Code + " " + fmt.Sprint(slices.Sorted(maps.Keys(r.Values)))
	}
	return strings.TrimSpace(gap.ReplaceAllStringFunc(sentence, func(found string) string {
		parts := gap.FindStringSubmatch(found)
		value := r.Values[parts[1]]
		if parts[2] != "" || parts[3] != "" {
			return counted(value, parts[2], parts[3])
		}
		return s.value(value)
	}))
}

// Remarks says several, one by one.
func (s Speaker) Remarks(all []remark.Remark) []string {
	texts := make([]string, len(all))
	for i, r := range all {
		texts[i] = s.Remark(r)
	}
	return texts
}

// Joined says several, one after the other.
func (s Speaker) Joined(all []remark.Remark) string { return strings.Join(s.Remarks(all), " ") }

// counted says one or many.
func counted(n any, one, many string) string {
	k := fmt.Sprint(n)
	if k == "1" {
		return one
	}
	return strings.ReplaceAll(many, "%d", k)
}

// value says one value.
func (s Speaker) value(v any) string {
	switch v := v.(type) {
	case time.Time:
		return s.Time(v)
	case time.Duration:
		return distance(v)
	case remark.Size:
		if v < 1<<10 {
			return fmt.Sprintf("%d bytes", v)
		}
		return humanize.IBytes(uint64(v))
	case remark.Share:
		return strconv.Itoa(percent(float64(v))) + " %"
	case remark.Words:
		return quoted(v)
	case []string:
		return strings.Join(v, " ")
	case remark.Remark:
		return s.Remark(v)
	case []remark.Remark:
		return s.Joined(v)
	case error:
		return strings.TrimSuffix(ReadError(v), ".")
	case remark.Together:
		return strings.Join(s.Remarks(v), " and ")
	}
	return fmt.Sprint(v)
}

// Values are what a remark speaks of as clients get it: numbers, texts and times; spans of time are in seconds, sizes in bytes, shares from 0
// to 1. What is a remark itself is said.
func (s Speaker) Values(of remark.Values) map[string]any {
	all := make(map[string]any, len(of))
	for name, v := range of {
		switch v := v.(type) {
		case time.Time:
			all[name] = v.UTC()
		case time.Duration:
			all[name] = int64(v / time.Second)
		case remark.Size:
			all[name] = int64(v)
		case remark.Share:
			all[name] = float64(v)
		case remark.Words:
			all[name] = []string(v)
		case remark.Remark:
			all[name] = s.Remark(v)
		case []remark.Remark:
			all[name] = s.Remarks(v)
		case remark.Together:
			all[name] = s.value(v)
		case error:
			all[name] = s.value(v)
		case fmt.Stringer:
			all[name] = v.String()
		default:
			all[name] = v
		}
	}
	return all
}

// Time says a time for reading aloud: the day of the week and the day, with the year where it is not this one.
func (s Speaker) Time(t time.Time) string {
	if t.IsZero() {
		return "a time not known"
	}
	zone := s.Zone
	if zone == nil {
		zone = time.UTC
	}
	t, now := t.In(zone), s.Now.In(zone)
	layout := "Mon 2 Jan, 15:04"
	if t.Year() != now.Year() {
		layout = "Mon 2 Jan 2006, 15:04"
	}
	if t.Second() != 0 && now.Sub(t) < time.Hour && now.Sub(t) > -time.Hour {
		layout += ":05"
	}
	return t.Format(layout)
}

// distance says a span of time in the unit that fits.
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

func percent(share float64) int { return int(share*100 + 0.5) }

func quoted(words []string) string {
	all := make([]string, len(words))
	for i, w := range words {
		all[i] = "“" + w + "”"
	}
	return strings.Join(all, " and ")
}
