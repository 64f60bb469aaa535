// Package past answers what was at a place over time: it gathers the evidence of all sources under every name that the
// place is known to have had, reads digests where candidates must be told apart, and lets package trail put it in order.
package past

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"

	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/contents"
	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/core/digest"
	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/remark"
	"humble-rewind/internal/core/trail"
	"humble-rewind/internal/site"
)

// Reader answers from what somebody may know of a site's records, and from its sources. It is safe for concurrent use.
type Reader struct {
	Site     *site.Site
	View     catalogue.View
	Contents *contents.Reader
}

// For returns one that answers from what somebody else may know.
func (r *Reader) For(view catalogue.View) *Reader { return &Reader{r.Site, view, r.Contents} }

// Trail is everything known about one place.
type Trail struct {
	trail.Trail
	Place  place.Place
	Names  []trail.Name // the place itself first
	Seen   []*copies.Copy
	Stores []*copies.Store   // of the copies, and those that would have shown something
	Covers []copies.SourceID // the sources that would have shown the place itself, had something been there
	Notes  []remark.Remark
}

// Trail returns the trail of a place, under its other names too. A place that nothing is known of is
// catalogue.ErrNotFound.
func (r *Reader) Trail(ctx context.Context, p place.Place) (Trail, error) {
	t, err := r.trail(ctx, p, Present{})
	if err == nil && len(t.Seen) == 0 {
		err = fmt.Errorf("%s: %w", p, catalogue.ErrNotFound)
	}
	return t, err
}

func (r *Reader) trail(ctx context.Context, p place.Place, present Present) (Trail, error) {
	t := Trail{Place: p}
	if _, err := r.View.Machines.Named(ctx, p.Machine); err != nil {
		return t, err
	}
	stores, err := r.View.Copies.Stores(ctx)
	if err != nil {
		return t, err
	}
	g := gatherer{r: r, ctx: ctx, stores: stores, seen: map[place.Place][]*copies.Copy{}}
	if t.Names, err = g.names(p); err != nil {
		return t, err
	}
	if err := g.gather(&t); err != nil {
		return t, err
	}
	if present.Reread {
		if divided, err := r.divide(ctx, t.Seen); err != nil {
			return t, err
		} else if divided {
			clear(g.seen)
			if err := g.gather(&t); err != nil {
				return t, err
			}
		}
	}
	if t.Notes, err = r.digest(ctx, t.Seen); err != nil {
		return t, err
	}
	t.Stores = storesOf(t.Seen)
	covered := map[place.Place]map[copies.SourceID]bool{}
	for _, n := range t.Names {
		covering, err := g.covering(n.Place)
		if err != nil {
			return t, err
		}
		if n.Place == p {
			t.Covers = covering
		}
		covered[n.Place] = map[copies.SourceID]bool{}
		for _, id := range covering {
			if !slices.ContainsFunc(t.Stores, func(s *copies.Store) bool { return s.ID == id }) {
				t.Stores = append(t.Stores, stores[id])
			}
			covered[n.Place][id] = true
		}
	}
	if !present.At.IsZero() {
		if err := r.addPresent(ctx, &t, covered, present); err != nil {
			return t, err
		}
	}
	t.Trail = trail.Build(t.Seen, t.Stores, t.Names, func(source copies.SourceID, p place.Place) bool { return covered[p][source] })
	return t, nil
}

// gather takes up the copies of all names of a trail.
func (g *gatherer) gather(t *Trail) error {
	t.Seen = nil
	for _, n := range t.Names {
		seen, err := g.of(n.Place)
		if err != nil {
			return err
		}
		t.Seen = append(t.Seen, seen...)
	}
	return nil
}

// Covering lists the sources that would have shown a place, had something been there.
func (r *Reader) Covering(ctx context.Context, p place.Place) ([]copies.SourceID, error) {
	stores, err := r.View.Copies.Stores(ctx)
	if err != nil {
		return nil, err
	}
	g := gatherer{r: r, ctx: ctx, stores: stores, seen: map[place.Place][]*copies.Copy{}}
	return g.covering(p)
}

// covering lists the sources that would have shown a place, had something been there.
func (g *gatherer) covering(p place.Place) ([]copies.SourceID, error) {
	seen, err := g.of(p)
	if err != nil {
		return nil, err
	}
	parent, err := g.of(place.Place{Machine: p.Machine, Path: place.Folder(p.Path)})
	if err != nil {
		return nil, err
	}
	var all []copies.SourceID
	for id, s := range g.stores {
		of := func(c *copies.Copy) bool { return c.Store.ID == id }
		if s.Traits.Shows() && s.Machine == p.Machine &&
			(slices.ContainsFunc(seen, of) || slices.ContainsFunc(parent, of) || s.LooksAfter(p.Path)) {
			all = append(all, id)
		}
	}
	slices.Sort(all)
	return all, nil
}

// States tells how the places of the copies are today.
func (t *Trail) States() []trail.State {
	return trail.States(t.Seen, func(c *copies.Copy) bool {
		return slices.ContainsFunc(t.Stores, func(s *copies.Store) bool {
			return s.Machine == c.Place.Machine && len(s.Captures) > 0 && s.LooksAfter(c.Place.Path)
		})
	})
}

// storesOf lists the stores that copies are from, the machine's own files first, then by number.
func storesOf(seen []*copies.Copy) []*copies.Store {
	var all []*copies.Store
	for _, f := range seen {
		if !slices.ContainsFunc(all, func(s *copies.Store) bool { return s.ID == f.Store.ID }) {
			all = append(all, f.Store)
		}
	}
	slices.SortFunc(all, func(a, b *copies.Store) int {
		rank := func(s *copies.Store) int {
			switch {
			case s.Traits.Live():
				return 0
			case s.Traits.Dated():
				return 2
			}
			return 1
		}
		return cmp.Or(cmp.Compare(rank(a), rank(b)), cmp.Compare(a.ID, b.ID))
	})
	return all
}

// late says how late a copy is read: what costs much after what costs little, and last what may be another's, see traits.Traits.
func late(c *copies.Copy) (turn int) {
	if c.Store.Costs() {
		turn++
	}
	if c.Store.Traits.Unproved {
		turn += 2
	}
	return turn
}

// digest reads the files whose digests are not known yet, newest first, as far as the budget goes, and keeps what it
// finds. The machine's own files are only believed where they still are as the survey saw them.
func (r *Reader) digest(ctx context.Context, seen []*copies.Copy) ([]remark.Remark, error) {
	left := int64(contents.DigestBytes)
	skipped := 0
	digests := map[copies.ID]digest.Sum{}
	order := slices.Clone(seen)
	slices.Reverse(order)
	slices.SortStableFunc(order, func(a, b *copies.Copy) int { return cmp.Compare(late(a), late(b)) })
	for _, f := range order {
		if f.Type != entry.File || f.SHA256.Known() || !f.Readable {
			continue
		}
		if f.Size > contents.DigestFile || f.Size > left {
			skipped++
			continue
		}
		left -= f.Size
		sum, err := r.Contents.Digest(ctx, f)
		switch {
		case ctx.Err() != nil:
			return nil, ctx.Err()
		case errors.Is(err, contents.ErrChanged):
		case err != nil:
			skipped++
		default:
			digests[f.ID], f.SHA256 = sum, sum
		}
	}
	var notes []remark.Remark
	if skipped > 0 {
		notes = append(notes, remark.New("not-read", "n", skipped))
	}
	return notes, r.Site.Catalogue.Contents.SetDigests(ctx, digests)
}
