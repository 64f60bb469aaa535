package advice

import (
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"
)

// Reason is one thing that an advice is founded on, or that it costs: a code that stays the same from release to release, what
// it speaks of, and the sentence that is made of both, for reading aloud. Values are numbers, texts and times; spans of time are
// in seconds, sizes in bytes, shares from 0 to 1.
type Reason struct {
	Code   string
	Values Values
	Text   string
}

// String is the sentence.
func (r Reason) String() string { return r.Text }

// Values are what a reason speaks of, by name.
type Values map[string]any

// Texts are the sentences of several reasons.
func Texts(all []Reason) []string {
	texts := make([]string, len(all))
	for i, r := range all {
		texts[i] = r.Text
	}
	return texts
}

// Speaker makes reasons: it knows when now is and in which zone times are said.
type Speaker struct {
	Now  time.Time
	Zone *time.Location
}

// Size is a number of bytes, said in the unit that fits.
type Size int64

// Share is a part of a whole, from 0 to 1, said in percent.
type Share float64

// Words are said one after the other, each between quotation marks.
type Words []string

// gap is where a sentence takes a value: {at}, or, where a number decides between one and many, {n|one file is|%d files are}.
var gap = regexp.MustCompile(`\{([a-z_]+)(?:\|([^|}]*)\|([^}]*))?\}`)

// Reason says a sentence of the table, with what it speaks of as pairs of a name and a value.
func (s Speaker) Reason(code string, pairs ...any) Reason {
	r := Reason{Code: code, Values: Values{}}
	given := map[string]any{}
	for i := 0; i+1 < len(pairs); i += 2 {
		name := pairs[i].(string)
		given[name], r.Values[name] = pairs[i+1], plain(pairs[i+1])
	}
	sentence, ok := sentences[code]
	if !ok {
		sentence = code + " " + fmt.Sprint(slices.Sorted(maps.Keys(given)))
	}
	r.Text = gap.ReplaceAllStringFunc(sentence, func(found string) string {
		parts := gap.FindStringSubmatch(found)
		if parts[2] != "" || parts[3] != "" {
			return counted(given[parts[1]], parts[2], parts[3])
		}
		return s.value(given[parts[1]])
	})
	r.Text = strings.TrimSpace(r.Text)
	return r
}

// counted says one or many.
func counted(n any, one, many string) string {
	k, _ := n.(int)
	if k == 1 {
		return one
	}
	return strings.ReplaceAll(many, "%d", strconv.Itoa(k))
}

// value says one value.
func (s Speaker) value(v any) string {
	switch v := v.(type) {
	case time.Time:
		return Say(v, s.Now, s.Zone)
	case time.Duration:
		return distance(v)
	case Size:
		return bytes(int64(v))
	case Share:
		return fmt.Sprintf("%d %%", percent(float64(v)))
	case Words:
		return quoted(v)
	case []string:
		return strings.Join(v, " ")
	}
	return fmt.Sprint(v)
}

// plain is a value as it is handed on.
func plain(v any) any {
	switch v := v.(type) {
	case time.Time:
		return v.UTC()
	case time.Duration:
		return int64(v / time.Second)
	case Size:
		return int64(v)
	case Share:
		return float64(v)
	case Words:
		return []string(v)
	case fmt.Stringer:
		return v.String()
	}
	return v
}
