package advice

import (
	"cmp"
	"slices"

	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/remark"
)

// removal is one file's.
type removal struct {
	file     int
	version  int
	from, to int64 // equal where a store recorded when
}

// event is several removals that were one.
type event struct {
	removals  []removal
	from, to  int64
	lastExact int64
}

// events puts removals together that were one: those whose times overlap, and recorded ones that followed each other.
func events(all []removal) (found []event) {
	slices.SortStableFunc(all, func(a, b removal) int { return cmp.Or(cmp.Compare(a.from, b.from), cmp.Compare(a.to, b.to)) })
	for _, r := range all {
		exact := r.from == r.to
		if n := len(found) - 1; n >= 0 {
			e := &found[n]
			if r.from < e.to || r.from == e.from || exact && e.lastExact != 0 && r.from-e.lastExact <= int64(sitting) {
				e.removals = append(e.removals, r)
				e.to = max(e.to, r.to)
				if exact {
					e.lastExact = r.to
				}
				continue
			}
		}
		e := event{removals: []removal{r}, from: r.from, to: r.to}
		if exact {
			e.lastExact = r.to
		}
		found = append(found, e)
	}
	return found
}

// deleted brings back what was removed in one go: the last such event, and of each file what was there when it was removed.
func (c *folderChooser) deleted() {
	c.findMoved()
	if c.movedWhole() {
		return
	}
	var all []removal
	for i := range c.Files {
		f := &c.Files[i]
		n, from, to, ok := f.removal(c.Noticed)
		if ok && (c.moved[i] == place.Place{}) && (c.Good.IsZero() || to > c.Good.UnixNano()) {
			all = append(all, removal{i, n, from, to})
		}
	}
	if len(all) == 0 {
		if item := c.thrown(0, c.Noticed.UnixNano()); item != nil {
			c.takeWhole(item, 0)
			return
		}
		c.because("none-removed")
		c.sayMoved()
		return
	}
	e := c.meant(events(all))
	if !c.Good.IsZero() { // everything that was there then and is not any more
		for _, other := range events(all) {
			for _, r := range other.removals {
				if n, _ := c.Files[r.file].At(c.Good.UnixNano()); n >= 0 && !slices.Contains(e.removals, r) {
					e.removals = append(e.removals, r)
					e.from, e.to = min(e.from, r.from), max(e.to, r.to)
				}
			}
		}
	}
	c.AsOf = moment(e.from)
	if e.from == e.to {
		c.AsOf = moment(e.from - 1)
	}
	if c.Sealed { // as one item, or, where there is none, as a store had it then
		if item := c.thrown(e.from, e.to); item != nil {
			c.takeWhole(item, len(e.removals))
			return
		}
		c.sayRemoved(e)
		return
	}
	c.countSame(e)
	c.examineThrown(e)
	for _, r := range e.removals {
		c.removed(r)
	}
	if item := c.thrown(e.from, e.to); item != nil && c.allThrown(item, e) {
		c.takeWhole(item, len(e.removals))
		return
	}
	c.sayRemoved(e)
	c.sayMoved()
}

// countSame counts the files that an event did not touch.
func (c *folderChooser) countSame(e event) {
	touched := map[int]bool{}
	for _, r := range e.removals {
		touched[r.file] = true
	}
	for i := range c.Files {
		if c.Files[i].stands() && !touched[i] {
			c.Same++
		}
	}
}

// meant is the event that is asked about: the last mass removal, unless it was long before the last removal of all; else that.
func (c *folderChooser) meant(all []event) event {
	latest := all[0]
	for _, e := range all {
		if e.to > latest.to {
			latest = e
		}
	}
	best := latest
	for _, e := range all {
		if c.massive(e) && e.to >= latest.to-int64(aftermath) && (!c.massive(best) || e.to > best.to) {
			best = e
		}
	}
	return best
}

// massive tells whether an event removed many of the files that there were.
func (c *folderChooser) massive(e event) bool {
	n := len(e.removals)
	if n < massFew {
		return false
	}
	there := 0
	for i := range c.Files {
		if n, _ := c.Files[i].At(e.from - 1); n >= 0 {
			there++
		}
	}
	return n*massHalf >= there || n >= massEnough && n*massFifth >= there
}

