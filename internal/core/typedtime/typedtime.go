// Package typedtime reads times as a technician types them.
//
// Understood are RFC 3339 (2026-03-04T17:00:00Z), a date with or without a time (2026-03-04, 2026-03-04 17:00,
// 2026-03-04 17:00:30), a time of day (17:00, meaning its last occurrence), today, yesterday or a day of the week with
// or without a time (yesterday 17:00, friday, friday 18:30), now, and an age (90s, 15m, 2h, 3d, 2w, with "ago" behind
// it or not), and what people say on the phone: friday evening, yesterday before lunch, two hours ago, half past four on
// monday, the 16th, 5pm. What has no zone is in the zone given.
package typedtime

import (
	"fmt"
	"strconv"
	"strings"
	"time"

	"humble-rewind/internal/core/zonetime"
)

// Parse reads text against now; times without a zone are in zone. A date alone means its beginning.
func Parse(text string, now time.Time, zone *time.Location) (time.Time, error) {
	t, err := parse(text, now, zone)
	if err != nil {
		if said, ok := spoken(strings.ToLower(strings.Join(strings.Fields(text), " ")), now, zone); ok {
			return said, nil
		}
	}
	return t, err
}

func parse(text string, now time.Time, zone *time.Location) (time.Time, error) {
	s := strings.ToLower(strings.Join(strings.Fields(text), " "))
	if s == "now" {
		return now.UTC(), nil
	}
	if t, err := time.Parse(time.RFC3339, strings.ToUpper(s)); err == nil {
		return t.UTC(), nil
	}
	if age, ok := parseAge(s); ok {
		return now.Add(-age).UTC(), nil
	}
	here := now.In(zone)
	day, clock, hasClock := strings.Cut(s, " ")
	if !hasClock && strings.Contains(day, ":") {
		h, m, sec, err := parseClock(day)
		if err != nil {
			return time.Time{}, refuse(text)
		}
		t := at(here, h, m, sec, zone)
		if t.After(now) {
			t = at(here.AddDate(0, 0, -1), h, m, sec, zone)
		}
		return t, nil
	}
	date, ok := parseDay(day, here)
	if !ok {
		return time.Time{}, refuse(text)
	}
	if !hasClock {
		return at(date, 0, 0, 0, zone), nil
	}
	h, m, sec, err := parseClock(clock)
	if err != nil {
		return time.Time{}, refuse(text)
	}
	return at(date, h, m, sec, zone), nil
}

// ParseAge reads a span of time such as 90s, 15m, 2h, 3d or 2w.
func ParseAge(text string) (time.Duration, error) {
	if age, ok := parseAge(strings.ToLower(strings.TrimSpace(text))); ok {
		return age, nil
	}
	return 0, fmt.Errorf("%q is not a span of time: write it like 12h, 3d or 2w", text)
}

func refuse(text string) error {
	return fmt.Errorf(
		"%q cannot be read as a time: write it like 2026-03-04 17:00, 17:00, yesterday 17:00, friday evening or 3d ago",
		text,
	)
}

func at(day time.Time, h, m, s int, zone *time.Location) time.Time {
	y, mo, d := day.Date()
	t, _ := zonetime.Resolve(time.Date(y, mo, d, h, m, s, 0, time.UTC), zone, time.Time{})
	return t
}

func parseAge(s string) (time.Duration, bool) {
	s = strings.TrimSuffix(s, " ago")
	if len(s) < 2 {
		return 0, false
	}
	units := map[byte]time.Duration{'s': time.Second, 'm': time.Minute, 'h': time.Hour, 'd': 24 * time.Hour, 'w': 7 * 24 * time.Hour}
	unit, ok := units[s[len(s)-1]]
	n, err := strconv.ParseUint(strings.TrimSpace(s[:len(s)-1]), 10, 31)
	if !ok || err != nil || n > uint64((1<<62)/unit) {
		return 0, false
	}
	return time.Duration(n) * unit, true
}

func parseDay(s string, here time.Time) (time.Time, bool) {
	switch s {
	case "today":
		return here, true
	case "yesterday":
		return here.AddDate(0, 0, -1), true
	}
	for back := 1; back <= 7; back++ {
		day := here.AddDate(0, 0, -back)
		if name := strings.ToLower(day.Weekday().String()); s == name || s == name[:3] {
			return day, true
		}
	}
	t, err := time.Parse("2006-01-02", s)
	return t, err == nil
}

func parseClock(s string) (h, m, sec int, err error) {
	t, err := time.Parse("15:04:05", s)
	if err != nil {
		t, err = time.Parse("15:04", s)
	}
	return t.Hour(), t.Minute(), t.Second(), err
}
