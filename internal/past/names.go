package past

import (
	"cmp"
	"context"
	"path"
	"slices"
	"time"

	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/remark"
	"humble-rewind/internal/core/similar"
	"humble-rewind/internal/core/trail"
)

// gatherer finds the names that a file was known under.
type gatherer struct {
	r      *Reader
	ctx    context.Context
	stores map[copies.SourceID]*copies.Store
	seen   map[place.Place][]*copies.Copy
	found  []trail.Name
}

// maxNames bounds how many names one trail follows.
const maxNames = 16

func (g *gatherer) of(p place.Place) ([]*copies.Copy, error) {
	if seen, ok := g.seen[p]; ok {
		return seen, nil
	}
	seen, err := g.r.View.Copies.At(g.ctx, p)
	if err == nil {
		g.seen[p] = seen
	}
	return seen, err
}

func (g *gatherer) has(p place.Place) bool {
	return slices.ContainsFunc(g.found, func(n trail.Name) bool { return n.Place == p })
}

// add takes a name up, unless it is known already or nothing is known of it.
func (g *gatherer) add(n trail.Name) error {
	if g.has(n.Place) || len(g.found) >= maxNames {
		return nil
	}
	seen, err := g.of(n.Place)
	if err == nil && len(seen) > 0 {
		g.found = append(g.found, n)
	}
	return err
}

// names follows a place back and forth through renames, moves of folders, and redirected folders.
func (g *gatherer) names(p place.Place) ([]trail.Name, error) {
	g.found = []trail.Name{{Place: p}}
	for i := 0; i < len(g.found); i++ {
		n := g.found[i]
		for _, step := range []func(trail.Name) error{g.redirected, g.cameFrom, g.wentTo} {
			if err := step(n); err != nil {
				return nil, err
			}
		}
	}
	return g.found, nil
}

// shows keeps the copies of sources whose captures show what stands.
func (g *gatherer) shows(seen []*copies.Copy) []*copies.Copy {
	return slices.DeleteFunc(slices.Clone(seen), func(f *copies.Copy) bool { return !f.Store.Traits.Shows() })
}

// before is the capture of a copy's source right before its first; zero where it is the source's first.
func (g *gatherer) before(f *copies.Copy) time.Time {
	captures := f.Store.Captures
	i, _ := slices.BinarySearchFunc(captures, f.First, time.Time.Compare)
	if i == 0 {
		return time.Time{}
	}
	return captures[i-1]
}

// after is the capture right after its last; zero where there is none.
func (g *gatherer) after(f *copies.Copy) time.Time {
	captures := f.Store.Captures
	i, found := slices.BinarySearchFunc(captures, f.Last, time.Time.Compare)
	if found {
		i++
	}
	if f.Open || i >= len(captures) {
		return time.Time{}
	}
	return captures[i]
}

// cameFrom looks where the first thing seen under a name was before. What stood there afterwards is another file.
func (g *gatherer) cameFrom(n trail.Name) error {
	seen, err := g.of(n.Place)
	if err != nil {
		return err
	}
	met := map[copies.SourceID]bool{}
	for _, f := range g.shows(seen) {
		if met[f.Store.ID] || f.Type != entry.File {
			continue
		}
		met[f.Store.ID] = true
		since := g.before(f)
		if since.IsZero() || !n.From.IsZero() && !f.First.After(n.From) {
			continue
		}
		old, err := g.origin(f, since)
		if err != nil {
			return err
		}
		if old == (place.Place{}) {
			continue
		}
		move := &trail.Event{At: f.First, After: since, Kind: trail.Moved, From: old, To: n.Place, Says: moved(old, n.Place)}
		if err := g.add(trail.Name{Place: old, Until: f.First, Move: move}); err != nil {
			return err
		}
	}
	return nil
}

func moved(from, to place.Place) remark.Remark {
	switch {
	case from.Machine != to.Machine:
		return remark.New("moved", "from", from, "to", to)
	case place.Folder(from.Path) == place.Folder(to.Path):
		return remark.New("renamed", "from", place.Readable(from.Name()), "to", place.Readable(to.Name()))
	}
	return remark.New("moved", "from", place.Readable(from.Path), "to", place.Readable(to.Path))
}

// maxTwins bounds how many files of equal size and write time are looked at.
const maxTwins = 50

// origin finds the place that a file seen first at f.First had until since: one that held the same file and no longer
// did when it came up here, or, where its folder came from elsewhere, the same name in that.
func (g *gatherer) origin(f *copies.Copy, since time.Time) (place.Place, error) {
	twins, err := g.r.View.Search.Twins(g.ctx, f.Place, f.Size, f.Recorded(), f.Store.Resolution, maxTwins)
	if err != nil {
		return place.Place{}, err
	}
	best := place.Place{}
	for _, t := range twins {
		if g.left(t, f, since) && (best == (place.Place{}) || closer(f.Place, t.Place, best)) {
			best = t.Place
		}
	}
	if best != (place.Place{}) {
		return best, nil
	}
	if old, err := g.folderOrigin(f, since); err != nil || old != (place.Place{}) {
		return old, err
	}
	return g.alike(f, func(o *copies.Copy) bool { return !o.Open && o.Last.Equal(since) })
}

