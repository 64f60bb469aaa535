// Package masschange finds, in the history of a folder, the moments at which many of its files were rewritten or removed
// within a short time, against that folder's habit: a sync gone wrong, an attack, a script let loose.
package masschange

import (
	"cmp"
	"slices"
	"sort"
	"time"
)

// Kind is what happened to one file.
type Kind string

// The kinds.
const (
	Rewritten Kind = "rewritten"
	Removed   Kind = "removed"
	Appeared  Kind = "appeared"
)

// Change is one change of one file. It happened after After and not later than At; equal times say that it happened just
// then.
type Change struct {
	File      int // the caller's number for it
	Kind      Kind
	After, At time.Time
}

func (c Change) exact() bool { return !c.After.Before(c.At) }

// Mass is one mass change.
type Mass struct {
	From, To  time.Time // when its first and its last change happened, as far as is known
	Before    time.Time // the last moment at which nothing of it had happened
	Between   bool      // nothing tells when between From and To, but that it was between those two looks
	Rewritten int       // files
	Removed   int
	Came      int          // files that appeared with it
	Hit       map[int]bool // the files rewritten or removed
	New       map[int]bool // those that appeared
}

// What makes a change one of many.
const (
	pause    = 5 * time.Minute // between two changes of one mass, at most
	few      = 5               // files: fewer are never many
	habit    = 3               // times what is usual for the folder
	many     = 50              // files: so many are, if the folder never had the like
	fewShare = 2               // where there are few: one in so many of the folder's files
	share    = 5               // else
	enough   = 20              // files
)

// Find returns the mass changes of a folder, oldest first.
func Find(changes []Change) []Mass {
	exact, swept := bursts(changes), sweeps(changes)
	groups := slices.Concat(exact, swept)
	var found []Mass
	take := func(g []Change, of ...int) {
		if len(g) < few { // by far the most
			return
		}
		if m := mass(g); isMass(len(g), before(changes, m.From), usual(groups, of)) {
			found = append(found, m)
		}
	}
	for i, g := range groups {
		take(g, i)
	}
	for _, i := range torn(swept, changes) {
		i += len(exact)
		take(slices.Concat(distinct([][]Change{slices.Concat(groups[i], groups[i+1])})...), i, i+1)
	}
	slices.SortFunc(found, func(a, b Mass) int { return cmp.Or(a.From.Compare(b.From), a.To.Compare(b.To)) })
	found = merge(found)
	for i := range found {
		found[i].appeared(changes)
	}
	return found
}

// before counts the files that were known by a moment: what came with a mass change does not make it smaller.
func before(changes []Change, moment time.Time) int {
	known := map[int]bool{}
	for _, c := range changes {
		if !c.At.After(moment) || c.Kind != Appeared && !c.After.After(moment) {
			known[c.File] = true
		}
	}
	return len(known)
}

func isMass(n, files, usual int) bool {
	if n < habit*usual {
		return false
	}
	return n*fewShare >= files || n >= enough && n*share >= files || n >= many && usual > 0 && n >= 10*usual
}

// torn finds the sweeps that a look parted: what went before it and what went after it went at once, as what came up meanwhile, without a
// pause, shows. It returns the first of each two.
func torn(swept [][]Change, changes []Change) (first []int) {
	var came []time.Time
	for _, c := range changes {
		if c.Kind == Appeared {
			came = append(came, c.At)
		}
	}
	slices.SortFunc(came, time.Time.Compare)
	for i := range len(swept) - 1 {
		look := swept[i][0].At
		if !swept[i+1][0].After.Equal(look) {
			continue
		}
		next := sort.Search(len(came), func(k int) bool { return came[k].After(look) })
		if next > 0 && next < len(came) && came[next].Sub(came[next-1]) <= pause {
			first = append(first, i)
		}
	}
	return first
}

// usual is how many files change at once as a rule: the upper quartile of all groups but some.
func usual(groups [][]Change, but []int) int {
	var sizes []int
	for i, g := range groups {
		if !slices.Contains(but, i) {
			sizes = append(sizes, len(g))
		}
	}
	if len(sizes) == 0 {
		return 0
	}
	slices.Sort(sizes)
	return sizes[len(sizes)*3/4]
}

