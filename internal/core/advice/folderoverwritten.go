package advice

import (
	"cmp"
	"slices"
	"time"

	"humble-rewind/internal/core/condition"
	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/remark"
)

// overwritten brings back the files in whose place something else came: those that a mass change made worse, and, of the others, each by
// itself.
func (c *folderChooser) overwritten() {
	c.findMoved()
	c.findMass()
	if c.Mass == nil {
		c.AsOf = c.Good
	}
	if c.Sealed {
		c.sayMoment()
		return
	}
	c.ahead()
	for i := range c.Files {
		f := &c.Files[i]
		hit := c.Mass != nil && c.Mass.Hit[i]
		switch {
		case f.stands():
			c.changed(i, hit)
		case hit && c.moved[i] == (place.Place{}):
			if n, from, to, ok := f.removal(c.Noticed); ok {
				c.removed(removal{i, n, from, to})
			}
		}
	}
	c.byTheRest()
	c.inCompany()
	c.sayMoment()
}

// sayMoment says which moment is offered, and why.
func (c *folderChooser) sayMoment() {
	switch {
	case c.Mass != nil:
		c.sayMass()
	case !c.Good.IsZero():
		c.because("offered-right", "at", c.Good)
	}
}

// ahead examines what stands, in one go: what the mass change hit first, then what an earlier one did.
func (c *folderChooser) ahead() {
	var hit, earlier, rest []Sized
	for i := range c.Files {
		f := &c.Files[i]
		v := f.last()
		if !f.stands() || v.Arrived > c.Noticed.UnixNano() {
			continue
		}
		s := Sized{cmp.Or(v.Live, v.Copy), v.Size}
		switch {
		case s.ID == 0:
		case c.Mass != nil && (c.Mass.Hit[i] || c.Mass.New[i]):
			hit = append(hit, s)
		case c.hitBefore(i):
			earlier = append(earlier, s)
		case c.Loss == Damaged || len(f.Versions) > 1:
			rest = append(rest, s)
		}
	}
	c.reading.Recall(c.mayComeBack())
	c.reading.Ahead(slices.Concat(hit, earlier, rest))
}

// mayComeBack lists the copies of the versions before the last of the files that a mass change hit.
func (c *folderChooser) mayComeBack() (all []copies.ID) {
	if c.Mass == nil {
		return nil
	}
	for i := range c.Files {
		f := &c.Files[i]
		for n := max(0, len(f.Versions)-3); c.Mass.Hit[i] && n < len(f.Versions); n++ {
			if id := f.Versions[n].Copy; id != 0 {
				all = append(all, id)
			}
		}
	}
	return all
}

func (c *folderChooser) hitBefore(file int) bool {
	for _, m := range c.masses {
		if m.Hit[file] {
			return true
		}
	}
	return false
}

// standing examines what stands of a file, judged beside its versions, and counts what it is.
func (c *folderChooser) standing(f *FolderFile) Examined {
	ch := newChooser(Question{Loss: Damaged, Noticed: c.Noticed}, c.evidence(f), c.reading)
	ch.interleaveNone()
	last := len(f.Versions) - 1
	found := ch.reading.Condition(c.content(f, last))
	if found.State != condition.Broken && found.State != condition.Unread {
		ch.verdictOf(last, &found)
	}
	switch found.State {
	case condition.Unread:
		c.unread++
	default:
		c.read++
		if found.State == condition.Broken {
			c.broken++
			if found.Noise {
				c.noise++
			}
		}
	}
	return found
}

