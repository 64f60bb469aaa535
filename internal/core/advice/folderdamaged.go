package advice

import (
	"slices"
	"strings"
	"time"

	"humble-rewind/internal/core/condition"
	"humble-rewind/internal/core/fileclass"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/remark"
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
		e := FolderEntry{Path: f.Path, Part: PartCame, Size: v.Size, Note: remark.New("entry-came")}
		if lost := c.madeMeanwhile(f, c.standing(f)); lost != "" {
			e = FolderEntry{Path: lost, Part: PartMissing, Size: v.Size, Note: remark.New("entry-nobodys")}
		}
		c.add(e)
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

// madeMeanwhile tells what a file was called that became noise with the others, and that nobody had looked at before: its name promises
// what is not in it, or it got the ending that the others got. "" where nothing tells that it was a file of somebody's.
func (c *folderChooser) madeMeanwhile(f *FolderFile, found Examined) string {
	if found.State == condition.Sound {
		return ""
	}
	for _, ending := range c.newEndings() {
		if before, ok := strings.CutSuffix(f.Path, ending); ok {
			if c.known[before] {
				return "" // it is what became of that
			}
			return before
		}
	}
	if found.State != condition.Broken || !found.Noise {
		return ""
	}
	switch fileclass.Of(place.Name("/" + f.Path)) {
	case fileclass.Other, fileclass.Programs, fileclass.Archives:
		return ""
	}
	return f.Path
}

// newEndings are what the names of files that went got behind them when they came again as others.
func (c *folderChooser) newEndings() []string {
	if c.known != nil {
		return c.endings
	}
	c.known = map[string]bool{}
	for i := range c.Files {
		if !c.Files[i].stands() {
			c.known[c.Files[i].Path] = true
		}
	}
	for i := range c.Files {
		path := c.Files[i].Path
		for at := len(path) - 1; at > 0 && path[at] != '/'; at-- {
			if path[at] == '.' && c.known[path[:at]] && !slices.Contains(c.endings, path[at:]) {
				c.endings = append(c.endings, path[at:])
			}
		}
	}
	return c.endings
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
		e.Note = remark.New("entry-none")
	case r == nil:
	case r.Version >= 0 && r.Version < len(f.Versions):
		e.AsOf = moment(f.Versions[r.Version].LastSeen)
		if e.Note.Code == "" {
			e.Note = remark.New("entry-broken", "at", moment(f.Versions[r.Version].Arrived))
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
