package restore

import (
	"context"
	"errors"
	"fmt"
	"math"
	"sort"
	"time"

	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/problem"
	"humble-rewind/internal/core/sighting"
	"humble-rewind/internal/trails"
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
func (r *Restorer) asOf(ctx context.Context, open *handles, req Request) ([]wanted, *folderPlan, error) {
	a := req.AsOf
	t, err := r.Trails.Trail(ctx, a.Place)
	if err != nil && !errors.Is(err, catalogue.ErrNotFound) {
		return nil, nil, err
	}
	var itself trails.Entry // the folder, where it is known as such
	if err == nil {
		if n, proved := t.Current(a.At); n >= 0 {
			if t.Versions[n].Type != entry.Folder {
				wants, err := r.fileAsOf(ctx, open, req, t, n)
				if err == nil {
					err = r.pickedFrom(ctx, []place.Place{a.Place}, wants)
				}
				return wants, nil, err
			}
			itself = trails.Entry{Type: entry.Folder, Proved: proved, State: trails.Missing}
			itself.Copy, itself.Stood = r.reading(&t, n, a.At)
		}
	}
	if in, why, err := r.Trails.SealedAbove(ctx, a.Place); err != nil {
		return nil, nil, err
	} else if why != "" {
		return nil, nil, &problem.Input{What: fmt.Sprintf("bring back %s as of %s", a.Place, a.At.Format(time.RFC3339)),
			Err:  &trails.ErrSealed{Folder: place.Place{Machine: a.Place.Machine, Path: in}, Why: why},
			Next: "What comes back is opened with its own program; take the part that is wanted from there."}
	}
	if why, err := r.Trails.SealedAt(ctx, a.Place); err != nil {
		return nil, nil, err
	} else if why != "" {
		wants, err := r.sealedAsOf(ctx, open, req, why, a.Place)
		return wants, nil, err
	}
	folder, err := r.Trails.Entries(ctx, a.Place, a.At)
	if errors.Is(err, trails.ErrNothingThere) {
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
		folder.Entries = append([]trails.Entry{itself}, folder.Entries...)
	}
	b.entries = folder.Entries
	return nil, b, b.prepare()
}

// reading returns the copy that a version is best read from as of a moment, and the one that shows what it was like; 0 where
// none can be read.
func (r *Restorer) reading(t *trails.Trail, version int, at time.Time) (from, stood int64) {
	reading := trails.ReadingOf(&t.Versions[version], t.Facts, func(source int) *catalogue.Store { return t.Stores[source] }, at)
	if reading.From < 0 {
		return 0, 0
	}
	return t.Facts[reading.From].Copy, t.Facts[reading.Stood].Copy
}

// fileAsOf wants the version of a file that was current, as it was then.
func (r *Restorer) fileAsOf(ctx context.Context, open *handles, req Request, t trails.Trail, n int) ([]wanted, error) {
	at := req.AsOf.At
	from, stood := r.reading(&t, n, at)
	if from == 0 {
		return nil, &problem.Input{
			What: fmt.Sprintf("bring back %s", t.Place),
			Err:  errors.New("only the record of that version is left"),
			Next: "Choose another moment; the trail shows which versions can still be read.",
		}
	}
	c, err := r.Site.Catalogue.Copy(ctx, from)
	if err != nil {
		return nil, err
	}
	lying, err := r.Site.Catalogue.Lying(ctx, []int64{from, stood})
	if err != nil {
		return nil, err
	}
	if c.At.Capture, err = newPoints(r.Site.Catalogue).at(ctx, lying[from], at); err != nil {
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
	w.like = likeness(lying[stood], from)
	if _, proved := t.Current(at); !proved {
		w.Note = "assumed: nobody looked between"
	}
	return []wanted{w}, nil
}

// likeness is what a copy was like that stood at the moment, where the content is read from another; nil where it is read
// from that one.
func likeness(stood catalogue.Lying, from int64) *entry.Mark {
	if stood.ID == from || stood.Mark.IsZero() {
		return nil
	}
	return &stood.Mark
}

// writtenOf is the write time of a copy, also where it cannot be counted in nanoseconds.
func writtenOf(c catalogue.Lying) entry.Instant {
	if c.Mark.Written.Known {
		return c.Mark.Written
	}
	return entry.At(c.Written)
}

// points finds the points in time of stores.
type points struct {
	records *catalogue.Catalogue
	held    map[int64][]sighting.Capture // by source, oldest first
}

func newPoints(records *catalogue.Catalogue) *points {
	return &points{records, map[int64][]sighting.Capture{}}
}

// at names the point in time from which a copy is what it was at a moment: the last one up to then that its store still
// holds of it, else the first one after. It is "" in a store that holds only what is there now.
func (p *points) at(ctx context.Context, l catalogue.Lying, moment time.Time) (string, error) {
	if l.At.Capture == "" {
		return "", nil
	}
	held, ok := p.held[l.Source]
	if !ok {
		var err error
		if held, err = p.records.Held(ctx, l.Source, time.Unix(0, math.MinInt64), time.Unix(0, math.MaxInt64)); err != nil {
			return "", err
		}
		p.held[l.Source] = held
	}
	n := sort.Search(len(held), func(n int) bool { return held[n].At.After(moment) })
	if n > 0 && !held[n-1].At.Before(l.First) && (l.Last.IsZero() || !held[n-1].At.After(l.Last)) {
		return held[n-1].Name, nil
	}
	for _, k := range held[n:] {
		if !k.At.Before(l.First) && (l.Last.IsZero() || !k.At.After(l.Last)) {
			return k.Name, nil
		}
	}
	return l.At.Capture, nil // the moment lies after all that its store holds of it: the latest
}
