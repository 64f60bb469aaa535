package advice

import (
	"cmp"
	"slices"
	"time"

	"humble-rewind/internal/core/condition"
	"humble-rewind/internal/core/remark"
)

// misplaced looks for where the file lives now; where it lives nowhere, it was deleted.
func (c *chooser) misplaced() {
	if n := len(c.Trail.Versions) - 1; n >= 0 && c.Trail.Versions[n].Superseded.IsZero() && c.isFile(n) && c.stillThere(n) {
		return
	}
	for _, e := range c.proved(func(e Elsewhere) bool { return e.Back <= 1 && !e.Lost }) {
		if c.recommendElsewhere(e, remark.New("not-lost", "place", e.Copy.Place)) {
			return
		}
	}
	if len(c.Trail.Versions) > 0 {
		c.note("stands-nowhere")
	}
	clear(c.verdicts) // the versions are counted anew
	clear(c.whyNot)
	c.mix()
	c.restore(c.deleted())
	c.sameNameMayBe()
}

// sameNameMayBe says that what is called deleted may still be somewhere: a file of its name is, of which nobody can tell whether it is it.
func (c *chooser) sameNameMayBe() {
	r := c.Recommended
	if r == nil || r.Sure != Certain {
		return
	}
	for _, e := range c.Evidence.Elsewhere {
		if e.Named && e.Copy.Live && e.Came.After(c.lastSeen()) {
			r.Sure = Likely
			r.Because = append(r.Because, remark.New("assume-nowhere", "place", e.Copy.Place))
			return
		}
	}
}

// stillThere recommends the last version where it stands, at the place or where it was followed to.
func (c *chooser) stillThere(n int) bool {
	v := &c.Trail.Versions[n]
	for _, copy := range c.copiesOf(n) {
		if !copy.Live || copy.Access == Recorded || copy.Place != v.Place {
			continue
		}
		sure, because := Certain, []Reason{remark.New("not-lost", "place", v.Place)}
		if v.Place != c.Evidence.Place {
			because = []Reason{remark.New("followed", "place", v.Place)}
			sure = Likely
		}
		examined := c.examine(n)
		if c.whyNot[n] = c.against(n); c.whyNot[n].Code == "" {
			c.whyNot[n] = c.againstCopy(c.contentOf(n), examined)
		}
		if c.whyNot[n].Code != "" {
			c.found(copy.Place)
			return false
		}
		c.recommendFound(copy, n, examined.Verdict, because)
		if sure == Likely && c.keptContent(n) {
			sure = Certain
		}
		c.assume(sure, "assume-followed")
		return true
	}
	return false
}

// keptContent tells whether a version has, byte for byte, what stood at the place itself.
func (c *chooser) keptContent(n int) bool {
	v := &c.Trail.Versions[n]
	for k := range n {
		if o := &c.Trail.Versions[k]; o.Place == c.Evidence.Place && v.SHA256.Known() && o.SHA256 == v.SHA256 {
			return true
		}
	}
	return false
}

// assume says how sure what was found is, and what it stands on where it is not certain.
func (c *chooser) assume(sure Sure, code string) {
	r := c.Recommended
	switch r.Condition.State {
	case condition.Unread:
		sure, code = Open, "open-unread"
	case condition.Doubtful:
		if sure == Certain {
			sure, code = Likely, "assume-whole"
		}
	}
	if r.Sure = sure; sure != Certain {
		r.Because = append(r.Because, remark.New(code))
	}
}

