// Package trails answers what was at a place over time: it gathers the evidence of all sources under every name that the
// place is known to have had, reads digests where candidates must be told apart, and lets package trail put it in order.
package trails

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"

	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/contents"
	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/exclude"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/trail"
	"humble-rewind/internal/site"
)

// Reader answers from a site's catalogue and sources. It is safe for concurrent use.
type Reader struct {
	Site     *site.Site
	Contents *contents.Reader
}

// Trail is everything known about one place.
type Trail struct {
	trail.Trail
	Place  place.Place
	Names  []trail.Name // the place itself first
	Facts  []catalogue.Fact
	Stores []*catalogue.Store // what Seen.Source of the facts counts
	Covers []int64            // the sources that would have shown the place itself, had something been there
	Notes  []string
}

// Trail returns the trail of a place, under its other names too. A place that nothing is known of is
// catalogue.ErrNotFound.
func (r *Reader) Trail(ctx context.Context, p place.Place) (Trail, error) {
	t, err := r.trail(ctx, p, Present{})
	if err == nil && len(t.Facts) == 0 {
		err = fmt.Errorf("%s: %w", p, catalogue.ErrNotFound)
	}
	return t, err
}

func (r *Reader) trail(ctx context.Context, p place.Place, present Present) (Trail, error) {
	t := Trail{Place: p}
	if _, err := r.Site.Catalogue.Machine(ctx, p.Machine); err != nil {
		return t, err
	}
	stores, err := r.Site.Catalogue.Stores(ctx)
	if err != nil {
		return t, err
	}
	g := gatherer{r: r, ctx: ctx, stores: stores, facts: map[place.Place][]catalogue.Fact{}}
	if t.Names, err = g.names(p); err != nil {
		return t, err
	}
	if err := g.gather(&t); err != nil {
		return t, err
	}
	if present.Reread {
		if divided, err := r.divide(ctx, stores, t.Facts); err != nil {
			return t, err
		} else if divided {
			clear(g.facts)
			if err := g.gather(&t); err != nil {
				return t, err
			}
		}
	}
	if t.Notes, err = r.digest(ctx, stores, t.Facts); err != nil {
		return t, err
	}
	t.Stores = number(stores, t.Facts)
	sources := make([]trail.Source, len(t.Stores))
	for i, s := range t.Stores {
		sources[i] = s.Trail
	}
	index := map[int64]int{}
	for i, s := range t.Stores {
		index[s.Source.ID] = i
	}
	covered := map[place.Place]map[int]bool{}
	for _, n := range t.Names {
		covering, err := g.covering(n.Place)
		if err != nil {
			return t, err
		}
		if n.Place == p {
			t.Covers = covering
		}
		covered[n.Place] = map[int]bool{}
		for _, id := range covering {
			if _, ok := index[id]; !ok {
				index[id] = len(t.Stores)
				t.Stores = append(t.Stores, stores[id])
				sources = append(sources, stores[id].Trail)
			}
			covered[n.Place][index[id]] = true
		}
	}
	if !present.At.IsZero() {
		if err := r.addPresent(ctx, &t, sources, covered, present); err != nil {
			return t, err
		}
	}
	t.Trail = trail.Build(seenOf(t.Facts), sources, t.Names, func(source int, p place.Place) bool { return covered[p][source] })
	return t, nil
}

// gather takes up the facts of all names of a trail.
func (g *gatherer) gather(t *Trail) error {
	t.Facts = nil
	for _, n := range t.Names {
		facts, err := g.of(n.Place)
		if err != nil {
			return err
		}
		t.Facts = append(t.Facts, facts...)
	}
	return nil
}

// Covering lists the sources that would have shown a place, had something been there.
func (r *Reader) Covering(ctx context.Context, p place.Place) ([]int64, error) {
	stores, err := r.Site.Catalogue.Stores(ctx)
	if err != nil {
		return nil, err
	}
	g := gatherer{r: r, ctx: ctx, stores: stores, facts: map[place.Place][]catalogue.Fact{}}
	return g.covering(p)
}

