package advice

import (
	"slices"
	"strings"
	"time"

	"humble-rewind/internal/core/condition"
	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/remark"
)

// copyWhy says why this copy of several.
func (c *chooser) copyWhy(n int, best Candidate, examined Examined) (why []Reason) {
	leftover := c.mixed.leftover(n) != nil
	if best.Place != c.Evidence.Place && !best.Leftover {
		why = append(why, remark.New("known-as", "place", best.Place))
	}
	all := readable(c.copiesOf(n))
	switch name := c.sourceName(best); {
	case leftover || best.Leftover && best.Place != c.Evidence.Place:
		why = append(why, remark.New("lies-at", "place", best.Place))
	case best.Live:
		why = append(why, remark.New("there-now", "place", best.Place))
	case len(all) > 1:
		why = append(why, remark.New("of-several", "n", len(all), "source", name))
	default:
		why = append(why, remark.New("only-copy", "source", name))
	}
	for _, copy := range all {
		if reason := examined.Failed[copy.ID]; reason.Any() {
			why = append(why, remark.New("copy-failed", "source", c.sourceName(copy), "why", reason))
		}
	}
	return why
}

func (c *chooser) sourceName(copy Candidate) string {
	if copy.Source < 0 || copy.Source >= len(c.Sources) {
		return "its place"
	}
	return c.Sources[copy.Source].Name
}

// costsOf says what bringing a version back would lose.
func (c *chooser) costsOf(w candidates, n int, verdict condition.Verdict) []Reason {
	v := &c.Trail.Versions[n]
	nearest := v
	if w.nearest >= 0 {
		nearest = &c.Trail.Versions[w.nearest]
	}
	var costs []Reason
	switch {
	case v.Content != nearest.Content:
		costs = append(costs, remark.New("saved-between", "from", v.Arrived, "to", laterOf(nearest.Arrived, w.wanted)))
		if w.strict && c.brokenAfter(n) {
			_, more := c.window(n, v.LastSeen, v.Superseded)
			costs = append(costs, more...)
		}
	default:
		costs = append(costs, w.costs...)
	}
	later := 0
	var last time.Time
	for k := n + 1; k < len(c.Trail.Versions); k++ {
		o := &c.Trail.Versions[k]
		if o.Content != v.Content && o.Type == entry.File && !o.Arrived.After(c.Evidence.Now) && c.mixed.leftover(k) == nil {
			later++
			last = o.Arrived
		}
	}
	if later > 0 {
		costs = append(costs, remark.New("later-versions", "n", later, "at", last))
	}
	for _, other := range c.Neighbours {
		if until := v.Superseded; !until.IsZero() && other.Written.After(until) {
			costs = append(costs, remark.New("neighbour", "name", other.Name, "at", other.Written))
		}
	}
	if verdict.State == condition.Doubtful || verdict.State == condition.Unread {
		costs = append(costs, remark.New("open-it-first"))
	}
	if len(costs) == 0 {
		costs = append(costs, remark.New("costs-nothing"))
	}
	return costs
}

func laterOf(a, b time.Time) time.Time {
	if b.After(a) {
		return b
	}
	return a
}

// recordOnly says why none of a version's copies is left.
func (c *chooser) recordOnly(all []Candidate) Reason {
	for _, copy := range all {
		if !copy.Expires.IsZero() && copy.Expires.Before(c.Evidence.Now) {
			return remark.New("expired", "source", c.sourceName(copy), "at", copy.Expires)
		}
	}
	return remark.New("only-record")
}

// nothing explains why no version is recommended.
func (c *chooser) nothing(w candidates) {
	because := func(code string, pairs ...any) { c.Because = append(c.Because, remark.New(code, pairs...)) }
	switch {
	case len(c.Trail.Versions) == 0:
		because("never-seen", "place", c.Evidence.Place)
	case len(w.order) == 0 && !c.Good.IsZero():
		because("nothing-by-then", "at", c.Good, "oldest", c.Trail.Versions[0].Arrived)
	case len(w.order) == 0:
		because("nothing-before", "at", w.wanted)
	default:
		because("none-fits")
		for _, n := range w.order[:min(3, len(w.order))] {
			if why := c.whyNot[n]; why.Code != "" {
				because("none-of", "at", c.Trail.Versions[n].Arrived, "why", why)
			}
		}
	}
}

