package advice

import (
	"time"

	"humble-rewind/internal/core/condition"
	"humble-rewind/internal/core/place"
)

// damaged brings back the files that are broken, and those that a mass change turned into something else.
func (c *folderChooser) damaged() {
	c.findMoved()
	c.findMass()
	if c.Sealed {
		c.sayMoment()
		return
	}
	c.ahead()
	first := int64(0)
	for _, mine := range []bool{true, false} { // those that the mass change hit tell its nature
		for i := range c.Files {
			hit := c.Mass != nil && (c.Mass.Hit[i] || c.Mass.New[i])
			if hit != mine {
				continue
			}
			noisy := c.noise
			c.harmed(i, hit)
			if f := &c.Files[i]; c.noise > noisy && (first == 0 || f.last().Arrived < first) {
				first = f.last().Arrived
			}
		}
	}
	if m := c.Mass; m != nil && first != 0 && first < m.From.UnixNano() && m.From.Sub(moment(first)) < 24*time.Hour {
		m.From, m.Before, m.Between = moment(first), moment(first-1), false // it began with the first that became noise
		c.AsOf = m.Before
	}
	if c.Mass != nil {
		c.sayMass()
	}
}

// harmed judges one file for damage.
func (c *folderChooser) harmed(i int, hit bool) {
	f := &c.Files[i]
	v := f.last()
	switch {
	case !f.stands():
		if hit && c.moved[i] == (place.Place{}) {
			if n, from, to, ok := f.removal(c.Noticed); ok {
				c.removed(removal{i, n, from, to})
			}
		}
		return
	case v.Arrived > c.Noticed.UnixNano():
		c.Same++
		return
	}
	if hit && c.Mass.New[i] && len(f.Versions) == 1 {
		c.standing(f)
		c.add(FolderEntry{Path: f.Path, Part: PartCame, Size: v.Size, Note: c.Reason("entry-came")})
		return
	}
	last := len(f.Versions) - 1
	if hit {
		if k, before := f.own(c.Mass); k > 0 && f.Versions[k-1].Content != v.Content {
			w := c.harmless(f, k-1, last, true)
			if w.stays {
				c.add(FolderEntry{Path: f.Path, Part: PartKept, Size: v.Size, Note: w.note})
				return
			}
			if w.note.Code != "broken" {
				e := c.entryOf(f, c.single(f, Question{Loss: Overwritten, Good: before, Noticed: c.Noticed}), before)
				if c.standing(f).State == condition.Sound { // somebody may have meant it
					e = workedOut(e, w.note)
				}
				c.add(e)
				return
			}
			c.mendOne(f)
			return
		}
	}
	if f.Versions[last].Live != 0 && c.standing(f).State == condition.Broken {
		if !hit && c.Mass != nil {
			c.also++
		}
		c.mendOne(f)
		return
	}
	c.Same++
}

// mendOne adds an entry for a file that is broken as it stands.
func (c *folderChooser) mendOne(f *FolderFile) {
	a := c.single(f, Question{Loss: Damaged, Noticed: c.Noticed})
	if r := a.Recommended; r != nil && r.Copy.ID == f.last().Live {
		a.Recommended = nil
	}
	e := c.entryOf(f, a, time.Time{})
	switch r := a.Recommended; {
	case r == nil && (e.Note.Code != "none-of" || len(c.Wrong) == 0):
		e.Note = c.Reason("entry-none")
	case r == nil:
	case r.Version >= 0 && r.Version < len(f.Versions):
		e.AsOf = moment(f.Versions[r.Version].LastSeen)
		if e.Note.Code == "" {
			e.Note = c.Reason("entry-broken", "at", moment(f.Versions[r.Version].Arrived))
		}
	}
	c.add(e)
}

// unsaved offers the leftovers that are newer than the last saves.
func (c *folderChooser) unsaved() {
	n := 0
	for i := range c.Files {
		f := &c.Files[i]
		if len(f.Leftovers) == 0 && !c.namelessOf(f) {
			c.Same++
			continue
		}
		a := c.single(f, Question{Loss: Unsaved, Noticed: c.Noticed})
		if a.Recommended == nil || a.Recommended.Version >= 0 {
			c.Same++
			continue
		}
		n++
		c.add(c.entryOf(f, a, c.Noticed))
	}
	if n == 0 {
		c.because("none-leftover")
		return
	}
	c.because("folder-leftovers", "n", n)
}
