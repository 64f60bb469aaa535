package history

import (
	"cmp"
	"fmt"
	"hash/fnv"
	"slices"
	"sort"
	"strings"
	"time"
)

// version is a content that a path held.
type version struct {
	path   string
	blob   string // "" for a folder
	link   bool
	by     *commit // that recorded it first; nil for a folder
	number uint64  // equal for a file under all its names
	from   int     // points of the line that showed it first and last; until is -1 where the last does
	until  int
}

// standing is -1, the until of what the latest point of the line shows.
const standing = -1

// lineOf follows first parents from a commit back to the first, and returns them oldest first. broken names a commit that is not there.
func lineOf(commits map[string]*commit, at string) (line []*commit, broken string) {
	met := map[string]bool{}
	for at != "" && !met[at] {
		met[at] = true // a history has no circle, unless somebody forged names
		c := commits[at]
		if c == nil {
			broken = at
			break
		}
		line = append(line, c)
		at = ""
		if len(c.parents) > 0 {
			at = c.parents[0]
		}
	}
	slices.Reverse(line)
	return line, broken
}

// earliest and how far ahead of now are the times believed of commits.
var earliest = time.Date(1980, 1, 2, 0, 0, 0, 0, time.UTC)

const ahead = 24 * time.Hour

// timesOf gives the commits of a line times that only go forward: those at which they were committed, where these fit into one order, which
// as many as possible do; what does not fit, as of a clock that was wrong, comes right after the one before. wrong counts those.
func timesOf(line []*commit, now time.Time) (times []time.Time, wrong int) {
	// The longest run of times that do not go back (patience sorting).
	var piles []int // the last commit of the best run of each length
	before := make([]int, len(line))
	for i, c := range line {
		before[i] = -1
		if c.committed.Before(earliest) || c.committed.After(now.Add(ahead)) {
			continue
		}
		n := sort.Search(len(piles), func(n int) bool { return line[piles[n]].committed.After(c.committed) })
		if n > 0 {
			before[i] = piles[n-1]
		}
		if n == len(piles) {
			piles = append(piles, i)
		} else {
			piles[n] = i
		}
	}
	fits := make([]bool, len(line))
	if len(piles) > 0 {
		for i := piles[len(piles)-1]; i >= 0; i = before[i] {
			fits[i] = true
		}
	}
	times = make([]time.Time, len(line))
	last := earliest
	for i, c := range line {
		at := last.Add(1)
		if fits[i] {
			if c.committed.After(at) {
				at = c.committed
			}
		} else {
			wrong++
		}
		times[i], last = at, at
	}
	// What comes before the first that fits is told by that.
	first := slices.Index(fits, true)
	for i := first - 1; i >= 0; i-- {
		times[i] = times[i+1].Add(-1)
	}
	return times, wrong
}

// told is what the line and what lies beside it tell of contents.
type told struct {
	line   []version
	beside []version
}

// recorder finds which commit recorded a content of a path first: who merged it did not write it.
type recorder map[recorded]*commit

type recorded struct{ path, blob string }

func recorders(commits map[string]*commit) recorder {
	r := recorder{}
	for _, c := range commits {
		for _, ch := range c.changes {
			if ch.blob == "" {
				continue
			}
			key := recorded{ch.path, ch.blob}
			// A change is recorded by who has it against the first parent; a merge brings it.
			if old := r[key]; old == nil || earlier(c, old) {
				r[key] = c
			}
		}
	}
	return r
}

// of is who is to be named for what a commit of the line changed: its author, but of what a merge brought whoever wrote that.
func (r recorder) of(c *commit, ch change) *commit {
	if by := r[recorded{ch.path, ch.blob}]; by != nil && len(c.parents) > 1 {
		return by
	}
	return c
}

// renames tells whether a commit called something otherwise without changing it.
func (c *commit) renames() bool {
	gone := map[string]bool{}
	for _, ch := range c.changes {
		if ch.blob == "" && ch.was != "" {
			gone[ch.was] = true
		}
	}
	return slices.ContainsFunc(c.changes, func(ch change) bool { return !ch.goesOn && gone[ch.blob] })
}

// earlier tells whether a is to be believed to have recorded something before b.
func earlier(a, b *commit) bool {
	merges := func(c *commit) int { return min(len(c.parents), 2) / 2 }
	return cmp.Or(cmp.Compare(merges(a), merges(b)), a.committed.Compare(b.committed), cmp.Compare(a.id, b.id)) < 0
}