// others lists the runners-up with why not, nearest in time to what is recommended first.
func (c *chooser) others() {
	met := map[int]bool{}
	if c.Recommended != nil && c.Recommended.Version >= 0 {
		met[c.Trail.Versions[c.Recommended.Version].Content] = true
		c.sameContent()
	}
	listed := func(id copies.ID) bool {
		return c.Recommended != nil && c.Recommended.Copy.ID == id ||
			slices.ContainsFunc(c.Others, func(o Other) bool { return o.Copy.ID == id })
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
		if s := c.mixed.leftover(n); s != nil && o.Why.Code == "" {
			o.Why = remark.New("leftover-other", "what", s.What, "at", s.Earliest)
		}
		if o.Why.Code == "" {
			o.Why = remark.New("nearer-one", "at", v.Arrived)
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
			Why: remark.New("off-the-line", "at", v.Arrived)})
	}
	for i := range c.Strays {
		s := &c.Strays[i]
		if len(c.Others) >= maxOthers || c.Loss == Unsaved || listed(s.Copy.ID) || c.sameAs(s) >= 0 {
			continue
		}
		why := c.mixed.out[s.Copy.ID]
		if why.Code == "" {
			why = remark.New("leftover-other", "what", s.What, "at", s.Earliest)
		}
		c.Others = append(c.Others, Other{Copy: s.Copy, Version: -1, State: condition.Unread, Why: why})
	}
	for _, e := range c.Elsewhere {
		if len(c.Others) < maxOthers && !listed(e.Copy.ID) {
			c.Others = append(c.Others, Other{Copy: e.Copy, Version: -1, State: condition.Unread, Why: c.kinship(e).said(c)})
		}
	}
}

// sameContent lists some more copies of what is recommended.
func (c *chooser) sameContent() {
	n := 0
	for _, copy := range c.copiesOf(c.Recommended.Version) {
		if copy.ID == c.Recommended.Copy.ID || copy.Access == Recorded || n == maxSame {
			continue
		}
		n++
		c.Others = append(c.Others, Other{Copy: copy, Version: c.Recommended.Version, State: c.Recommended.Condition.State,
			Why: remark.New("same-content")})
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
	see := func(copy Candidate, at time.Time, alike bool) {
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
			if !copy.Expires.IsZero() && copy.Expires.Before(c.Evidence.Now) {
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
		see(e.Copy, e.At, !c.kinship(e).proved)
	}
	for i := range c.Sources {
		s := &c.Sources[i]
		c.Looked = append(c.Looked, Looked{Source: i, Found: tallies[i].copies > 0, Excluded: s.Excluded, Note: lookNote(s, tallies[i])})
	}
	c.Notes = append(c.Notes, c.Locks...)
}

func lookNote(s *Source, t tally) (parts []Reason) {
	say := func(code string, pairs ...any) { parts = append(parts, remark.New(code, pairs...)) }
	switch {
	case t.copies == 1:
		say("has-one", "at", t.newest)
	case t.copies > 1:
		say("has-copies", "n", t.copies, "at", t.newest)
	}
	switch {
	case !t.expired.IsZero():
		say("had-expired", "at", t.expired)
	case t.records > 0 && t.copies > 0:
		say("records-more", "n", t.records)
	case t.records > 0:
		say("records-only", "n", t.records)
	}
	if s.Trouble != "" {
		say("store-trouble", "why", strings.TrimSuffix(s.Trouble, "."))
	}
	if t.copies == 0 && t.records == 0 {
		parts = append(parts, s.Nothing(remark.New("the-file")))
	}
	if t.alike > 0 {
		say("same-name-one", "n", t.alike)
	}
	return parts
}

// Nothing says why a source has nothing of what was lost, which is called what in the sentence.
func (s *Source) Nothing(what Reason) Reason {
	switch {
	case s.Excluded != "":
		return remark.New("excluded", "pattern", "“"+s.Excluded+"”")
	case len(s.Captures) == 0:
		return remark.New("never-surveyed")
	case s.Covers && !s.Since.IsZero():
		return remark.New("shown-since", "at", s.Since, "what", what)
	case s.Covers:
		return remark.New("covered-since", "at", s.Captures[0], "what", what)
	}
	return remark.New("nothing-of-it")
}

// next says what remains to be tried.
func (c *chooser) next() {
	next := func(code string, pairs ...any) { c.Next = append(c.Next, remark.New(code, pairs...)) }
	if len(c.Sources) == 0 {
		next("next-add")
		return
	}
	for i := range c.Sources {
		s := &c.Sources[i]
		if s.Trouble != "" {
			next("next-reach", "source", s.Name)
		} else if len(s.Captures) == 0 {
			next("next-survey", "source", s.Name)
		}
	}
	if c.Recommended != nil {
		return
	}
	if c.Hints.reads() || c.Hints.Least > 0 || c.Hints.Most > 0 || c.Hints.Media != "" {
		next("next-hints")
	}
	if len(c.Trail.Versions) == 0 && len(c.Elsewhere) > 0 {
		next("next-same-name")
	}
	next("next-find")
	next("next-image")
}
