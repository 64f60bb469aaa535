package restore

import (
	"context"
	"errors"
	"fmt"
	"math"
	"slices"
	"sort"
	"time"

	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/problem"
	"humble-rewind/internal/core/remark"
	"humble-rewind/internal/core/sighting"
	"humble-rewind/internal/past"
	"humble-rewind/internal/restore/hands"
)

// Only says how much of a folder as of a moment is brought back.
type Only string

// The amounts. The zero Only is OnlyMissing.
const (
	OnlyMissing Only = "missing" // what is no longer there
	OnlyChanged Only = "changed" // that and what differs
	OnlyExact   Only = "exact"   // that, and what came later is set aside
)

// AsOf asks for a place as it stood at a moment.
type AsOf struct {
	Place place.Place
	At    time.Time
	Only  Only
}

// asOf works out which copies make a place what it was: the one of a file, or all of a folder.
func (r *Restorer) asOf(ctx context.Context, open *hands.Hands, req Request) ([]wanted, *folderPlan, error) {
	a := req.AsOf
	t, err := r.Past.Trail(ctx, a.Place)
	if err != nil && !errors.Is(err, catalogue.ErrNotFound) {
		return nil, nil, err
	}
	var itself past.Entry // the folder, where it is known as such
	if err == nil {
		if n, proved := t.Current(a.At); n >= 0 {
			if t.Versions[n].Type != entry.Folder {
				wants, err := r.fileAsOf(ctx, open, req, t, n)
				if err == nil {
					err = r.pickedFrom(ctx, []place.Place{a.Place}, wants)
				}
				return wants, nil, err
			}
			itself = past.Entry{Type: entry.Folder, Proved: proved, State: past.Missing}
			if from, stood := r.picked(&t, n, a.At); from != nil {
				itself.Copy, itself.Stood = from.ID, stood.ID
			}
		}
	}
	if in, why, err := r.Past.SealedAbove(ctx, a.Place); err != nil {
		return nil, nil, err
	} else if why != "" {
		return nil, nil, &problem.Input{What: fmt.Sprintf("bring back %s as of %s", a.Place, a.At.Format(time.RFC3339)),
			Err:  &past.ErrSealed{Folder: place.Place{Machine: a.Place.Machine, Path: in}, Why: why},
			Next: "What comes back is opened with its own program; take the part that is wanted from there."}
	}
	if why, err := r.Past.SealedAt(ctx, a.Place); err != nil {
		return nil, nil, err
	} else if why != "" {
		wants, err := r.sealedAsOf(ctx, open, req, why, a.Place)
		return wants, nil, err
	}
	folder, err := r.Past.Entries(ctx, a.Place, a.At)
	if errors.Is(err, past.ErrNothingThere) {
		return nil, nil, &problem.Input{What: fmt.Sprintf("bring back %s as of %s", a.Place, a.At.Format(time.RFC3339)), Err: err,
			Next: "See what is known of it, or look for it by name.",
			Do:   []problem.Step{{Do: problem.ShowTrail, About: a.Place.String()}, {Do: problem.Find}}}
	}
	if err != nil {
		return nil, nil, err
	}
	b := &folderPlan{r: r, ctx: ctx, open: open, req: req, at: a.At, base: a.Place, world: newWorld(open)}
	if req.To != nil {
		if b.base = *req.To; b.into() {
			b.base.Path = place.Join(req.To.Path, a.Place.Name())
		}
	}
	if itself.Copy != 0 {
		folder.Entries = append([]past.Entry{itself}, folder.Entries...)
	}
	b.entries = folder.Entries
	return nil, b, b.prepare()
}

// picked returns the copy that a version is best read from as of a moment, and the one that shows what it was like; nil where
// none can be read.
func (r *Restorer) picked(t *past.Trail, version int, at time.Time) (from, stood *copies.Copy) {
	pick := past.PickOf(&t.Versions[version], t.Seen, at)
	if pick.From < 0 {
		return nil, nil
	}
	return t.Seen[pick.From], t.Seen[pick.Stood]
}

// fileAsOf wants the version of a file that was current, as it was then.
func (r *Restorer) fileAsOf(ctx context.Context, open *hands.Hands, req Request, t past.Trail, n int) ([]wanted, error) {
	at := req.AsOf.At
	from, stood := r.picked(&t, n, at)
	if from == nil {
		return nil, &problem.Input{
			What: fmt.Sprintf("bring back %s", t.Place),
			Err:  errors.New("only the record of that version is left"),
			Next: "Choose another moment; the trail shows which versions can still be read.",
		}
	}
	c, err := newPoints(r.Past.View).at(ctx, from, at)
	if err != nil {
		return nil, err
	}
	into, err := r.destination(open, req, 1)
	if err != nil {
		return nil, err
	}
	w := r.want(open, c, false)
	w.To, w.Leaves = t.Place, false // the store keeps it: what is wanted is a point in time
	if req.To != nil {
		w.To = *req.To
	}
	if into {
		w.To.Path = place.Join(req.To.Path, t.Place.Name())
	}
	w.like = likeness(stood, from.ID)
	if !req.KeepOwners {
		w.across(open, c)
	}
	if _, proved := t.Current(at); !proved {
		w.Notes = []remark.Remark{remark.New("assumed")}
	}
	return []wanted{w}, nil
}

// likeness is what a copy was like that stood at the moment, where the content is read from another; nil where it is read
// from that one.
func likeness(stood *copies.Copy, from copies.ID) *entry.Mark {
	if stood == nil || stood.ID == from || stood.Mark.IsZero() {
		return nil
	}
	mark := stood.Mark
	return &mark
}

// writtenOf is the write time of a copy, also where it cannot be counted in nanoseconds.
func writtenOf(c *copies.Copy) entry.Instant {
	if c.Mark.Written.Known {
		return c.Mark.Written
	}
	return entry.At(c.Recorded())
}

// points finds the points in time of stores.
type points struct {
	view catalogue.View
	held map[copies.SourceID][]sighting.Capture // by source, oldest first
}

func newPoints(view catalogue.View) *points {
	return &points{view, map[copies.SourceID][]sighting.Capture{}}
}

// at is a copy as it is read from the point in time at which it is what it was at a moment: the last one up to then that its store still
// holds of it, else the first one after; as it is, of a store that holds only what is there now.
func (p *points) at(ctx context.Context, c *copies.Copy, moment time.Time) (*copies.Copy, error) {
	if c.At.Capture == "" {
		return c, nil
	}
	held, ok := p.held[c.Store.ID]
	if !ok {
		var err error
		if held, err = p.view.Copies.Held(ctx, c.Store.ID, time.Unix(0, math.MinInt64), time.Unix(0, math.MaxInt64)); err != nil {
			return nil, err
		}
		p.held[c.Store.ID] = held
	}
	shows := func(k sighting.Capture) bool { return !k.At.Before(c.Captured) && (c.Open || !k.At.After(c.Last)) }
	then := *c
	n := sort.Search(len(held), func(n int) bool { return held[n].At.After(moment) })
	if n > 0 && shows(held[n-1]) {
		then.At.Capture = held[n-1].Name
		return &then, nil
	}
	if i := slices.IndexFunc(held[n:], shows); i >= 0 {
		then.At.Capture = held[n+i].Name
	} // else the moment lies after all that its store holds of it: the latest
	return &then, nil
}
