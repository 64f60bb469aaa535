package advice

import (
	"cmp"
	"slices"
	"strings"
	"time"

	"humble-rewind/internal/core/condition"
	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/remark"
)

// Advise answers a question. Words that must be in the content are looked for as they were given; where no version has
// them so, each word by itself.
func Advise(q Question, ev Evidence, reading Reading) Advice {
	a := advise(q, ev, reading)
	split := strings.Fields(strings.Join(q.Hints.Words, " "))
	if a.Recommended != nil || len(split) == len(q.Hints.Words) {
		return a
	}
	q.Hints.Words = split
	if b := advise(q, ev, reading); b.Recommended != nil {
		b.Notes = append(b.Notes, remark.New("words-apart"))
		return b
	}
	return a
}

func newChooser(q Question, ev Evidence, reading Reading) *chooser {
	c := &chooser{Question: q, Evidence: ev, reading: reading, verdicts: map[int]Examined{}, alone: map[int]Examined{},
		whyNot: map[int]Reason{}, kin: map[copies.ID]kinship{}}
	if c.Noticed.IsZero() {
		c.Noticed = ev.Now
	}
	return c
}

func advise(q Question, ev Evidence, reading Reading) Advice {
	c := newChooser(q, ev, reading)
	c.contradictions()
	c.interleave()
	for n := range c.Trail.Versions {
		if at := c.Trail.Versions[n].Arrived; at.After(c.Noticed) {
			c.whyNot[n] = remark.New("came-late", "at", at)
		}
	}
	switch c.Loss {
	case Unsaved:
		c.unsaved()
	case Misplaced:
		c.misplaced()
	default:
		c.restore(c.wanted())
	}
	c.elsewhere()
	c.others()
	c.look()
	c.next()
	c.giveBack()
	return c.Advice
}

type chooser struct {
	Question
	Evidence
	Advice
	reading  Reading
	verdicts map[int]Examined
	alone    map[int]Examined // by content
	whyNot   map[int]Reason   // by version
	mixed    mixed
	kin      map[copies.ID]kinship // of what is elsewhere, by copy
}

// contradictions says which times do not fit together and goes on without them.
func (c *chooser) contradictions() {
	now := c.Evidence.Now
	if c.Noticed.After(now.Add(clockSlack)) {
		c.note("noticed-later", "at", c.Noticed)
		c.Noticed = now
	}
	if c.Good.After(now.Add(clockSlack)) {
		c.note("right-later", "at", c.Good)
		c.Good = time.Time{}
	}
	if !c.Good.IsZero() && c.Good.After(c.Noticed) {
		c.note("right-after", "right", c.Good, "noticed", c.Noticed)
		c.Noticed = c.Good
	}
}

func (c *chooser) note(code string, pairs ...any) {
	c.Notes = append(c.Notes, remark.New(code, pairs...))
}

// isFile tells whether a version is something with content.
func (c *chooser) isFile(n int) bool { return c.Trail.Versions[n].Type == entry.File }

// before lists the versions that had arrived by a moment, latest first.
func (c *chooser) before(moment time.Time) (all []int) {
	for n := len(c.Trail.Versions) - 1; n >= 0; n-- {
		if !c.Trail.Versions[n].Arrived.After(moment) {
			all = append(all, n)
		}
	}
	return all
}

// restore recommends the first candidate that can be read and has no fault.
func (c *chooser) restore(w candidates) {
	n, copies, examined := c.first(w)
	if n < 0 {
		if !c.standsElsewhere() {
			c.nothing(w)
		}
		return
	}
	best := copies[0]
	for _, copy := range copies {
		if !examined.Failed[copy.ID].Any() {
			best = copy
			break
		}
	}
	r := &Recommended{Copy: best, Version: n, Condition: examined.Verdict, To: c.destination(best, examined.Verdict)}
	r.Because = append(r.Because, c.moment(w, n)...)
	r.Plain = len(r.Because)
	r.Because = append(r.Because, c.copyWhy(n, best, examined)...)
	r.Because = append(r.Because, said(examined.Verdict))
	r.Costs = c.costsOf(w, n, examined.Verdict)
	c.Recommended = r
	c.surely(w, n)
	if best.Live && c.mixed.leftover(n) == nil {
		c.found(best.Place)
	}
}

// moment says how a version stands to the wanted moment.
func (c *chooser) moment(w candidates, n int) []Reason {
	v := &c.Trail.Versions[n]
	if s := c.mixed.leftover(n); s != nil {
		return c.leftoverBecause(w, n, s)
	}
	switch {
	case w.strict:
		return append(w.because, c.newerBroken(n)...)
	case w.nearest >= 0 && v.Content != c.Trail.Versions[w.nearest].Content:
		reason := c.whyNot[w.nearest]
		if reason.Code == "" {
			reason = remark.New("not-fit")
		}
		return []Reason{remark.New("nearer-unfit", "at", c.Trail.Versions[w.nearest].Arrived, "why", reason),
			remark.New("latest-before", "at", v.Arrived)}
	}
	return w.because
}