// proved lists what is surely the file, best first: on its own machine before others, worked on since before as it was.
func (c *chooser) proved(wanted func(Elsewhere) bool) []Elsewhere {
	all := slices.DeleteFunc(
		slices.Clone(c.Evidence.Elsewhere),
		func(e Elsewhere) bool { return !c.kinship(e).proved || e.Copy.Access == Recorded || !wanted(e) },
	)
	machine := c.Evidence.Place.Machine
	slices.SortStableFunc(all, func(a, b Elsewhere) int {
		return cmp.Or(
			Behind(a.Back > 1, b.Back > 1),
			Behind(a.Lost, b.Lost),
			Behind(a.Copy.Place.Machine != machine, b.Copy.Place.Machine != machine),
			Behind(a.Back > 0, b.Back > 0),
			Behind(!a.Named, !b.Named),
			b.At.Compare(a.At),
			cmp.Compare(a.Copy.ID, b.Copy.ID),
		)
	})
	return all
}

// standsElsewhere recommends, where no copy of what was deleted is left, a file elsewhere that has just its content, or
// that of an older version.
func (c *chooser) standsElsewhere() bool {
	if c.Loss != Deleted {
		return false
	}
	for _, e := range c.proved(func(e Elsewhere) bool { return e.Back > 0 }) {
		because := remark.New("same-there")
		switch {
		case e.Lost:
			because = remark.New("same-lost")
		case e.Back > 1:
			because = remark.New("older-there")
		}
		if c.recommendElsewhere(e, because) {
			return true
		}
	}
	return false
}

// recommendElsewhere recommends a file that stands elsewhere, unless something speaks against it, which its runner-up's
// reason then says.
func (c *chooser) recommendElsewhere(e Elsewhere, because Reason) bool {
	content := Content{Copies: []Candidate{e.Copy}, Size: e.Size, SHA256: e.SHA256}
	examined := c.reading.Condition(content)
	if why := c.againstCopy(content, examined); why.Code != "" {
		k := c.kinship(e)
		k.against = why
		c.kin[e.Copy.ID] = k
		return false
	}
	c.recommendFound(e.Copy, -1, examined.Verdict, []Reason{because, c.kinship(e).why})
	r := c.Recommended
	if e.Lost {
		r.Costs = []Reason{remark.New("costs-nothing")}
	}
	switch {
	case e.Back > 1:
		r.Costs = append(r.Costs, remark.New("older-lacks"))
		c.assume(Likely, "assume-older")
	case e.Back == 0:
		c.assume(Likely, "assume-followed")
	default:
		c.assume(Certain, "")
	}
	return true
}

// recommendFound recommends a copy that was found outside the order of versions: one that stands somewhere stays there.
func (c *chooser) recommendFound(copy Candidate, version int, verdict condition.Verdict, because []Reason) {
	to := copy.Place
	if copy.Live {
		c.found(copy.Place)
	} else {
		to = c.destination(copy, verdict)
	}
	c.Recommended = &Recommended{
		Copy:      copy,
		Version:   version,
		To:        to,
		Condition: verdict,
		Because:   append(because, said(verdict)),
		Plain:     len(because),
		Costs:     []Reason{remark.New("stays-there")},
	}
}

// elsewhere names where else the file stands, whatever the loss.
func (c *chooser) elsewhere() {
	for _, e := range c.Evidence.Elsewhere {
		if e.Copy.Live && c.kinship(e).proved {
			c.found(e.Copy.Place)
		}
		if r := c.Recommended; e.Lost && e.Back == 0 && r != nil && r.Version >= 0 && e.At.After(c.savedAt(r.Version)) {
			code := "unrecorded-newer"
			if e.Claimed {
				code = "claimed-newer"
			}
			c.note(code, "source", c.sourceName(e.Copy), "at", e.At)
		}
	}
	for n := len(c.Trail.Versions) - 1; n >= 0; n-- {
		if v := &c.Trail.Versions[n]; c.mixed.leftover(n) == nil {
			if v.Superseded.IsZero() && v.Place != c.Evidence.Place && c.Loss != Damaged {
				c.found(v.Place)
			}
			return
		}
	}
}