// changed judges a file that stands, for having been overwritten.
func (c *folderChooser) changed(i int, hit bool) {
	f := &c.Files[i]
	last := len(f.Versions) - 1
	v := f.last()
	if v.Arrived > c.Noticed.UnixNano() && !hit {
		c.Same++
		return
	}
	if c.Mass != nil && c.Mass.New[i] {
		c.add(FolderEntry{Path: f.Path, Part: PartCame, Size: v.Size, Note: remark.New("entry-came")})
		return
	}
	n, before := -1, time.Time{}
	switch {
	case !c.Good.IsZero():
		n, _ = f.At(c.Good.UnixNano())
		before = c.Good
	case hit:
		if k, at := f.own(c.Mass); k > 0 {
			n, before = k-1, at
		}
	}
	if n < 0 {
		c.alone(i)
		return
	}
	if f.Versions[n].Content == v.Content {
		c.Same++
		return
	}
	w := c.harmless(f, n, last, hit)
	switch {
	case w.stays && w.note.Code == "":
		c.Same++
	case w.stays && w.compared:
		c.goingOn = append(c.goingOn, goingOn{f, before, w, moment(v.Arrived), hit})
	case w.stays:
		c.add(FolderEntry{Path: f.Path, Part: PartKept, Size: v.Size, Note: w.note})
	default:
		if hit {
			c.replaced++
		}
		if w.note.Code == "entry-returned" {
			c.returnedAt = append(c.returnedAt, moment(v.Arrived))
		}
		c.wasOverwritten(f, before, w.note)
	}
}

// wasOverwritten brings a file back as it was at a moment.
func (c *folderChooser) wasOverwritten(f *FolderFile, before time.Time, note Reason) {
	e := c.entryOf(f, c.single(f, Question{Loss: Overwritten, Good: before, Noticed: c.Noticed}), before)
	if note.Code == "entry-lost" && c.Good.IsZero() {
		e = workedOut(e, note)
	}
	if e.Note.Code == "" {
		e.Note = note
	}
	c.add(e)
}

// goingOn is a file whose content goes on from what was there before, as far as the two alone tell.
type goingOn struct {
	file   *FolderFile
	before time.Time
	work
	at  time.Time
	hit bool // by the mass change
}

// byTheRest judges those that seem to go on by what happened to the rest. Where older content was put back in the place of others in one
// sitting, one that lost more than it gained was put back too, to a version that nobody captured. Where others were replaced, one that
// keeps no more than any document of the same trade does was replaced too.
func (c *folderChooser) byTheRest() {
	clearly := 0
	for _, g := range c.goingOn {
		if g.hit && g.kept >= goesOnClearly {
			clearly++
		}
	}
	for _, g := range c.goingOn {
		near := func(at time.Time) bool { return at.Sub(g.at).Abs() <= sitting }
		back, alike := 0, 0
		for _, at := range c.returnedAt {
			if near(at) {
				back++
			}
		}
		for _, o := range c.goingOn {
			if near(o.at) {
				alike++
			}
		}
		switch {
		case g.kept < g.had && back >= company && back >= 2*alike, g.hit && g.kept < goesOnClearly && c.replaced > clearly:
			note := remark.New("entry-lost", "at", g.at, "lost", remark.Share(1-g.kept))
			e := c.entryOf(g.file, c.single(g.file, Question{Loss: Overwritten, Good: g.before, Noticed: c.Noticed}), g.before)
			c.add(workedOut(e, note))
		default:
			c.add(FolderEntry{Path: g.file.Path, Part: PartKept, Size: g.file.last().Size, Note: g.note})
		}
	}
}

// alone judges a file that no mass change hit, and of which nobody said when it was right: only what clearly stands out is harm.
func (c *folderChooser) alone(i int) {
	f := &c.Files[i]
	if len(f.Versions) < 2 {
		if f.Versions[0].Live != 0 && c.standing(f).State == condition.Broken {
			c.mendOne(f)
			return
		}
		c.Same++
		return
	}
	ch := newChooser(Question{Loss: Overwritten, Noticed: c.Noticed}, c.evidence(f), c.reading)
	ch.interleaveNone()
	b := ch.breakIn(ch.before(c.Noticed))
	switch {
	case b.clear && c.Good.IsZero():
		c.breaks = append(c.breaks, ch.Trail.Versions[b.at].Arrived)
		c.beforeBreak(f, b, ch.Trail.Versions[b.at].Arrived)
	case c.standing(f).State == condition.Broken:
		c.mendOne(f)
	case c.Good.IsZero() && b.lost >= breakShare:
		c.unclear = append(c.unclear, unclear{f, b, ch.Trail.Versions[b.at].Arrived})
	default:
		c.Same++
	}
}