// newerBroken counts the versions after a sound one that are broken, and says what is wrong with what is there.
func (c *chooser) newerBroken(n int) (why []Reason) {
	broken := map[int]bool{}
	for k := n + 1; k < len(c.Trail.Versions); k++ {
		if c.verdicts[k].State == condition.Broken {
			broken[c.Trail.Versions[k].Content] = true
		}
	}
	if len(broken) == 0 {
		return nil
	}
	why = append(why, remark.New("newer-broken", "n", len(broken)))
	if found, ok := c.verdicts[len(c.Trail.Versions)-1]; ok && found.State == condition.Broken {
		why = append(why, remark.New("newest-is-broken", "why", found.Reasons))
	}
	return why
}

// first walks the candidates: those that can be read from nearest to furthest, and only then says why not.
func (c *chooser) first(w candidates) (version int, copies []Candidate, examined Examined) {
	met := map[int]bool{}
	doubtful := -1
	present := c.presentContent()
	for _, n := range w.order {
		content := c.Trail.Versions[n].Content
		if met[content] || !c.isFile(n) {
			continue
		}
		met[content] = true
		all := c.copiesOf(n)
		if len(readable(all)) == 0 {
			c.whyNot[n] = c.recordOnly(all)
			continue
		}
		if why := c.againstLeftover(n); why.Code != "" {
			c.whyNot[n] = why
			continue
		}
		if why := c.against(n); why.Code != "" {
			c.whyNot[n] = why
			continue
		}
		found := c.examine(n)
		switch {
		case len(found.Failed) >= len(readable(all)):
			c.whyNot[n] = remark.New("copies-unreadable", "why", anyOf(found.Failed))
		case found.State == condition.Broken:
			c.whyNot[n] = remark.New("broken", "why", found.Reasons)
		case found.SHA256.Known() && c.Wrong[found.SHA256]: // which only reading told
			c.whyNot[n] = remark.New("said-wrong")
		case w.strict && found.State != condition.Sound:
			c.whyNot[n] = remark.New("not-sound", "why", found.Reasons)
			if doubtful < 0 || content != present && c.Trail.Versions[doubtful].Content == present {
				doubtful = n
			}
		default:
			return n, all, found
		}
	}
	if doubtful >= 0 {
		delete(c.whyNot, doubtful)
		c.note("none-sound")
		return doubtful, c.copiesOf(doubtful), c.examine(doubtful)
	}
	return -1, nil, Examined{}
}

// presentContent is the content of what is there now, or stood there last.
func (c *chooser) presentContent() int {
	if n := len(c.Trail.Versions); n > 0 {
		return c.Trail.Versions[n-1].Content
	}
	return -1
}

// readable leaves out copies of which only the record is left.
func readable(all []Candidate) []Candidate {
	return slices.DeleteFunc(slices.Clone(all), func(copy Candidate) bool { return copy.Access == Recorded })
}

// contentOf is a version's content, whenever it stood there, to be read: copies whose digest is known come first.
func (c *chooser) contentOf(n int) Content {
	v := &c.Trail.Versions[n]
	all := readable(c.copiesOf(n))
	slices.SortStableFunc(all, func(a, b Candidate) int { return Behind(!a.Verified, !b.Verified) })
	content := Content{Copies: all, Size: v.Size, SHA256: v.SHA256}
	if s := c.mixed.leftover(n); s != nil {
		content.As = c.Evidence.Place.Name()
	}
	return content
}

// copiesOf returns the copies of a version's content at the place and its other names, best first.
func (c *chooser) copiesOf(n int) []Candidate {
	content := c.Trail.Versions[n].Content
	var all []Candidate
	met := map[copies.ID]bool{}
	for k := range c.Trail.Versions {
		if v := &c.Trail.Versions[k]; v.Content == content {
			for _, i := range v.Seen {
				if copy := c.Copies[i]; !met[copy.ID] && copy.ID != 0 {
					met[copy.ID] = true
					all = append(all, copy)
				}
			}
		}
	}
	slices.SortStableFunc(all, func(a, b Candidate) int {
		return cmp.Or(
			cmp.Compare(a.Access, b.Access),
			Behind(a.Unproved, b.Unproved),
			Behind(a.Leftover && a.Place != c.Evidence.Place, b.Leftover && b.Place != c.Evidence.Place),
			Behind(a.Place != c.Evidence.Place, b.Place != c.Evidence.Place),
			Behind(!a.Live, !b.Live),
			Behind(a.Leftover, b.Leftover),
			Behind(a.Remote, b.Remote),
			Behind(!a.Verified && !a.Proves, !b.Verified && !b.Proves),
			Behind(a.Costs, b.Costs),
			cmp.Compare(a.Rank, b.Rank),
			cmp.Compare(a.ID, b.ID),
		)
	})
	return all
}

// Behind orders what something is true of behind what it is not.
func Behind(a, b bool) int {
	switch {
	case a == b:
		return 0
	case a:
		return 1
	}
	return -1
}

// destination is where a copy goes: the place asked for, under the extension that its content has.
func (c *chooser) destination(copy Candidate, v condition.Verdict) place.Place {
	to := c.Evidence.Place
	if copy.Live && !copy.Leftover {
		to = copy.Place
	}
	if v.Rename != "" {
		to.Path = place.Join(place.Folder(to.Path), v.Rename)
	}
	return to
}

func (c *chooser) found(p place.Place) {
	if !slices.Contains(c.FoundAt, p) {
		c.FoundAt = append(c.FoundAt, p)
	}
}
