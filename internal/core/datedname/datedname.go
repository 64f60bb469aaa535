// Package datedname reads the times that names carry, by strftime patterns (POSIX.1-2024, strftime(3)): the conversions
// %Y %m %d %H %M %S %y %j %s %z %Z, %F, %T and %%, anything else standing for itself. It also works out the pattern
// from a set of names.
package datedname

import (
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"
)

// Wall is a time as a name tells it.
type Wall struct {
	Time  time.Time // in UTC where Zoned, else a wall clock's reading that wants a zone
	Zoned bool
	Day   bool // only the day is told
}

// Pattern reads times out of names.
type Pattern struct {
	Text   string // as strftime(3) has it
	expr   *regexp.Regexp
	fields []byte
}

// ErrPattern says that a pattern cannot date names.
var ErrPattern = errors.New("not a pattern that dates names")

var conversions = map[byte]string{
	'Y': `((?:19|20|21)\d\d)`, 'y': `(\d\d)`, 'm': `(0[1-9]|1[0-2])`, 'd': `(0[1-9]|[12]\d|3[01])`, 'j': `(\d\d\d)`,
	'H': `([01]\d|2[0-3])`, 'M': `([0-5]\d)`, 'S': `([0-5]\d|60)`, 's': `(\d{9,10})`, 'z': `(Z|[+-]\d\d:?\d\d)`, 'Z': `(Z|UTC|GMT)`,
}

// Compile reads a pattern. It must hold a day, or the seconds since 1970.
func Compile(text string) (Pattern, error) {
	p, body, err := parse(text)
	if err != nil {
		return p, err
	}
	p.expr, err = regexp.Compile("^" + body + "$")
	return p, err
}

func parse(text string) (Pattern, string, error) {
	p := Pattern{Text: text}
	var body strings.Builder
	long := strings.NewReplacer("%F", "%Y-%m-%d", "%T", "%H:%M:%S").Replace(text)
	for i := 0; i < len(long); i++ {
		if long[i] != '%' {
			body.WriteString(regexp.QuoteMeta(long[i : i+1]))
			continue
		}
		i++
		switch {
		case i == len(long):
			return p, "", fmt.Errorf("%w: %q ends in the middle of a conversion", ErrPattern, text)
		case long[i] == '%':
			body.WriteString("%")
		case conversions[long[i]] == "":
			return p, "", fmt.Errorf(
				"%w: %q holds %%%c; known are %%Y %%m %%d %%H %%M %%S %%y %%j %%s %%z %%Z %%F %%T",
				ErrPattern,
				text,
				long[i],
			)
		default:
			body.WriteString(conversions[long[i]])
			p.fields = append(p.fields, long[i])
		}
	}
	day := p.has('Y', 'y') && (p.has('d') && p.has('m') || p.has('j'))
	if !day && !p.has('s') {
		return p, "", fmt.Errorf("%w: %q holds neither a year, month and day nor the seconds since 1970", ErrPattern, text)
	}
	return p, body.String(), nil
}

func (p Pattern) has(any ...byte) bool {
	return slices.ContainsFunc(any, func(f byte) bool { return slices.Contains(p.fields, f) })
}

// Read reads the time out of a name; false where the name does not fit the pattern or tells a day that does not exist.
func (p Pattern) Read(name string) (Wall, bool) {
	found := p.expr.FindStringSubmatch(name)
	if found == nil {
		return Wall{}, false
	}
	return p.wall(found[1:])
}

func (p Pattern) wall(values []string) (Wall, bool) {
	w := Wall{Day: true}
	n := map[byte]int{'m': 1, 'd': 1}
	offset := 0
	for i, field := range p.fields {
		switch field {
		case 'z', 'Z':
			w.Zoned = true
			offset = zoneOffset(values[i])
			continue
		case 's':
			seconds, err := strconv.ParseInt(values[i], 10, 64)
			return Wall{Time: time.Unix(seconds, 0).UTC(), Zoned: true}, err == nil
		case 'H':
			w.Day = false
		}
		n[field], _ = strconv.Atoi(values[i]) // the expression lets only digits through
	}
	if n['y'] > 0 {
		n['Y'] = 2000 + n['y']
	}
	if n['j'] > 0 {
		w.Time = time.Date(n['Y'], 1, n['j'], n['H'], n['M'], n['S'], 0, time.UTC)
		return w, w.Time.Year() == n['Y']
	}
	w.Time = time.Date(n['Y'], time.Month(n['m']), n['d'], n['H'], n['M'], n['S'], 0, time.UTC)
	if w.Time.Day() != n['d'] {
		return Wall{}, false
	}
	w.Time = w.Time.Add(-time.Duration(offset) * time.Second)
	return w, true
}

func zoneOffset(text string) int {
	digits := strings.ReplaceAll(strings.TrimLeft(text, "+-"), ":", "")
	if len(digits) != 4 {
		return 0 // Z, UTC, GMT
	}
	h, _ := strconv.Atoi(digits[:2])
	m, _ := strconv.Atoi(digits[2:])
	if text[0] == '-' {
		return -(h*3600 + m*60)
	}
	return h*3600 + m*60
}