// unsaved looks for work that was never saved: the newest leftover whose content is newer than the last save.
func (c *chooser) unsaved() {
	save, examined := c.lastSave()
	var strays []*Stray
	for i := range c.Strays {
		if s := &c.Strays[i]; !s.Earliest.After(c.Noticed.Add(clockSlack)) {
			strays = append(strays, s)
		}
	}
	slices.SortStableFunc(strays, func(a, b *Stray) int {
		return cmp.Or(b.Earliest.Compare(a.Earliest), Behind(!a.Sure, !b.Sure), cmp.Compare(a.Copy.ID, b.Copy.ID))
	})
	for _, s := range strays {
		examined := c.reading.Condition(s.content(c.Evidence.Place.Name()))
		if why := c.strayWhyNot(s, save, examined); why.Code != "" {
			c.Others = append(c.Others, Other{Copy: s.Copy, Version: -1, State: examined.State, Why: why})
			continue
		}
		c.recommendStray(s, save, examined.Verdict)
		return
	}
	if save < 0 {
		c.Because = append(c.Because, remark.New("nothing-unsaved"))
		return
	}
	code := "no-newer"
	if len(c.Strays) == 0 {
		code = "no-leftover"
	}
	v := &c.Trail.Versions[save]
	all := c.copiesOf(save)
	c.Recommended = &Recommended{Copy: all[0], Version: save, To: c.destination(all[0], examined.Verdict), Condition: examined.Verdict,
		Because: []Reason{remark.New(code, "at", v.Arrived), said(examined.Verdict)}, Plain: 1,
		Costs: []Reason{remark.New("unsaved-lacks", "at", v.Arrived)}}
	if all[0].Live {
		c.found(all[0].Place)
	}
	c.assume(Likely, "assume-none")
}

// lastSave is the newest version that is not broken.
func (c *chooser) lastSave() (int, Examined) {
	n, _, examined := c.first(wantedAt(c.Noticed, c.before(c.Noticed)))
	return n, examined
}

// savedAt is when the content of a version was written, as far as that is believed.
func (c *chooser) savedAt(n int) time.Time {
	v := &c.Trail.Versions[n]
	if v.Doubt == "" && !v.Written.IsZero() && v.Written.Before(v.Arrived) {
		return v.Written
	}
	return v.Arrived
}

func (c *chooser) strayWhyNot(s *Stray, save int, examined Examined) Reason {
	switch {
	case s.Copy.Access == Recorded:
		return remark.New("gone-leftover")
	case s.Size == 0:
		return remark.New("empty-leftover")
	}
	if t := c.trusted(s); !t.belongs {
		return t.against
	}
	if why := c.againstCopy(s.content(c.Evidence.Place.Name()), examined); why.Code != "" || save < 0 {
		return why
	}
	v := &c.Trail.Versions[save]
	if s.SHA256.Known() && s.SHA256 == v.SHA256 {
		return remark.New("just-saved")
	}
	if k := c.sameAs(s); k >= 0 {
		return remark.New("older-save", "at", c.Trail.Versions[k].Arrived)
	}
	if at := c.savedAt(save); !s.Earliest.After(at) {
		return remark.New("before-save", "at", s.Earliest, "saved", at)
	}
	return Reason{}
}

func (c *chooser) recommendStray(s *Stray, save int, verdict condition.Verdict) {
	because := []Reason{remark.New("unsaved-only", "what", s.What, "at", s.Earliest)}
	costs := []Reason{remark.New("later-lacks", "at", s.Earliest)}
	if save >= 0 {
		c.whyNot[save] = remark.New("last-save")
		at := c.savedAt(save)
		because = []Reason{remark.New("unsaved-newer", "what", s.What, "at", s.Earliest, "after", s.Earliest.Sub(at), "saved", at)}
		costs = append(costs, remark.New("compare-first"))
	}
	because = append(because, c.trusted(s).why...)
	c.Recommended = &Recommended{
		Copy:      s.Copy,
		Version:   -1,
		To:        c.Evidence.Place,
		Condition: verdict,
		Because:   append(because, said(verdict)),
		Plain:     1,
		Costs:     costs,
	}
	c.assume(Likely, "assume-leftover")
}
