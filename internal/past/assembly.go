package past

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"sort"
	"strings"
	"time"

	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/trail"
)

// walk takes up every place below the folder.
func (a *assembly) walk(ctx context.Context, r *Reader) error {
	until, err := a.begin(ctx, r)
	if err != nil {
		return err
	}
	former := map[string][]*copies.Copy{}
	if a.Was.Path != "" && a.Was.Machine == a.Place.Machine {
		if err := a.former(ctx, r, a.Was, until, former); err != nil {
			return err
		}
	}
	if err := a.below(ctx, r, a.Place, former); err != nil {
		return err
	}
	if a.places == 0 {
		return nothingAt(a.Place)
	}
	return nil
}

func nothingAt(p place.Place) error { return fmt.Errorf("%s: %w", p, ErrNothingThere) }

// begin looks at the folder itself: which sources saw it, and what it was before, until when.
func (a *assembly) begin(ctx context.Context, r *Reader) (until time.Time, err error) {
	p := a.Place
	if _, err := r.View.Machines.Named(ctx, p.Machine); err != nil {
		return until, err
	}
	if a.all, err = r.View.Copies.Stores(ctx); err != nil {
		return until, err
	}
	a.stores, a.parents = map[copies.SourceID]*copies.Store{}, map[string]map[copies.SourceID]bool{}
	for id, s := range a.all {
		if s.Machine == p.Machine {
			a.stores[id] = s
		}
	}
	top, err := r.View.Copies.At(ctx, p)
	if err != nil {
		return until, err
	}
	a.saw(p.Path, top)
	g := gatherer{r: r, ctx: ctx, stores: a.all, seen: map[place.Place][]*copies.Copy{}}
	a.Was, until, err = g.folderWas(p)
	return until, err
}

// below takes up every place below a folder of it, with what was seen of each while the folder had another name.
func (a *assembly) below(ctx context.Context, r *Reader, p place.Place, former map[string][]*copies.Copy) error {
	var seen []*copies.Copy
	take := func() {
		if len(seen) == 0 {
			return
		}
		path := seen[0].Place.Path
		a.place(path, append(seen, former[path]...))
		delete(former, path)
		seen = seen[:0]
	}
	for one, err := range r.View.Copies.Under(ctx, p) {
		if err != nil {
			return err
		}
		if len(seen) > 0 && seen[0].Place != one.Place {
			take()
			if a.weight > maxWeight {
				return fmt.Errorf("%s: %w: more than %d entries are below it", p, ErrTooMuch, len(a.Entries))
			}
		}
		seen = append(seen, one)
	}
	take()
	for _, path := range slices.Sorted(maps.Keys(former)) {
		a.place(path, former[path])
	}
	return nil
}

// assembly is a folder being put together, place by place.
type assembly struct {
	*Folder
	all     map[copies.SourceID]*copies.Store
	stores  map[copies.SourceID]*copies.Store   // those of its machine
	parents map[string]map[copies.SourceID]bool // which sources saw a folder
	moments map[time.Time]int
	rows    map[string]*row
	places  int
	weight  int64           // of the entries, roughly, in bytes
	sources []*copies.Store // of the place at hand
	each    func(rel string, t *trail.Trail, seen []*copies.Copy)
}

// take is what becomes of a place in a folder as of a moment.
func (a *assembly) take(rel string, t *trail.Trail, seen []*copies.Copy) {
	a.changes(rel, t)
	a.entry(rel, t, seen)
}

// row gathers what happens to one entry of the folder.
type row struct {
	typ     entry.Type
	touched map[time.Time]bool
	steps   map[time.Time]int // how many of what is in it came or went
	arrow   time.Time         // when it moved here or away; zero where it did not
}

func (a *assembly) saw(path string, seen []*copies.Copy) {
	for _, f := range seen {
		if a.parents[path] == nil {
			a.parents[path] = map[copies.SourceID]bool{}
		}
		a.parents[path][f.Store.ID] = true
	}
}

// former gathers what was seen below a folder of it while it had another name, by the paths that it has under this one.
func (a *assembly) former(ctx context.Context, r *Reader, was place.Place, until time.Time, into map[string][]*copies.Copy) error {
	for one, err := range r.View.Copies.Under(ctx, was) {
		if err != nil {
			return err
		}
		if rest, ok := place.Below(one.Place.Path, a.Was.Path); ok && one.First.Before(until) {
			path := place.Join(a.Place.Path, rest)
			into[path] = append(into[path], one)
			if one.Type == entry.Folder {
				a.saw(path, []*copies.Copy{one})
			}
		}
	}
	return nil
}

// place takes up everything that was seen at one place, under whichever name of the folder.
func (a *assembly) place(path string, seen []*copies.Copy) {
	a.places++
	a.sources = a.sources[:0]
	isFolder := false
	for _, f := range seen {
		f.Place.Path = path // under whichever name of the folder it was seen
		a.source(f.Store)
		isFolder = isFolder || f.Type == entry.Folder
	}
	if isFolder {
		a.saw(path, seen)
	}
	for id, s := range a.stores {
		if s.Traits.Shows() && (a.parents[place.Folder(path)][id] || s.LooksAfter(path)) {
			a.source(s)
		}
	}
	t := trail.Build(seen, a.sources, nil, nil)
	rel, _ := place.Below(path, a.Place.Path)
	a.each(rel, &t, seen)
}

// source takes a store to those of the place at hand.
func (a *assembly) source(s *copies.Store) {
	if !slices.ContainsFunc(a.sources, func(o *copies.Store) bool { return o.ID == s.ID }) {
		a.sources = append(a.sources, s)
	}
}