// covering lists the sources that would have shown a place, had something been there.
func (g *gatherer) covering(p place.Place) ([]int64, error) {
	facts, err := g.of(p)
	if err != nil {
		return nil, err
	}
	parent, err := g.of(place.Place{Machine: p.Machine, Path: place.Folder(p.Path)})
	if err != nil {
		return nil, err
	}
	var all []int64
	for id, s := range g.stores {
		of := func(f catalogue.Fact) bool { return int64(f.Source) == id }
		if s.Trail.Shows && s.Source.Machine == p.Machine &&
			(slices.ContainsFunc(facts, of) || slices.ContainsFunc(parent, of) || looksAfter(s, p.Path)) {
			all = append(all, id)
		}
	}
	slices.Sort(all)
	return all, nil
}

// looksAfter tells whether a place is among the files that a machine's own source reads.
func looksAfter(s *catalogue.Store, path string) bool {
	if !s.Source.Traits.Live() || !place.Under(path, s.Source.At) {
		return false
	}
	return exclude.Within(s.Source.Exclusions, path, s.Source.At) == "" && !exclude.InTrash(path, s.Source.At)
}

func seenOf(facts []catalogue.Fact) []trail.Seen {
	seen := make([]trail.Seen, len(facts))
	for i := range facts {
		seen[i] = facts[i].Seen
	}
	return seen
}

// number makes the facts count the stores they are from, the machine's own files first, then by number.
func number(stores map[int64]*catalogue.Store, facts []catalogue.Fact) []*catalogue.Store {
	met := map[int64]bool{}
	var all []*catalogue.Store
	for _, f := range facts {
		if id := int64(f.Source); !met[id] {
			met[id] = true
			all = append(all, stores[id])
		}
	}
	slices.SortFunc(all, func(a, b *catalogue.Store) int {
		rank := func(s *catalogue.Store) int {
			switch {
			case s.Source.Traits.Live():
				return 0
			case s.Source.Traits.Dated():
				return 2
			}
			return 1
		}
		return cmp.Or(cmp.Compare(rank(a), rank(b)), cmp.Compare(a.Source.ID, b.Source.ID))
	})
	index := map[int64]int{}
	for i, s := range all {
		index[s.Source.ID] = i
	}
	for i := range facts {
		facts[i].Source = index[int64(facts[i].Source)]
	}
	return all
}

// digest reads the files whose digests are not known yet, newest first, as far as the budget goes, and keeps what it
// finds. The machine's own files are only believed where they still are as the survey saw them.
func (r *Reader) digest(ctx context.Context, stores map[int64]*catalogue.Store, facts []catalogue.Fact) ([]string, error) {
	var ids []int64
	index := map[int64]int{}
	left := int64(contents.DigestBytes)
	skipped := 0
	for n := len(facts) - 1; n >= 0; n-- {
		f := &facts[n]
		if f.Type != entry.File || f.SHA256 != "" || !f.Readable {
			continue
		}
		if f.Size > contents.DigestFile || f.Size > left {
			skipped++
			continue
		}
		left -= f.Size
		ids = append(ids, f.Copy)
		index[f.Copy] = n
	}
	if len(ids) == 0 {
		return notes(skipped), nil
	}
	copies, err := r.Site.Catalogue.CopiesOfPlace(ctx, ids)
	if err != nil {
		return nil, err
	}
	digests := map[int64][]byte{}
	for _, c := range copies {
		sum, err := r.Contents.Digest(ctx, c)
		switch {
		case ctx.Err() != nil:
			return nil, ctx.Err()
		case errors.Is(err, contents.ErrChanged):
		case err != nil:
			skipped++
		default:
			digests[c.ID] = sum
			facts[index[c.ID]].SHA256 = fmt.Sprintf("%x", sum)
		}
	}
	return notes(skipped), r.Site.Catalogue.SetDigests(ctx, digests)
}

func notes(skipped int) []string {
	switch skipped {
	case 0:
		return []string{}
	case 1:
		return []string{"1 copy was not read, as it is large or cannot be reached; size and write time tell it apart."}
	}
	return []string{
		fmt.Sprintf("%d copies were not read, as they are large or cannot be reached; size and write time tell them apart.", skipped),
	}
}