// bursts groups rewrites and removals whose times are known by the pauses between them.
func bursts(changes []Change) (groups [][]Change) {
	var exact []Change
	for _, c := range changes {
		if c.Kind != Appeared && c.exact() {
			exact = append(exact, c)
		}
	}
	slices.SortStableFunc(exact, func(a, b Change) int { return a.At.Compare(b.At) })
	for i, c := range exact {
		if i == 0 || c.At.Sub(exact[i-1].At) > pause {
			groups = append(groups, nil)
		}
		last := len(groups) - 1
		groups[last] = append(groups[last], c)
	}
	return distinct(groups)
}

// sweeps groups those that are only known to have happened between the same two looks.
func sweeps(changes []Change) [][]Change {
	type gap struct{ after, at int64 }
	by := map[gap][]Change{}
	for _, c := range changes {
		if c.Kind != Appeared && !c.exact() {
			key := gap{c.After.UnixNano(), c.At.UnixNano()}
			by[key] = append(by[key], c)
		}
	}
	keys := make([]gap, 0, len(by))
	for k := range by {
		keys = append(keys, k)
	}
	sort.Slice(keys, func(i, j int) bool {
		return keys[i].at < keys[j].at || keys[i].at == keys[j].at && keys[i].after < keys[j].after
	})
	var groups [][]Change
	for _, k := range keys {
		groups = append(groups, by[k])
	}
	return distinct(groups)
}

// distinct counts each file once in a group: one that is saved again and again is no crowd.
func distinct(groups [][]Change) [][]Change {
	for i, g := range groups {
		met := map[int]bool{}
		groups[i] = slices.DeleteFunc(g, func(c Change) bool {
			twice := met[c.File]
			met[c.File] = true
			return twice
		})
	}
	return groups
}

func mass(g []Change) Mass {
	m := Mass{Hit: map[int]bool{}, New: map[int]bool{}, From: g[0].At, To: g[0].At, Before: g[0].After, Between: !g[0].exact()}
	for _, c := range g {
		if c.Kind == Removed {
			m.Removed++
		} else {
			m.Rewritten++
		}
		m.Hit[c.File] = true
		first, before := c.After, c.After
		if c.exact() {
			first, before = c.At, c.At.Add(-time.Nanosecond)
		}
		if first.Before(m.From) {
			m.From = first
		}
		if c.At.After(m.To) {
			m.To = c.At
		}
		if before.Before(m.Before) {
			m.Before = before
		}
	}
	if g[0].exact() && m.Before.After(m.From.Add(-time.Nanosecond)) {
		m.Before = m.From.Add(-time.Nanosecond)
	}
	return m
}

// merge joins mass changes that overlap: what rewrote some files and removed others was one thing.
func merge(all []Mass) []Mass {
	var merged []Mass
	for _, m := range all {
		if n := len(merged); n > 0 && !m.From.After(merged[n-1].To.Add(pause)) {
			last := &merged[n-1]
			for f := range m.Hit {
				last.Hit[f] = true
			}
			last.Rewritten += m.Rewritten
			last.Removed += m.Removed
			last.Between = last.Between && m.Between
			if m.To.After(last.To) {
				last.To = m.To
			}
			if m.Before.Before(last.Before) {
				last.Before = m.Before
			}
			continue
		}
		merged = append(merged, m)
	}
	return merged
}

// appeared adds what came up in the same time, and narrows a time that only two looks tell by the write times of that:
// an attack that gives files other names removes the old ones and writes new ones.
func (m *Mass) appeared(changes []Change) {
	var at []time.Time
	for _, c := range changes {
		if c.Kind == Appeared && !m.Hit[c.File] && c.At.After(m.From.Add(-pause)) && !c.At.After(m.To.Add(pause)) {
			m.New[c.File] = true
			at = append(at, c.At)
		}
	}
	m.Came = len(m.New)
	if m.Removed == 0 || len(at)*fewShare < m.Removed {
		return
	}
	slices.SortFunc(at, time.Time.Compare)
	if first := at[0]; first.After(m.From) {
		m.From, m.Before, m.Between = first, first.Add(-time.Nanosecond), false
	}
}
