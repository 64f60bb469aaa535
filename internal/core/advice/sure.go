package advice

import (
	"slices"
	"strings"

	"humble-rewind/internal/core/condition"
	"humble-rewind/internal/core/remark"
)

// surely says how sure a recommendation is, and names what it stands on that is not proved: one thing makes it likely, one that
// only the user or a look can settle makes it open.
func (c *chooser) surely(w candidates, n int) {
	r := c.Recommended
	v := &c.Trail.Versions[n]
	s := c.mixed.leftover(n)
	state := r.Condition.State
	r.Sure = Certain
	why := Reason{}
	switch {
	case state == condition.Unread:
		r.Sure, why = Open, remark.New("open-unread")
	case state == condition.Doubtful && w.strict:
		r.Sure, why = Open, remark.New("open-doubtful")
	case w.open:
		r.Sure, why = Open, w.assumed
	case s != nil:
		r.Sure, why = Likely, remark.New("assume-leftover")
		r.Costs = append(r.Costs, remark.New("leftover-costs"))
	case state == condition.Doubtful:
		r.Sure, why = Likely, remark.New("assume-whole")
	case w.nearest >= 0 && v.Content != c.Trail.Versions[w.nearest].Content && !w.strict:
		r.Sure, why = Likely, remark.New("assume-older")
	case w.assumed.Code != "":
		r.Sure, why = Likely, w.assumed
	case w.strict && c.brokenAfter(n) && c.assumedBefore(n).Code != "":
		r.Sure, why = Likely, c.assumedBefore(n)
	case w.strict && !r.Condition.Proved && !c.brokenAfter(n):
		r.Sure, why = Likely, remark.New("assume-whole")
	case v.Doubt != "" && !c.Good.IsZero():
		r.Sure, why = Likely, remark.New("assume-date")
	}
	if r.Copy.Access == Doubted && !r.Copy.Proves && r.Sure == Certain { // else its checksum tells, once it is read
		r.Sure, why = Likely, remark.New("assume-whole")
	}
	if of := c.copiesOf(n); r.Sure == Certain && r.Copy.Unproved && !slices.ContainsFunc(of, func(x Candidate) bool { return !x.Unproved }) {
		r.Sure, why = Likely, remark.New("assume-unproved")
	}
	if e := c.contradicting(n); e != nil && r.Sure == Certain {
		r.Sure, why = Likely, remark.New("assume-claimed", "at", e.At, "source", c.sourceName(e.Copy))
	}
	if why.Code != "" {
		r.Because = append(r.Because, why)
	}
	if r.Sure == Open {
		c.ask(w, n)
	}
}

// contradicting finds an item that claims to come from this place and was written after a version: nil where there is none. It may be
// forged; it may also be what was lost.
func (c *chooser) contradicting(n int) *Elsewhere {
	for i := range c.Evidence.Elsewhere {
		if e := &c.Evidence.Elsewhere[i]; e.Claimed && e.Back != 1 && e.At.After(c.savedAt(n)) {
			return e
		}
	}
	return nil
}

// brokenAfter tells whether a newer version was found to be broken, so that the damage is known to have come after this one.
func (c *chooser) brokenAfter(n int) bool {
	for k := n + 1; k < len(c.Trail.Versions); k++ {
		if c.mixed.leftover(k) == nil && c.verdicts[k].State == condition.Broken {
			return true
		}
	}
	return false
}

// assumedBefore is what is assumed of the time between a version and the broken one after it.
func (c *chooser) assumedBefore(n int) Reason {
	v := &c.Trail.Versions[n]
	if v.Superseded.IsZero() {
		return Reason{}
	}
	assumed, _ := c.window(n, v.LastSeen, v.Superseded)
	return assumed
}

// ask finds the one question that settles between what is recommended and what it may be instead.
func (c *chooser) ask(w candidates, n int) {
	k := w.rival
	if k < 0 || k >= len(c.Trail.Versions) || !c.isFile(k) || c.Trail.Versions[k].Content == c.Trail.Versions[n].Content {
		return
	}
	copies := readable(c.copiesOf(k))
	if len(copies) == 0 || c.examine(k).State == condition.Broken {
		return
	}
	ours, theirs := c.contentOf(n), c.contentOf(k)
	first, second := c.Recommended.Copy, copies[0]
	if len(c.Hints.Words) == 0 && len(c.Hints.Without) == 0 {
		if passage := c.passage(ours, theirs); passage != "" {
			c.Ask = &Ask{Reason: c.askFor(passage), Answers: []AskAnswer{
				{Says: remark.New("yes"), Copy: first, Hints: Hints{Words: []string{passage}}}, {Says: remark.New("no"), Copy: second, Hints: Hints{Without: []string{passage}}}}}
			return
		}
		if passage := c.passage(theirs, ours); passage != "" {
			c.Ask = &Ask{Reason: c.askFor(passage), Answers: []AskAnswer{
				{Says: remark.New("yes"), Copy: second, Hints: Hints{Words: []string{passage}}}, {Says: remark.New("no"), Copy: first, Hints: Hints{Without: []string{passage}}}}}
			return
		}
	}
	a, b := &c.Trail.Versions[n], &c.Trail.Versions[k]
	if small, large := min(a.Size, b.Size), max(a.Size, b.Size); float64(large) >= tellingSizes*float64(small) {
		between := (small + large) / 2
		fewer, more := Hints{Most: between}, Hints{Least: between}
		answers := []AskAnswer{{Says: remark.New("size", "size", remark.Size(a.Size)), Copy: first, Hints: more}, {Says: remark.New("size", "size", remark.Size(b.Size)), Copy: second, Hints: fewer}}
		if a.Size < b.Size {
			answers[0].Hints, answers[1].Hints = fewer, more
		}
		c.Ask = &Ask{Reason: remark.New("ask-size", "one", remark.Size(a.Size), "other", remark.Size(b.Size)), Answers: answers}
		return
	}
	at := laterOf(a.Arrived, b.Arrived)
	answers := []AskAnswer{{Says: remark.New("from-before"), Copy: first}, {Says: remark.New("from-after"), Copy: second}}
	if a.Arrived.After(b.Arrived) {
		answers[0].Copy, answers[1].Copy = second, first
	}
	c.Ask = &Ask{Reason: remark.New("ask-date", "at", at), Answers: answers}
}

// passage is one that a content has and another has not.
func (c *chooser) passage(of, other Content) string {
	found := c.reading.Only(of, other)
	if found == "" {
		return ""
	}
	if lacking, ok := c.reading.Holds(of, []string{found}); !ok || len(lacking) > 0 {
		return ""
	}
	if lacking, ok := c.reading.Holds(other, []string{found}); !ok || len(lacking) == 0 {
		return ""
	}
	return found
}

// askFor asks for a passage.
func (c *chooser) askFor(passage string) Reason {
	passage = strings.Join(strings.Fields(passage), " ")
	if c.Loss == Overwritten {
		return remark.New("ask-passage-then", "passage", passage)
	}
	return remark.New("ask-passage-want", "passage", passage)
}
