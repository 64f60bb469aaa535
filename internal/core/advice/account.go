package advice

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"humble-rewind/internal/core/condition"
	"humble-rewind/internal/core/entry"
)

// maxOthers bounds how many runners-up are listed.
const maxOthers = 20

// copyWhy says why this copy of several.
func (c *chooser) copyWhy(n int, best Copy, examined Examined) (why []string) {
	if best.Place != c.Place {
		why = append(why, fmt.Sprintf("It was known as %s then.", best.Place))
	}
	all := readable(c.copiesOf(n))
	name := c.sourceName(best)
	switch {
	case best.Live:
		why = append(why, fmt.Sprintf("It stands at %s now.", best.Place))
	case len(all) > 1:
		why = append(why, fmt.Sprintf("Of the %d copies of it that can be read, the one in %s is the nearest at hand.", len(all), name))
	default:
		why = append(why, fmt.Sprintf("It is read from %s, which alone has it.", name))
	}
	for _, copy := range all {
		if reason := examined.Failed[copy.ID]; reason != "" {
			why = append(why, fmt.Sprintf("The copy in %s could not be read: %s.", c.sourceName(copy), strings.TrimSuffix(reason, ".")))
		}
	}
	return why
}

func (c *chooser) sourceName(copy Copy) string {
	if copy.Source < 0 || copy.Source >= len(c.Sources) {
		return "its place"
	}
	return c.Sources[copy.Source].Name
}

// costsOf says what bringing a version back would lose.
func (c *chooser) costsOf(w candidates, n int, verdict condition.Verdict) []string {
	costs := slices.Clone(w.costs)
	v := &c.Trail.Versions[n]
	nearest := v
	if w.nearest >= 0 {
		nearest = &c.Trail.Versions[w.nearest]
	}
	switch {
	case v.Content != nearest.Content:
		costs = append(
			costs,
			fmt.Sprintf("What was saved between %s and %s is not in it.", c.say(v.Arrived), c.say(laterOf(nearest.Arrived, w.wanted))),
		)
	case c.Loss == Deleted || c.Loss == Misplaced:
		if v.Superseded.Sub(v.LastSeen) > time.Hour && !v.Superseded.IsZero() {
			costs = append(
				costs,
				fmt.Sprintf(
					"Nobody looked between %s and %s; what was saved in that time, if anything, is not in it.",
					c.say(v.LastSeen),
					c.say(v.Superseded),
				),
			)
		}
	}
	later := 0
	var last time.Time
	for k := n + 1; k < len(c.Trail.Versions); k++ {
		if o := &c.Trail.Versions[k]; o.Content != v.Content && o.Type == entry.File && !o.Arrived.After(c.Now) {
			later++
			last = o.Arrived
		}
	}
	if later > 0 {
		costs = append(
			costs,
			fmt.Sprintf(
				"%s came later, up to %s; none of that is in it, and none of it is touched.",
				capital(counted(later, "other version", "other versions")),
				c.say(last),
			),
		)
	}
	for _, other := range c.Neighbours {
		if until := v.Superseded; !until.IsZero() && other.Written.After(until) {
			costs = append(
				costs,
				fmt.Sprintf(
					"%s beside it was written on %s, after this version was replaced, and may no longer fit.",
					other.Name,
					c.say(other.Written),
				),
			)
		}
	}
	if verdict.State == condition.Doubtful || verdict.State == condition.Unread {
		costs = append(costs, "Open it before you promise anything.")
	}
	if len(costs) == 0 {
		costs = append(costs, "Nothing that is known of would be lost.")
	}
	return costs
}

func counted(n int, one, many string) string {
	if n == 1 {
		return "one " + one
	}
	return fmt.Sprintf("%d %s", n, many)
}

func laterOf(a, b time.Time) time.Time {
	if b.After(a) {
		return b
	}
	return a
}

// recordOnly says why none of a version's copies is left.
func (c *chooser) recordOnly(all []Copy) string {
	for _, copy := range all {
		if !copy.Expires.IsZero() && copy.Expires.Before(c.Now) {
			return fmt.Sprintf("Only the record of it is left: it expired from %s on %s.", c.sourceName(copy), c.say(copy.Expires))
		}
	}
	return "Only the record of it is left; its bytes are nowhere any more."
}

