package spans

import (
	"cmp"
	"context"
	"maps"
	"slices"
	"time"

	"humble-rewind/internal/catalogue/block"
	"humble-rewind/internal/catalogue/file"
	"humble-rewind/internal/core/condition"
	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/core/digest"
	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/sighting"
	"humble-rewind/internal/core/trail"
)

// Shown is a copy with what only those who look at it need.
type Shown struct {
	*copies.Copy
	State   trail.State // of its place today
	Verdict condition.Verdict
	ItemOf  copies.ID // the copy of the folder that it lies in; 0 where it lies in none
}

// ByID returns a copy by its number.
func (c Copies) ByID(ctx context.Context, id copies.ID) (*copies.Copy, error) {
	all, err := c.ByIDs(ctx, []copies.ID{id})
	if err != nil {
		return nil, err
	}
	return all[0], nil
}

// ByIDs returns copies by their numbers, in their order. problem.NotKnown names the first that is not there.
func (c Copies) ByIDs(ctx context.Context, ids []copies.ID) ([]*copies.Copy, error) {
	r, err := c.look(ctx)
	if err != nil {
		return nil, err
	}
	found, err := r.find(ctx, ids)
	if err != nil {
		return nil, err
	}
	all := make([]located, len(ids))
	for i, id := range ids {
		l, ok := found[id]
		if !ok {
			if l, err = r.successor(ctx, id); err != nil {
				return nil, err
			}
		}
		if r.stores[l.folder.source] == nil { // it was removed meanwhile, or is out of scope
			return nil, r.unknown(ctx, id)
		}
		all[i] = l
	}
	return r.records(ctx, all)
}

// Shown tells of copies what those need who look at them.
func (c Copies) Shown(ctx context.Context, all []*copies.Copy) ([]Shown, error) {
	r, err := c.look(ctx)
	if err != nil {
		return nil, err
	}
	states := make([]trail.State, len(all))
	for i := range all {
		if states[i], err = r.state(ctx, all[i]); err != nil {
			return nil, err
		}
	}
	return r.shown(ctx, all, states)
}

// ShownAs does so where the states of their places are known already.
func (c Copies) ShownAs(ctx context.Context, all []*copies.Copy, states []trail.State) ([]Shown, error) {
	r, err := c.look(ctx)
	if err != nil {
		return nil, err
	}
	return r.shown(ctx, all, states)
}

func (r *look) shown(ctx context.Context, all []*copies.Copy, states []trail.State) ([]Shown, error) {
	if err := r.c.addContents(ctx, all); err != nil { // they may have been read since
		return nil, err
	}
	examined, err := r.c.findingsOf(ctx, all)
	if err != nil {
		return nil, err
	}
	shown := make([]Shown, len(all))
	for i, c := range all {
		shown[i] = Shown{Copy: c, State: states[i], Verdict: condition.Verdict{State: condition.Unread}}
		if found, ok := examined[c.SHA256]; ok && c.Type == entry.File {
			shown[i].Verdict = found.For(c.Place.Name())
		}
		if shown[i].ItemOf, err = r.itemOf(ctx, c); err != nil {
			return nil, err
		}
	}
	return shown, nil
}

// record tells everything about a span but its content; nil where its source was removed meanwhile.
func (r *look) record(l *located) *copies.Copy {
	store := r.stores[l.folder.source]
	if store == nil {
		return nil
	}
	right := func(i entry.Instant) time.Time { // both were written down by the machine's clock
		t := file.Moment(instantNanos(i))
		if !t.IsZero() {
			t = t.Add(-store.ClockAhead)
		}
		return t
	}
	c := &copies.Copy{ID: copies.ID(l.ID), Store: store, Place: place.Place{Machine: store.Machine, Path: l.placePath()}, Lost: !l.OriginKnown,
		Claimed: l.Claimed, Type: l.Type, Size: l.Size, Target: l.Target, Number: l.Number, Mark: l.Mark, Condition: condition.Unread,
		Written: right(l.Written), Gone: right(l.Gone), Captured: atNanos(l.First), Open: l.Stands(), Readable: l.Readable, Within: l.Within,
		Beside: l.Beside, At: sighting.Locator{Dir: l.folder.path, Name: l.Name}, OwnRef: sighting.Ref(l.Ref), Lies: l.Lies, Person: l.Person,
		Author: l.Author, Message: l.Message, Notes: l.Notes, Nameless: l.Nameless, Intact: l.Intact}
	c.First, c.Last = c.Captured, atNanos(r.lastSeen(l))
	if l.Told.Known && l.Told.Time().Before(c.First) {
		c.First, c.Told = l.Told.Time().Add(-store.ClockAhead), true
	}
	if !store.Traits.Dated() {
		c.Readable = l.Readable && c.Open
	} else if i, held := store.HeldIn(l.First, l.Last); held {
		c.At.Capture = store.Names[i]
	} else {
		c.Readable = false
	}
	return c
}