// beforeBreak brings a file back as it was before a save that went wrong.
func (c *folderChooser) beforeBreak(f *FolderFile, b broke, at time.Time) {
	before := at.Add(-1)
	note := remark.New("entry-lost", "at", at, "lost", remark.Share(b.lost))
	if b.why.Code == "older-came-back" || b.why.Code == "backdated" {
		note = remark.New("entry-returned", "at", at)
	}
	e := c.entryOf(f, c.single(f, Question{Loss: Overwritten, Good: before, Noticed: c.Noticed}), before)
	c.add(workedOut(e, note))
}

// unclear is a file with a save that lost much, and may have been meant.
type unclear struct {
	file *FolderFile
	broke
	at time.Time
}

// inCompany judges the saves that may have been meant by what else happened then: where others clearly went wrong, so did they.
func (c *folderChooser) inCompany() {
	for _, u := range c.unclear {
		others := 0
		for _, at := range c.breaks {
			if d := at.Sub(u.at); d.Abs() <= sitting {
				others++
			}
		}
		if others >= company {
			c.beforeBreak(u.file, u.broke, u.at)
		} else {
			c.Same++
		}
	}
}

// workedOut says of an entry that its moment is worked out from contents alone, so that it is not certain.
func workedOut(e FolderEntry, note Reason) FolderEntry {
	if e.Part == PartCertain {
		e.Part = PartAssumed
	}
	if e.Note.Code == "" {
		e.Note = note
	}
	return e
}

// work is what is thought of what stands now in the place of what was there before.
type work struct {
	stays     bool // it is work that should stay
	note      Reason
	compared  bool    // the two were held against each other
	kept, had float64 // the share of what was there that is kept, and of what is there that was there already
}

// harmless tells whether what stands now is work that should stay: it is not broken, it is not older content come back, and it came after
// the mass change or goes on from what was there before.
func (c *folderChooser) harmless(f *FolderFile, n, last int, hit bool) work {
	v := &f.Versions[last]
	at := moment(v.Arrived)
	if c.returned(f, n, last) {
		return work{note: remark.New("entry-returned", "at", at)}
	}
	found := c.standing(f)
	after := c.Mass != nil && v.Arrived > c.Mass.To.UnixNano()
	switch {
	case found.State == condition.Broken:
		return work{note: remark.New("broken", "why", found.Reasons)}
	case found.State == condition.Unread && hit:
		return work{stays: after, note: remark.New("entry-unread", "at", at)}
	case after && hit:
		return work{stays: true, note: remark.New("entry-later", "at", at)}
	}
	kept, had, ok := c.reading.Kept(c.content(f, n), c.content(f, last))
	w := work{ok && kept >= goesOn, remark.New("entry-lost", "at", at, "lost", remark.Share(1-kept)), ok, kept, had}
	switch {
	case !ok && !hit:
		return work{stays: true}
	case w.stays && hit:
		w.note = remark.New("entry-goes-on", "share", remark.Share(kept))
	case w.stays:
		w.note = remark.New("entry-later", "at", at)
	}
	return w
}

// returned tells whether a version has, byte for byte, what had stood there before another did already, or an older date than that:
// somebody, or a sync, put older content in the place of newer.
func (c *folderChooser) returned(f *FolderFile, n, last int) bool {
	v, before := &f.Versions[last], &f.Versions[n]
	if !v.Doubted && !before.Doubted && v.Written != 0 && before.Written != 0 && v.Written < before.Written-int64(dateSlack) {
		return true
	}
	for k := range f.Versions[:n] {
		old := &f.Versions[k]
		if old.Content == v.Content {
			return true
		}
		if old.Size == v.Size && old.Size > 0 && old.Content != before.Content {
			if same, ok := c.reading.Same(c.content(f, k), c.content(f, last)); ok && same {
				return true
			}
		}
	}
	return false
}