// tell works out which contents each path held along the line, and which it held beside it.
func tell(commits map[string]*commit, line []*commit, by recorder) (t told) {
	f := follower{by: by, open: map[string]*version{}, inside: map[string]int{}, folders: map[string]int{}}
	onLine := map[recorded]bool{}
	for i, c := range line {
		f.step(i, c)
		for _, ch := range c.changes {
			onLine[recorded{ch.path, ch.blob}] = true
		}
	}
	t.line = f.end()
	for key, c := range by {
		if !onLine[key] {
			for _, ch := range c.changes {
				if ch.path == key.path {
					t.beside = append(t.beside, version{path: ch.path, blob: ch.blob, link: ch.link, by: c})
				}
			}
		}
	}
	return t
}

// follower follows a line.
type follower struct {
	by      recorder
	all     []version
	open    map[string]*version // what each path holds
	inside  map[string]int      // of each folder, how many files are below it
	folders map[string]int      // since when it is there
}

func (f *follower) step(i int, c *commit) {
	renamed := f.renames(c)
	for _, ch := range c.changes {
		if v := f.open[ch.path]; v != nil {
			v.until = max(i-1, v.from)
			f.all = append(f.all, *v)
			delete(f.open, ch.path)
			if ch.blob == "" {
				f.count(ch.path, i, -1)
			}
		} else if ch.blob != "" {
			f.count(ch.path, i, 1)
		}
		if ch.blob == "" {
			continue
		}
		v := &version{path: ch.path, blob: ch.blob, link: ch.link, by: f.by.of(c, ch), from: i, until: standing}
		if old := renamed[ch.path]; old != nil {
			v.number, v.by = old.number, old.by
		} else if last := f.last(ch); last != 0 {
			v.number = last
		} else {
			v.number = numberOf(c.id, ch.path)
		}
		f.open[ch.path] = v
	}
}

// last is the number of the file that a change goes on with.
func (f *follower) last(ch change) uint64 {
	if !ch.goesOn || len(f.all) == 0 {
		return 0
	}
	if v := &f.all[len(f.all)-1]; v.path == ch.path {
		return v.number
	}
	return 0
}

// renames finds what a commit called otherwise without changing it, by its new paths.
func (f *follower) renames(c *commit) map[string]*version {
	var gone map[string][]*version
	for _, ch := range c.changes {
		if ch.blob == "" && f.open[ch.path] != nil {
			if gone == nil {
				gone = map[string][]*version{}
			}
			copied := *f.open[ch.path]
			gone[ch.was] = append(gone[ch.was], &copied)
		}
	}
	if gone == nil {
		return nil
	}
	found := map[string]*version{}
	for _, ch := range c.changes {
		if from := gone[ch.blob]; !ch.goesOn && ch.blob != "" && len(from) > 0 {
			// Of several that are alike, the one of the same name.
			n := max(0, slices.IndexFunc(from, func(v *version) bool { return nameOf(v.path) == nameOf(ch.path) }))
			found[ch.path] = from[n]
			gone[ch.blob] = slices.Delete(from, n, n+1)
		}
	}
	return found
}

// count counts a file that came into its folders or left them.
func (f *follower) count(path string, i, step int) {
	for dir := folderOf(path); dir != ""; dir = folderOf(dir) {
		f.inside[dir] += step
		switch {
		case step > 0 && f.inside[dir] == 1:
			if _, there := f.folders[dir]; !there {
				f.folders[dir] = i
			}
		case step < 0 && f.inside[dir] == 0:
			f.all = append(f.all, version{path: dir, from: f.folders[dir], until: max(i-1, f.folders[dir])})
			delete(f.folders, dir)
			delete(f.inside, dir)
		}
	}
}

// end returns everything that the line showed.
func (f *follower) end() []version {
	for _, v := range f.open {
		f.all = append(f.all, *v)
	}
	for dir, from := range f.folders {
		f.all = append(f.all, version{path: dir, from: from, until: standing})
	}
	return f.all
}

func nameOf(path string) string { return path[strings.LastIndexByte(path, '/')+1:] }

func folderOf(path string) string { return path[:max(0, strings.LastIndexByte(path, '/'))] }

// numberOf is a number for a file by where it came up.
func numberOf(commit, path string) uint64 {
	h := fnv.New64a()
	fmt.Fprintf(h, "%s\x00%s", commit, path)
	return max(1, h.Sum64()>>1)
}
