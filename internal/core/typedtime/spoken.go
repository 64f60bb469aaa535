package typedtime

import (
	"slices"
	"strconv"
	"strings"
	"time"
)

// Parts of a day and the hour that stands for each.
var parts = map[string]int{"morning": 9, "noon": 12, "midday": 12, "lunchtime": 12, "afternoon": 15, "evening": 20, "night": 23, "midnight": 0}

// Words that carry nothing.
var fillers = map[string]bool{"on": true, "at": true, "in": true, "the": true, "about": true, "around": true, "it": true, "was": true, "fine": true, "still": true, "last": true, "sometime": true}

var numberWords = map[string]int{"a": 1, "an": 1, "one": 1, "two": 2, "three": 3, "four": 4, "five": 5, "six": 6, "seven": 7, "eight": 8, "nine": 9, "ten": 10}

var units = map[string]time.Duration{"second": time.Second, "minute": time.Minute, "hour": time.Hour, "day": 24 * time.Hour, "week": 7 * 24 * time.Hour, "month": 30 * 24 * time.Hour}

// spoken reads times as people say them on the phone: friday evening, yesterday at noon, last night, two hours ago, 3 march
// 14:00, 5pm. A part of a day stands for an hour in it: morning 9, noon 12, afternoon 15, evening 20, night 23.
func spoken(s string, now time.Time, zone *time.Location) (time.Time, bool) {
	here := now.In(zone)
	words := strings.Fields(strings.NewReplacer(",", " ", ". ", " ").Replace(s))
	if s == "last week" {
		return now.AddDate(0, 0, -7), true
	}
	plain := slices.DeleteFunc(slices.Clone(words), func(w string) bool { return fillers[w] && w != "last" })
	if t, err := parse(strings.Join(plain, " "), now, zone); err == nil {
		return t, true
	}
	if t, ok := spokenAge(plain, now); ok {
		return t, true
	}
	day, hour, minute := time.Time{}, -1, 0
	for i := 0; i < len(words); i++ {
		w := words[i]
		if w == "last" && i+1 < len(words) && words[i+1] == "night" || w == "tonight" {
			if w == "last" {
				day = here.AddDate(0, 0, -1)
			} else {
				day = here
			}
			hour = parts["night"]
			if w == "last" {
				i++
			}
			continue
		}
		if fillers[w] {
			continue
		}
		if i+2 < len(words) {
			if t, ok := spokenAge(words[i:i+3], now); ok && day.IsZero() {
				day = t.In(zone)
				i += 2
				continue
			}
		}
		if w == "this" {
			day = here
			continue
		}
		if h, ok := parts[w]; ok && hour < 0 {
			hour = h
			continue
		}
		if h, m, ok := spokenClock(w); ok && hour < 0 {
			hour, minute = h, m
			continue
		}
		if h, m, _, err := parseClock(w); err == nil {
			hour, minute = h, m
			continue
		}
		if d, ok := parseDay(w, here); ok && day.IsZero() {
			day = d
			continue
		}
		if d, skip, ok := spokenDate(words[i:], here); ok && day.IsZero() {
			day = d
			i += skip
			continue
		}
		return time.Time{}, false
	}
	if day.IsZero() && hour < 0 {
		return time.Time{}, false
	}
	back := day.IsZero() // a time of day alone is its last occurrence
	if back {
		day = here
	}
	if hour < 0 {
		return at(day, 0, 0, 0, zone), true
	}
	t := at(day, hour, minute, 0, zone)
	if back && t.After(now) {
		t = at(day.AddDate(0, 0, -1), hour, minute, 0, zone)
	}
	return t, true
}

// spokenAge reads two hours ago, a week ago.
func spokenAge(words []string, now time.Time) (time.Time, bool) {
	if len(words) != 3 || words[2] != "ago" {
		return time.Time{}, false
	}
	n, ok := numberWords[words[0]]
	if !ok {
		var err error
		if n, err = strconv.Atoi(words[0]); err != nil || n < 0 || n > 10_000 {
			return time.Time{}, false
		}
	}
	unit, ok := units[strings.TrimSuffix(words[1], "s")]
	return now.Add(-time.Duration(n) * unit).UTC(), ok
}

// spokenClock reads 5pm, 11am.
func spokenClock(w string) (h, m int, ok bool) {
	for suffix, add := range map[string]int{"am": 0, "pm": 12} {
		digits, found := strings.CutSuffix(w, suffix)
		if !found {
			continue
		}
		hours, minutes, _ := strings.Cut(digits, ":")
		h, err := strconv.Atoi(hours)
		if err != nil || h < 1 || h > 12 {
			return 0, 0, false
		}
		if minutes != "" {
			if m, err = strconv.Atoi(minutes); err != nil || m < 0 || m > 59 {
				return 0, 0, false
			}
		}
		return h%12 + add, m, true
	}
	return 0, 0, false
}

// spokenDate reads 3 march, march 3, each with a year or not; without one it is the last such day.
func spokenDate(words []string, here time.Time) (day time.Time, more int, ok bool) {
	if len(words) < 2 {
		return day, 0, false
	}
	month, number := words[1], words[0]
	if _, err := strconv.Atoi(strings.TrimRight(number, "stndrh")); err != nil {
		month, number = words[0], words[1]
	}
	d, err := strconv.Atoi(strings.TrimRight(number, "stndrh"))
	if err != nil || d < 1 || d > 31 {
		return day, 0, false
	}
	for m := time.January; m <= time.December; m++ {
		if name := strings.ToLower(m.String()); month != name && month != name[:3] {
			continue
		}
		if len(words) > 2 {
			if year, err := strconv.Atoi(words[2]); err == nil && year > 1970 && year < 3000 {
				return time.Date(year, m, d, 0, 0, 0, 0, time.UTC), 2, true
			}
		}
		day = time.Date(here.Year(), m, d, 0, 0, 0, 0, time.UTC)
		if day.After(here) {
			day = day.AddDate(-1, 0, 0)
		}
		return day, 1, true
	}
	return day, 0, false
}