// removed adds the entry of one file that was removed.
func (c *folderChooser) removed(r removal) {
	f := &c.Files[r.file]
	if f.stands() && f.last().Arrived > f.Versions[r.version].Superseded {
		if f.last().Content != f.Versions[r.version].Content {
			note := remark.New("entry-recreated", "at", moment(f.last().Arrived))
			c.add(FolderEntry{Path: f.Path, Part: PartKept, Size: f.last().Size, Note: note})
		} else {
			c.Same++
		}
		return
	}
	c.add(c.entryOf(f, c.single(f, Question{Loss: Deleted, Noticed: c.Noticed}), moment(r.from)))
}

// thrown finds the folder as one item that was thrown away in a time.
func (c *folderChooser) thrown(from, to int64) (best *Thrown) {
	for i := range c.Thrown {
		t := &c.Thrown[i]
		if at := t.At.UnixNano(); t.Copy.Access != Recorded && at >= from && at <= to && (best == nil || t.At.After(best.At)) {
			best = t
		}
	}
	return best
}

// examineThrown examines what was thrown away, in one go.
func (c *folderChooser) examineThrown(e event) {
	var all []Sized
	for _, r := range e.removals {
		if v := &c.Files[r.file].Versions[r.version]; v.Copy != 0 {
			all = append(all, Sized{v.Copy, v.Size})
		}
	}
	c.reading.Ahead(all)
}

// allThrown tells whether everything that comes back is what lies in the item that was thrown away, whole as far as is known.
func (c *folderChooser) allThrown(item *Thrown, e event) bool {
	at := map[string]*FolderVersion{}
	for _, r := range e.removals {
		at[c.Files[r.file].Path] = &c.Files[r.file].Versions[r.version]
	}
	for _, entry := range c.Entries {
		v := at[entry.Path]
		if v == nil || entry.Part == PartKept || entry.Part == PartMissing || v.Thrown == 0 || v.ThrownAt != item.At.UnixNano() {
			return false
		}
		if entry.Copy != v.Copy && entry.Copy != v.Thrown {
			return false
		}
	}
	return true
}

// takeWhole recommends the folder as one item.
func (c *folderChooser) takeWhole(item *Thrown, held int) {
	c.Whole, c.AsOf, c.Entries = item, item.At, nil
	c.because("folder-whole", "at", item.At, "source", item.Source, "n", held)
	c.cost("costs-nothing")
	if c.unexamined > 0 {
		c.Costs = []Reason{remark.New("cost-unexamined", "n", c.unexamined)}
	}
}

// movedWhole finds where the folder's files went, if nothing of it stands and most of them went to one place.
func (c *folderChooser) movedWhole() bool {
	const some = 12
	votes := map[place.Place]int{}
	asked := 0
	for i := range c.Files {
		if c.Files[i].stands() {
			return false
		}
	}
	for i := range c.Files[:min(some, len(c.Files))] {
		asked++
		f := &c.Files[i]
		if rest := len(c.moved[i].Path) - len(f.Path) - 1; rest > 0 && c.moved[i].Path[rest:] == "/"+f.Path {
			votes[place.Place{Machine: c.moved[i].Machine, Path: c.moved[i].Path[:rest]}]++
		}
	}
	for to, n := range votes {
		if 2*n > asked {
			c.MovedTo = to
			c.because("folder-moved", "place", to, "n", n, "asked", asked)
			c.cost("stays-there")
			return true
		}
	}
	return false
}

func (c *folderChooser) sayMoved() {
	if len(c.moved) > 0 {
		c.because("moved-since", "n", len(c.moved))
	}
}

// sayRemoved says what was removed, and when.
func (c *folderChooser) sayRemoved(e event) {
	if e.from == e.to {
		c.because("removed-at", "n", len(e.removals), "at", moment(e.to))
	} else {
		c.because("removed-over", "n", len(e.removals), "from", moment(e.from), "to", moment(e.to))
	}
}
