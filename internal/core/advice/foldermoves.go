package advice

import (
	"cmp"
	"slices"
	"time"

	"humble-rewind/internal/core/masschange"
	"humble-rewind/internal/core/place"
)

// findMoved finds out which files that are gone were only moved or renamed: those that went last are looked at first.
func (c *folderChooser) findMoved() {
	var gone []int
	for i := range c.Files {
		if !c.Files[i].stands() {
			gone = append(gone, i)
		}
	}
	slices.SortStableFunc(gone, func(a, b int) int { return cmp.Compare(c.Files[b].last().Superseded, c.Files[a].last().Superseded) })
	inVain := 0 // in a row: where so many were not moved, the others were not either
	for _, i := range gone[:min(len(gone), movedLooks)] {
		if to, ok := c.reading.MovedTo(&c.Files[i]); ok {
			c.moved[i], inVain = to, 0
		} else if inVain++; inVain == folderReads {
			break
		}
	}
	c.findRenamed(gone)
}

// findRenamed finds those that were renamed and worked on: nearly the same content came up in the same folder when they went.
func (c *folderChooser) findRenamed(gone []int) {
	if len(gone) == 0 {
		return
	}
	targets := c.targets()
	came := map[int64][]int{} // files by the capture that first showed them
	for i := range c.Files {
		if f := &c.Files[i]; f.stands() && !targets[c.at(f)] {
			came[f.Versions[0].First] = append(came[f.Versions[0].First], i)
		}
	}
	tries := 0
	for _, i := range gone {
		f := &c.Files[i]
		if c.moved[i] != (place.Place{}) || f.last().Copy == 0 {
			continue
		}
		n := 0
		for _, j := range came[f.last().Superseded] {
			o := &c.Files[j]
			if place.Folder("/"+o.Path) != place.Folder("/"+f.Path) || extension(o.Path) != extension(f.Path) || targets[c.at(o)] {
				continue
			}
			if n++; n > renameTries || tries >= folderReads {
				break
			}
			tries++
			if kept, had, ok := c.reading.Kept(c.content(f, len(f.Versions)-1), c.content(o, 0)); ok && min(kept, had) >= renameShare {
				c.moved[i] = c.at(o)
				targets[c.at(o)] = true
				break
			}
		}
	}
}

// targets are the places that something moved to.
func (c *folderChooser) targets() map[place.Place]bool {
	all := map[place.Place]bool{}
	for _, to := range c.moved {
		all[to] = true
	}
	return all
}

// extension is what a name has behind its last dot.
func extension(path string) string {
	for i := len(path) - 1; i >= 0 && path[i] != '/'; i-- {
		if path[i] == '.' {
			return path[i:]
		}
	}
	return ""
}

// changes lists what happened to the files until the loss was noticed. What was moved is not removed, and what it was moved to did not
// appear.
func (c *folderChooser) changes() (all []masschange.Change) {
	targets := c.targets()
	add := func(change masschange.Change) {
		if change.After.After(c.Noticed) {
			return
		}
		if change.At.After(c.Noticed) && change.After.Before(c.Noticed) {
			change.At = c.Noticed
		}
		all = append(all, change)
	}
	for i := range c.Files {
		f := &c.Files[i]
		for n := range f.Versions {
			v := &f.Versions[n]
			change := masschange.Change{File: i, Kind: masschange.Appeared, After: moment(v.Arrived), At: moment(v.Arrived)}
			if n > 0 && !f.Versions[n-1].Ends {
				if f.Versions[n-1].Content == v.Content {
					continue
				}
				change.Kind = masschange.Rewritten
			}
			if !v.Proved { // its write time says nothing, so it came at any time between two looks
				change.After, change.At = moment(min(v.Arrived, cmp.Or(v.After, v.Arrived))), moment(max(v.Arrived, v.First))
			}
			if change.Kind != masschange.Appeared || len(targets) == 0 || !targets[c.at(f)] {
				add(change)
			}
			if v.Ends && !(n == len(f.Versions)-1 && c.moved[i] != (place.Place{})) {
				add(masschange.Change{File: i, Kind: masschange.Removed, After: moment(v.LastSeen), At: moment(v.Superseded)})
			}
		}
	}
	return all
}

// findMass finds the mass change that is meant: the first after the folder was last right, else the last before the loss was noticed.
func (c *folderChooser) findMass() {
	c.masses = masschange.Find(c.changes())
	fits := slices.DeleteFunc(slices.Clone(c.masses), func(m masschange.Mass) bool {
		return m.From.After(c.Noticed) || !m.To.After(c.Good) && !c.Good.IsZero()
	})
	if len(fits) == 0 {
		return
	}
	m := fits[len(fits)-1]
	if !c.Good.IsZero() {
		m = fits[0]
	}
	c.Mass, c.AsOf = &m, m.Before
}

// sayMass says what happened.
func (c *folderChooser) sayMass() {
	m := c.Mass
	what := happened(m)
	if m.Between {
		c.because("mass-between", "from", m.From, "to", m.To, "what", what, "files", len(c.Files))
	} else {
		c.because("mass-from", "at", m.From, "span", lasted(m.To.Sub(m.From)), "what", what, "files", len(c.Files))
	}
}

// own returns the first version of a file that a mass change made, and the moment right before it; -1 where it made none.
func (f *FolderFile) own(m *masschange.Mass) (n int, before time.Time) {
	for n := range f.Versions {
		v := &f.Versions[n]
		changed := n > 0 && f.Versions[n-1].Content != v.Content && !f.Versions[n-1].Ends
		if changed && v.Arrived > m.Before.UnixNano() && v.Arrived <= m.To.UnixNano() ||
			changed && !v.Proved && v.Arrived >= m.Before.UnixNano() && v.After <= m.To.UnixNano() {
			return n, moment(v.Arrived - 1)
		}
	}
	return -1, time.Time{}
}