// nothing explains why no version is recommended.
func (c *chooser) nothing(w candidates) {
	switch {
	case len(c.Trail.Versions) == 0:
		c.Because = append(c.Because, fmt.Sprintf("No source ever saw anything at %s.", c.Place))
	case len(w.order) == 0 && !c.Good.IsZero():
		c.Because = append(
			c.Because,
			fmt.Sprintf(
				"Nothing is known to have stood there on %s or before; the oldest version came on %s.",
				c.say(c.Good),
				c.say(c.Trail.Versions[0].Arrived),
			),
		)
	case len(w.order) == 0:
		c.Because = append(c.Because, fmt.Sprintf("Nothing is known to have stood there before %s.", c.say(w.wanted)))
	default:
		c.Because = append(c.Because, "None of the versions that come into question can be recommended.")
		for _, n := range w.order[:min(3, len(w.order))] {
			if why := c.whyNot[n]; why != "" {
				c.Because = append(c.Because, fmt.Sprintf("The one of %s: %s", c.say(c.Trail.Versions[n].Arrived), why))
			}
		}
	}
}

// others lists the runners-up with why not, nearest in time to what is recommended first.
func (c *chooser) others() {
	met := map[int]bool{}
	if c.Recommended != nil && c.Recommended.Version >= 0 {
		met[c.Trail.Versions[c.Recommended.Version].Content] = true
		n := 0
		for _, copy := range c.copiesOf(c.Recommended.Version) {
			if copy.ID == c.Recommended.Copy.ID || copy.Access == Recorded || n == 3 {
				continue
			}
			n++
			c.Others = append(
				c.Others,
				Other{
					Copy:    copy,
					Version: c.Recommended.Version,
					State:   c.Recommended.Condition.State,
					Why:     "The same content, less near at hand.",
				},
			)
		}
	}
	for n := len(c.Trail.Versions) - 1; n >= 0 && len(c.Others) < maxOthers; n-- {
		v := &c.Trail.Versions[n]
		if met[v.Content] || v.Type != entry.File {
			continue
		}
		met[v.Content] = true
		all := c.copiesOf(n)
		if len(all) == 0 {
			continue
		}
		o := Other{Copy: all[0], Version: n, State: condition.Unread, Why: c.whyNot[n]}
		if found, ok := c.verdicts[n]; ok {
			o.State = found.State
		}
		if o.Why == "" {
			o.Why = fmt.Sprintf("It came on %s, and another is nearer to the wanted moment.", c.say(v.Arrived))
		}
		c.Others = append(c.Others, o)
	}
	for n := len(c.Trail.Beside) - 1; n >= 0 && len(c.Others) < maxOthers; n-- {
		v := &c.Trail.Beside[n]
		i := slices.IndexFunc(v.Seen, func(i int) bool { return !c.Copies[i].Leftover && c.Copies[i].Access != Recorded })
		if i < 0 || v.Type != entry.File || met[v.Content] {
			continue
		}
		met[v.Content] = true
		c.Others = append(c.Others, Other{Copy: c.Copies[v.Seen[i]], Version: -1, State: condition.Unread,
			Why: fmt.Sprintf("It was recorded on %s, but on another branch or the like: nothing shows that it stood here.", c.say(v.Arrived))})
	}
	if c.Loss != Unsaved {
		for _, s := range c.Strays {
			if len(c.Others) == maxOthers {
				break
			}
			c.Others = append(
				c.Others,
				Other{
					Copy:    s.Copy,
					Version: -1,
					State:   condition.Unread,
					Why:     fmt.Sprintf("%s of it, from %s: a leftover, and no save.", capital(s.What), c.say(s.Earliest)),
				},
			)
		}
	}
	for _, e := range c.Elsewhere {
		if len(c.Others) < maxOthers && (c.Recommended == nil || c.Recommended.Copy.ID != e.Copy.ID) {
			c.Others = append(c.Others, Other{Copy: e.Copy, Version: -1, State: condition.Unread, Why: e.Why})
		}
	}
}

// tally is what one source has of the file.
type tally struct {
	copies, records int // that can be read, and of which only the record is left
	alike           int // files of the same name, of other places
	newest, expired time.Time
}

