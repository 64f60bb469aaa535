package typedtime

import (
	"strconv"
	"strings"
	"time"
)

// Parts of a day and the hour that stands for each.
var parts = map[string]int{
	"morning":   9,
	"noon":      12,
	"midday":    12,
	"lunch":     12,
	"lunchtime": 12,
	"afternoon": 15,
	"evening":   20,
	"night":     23,
	"midnight":  0,
}

// Words that carry nothing, as the time that is named is what counts.
var fillers = map[string]bool{
	"on":       true,
	"at":       true,
	"in":       true,
	"the":      true,
	"of":       true,
	"about":    true,
	"around":   true,
	"it":       true,
	"was":      true,
	"fine":     true,
	"still":    true,
	"last":     true,
	"sometime": true,
	"this":     true,
	"since":    true,
	"until":    true,
	"till":     true,
	"before":   true,
	"by":       true,
	"just":     true,
	"maybe":    true,
	"and":      true,
	"o'clock":  true,
}

var numberWords = map[string]int{
	"a":      1,
	"an":     1,
	"one":    1,
	"two":    2,
	"three":  3,
	"four":   4,
	"five":   5,
	"six":    6,
	"seven":  7,
	"eight":  8,
	"nine":   9,
	"ten":    10,
	"eleven": 11,
	"twelve": 12,
}

var units = map[string]time.Duration{
	"second": time.Second,
	"minute": time.Minute,
	"hour":   time.Hour,
	"day":    24 * time.Hour,
	"week":   7 * 24 * time.Hour,
	"month":  30 * 24 * time.Hour,
}

// spoken reads times as people say them on the phone: friday evening, yesterday at noon, last night, two hours ago, the day
// before yesterday, monday last week, half past four, 3 march 14:00, the 16th, 5pm. A part of a day stands for an hour in
// it: morning 9, noon 12, afternoon 15, evening 20, night 23. An hour from one to six is taken for one of the afternoon where
// nothing says otherwise.
func spoken(s string, now time.Time, zone *time.Location) (time.Time, bool) {
	p := &phrase{words: strings.Fields(strings.NewReplacer(",", " ", ". ", " ").Replace(s)), now: now, here: now.In(zone), hour: -1}
	for len(p.words) > 0 {
		if !p.next() {
			return time.Time{}, false
		}
	}
	return p.time(zone)
}

// phrase is a time being read, word by word.
type phrase struct {
	words []string // what is left
	now   time.Time
	here  time.Time

	exact        time.Time // an age
	day          time.Time // zero: none was named
	hour, minute int       // hour -1: none was named
	clock        bool      // the hour was named, and is not just that of a part of a day
	half         bool      // it may be one of the morning or of the afternoon
	part         string
	lastWeek     bool
}

// readers are the ways to read what stands next. Each takes the words that it understands.
var readers = []func(p *phrase) int{
	(*phrase).age,
	(*phrase).fixed,
	(*phrase).clockTime,
	(*phrase).partOfDay,
	(*phrase).date,
	(*phrase).dayWord,
	(*phrase).filler,
}

func (p *phrase) next() bool {
	for _, read := range readers {
		if n := read(p); n > 0 {
			p.words = p.words[n:]
			return true
		}
	}
	return false
}

// is tells whether words stand next.
func (p *phrase) is(words ...string) bool {
	if len(p.words) < len(words) {
		return false
	}
	for i, w := range words {
		if p.words[i] != w {
			return false
		}
	}
	return true
}

// age reads two hours ago, half an hour ago, 3d ago, now.
func (p *phrase) age() int {
	if p.is("now") {
		p.exact = p.now
		return 1
	}
	if age, ok := parseAge(p.words[0]); ok {
		p.exact = p.now.Add(-age)
		if len(p.words) > 1 && p.words[1] == "ago" {
			return 2
		}
		return 1
	}
	if p.is("half", "an", "hour", "ago") {
		p.exact = p.now.Add(-30 * time.Minute)
		return 4
	}
	if len(p.words) < 3 || p.words[2] != "ago" {
		return 0
	}
	n, ok := number(p.words[0])
	unit, known := units[strings.TrimSuffix(p.words[1], "s")]
	if !ok || !known || n > 10_000 {
		return 0
	}
	p.exact = p.now.Add(-time.Duration(n) * unit)
	return 3
}