func (a *assembly) changes(rel string, t *trail.Trail) {
	name, _, deeper := strings.Cut(rel, "/")
	r := a.rows[name]
	if r == nil && len(a.rows) >= MaxRows {
		if !deeper {
			a.Left++
		}
		for _, c := range t.Changes() {
			a.moments[c.At]++
		}
		return
	}
	if r == nil {
		r = &row{touched: map[time.Time]bool{}, steps: map[time.Time]int{}}
		a.rows[name] = r
	}
	stands := false
	for _, c := range t.Changes() {
		if !deeper && c.Version >= 0 {
			r.typ = t.Versions[c.Version].Type
		}
		a.moments[c.At]++
		r.touched[c.At] = true
		switch {
		case c.Version >= 0 && !stands:
			r.steps[c.At]++
		case c.Version < 0 && stands:
			r.steps[c.At]--
		}
		stands = c.Version >= 0
	}
}

// at returns the version at a moment; a zero moment is now.
func at(t *trail.Trail, moment time.Time) (*trail.Version, bool) {
	if moment.IsZero() {
		if n := len(t.Versions) - 1; n >= 0 && t.Versions[n].Superseded.IsZero() {
			return &t.Versions[n], true
		}
		return nil, true
	}
	n, proved := t.Current(moment)
	if n < 0 {
		return nil, proved
	}
	return &t.Versions[n], proved
}

func (a *assembly) entry(rel string, t *trail.Trail, seen []*copies.Copy) {
	then, proved := at(t, a.AsOf)
	other, _ := at(t, a.Against)
	e := Entry{Path: rel, Proved: proved, State: Same}
	switch {
	case then == nil && other == nil:
		return
	case then == nil:
		e.State = Added
	case other == nil:
		e.State = Missing
	case then.Content != other.Content:
		e.State = Changed
	}
	v := then
	if v == nil {
		v = other
	}
	e.Type, e.Size, e.Written, e.SHA256 = v.Type, v.Size, v.Written, v.SHA256
	e.content = contentKey{v.Size, v.Written.UnixNano()}
	if then != nil {
		r := PickOf(then, seen, a.AsOf)
		if r.From >= 0 {
			e.Copy, e.Source = seen[r.From].ID, seen[r.From].Store.ID
		}
		if r.Stood >= 0 {
			e.Stood, e.Written = seen[r.Stood].ID, seen[r.Stood].Written
		}
	}
	a.weight += int64(len(rel)) + entryWeight
	a.Entries = append(a.Entries, e)
}

// What a folder that is put together may take: some 600,000 entries of usual names.
const (
	entryWeight = 230 // bytes, besides its path
	maxWeight   = 170 << 20
)

// ErrTooMuch says that a folder holds more than can be put together at once.
var ErrTooMuch = errors.New("it holds more than can be put together at once")

// ReadFrom picks the copy that a version is best read from; 0 where none can be. The copies are those that Under gave.
func ReadFrom(v *trail.Version, seen []*copies.Copy) copies.ID {
	r := PickOf(v, seen, time.Time{})
	if r.From < 0 {
		return 0
	}
	return seen[r.From].ID
}

func (a *assembly) finish() {
	byPath(a.Entries)
	a.moved()
	for i := range a.Entries {
		if a.Entries[i].Type != entry.Folder {
			a.count(a.Entries[i].State, 1)
		}
	}
	for at, n := range a.moments {
		a.Moments = append(a.Moments, Moment{at, n})
	}
	sort.Slice(a.Moments, func(i, j int) bool { return a.Moments[i].At.Before(a.Moments[j].At) })
	for name, r := range a.rows {
		a.Rows = append(a.Rows, Row{Name: name, Type: r.typ, Cells: r.cells(a.Moments)})
	}
	slices.SortFunc(a.Rows, func(x, y Row) int { return cmp.Compare(x.Name, y.Name) })
}

// count counts files in a state.
func (a *assembly) count(state State, n int) {
	if a.Counts == nil {
		a.Counts = map[State]int{}
	}
	a.Counts[state] += n
}

func (r *row) cells(moments []Moment) []Cell {
	if r.typ == "" {
		r.typ = entry.Folder
	}
	cells := make([]Cell, len(moments))
	stand := 0
	for i, m := range moments {
		stand += r.steps[m.At]
		switch {
		case m.At.Equal(r.arrow):
			cells[i] = Arrow
		case stand <= 0:
			cells[i] = Absent
		case r.touched[m.At]:
			cells[i] = Fresh
		default:
			cells[i] = AsBefore
		}
	}
	return cells
}

// moved finds, for what is missing, the same file among what was added.
func (a *assembly) moved() {
	added := map[contentKey][]int{}
	for i, e := range a.Entries {
		if e.State == Added && e.Type == entry.File && e.Size > 0 {
			added[e.content] = append(added[e.content], i)
		}
	}
	for i := range a.Entries {
		e := &a.Entries[i]
		if e.State != Missing || e.Type != entry.File {
			continue
		}
		if there := added[e.content]; len(there) > 0 {
			e.State, e.MovedTo = Moved, a.Entries[there[0]].Path
			added[e.content] = there[1:]
			a.arrow(e.Path, -1)
			a.arrow(e.MovedTo, 1)
		}
	}
}

// arrow marks when a file directly in the folder last went (-1) or came (1).
func (a *assembly) arrow(path string, step int) {
	if r := a.rows[path]; r != nil {
		for at, n := range r.steps {
			if n == step && at.After(r.arrow) {
				r.arrow = at
			}
		}
	}
}