// look says of every source what it had.
func (c *chooser) look() {
	tallies := make([]tally, len(c.Sources))
	see := func(copy Copy, at time.Time, alike bool) {
		if copy.Source < 0 || copy.Source >= len(tallies) {
			return
		}
		t := &tallies[copy.Source]
		switch {
		case alike:
			t.alike++
		case copy.Access != Recorded:
			t.copies++
			t.newest = laterOf(t.newest, at)
		default:
			t.records++
			if !copy.Expires.IsZero() && copy.Expires.Before(c.Now) {
				t.expired = laterOf(t.expired, copy.Expires)
			}
		}
	}
	for n := range c.Seen {
		at := c.Seen[n].Last
		if !c.Seen[n].Gone.IsZero() {
			at = c.Seen[n].Gone
		}
		see(c.Copies[n], at, false)
	}
	for _, stray := range c.Strays {
		see(stray.Copy, stray.Earliest, false)
	}
	for _, e := range c.Elsewhere {
		see(e.Copy, e.At, !e.Proved)
	}
	for i := range c.Sources {
		c.Looked = append(c.Looked, Looked{Source: i, Found: tallies[i].copies > 0, Note: c.lookNote(&c.Sources[i], tallies[i])})
	}
	c.Notes = append(c.Notes, c.Locks...)
}

func (c *chooser) lookNote(s *Source, t tally) string {
	var parts []string
	switch {
	case t.copies == 1:
		parts = append(parts, fmt.Sprintf("One copy, last seen %s.", c.say(t.newest)))
	case t.copies > 1:
		parts = append(parts, fmt.Sprintf("%d copies, the newest seen %s.", t.copies, c.say(t.newest)))
	}
	switch {
	case !t.expired.IsZero():
		parts = append(parts, fmt.Sprintf("What it had expired on %s.", c.say(t.expired)))
	case t.records > 0 && t.copies > 0:
		parts = append(parts, fmt.Sprintf("Of %d more only the record is left.", t.records))
	case t.records > 0:
		parts = append(parts, fmt.Sprintf("It had %s once; only the record is left.", counted(t.records, "copy", "copies")))
	}
	if s.Trouble != "" {
		parts = append(parts, "It could not be read last: "+strings.TrimSuffix(s.Trouble, ".")+".")
	}
	if t.copies == 0 && t.records == 0 {
		parts = append(parts, s.Nothing("the file", c.Now, c.Zone))
	}
	switch {
	case t.alike == 1:
		parts = append(parts, "It has one of the same name, of another place.")
	case t.alike > 1:
		parts = append(parts, fmt.Sprintf("It has %d of the same name, of other places.", t.alike))
	}
	return strings.Join(parts, " ")
}

// Nothing says why a source has nothing of what was lost, which is called what in the sentence.
func (s *Source) Nothing(what string, now time.Time, zone *time.Location) string {
	switch {
	case s.Excluded != "":
		return fmt.Sprintf("It was never in it: the exclusion %q leaves it out.", s.Excluded)
	case len(s.Captures) == 0:
		return "It was never surveyed."
	case s.Covers && !s.Since.IsZero():
		return fmt.Sprintf("The folder is in it since %s, and %s was not there at any of its times.", Say(s.Since, now, zone), what)
	case s.Covers:
		return fmt.Sprintf(
			"It looks after that place since %s, and %s was not there at any of its times.",
			Say(s.Captures[0], now, zone),
			what,
		)
	}
	return "Nothing in it is known to have come from there."
}

// next says what remains to be tried.
func (c *chooser) next() {
	if len(c.Sources) == 0 {
		c.Next = append(
			c.Next,
			"No source is known for this machine: add one with humble-rewind source add, or see what there is with humble-rewind source "+
				"suggest.",
		)
		return
	}
	for i := range c.Sources {
		s := &c.Sources[i]
		if s.Trouble != "" {
			c.Next = append(c.Next, fmt.Sprintf("Make %s reachable and survey it again.", s.Name))
		} else if len(s.Captures) == 0 {
			c.Next = append(c.Next, fmt.Sprintf("Survey %s.", s.Name))
		}
	}
	if c.Recommended != nil {
		return
	}
	if c.Hints.reads() || c.Hints.Least > 0 || c.Hints.Most > 0 || c.Hints.Media != "" {
		c.Next = append(c.Next, "Ask again with fewer hints: a word may be spelled differently in the file.")
	}
	if len(c.Trail.Versions) == 0 && len(c.Elsewhere) > 0 {
		c.Next = append(
			c.Next,
			"Look at those of the same name first: one may be it, in a folder other than the user remembers. Then ask again with its "+
				"place.",
		)
	}
	c.Next = append(
		c.Next,
		"Look for it under another name with humble-rewind find, and ask the user where else it may be: a stick, a mail, a colleague's "+
			"machine, paper.",
		"If nothing is found, stop writing to the drive and make an image of it; deleted files can often be read from that.",
	)
}