// maxAlike bounds how many files of a folder are read to know one of them again.
const maxAlike = 12

// alike finds a file of the same folder, source and extension that went or came when this one came or went, and has
// nearly the same content: one that was renamed and worked on. The same file number makes it the first to be looked at, but no
// more: numbers are given again.
func (g *gatherer) alike(f *copies.Copy, fits func(*copies.Copy) bool) (place.Place, error) {
	if !f.Readable || f.Size > similar.MaxSize {
		return place.Place{}, nil
	}
	var candidates []*copies.Copy
	folder := place.Place{Machine: f.Place.Machine, Path: place.Folder(f.Place.Path)}
	for o, err := range g.r.View.Copies.In(g.ctx, folder, "") {
		if err != nil {
			return place.Place{}, err
		}
		if o.Store.ID == f.Store.ID && o.Place != f.Place && o.Type == entry.File && o.Readable && o.Size <= similar.MaxSize && fits(o) &&
			path.Ext(o.Place.Name()) == path.Ext(f.Place.Name()) {
			candidates = append(candidates, o)
		}
	}
	slices.SortStableFunc(candidates, func(a, b *copies.Copy) int {
		same := func(o *copies.Copy) int {
			if o.Number != 0 && o.Number == f.Number {
				return 0
			}
			return 1
		}
		return cmp.Compare(same(a), same(b))
	})
	best, share := place.Place{}, similar.Near
	for _, o := range candidates[:min(len(candidates), maxAlike)] {
		s, err := g.similarity(f, o)
		if err != nil {
			return place.Place{}, err
		}
		if s >= share {
			best, share = o.Place, s
		}
	}
	return best, nil
}

// similarity reads two copies; what cannot be read has nothing in common with anything.
func (g *gatherer) similarity(a, b *copies.Copy) (float64, error) {
	ofA, ofB, err := g.r.Contents.Shares(g.ctx, a, b)
	return min(ofA, ofB), err
}

// left tells whether a twin went away from its place when f came up.
func (g *gatherer) left(t, f *copies.Copy, since time.Time) bool {
	s := t.Store
	if !s.Traits.Shows() || t.Open {
		return false
	}
	if f.SHA256.Known() && t.SHA256.Known() && f.SHA256 != t.SHA256 {
		return false
	}
	if t.Store.ID == f.Store.ID {
		return t.Last.Equal(since)
	}
	if t.Place.Machine != f.Place.Machine && t.Place.Name() != f.Place.Name() {
		return false // across machines only what kept its name, or chance decides
	}
	gone := g.after(t)
	return !gone.IsZero() && !gone.Before(since) && !t.Last.After(f.First)
}

// closer tells whether a is likelier than b to be where p was: the same name, or more folders in common.
func closer(p, a, b place.Place) bool {
	score := func(q place.Place) int {
		n := 0
		for i := 0; i < len(p.Path) && i < len(q.Path) && p.Path[i] == q.Path[i]; i++ {
			n++
		}
		if q.Name() == p.Name() {
			n += 1000
		}
		if q.Machine == p.Machine {
			n += 10_000
		}
		return n
	}
	return score(a) > score(b)
}

// What a folder's move is told by.
const (
	moveSample = 40 // files looked at
	moveShare  = 2  // one in so many of them must have moved along
)

// folderOrigin finds where a file was by where its neighbours came from.
func (g *gatherer) folderOrigin(f *copies.Copy, since time.Time) (place.Place, error) {
	return g.byNeighbours(
		f,
		func(n *copies.Copy) bool { return n.First.Equal(f.First) },
		func(n, t *copies.Copy) bool { return g.left(t, n, since) },
		func(old place.Place, seen []*copies.Copy) bool {
			return slices.ContainsFunc(seen, func(o *copies.Copy) bool { return o.Store.ID == f.Store.ID && !o.Open && o.Last.Equal(since) })
		},
	)
}

// folderWas finds the folder that most of the files in one came from when it came up, and until when.
func (g *gatherer) folderWas(p place.Place) (old place.Place, until time.Time, err error) {
	seen, err := g.of(p)
	if err != nil {
		return old, until, err
	}
	for _, f := range g.shows(seen) {
		since := g.before(f)
		if f.Type != entry.Folder || since.IsZero() {
			continue
		}
		inside := *f
		inside.Place.Path = place.Join(p.Path, "\x00") // no name, so that every file in it has a say
		found, err := g.byNeighbours(
			&inside,
			func(n *copies.Copy) bool { return n.First.Equal(f.First) },
			func(n, t *copies.Copy) bool { return g.left(t, n, since) },
			func(place.Place, []*copies.Copy) bool { return true },
		)
		if err != nil || found != (place.Place{}) {
			return place.Place{Machine: found.Machine, Path: place.Folder(found.Path)}, f.First, err
		}
	}
	return place.Place{}, until, nil
}