func number(w string) (int, bool) {
	if n, ok := numberWords[w]; ok {
		return n, true
	}
	n, err := strconv.Atoi(w)
	return n, err == nil && n >= 0
}

// fixed reads what is said in just these words.
func (p *phrase) fixed() int {
	switch {
	case p.is("last", "night"):
		p.day, p.hour, p.part = p.here.AddDate(0, 0, -1), parts["night"], "night"
		return 2
	case p.is("tonight"):
		p.day, p.hour, p.part = p.here, parts["night"], "night"
		return 1
	case p.is("this") && len(p.words) > 1 && parts[p.words[1]] > 0:
		p.day = p.here
		return 1
	case p.is("day", "before", "yesterday"):
		p.day = p.here.AddDate(0, 0, -2)
		return 3
	case p.is("last", "week"):
		p.lastWeek = true
		return 2
	case p.is("last", "month"):
		p.exact = p.now.AddDate(0, -1, 0)
		return 2
	case p.is("weekend"):
		p.day = p.back(time.Saturday)
		return 1
	}
	return 0
}

// back is the last such day of the week before today.
func (p *phrase) back(day time.Weekday) time.Time {
	n := (int(p.here.Weekday()) - int(day) + 7) % 7
	if n == 0 {
		n = 7
	}
	return p.here.AddDate(0, 0, -n)
}

// clockTime reads 14:30, 5pm, 5 pm, at 5, half past four, quarter to six.
func (p *phrase) clockTime() int {
	if p.clock {
		return 0
	}
	w := p.words[0]
	if h, m, _, err := parseClock(w); err == nil {
		p.hour, p.minute, p.clock = h, m, true
		return 1
	}
	for i, suffix := range []string{"am", "pm"} {
		digits, joined := strings.CutSuffix(w, suffix)
		if !joined && (len(p.words) < 2 || p.words[1] != suffix) {
			continue
		}
		hours, minutes, _ := strings.Cut(digits, ":")
		h, ok := number(hours)
		m, okMinutes := number("0" + minutes)
		if !ok || !okMinutes || h < 1 || h > 12 || m > 59 {
			return 0
		}
		p.hour, p.minute, p.clock = h%12+12*i, m, true
		if joined {
			return 1
		}
		return 2
	}
	if len(p.words) > 2 && (w == "half" || w == "quarter") && (p.words[1] == "past" || p.words[1] == "to") {
		if h, ok := number(p.words[2]); ok && h >= 1 && h <= 12 {
			p.hour, p.minute, p.clock, p.half = h, map[string]int{"half": 30, "quarter": 15}[w], true, true
			if p.words[1] == "to" {
				p.hour, p.minute = (h+11)%12, 60-p.minute
			}
			return 3
		}
	}
	if (w == "at" || w == "around" || w == "about") && len(p.words) > 1 {
		if h, ok := number(p.words[1]); ok && h <= 24 &&
			!(len(p.words) > 2 && (p.words[2] == "am" || p.words[2] == "pm" || p.monthAt(2) > 0 || units[strings.TrimSuffix(p.words[2],
				"s")] > 0)) {
			p.hour, p.clock, p.half = h%24, true, h >= 1 && h <= 12
			return 2
		}
	}
	return 0
}

func (p *phrase) partOfDay() int {
	h, ok := parts[p.words[0]]
	if !ok || p.part != "" {
		return 0
	}
	p.part = p.words[0]
	if !p.clock {
		p.hour = h
	}
	return 1
}

// monthAt is the month that a word names; 0 where it names none.
func (p *phrase) monthAt(i int) time.Month {
	if i >= len(p.words) {
		return 0
	}
	for m := time.January; m <= time.December; m++ {
		if name := strings.ToLower(m.String()); p.words[i] == name || p.words[i] == name[:3] {
			return m
		}
	}
	return 0
}