// shapes are the ways in which names usually carry times, the ones that say more first. Within a group the order of
// day and month cannot be told from the shape.
var shapes = [][]string{
	{"@GMT-%Y.%m.%d-%H.%M.%S"},
	{"%Y-%m-%dT%H:%M:%S%z", "%Y-%m-%dT%H-%M-%S%z", "%Y-%m-%dT%H%M%S%z", "%Y%m%dT%H%M%S%z", "%Y-%m-%d %H:%M:%S %z"},
	{"%Y-%m-%dT%H:%M%z", "%Y-%m-%dT%H%M%z", "%Y%m%dT%H%M%z"},
	{
		"%Y-%m-%dT%H:%M:%S",
		"%Y-%m-%dT%H-%M-%S",
		"%Y-%m-%dT%H%M%S",
		"%Y%m%dT%H%M%S",
		"%Y-%m-%d_%H-%M-%S",
		"%Y-%m-%d_%H:%M:%S",
		"%Y-%m-%d_%H%M%S",
		"%Y-%m-%d-%H-%M-%S",
		"%Y-%m-%d-%H%M%S",
		"%Y-%m-%d %H:%M:%S",
		"%Y-%m-%d %H-%M-%S",
		"%Y.%m.%d-%H.%M.%S",
		"%Y_%m_%d_%H_%M_%S",
		"%Y%m%d-%H%M%S",
		"%Y%m%d_%H%M%S",
		"%Y%m%d%H%M%S",
	},
	{
		"%Y-%m-%dT%H:%M",
		"%Y-%m-%dT%H-%M",
		"%Y-%m-%dT%H%M",
		"%Y%m%dT%H%M",
		"%Y-%m-%d_%H-%M",
		"%Y-%m-%d_%H:%M",
		"%Y-%m-%d_%H%M",
		"%Y-%m-%d-%H-%M",
		"%Y-%m-%d-%H%M",
		"%Y-%m-%d %H:%M",
		"%Y-%m-%d %H-%M",
		"%Y-%m-%d %H%M",
		"%Y.%m.%d-%H.%M",
		"%Y_%m_%d_%H_%M",
		"%Y%m%d-%H%M",
		"%Y%m%d_%H%M",
		"%Y%m%d%H%M",
	},
	{"%d-%m-%Y_%H-%M", "%m-%d-%Y_%H-%M"}, {"%d.%m.%Y_%H.%M", "%m.%d.%Y_%H.%M"},
	{"%s"},
	{"%Y-%m-%d", "%Y.%m.%d", "%Y_%m_%d", "%Y%m%d"},
	{"%d-%m-%Y", "%m-%d-%Y"}, {"%d.%m.%Y", "%m.%d.%Y"}, {"%d%m%Y", "%m%d%Y"},
}

type shape struct {
	Pattern
	rank int
}

var known = func() (all []shape) {
	for rank, group := range shapes {
		for _, text := range group {
			p, body, err := parse(text)
			if err != nil {
				panic(err) // the table above is constant
			}
			p.expr = regexp.MustCompile(`^(.*?[^0-9]|)` + body + `([^0-9].*|)$`)
			all = append(all, shape{p, rank})
		}
	}
	return all
}()

// ErrAmbiguous says that names can be read in two ways.
var ErrAmbiguous = errors.New("the names can be read in two ways")

// ErrUndated says that no name carries a time.
var ErrUndated = errors.New("no name carries a time")

// Dated is a name with its time and what stands around that in the name.
type Dated struct {
	Name           string
	Wall           Wall
	Pattern        string
	Before, Behind string
}

// Infer reads the times of all names that carry one; each may do so in its own way, such as days for some and minutes
// for others. It fails with ErrAmbiguous where day and month cannot be told apart by any name, and with ErrUndated where
// no name carries a time.
func Infer(names []string) ([]Dated, error) {
	readings := make([]map[string]Dated, len(names))
	ruledOut := map[string]bool{} // of two ways to read a shape, the one that some name contradicts
	for i, name := range names {
		readings[i] = readingsOf(name)
		for _, s := range known {
			if _, fits := readings[i][s.Text]; !fits && shapeFits(readings[i], s) {
				ruledOut[s.Text] = true
			}
		}
	}
	var all []Dated
	for i, name := range names {
		var left []Dated
		for _, s := range known {
			if d, ok := readings[i][s.Text]; ok && !ruledOut[s.Text] {
				left = append(left, d)
			}
		}
		switch {
		case len(left) > 1 && !left[0].Wall.Time.Equal(left[1].Wall.Time):
			return nil, fmt.Errorf("%w: %q is %s by %s and %s by %s", ErrAmbiguous, name,
				left[0].Wall.Time.Format(time.DateOnly), left[0].Pattern, left[1].Wall.Time.Format(time.DateOnly), left[1].Pattern)
		case len(left) > 0:
			all = append(all, left[0])
		}
	}
	if len(all) == 0 {
		return nil, ErrUndated
	}
	return all, nil
}

// shapeFits tells whether a name was read by another pattern of the same rank: one of the same shape, but for the order.
func shapeFits(readings map[string]Dated, s shape) bool {
	for _, other := range known {
		if _, ok := readings[other.Text]; ok && other.rank == s.rank && other.Text != s.Text {
			return true
		}
	}
	return false
}

// readingsOf reads a name by the patterns of the best rank that fits.
func readingsOf(name string) map[string]Dated {
	found := map[string]Dated{}
	best := len(shapes)
	for _, s := range known {
		if s.rank > best {
			break
		}
		parts := s.expr.FindStringSubmatch(name)
		if parts == nil {
			continue
		}
		last := len(parts) - 1
		if wall, ok := s.wall(parts[2:last]); ok {
			best = s.rank
			found[s.Text] = Dated{Name: name, Wall: wall, Pattern: s.Text, Before: parts[1], Behind: parts[last]}
		}
	}
	return found
}