// byNeighbours maps a file's place by the way that most of the files in its folder went: of those that chosen picks, the
// twins that fit tells to be the same files. stood says whether the mapped place fits as well.
func (g *gatherer) byNeighbours(
	f *copies.Copy,
	chosen func(*copies.Copy) bool,
	fit func(n, t *copies.Copy) bool,
	stood func(place.Place, []*copies.Copy) bool,
) (place.Place, error) {
	folder := place.Place{Machine: f.Place.Machine, Path: place.Folder(f.Place.Path)}
	votes := map[place.Place]int{}
	all := 0
	for n, err := range g.r.View.Copies.In(g.ctx, folder, "") {
		if err != nil {
			return place.Place{}, err
		}
		if n.Store.ID != f.Store.ID || n.Place == f.Place || n.Type != entry.File || !chosen(n) {
			continue
		}
		if all++; all > moveSample {
			break
		}
		twins, err := g.r.View.Search.Twins(g.ctx, n.Place, n.Size, n.Recorded(), n.Store.Resolution, maxTwins)
		if err != nil {
			return place.Place{}, err
		}
		voted := map[place.Place]bool{}
		for _, t := range twins {
			to := place.Place{Machine: t.Place.Machine, Path: place.Folder(t.Place.Path)}
			if t.Place.Name() == n.Place.Name() && to != folder && !voted[to] && fit(n, t) {
				voted[to] = true
				votes[to]++
			}
		}
	}
	for to, count := range votes {
		if count*moveShare < all || count < 1 {
			continue
		}
		other := place.Place{Machine: to.Machine, Path: place.Join(to.Path, f.Place.Name())}
		seen, err := g.of(other)
		if err != nil {
			return place.Place{}, err
		}
		if stood(other, seen) {
			return other, nil
		}
	}
	return place.Place{}, nil
}

// wentTo looks where what was last seen under a name turned up.
func (g *gatherer) wentTo(n trail.Name) error {
	seen, err := g.of(n.Place)
	if err != nil {
		return err
	}
	last := map[copies.SourceID]*copies.Copy{}
	for _, f := range g.shows(seen) {
		last[f.Store.ID] = f
	}
	for _, f := range last {
		noticed := g.after(f)
		if noticed.IsZero() || f.Type != entry.File || !n.Until.IsZero() && !f.Last.Before(n.Until) {
			continue
		}
		to, at, err := g.destination(f, noticed)
		if err != nil {
			return err
		}
		if to == (place.Place{}) {
			continue
		}
		move := &trail.Event{At: at, After: f.Last, Kind: trail.Moved, From: n.Place, To: to, Says: moved(n.Place, to)}
		if err := g.add(trail.Name{Place: to, From: at, Move: move}); err != nil {
			return err
		}
	}
	return nil
}

func (g *gatherer) destination(f *copies.Copy, noticed time.Time) (place.Place, time.Time, error) {
	came := func(n, t *copies.Copy) bool {
		if !t.Store.Traits.Shows() || n.SHA256.Known() && t.SHA256.Known() && n.SHA256 != t.SHA256 {
			return false
		}
		if t.Store.ID == n.Store.ID {
			return t.First.Equal(noticed)
		}
		return (t.Place.Machine == n.Place.Machine || t.Place.Name() == n.Place.Name()) && t.First.After(n.Last) &&
			!g.before(t).After(noticed) &&
			!g.before(t).IsZero()
	}
	twins, err := g.r.View.Search.Twins(g.ctx, f.Place, f.Size, f.Recorded(), f.Store.Resolution, maxTwins)
	if err != nil {
		return place.Place{}, time.Time{}, err
	}
	var best *copies.Copy
	for _, t := range twins {
		if came(f, t) && (best == nil || closer(f.Place, t.Place, best.Place)) {
			best = t
		}
	}
	if best != nil {
		return best.Place, best.First, nil
	}
	to, err := g.byNeighbours(
		f,
		func(n *copies.Copy) bool { return !n.Open && n.Last.Equal(f.Last) },
		came,
		func(_ place.Place, seen []*copies.Copy) bool {
			return slices.ContainsFunc(seen, func(o *copies.Copy) bool { return o.Store.ID == f.Store.ID && o.First.Equal(noticed) })
		},
	)
	if err == nil && to == (place.Place{}) {
		to, err = g.alike(f, func(o *copies.Copy) bool { return o.First.Equal(noticed) })
	}
	return to, noticed, err
}

// maxUserDirs is the largest user-dirs.dirs that is read, in bytes, and maxVersions how many versions of it.
const (
	maxUserDirs = 64 << 10
	maxVersions = 50
)