// records tells everything about spans. Those whose source was removed meanwhile are left out.
func (r *look) records(ctx context.Context, all []located) ([]*copies.Copy, error) {
	records := make([]*copies.Copy, 0, len(all))
	for i := range all {
		if c := r.record(&all[i]); c != nil {
			records = append(records, c)
		}
	}
	return records, r.c.addContents(ctx, records)
}

// addContents adds what is known of contents.
func (c *room) addContents(ctx context.Context, records []*copies.Copy) error {
	ids := make([]copies.ID, len(records))
	for i := range records {
		ids[i] = records[i].ID
	}
	known, err := c.contentsOf(ctx, ids)
	if err != nil || len(known) == 0 {
		return err
	}
	for _, r := range records {
		row := known[r.ID]
		if row.sha256.Known() {
			r.SHA256 = row.sha256
		}
		r.Condition = cmp.Or(row.condition, r.Condition)
	}
	return nil
}

// itemOf finds the open copy of the folder that a copy lies in: it is the copy's own folder in the store.
func (r *look) itemOf(ctx context.Context, c *copies.Copy) (copies.ID, error) {
	dir := c.At.Dir
	if dir == "" || !c.Within {
		return 0, nil
	}
	f, err := folderAt(ctx, r.q, c.Store.ID, place.Folder("/" + dir)[1:])
	if err != nil || f == nil {
		return 0, err
	}
	all, err := r.under(ctx, f, place.Name("/"+dir))
	for _, x := range all {
		if x.Stands() {
			return copies.ID(x.ID), err
		}
	}
	return 0, err
}

// state tells how the place of a copy is today.
func (r *look) state(ctx context.Context, c *copies.Copy) (trail.State, error) {
	s, err := r.standing(ctx, c)
	return trail.Today(c, s), err
}

// standing gathers what is known of the place of a copy today, as far as it decides.
func (r *look) standing(ctx context.Context, c *copies.Copy) (s trail.Standing, err error) {
	live := c.Store.Traits.Live()
	if live && c.Open {
		return s, nil
	}
	own := c.Store.ID
	err = r.at(ctx, c.Place, func(source copies.SourceID) bool {
		x := r.stores[source]
		return source == own && !c.Open || source != own && !live && x != nil && x.Traits.Live()
	}, func(x *located) {
		switch {
		case !x.Stands():
		case x.folder.source == own:
			s.Own = r.record(x)
		default:
			s.Live = r.record(x)
		}
	})
	if err == nil && s.Live != nil {
		err = r.c.addContents(ctx, []*copies.Copy{s.Live})
	}
	s.Looked = r.lookedAfter(c.Place)
	return s, err
}

// lookedAfter tells whether the machine's own files are surveyed at a place.
func (r *look) lookedAfter(p place.Place) bool {
	for _, s := range r.stores {
		if s.Machine == p.Machine && len(s.Captures) > 0 && s.LooksAfter(p.Path) {
			return true
		}
	}
	return false
}

// SetDigest keeps the digest of a copy's content.
func (c Contents) SetDigest(ctx context.Context, id copies.ID, sha256 digest.Sum) error {
	return c.SetDigests(ctx, map[copies.ID]digest.Sum{id: sha256})
}

// Each calls see with every copy, source by source and folder by folder.
func (c Copies) Each(ctx context.Context, see func(*copies.Copy) error) error {
	r, err := c.look(ctx)
	if err != nil {
		return err
	}
	for _, id := range slices.Sorted(maps.Keys(r.stores)) {
		for from := (Position{}); ; {
			some, err := c.blocksFrom(ctx, id, from)
			if err != nil {
				return err
			}
			if len(some) == 0 {
				break
			}
			for _, b := range some {
				from = Position{b.folder.id, b.id}
				all := make([]located, 0, len(b.now)+len(b.past))
				for _, spans := range [...][]block.Span{b.past, b.now} {
					for _, s := range spans {
						all = append(all, located{s, b.folder})
					}
				}
				records, err := r.records(ctx, all)
				if err != nil {
					return err
				}
				for _, x := range records {
					if err := see(x); err != nil {
						return err
					}
				}
			}
		}
	}
	return nil
}