// date reads 3 march, 3rd of march 2026, march 3, august, the 16th, 13.11.2026. Without a year it is the last such day. A day
// of the week that is said with it says nothing more.
func (p *phrase) date() int {
	w := p.words[0]
	for _, layout := range []string{"2.1.2006", "2006-01-02"} {
		if t, err := time.Parse(layout, w); err == nil {
			p.day = t
			return 1
		}
	}
	if m := p.monthAt(0); m > 0 {
		if d := dayOfMonth(p, 1); d > 0 {
			return p.dated(m, d, 2)
		}
		return p.dated(m, 1, 1)
	}
	d := dayOfMonth(p, 0)
	if d == 0 {
		return 0
	}
	if m := p.monthAt(1); m > 0 {
		return p.dated(m, d, 2)
	}
	if m := p.monthAt(2); m > 0 && p.words[1] == "of" {
		return p.dated(m, d, 3)
	}
	if _, err := strconv.Atoi(w); err == nil {
		return 0 // a bare number is no day
	}
	p.day = time.Date(p.here.Year(), p.here.Month(), d, 0, 0, 0, 0, time.UTC)
	if d > p.here.Day() {
		p.day = time.Date(p.here.Year(), p.here.Month()-1, d, 0, 0, 0, 0, time.UTC)
	}
	return 1
}

func dayOfMonth(p *phrase, i int) int {
	if i >= len(p.words) {
		return 0
	}
	d, err := strconv.Atoi(strings.TrimRight(p.words[i], "stndrh"))
	if err != nil || d < 1 || d > 31 {
		return 0
	}
	return d
}

// dated takes a day of a month, with the year if one stands behind it. n is how many words were read.
func (p *phrase) dated(m time.Month, d, n int) int {
	if n < len(p.words) {
		if year, err := strconv.Atoi(p.words[n]); err == nil && year > 1970 && year < 3000 {
			p.day = time.Date(year, m, d, 0, 0, 0, 0, time.UTC)
			return n + 1
		}
	}
	p.day = time.Date(p.here.Year(), m, d, 0, 0, 0, 0, time.UTC)
	if p.day.After(p.here) {
		p.day = p.day.AddDate(-1, 0, 0)
	}
	return n
}

func (p *phrase) dayWord() int {
	d, ok := parseDay(p.words[0], p.here)
	if !ok {
		return 0
	}
	if p.day.IsZero() {
		p.day = d
	}
	return 1
}

func (p *phrase) filler() int {
	if fillers[p.words[0]] {
		return 1
	}
	return 0
}

// time puts together what was read.
func (p *phrase) time(zone *time.Location) (time.Time, bool) {
	switch {
	case !p.exact.IsZero() && p.day.IsZero() && p.hour >= 0: // three days ago in the evening
		p.day = p.exact.In(zone)
	case !p.exact.IsZero():
		return p.exact.UTC(), p.day.IsZero()
	case p.lastWeek && p.day.IsZero():
		return p.now.AddDate(0, 0, -7), p.hour < 0
	case p.day.IsZero() && p.hour < 0:
		return time.Time{}, false
	}
	if p.lastWeek { // the day as it lies in the week before, which begins on Monday
		monday := p.here.AddDate(0, 0, -(int(p.here.Weekday())+6)%7-7)
		p.day = monday.AddDate(0, 0, (int(p.day.Weekday())+6)%7)
	}
	if p.half && p.hour > 0 && p.hour < 12 &&
		(p.part == "afternoon" || p.part == "evening" || p.part == "" && p.hour < 7 || p.part == "night" && p.hour > 5) {
		p.hour += 12
	}
	back := p.day.IsZero() // a time of day alone is its last occurrence
	if back {
		p.day = p.here
	}
	if p.hour < 0 {
		return at(p.day, 0, 0, 0, zone), true
	}
	t := at(p.day, p.hour, p.minute, 0, zone)
	if back && t.After(p.now) {
		t = at(p.day.AddDate(0, 0, -1), p.hour, p.minute, 0, zone)
	}
	return t, true
}
