package restore

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"math"
	"sort"
	"strings"
	"time"

	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/contents"
	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/plan"
	"humble-rewind/internal/core/problem"
	"humble-rewind/internal/core/sighting"
	"humble-rewind/internal/reach"
	"humble-rewind/internal/site"
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

// asOf works out which copies make a place what it was.
func (r *Restorer) asOf(ctx context.Context, open *handles, req Request) ([]wanted, error) {
	a := req.AsOf
	t, err := r.Trails.Trail(ctx, a.Place)
	if err != nil && !errors.Is(err, catalogue.ErrNotFound) {
		return nil, err
	}
	var itself trails.Entry // the folder, where it is known as such
	if err == nil {
		if n, proved := t.Current(a.At); n >= 0 {
			if t.Versions[n].Type != entry.Folder {
				return r.fileAsOf(ctx, open, req, t, n)
			}
			itself = trails.Entry{Type: entry.Folder, Proved: proved, State: trails.Missing}
			itself.Copy, itself.Stood = r.reading(&t, n, a.At)
		}
	}
	folder, err := r.Trails.Folder(ctx, a.Place, a.At, time.Time{})
	if errors.Is(err, trails.ErrNothingThere) {
		return nil, &site.InputError{What: fmt.Sprintf("bring back %s as of %s", a.Place, a.At.Format(time.RFC3339)), Err: err,
			Next: "See what is known of it with: humble-rewind trail, or look for it by name with: humble-rewind find"}
	}
	if err != nil {
		return nil, err
	}
	b := folderPlan{
		r:      r,
		ctx:    ctx,
		open:   open,
		req:    req,
		at:     a.At,
		base:   a.Place,
		world:  &world{open: open, standing: map[place.Place]plan.Standing{}},
		listed: map[string]entry.Type{"": entry.Folder},
	}
	if req.To != nil {
		if b.base = *req.To; b.into() {
			b.base.Path = place.Join(req.To.Path, a.Place.Name())
		}
	}
	if itself.Copy != 0 {
		folder.Entries = append([]trails.Entry{itself}, folder.Entries...)
	}
	return b.plan(folder)
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
		return nil, &site.InputError{
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

// folderPlan is the plan for a folder being made.
type folderPlan struct {
	r       *Restorer
	ctx     context.Context
	open    *handles
	req     Request
	at      time.Time
	base    place.Place // where the folder goes
	world   *world
	listed  map[string]entry.Type // what stood there then, by relative path
	wants   []wanted
	sources map[int64]catalogue.Source
	links   map[fileNumber]string
	points  *points
}

// fileNumber tells the files of a store from one another that a source saw under several names.
type fileNumber struct {
	source, number int64
}

// into tells whether the destination is a folder that the folder goes into.
func (b *folderPlan) into() bool {
	return b.req.ToFolder || b.world.At(*b.req.To).Type == entry.Folder
}

func (b *folderPlan) plan(folder trails.Folder) ([]wanted, error) {
	var needed []int // of the entries
	for n, e := range folder.Entries {
		if e.State == trails.Added {
			continue
		}
		b.listed[e.Path] = e.Type
		for path := dirOf(e.Path); path != "" && b.listed[path] == ""; path = dirOf(path) {
			b.listed[path] = entry.Folder // though no source may have seen it as such
		}
		need, err := b.needs(e)
		if err != nil {
			return nil, err
		}
		if need {
			needed = append(needed, n)
		}
	}
	var ids []int64
	for _, n := range needed {
		e := &folder.Entries[n]
		if e.Copy != 0 {
			ids = append(ids, e.Copy)
		}
		if e.Stood != 0 && e.Stood != e.Copy {
			ids = append(ids, e.Stood)
		}
	}
	copies, err := b.r.Site.Catalogue.Lying(b.ctx, ids)
	if err != nil {
		return nil, err
	}
	sources, err := b.r.Site.Catalogue.Sources(b.ctx, "")
	if err != nil {
		return nil, err
	}
	b.sources = map[int64]catalogue.Source{}
	for _, src := range sources {
		b.sources[src.ID] = src
	}
	b.links = map[fileNumber]string{}
	b.wants = make([]wanted, 0, len(needed))
	b.points = newPoints(b.r.Site.Catalogue)
	for _, n := range needed {
		e := &folder.Entries[n]
		if err := b.want(*e, copies[e.Copy], copies[e.Stood]); err != nil {
			return nil, err
		}
	}
	if b.req.AsOf.Only == OnlyExact {
		if err := b.later(folder); err != nil {
			return nil, err
		}
	}
	return b.wants, b.ctx.Err()
}

func (b *folderPlan) to(rel string) place.Place {
	return place.Place{Machine: b.base.Machine, Path: place.Join(b.base.Path, rel)}
}

// needs tells whether an entry has to be written: what stands in its place decides, not what a survey saw.
func (b *folderPlan) needs(e trails.Entry) (bool, error) {
	stands := b.world.At(b.to(e.Path))
	switch {
	case stands.Problem != "" || !stands.Exists:
		return true, nil
	case e.Type == entry.Folder && stands.Type == entry.Folder:
		return false, nil
	case b.req.AsOf.Only != OnlyChanged && b.req.AsOf.Only != OnlyExact:
		return false, nil
	case e.Type != stands.Type:
		return true, nil
	case e.Type == entry.File:
		if stands.Size != e.Size {
			return true, nil
		}
		if stands.Written.Equal(e.Written) && e.State == trails.Same {
			return false, nil
		}
		return b.differs(e)
	}
	return e.State != trails.Same, nil
}

// differs compares the bytes of a version with those of what stands in its place.
func (b *folderPlan) differs(e trails.Entry) (bool, error) {
	if e.Copy == 0 {
		return true, nil
	}
	c, err := b.r.Site.Catalogue.Copy(b.ctx, e.Copy)
	if err != nil {
		return true, err
	}
	if e.SHA256 == "" {
		sum, err := b.r.Contents.Digest(b.ctx, c)
		if err != nil {
			return true, b.ctx.Err()
		}
		e.SHA256 = fmt.Sprintf("%x", sum)
	}
	to := b.to(e.Path)
	folder, err := b.open.parent(to)
	if err != nil {
		return true, nil
	}
	sum, err := contents.DigestAt(b.ctx, folder, to.Name())
	if err != nil {
		return true, b.ctx.Err()
	}
	return sum != e.SHA256, nil
}

// want adds an entry. Looking at each copy where it lies would double the work of planning many thousands; whoever
// carries the plan out looks before it reads.
func (b *folderPlan) want(e trails.Entry, c, stood catalogue.Lying) (err error) {
	w := wanted{
		Wanted: plan.Wanted{
			Type:    e.Type,
			Size:    max(0, e.Size),
			To:      b.to(e.Path),
			Dated:   b.at,
			DatedBy: "as of",
			Alone:   e.Type == entry.Folder,
		},
		asOf: true,
	}
	if zone, err := b.open.zone(b.base.Machine); err == nil {
		w.Dated = b.at.In(zone)
	}
	if b.req.AsOf.Only == OnlyExact {
		w.Rule = plan.SetAside
	}
	if !e.Proved {
		w.Note = "assumed: nobody looked between"
	}
	if e.State == trails.Moved {
		w.Note = "the same file is now at " + place.Readable(place.Join(b.req.AsOf.Place.Path, e.MovedTo))
	}
	switch {
	case e.Copy == 0 && e.Type == entry.Folder:
		return nil // it is made again for what goes into it
	case e.Copy == 0:
		w.Problem = "only the record of it is left; there is nothing to bring back"
	case e.Type == entry.Other:
		w.Problem = "it is a device, pipe or socket; there is no content to bring back"
	default:
		src := b.sources[c.Source]
		if c.At.Capture, err = b.points.at(b.ctx, c, b.at); err != nil {
			return err
		}
		w.like = likeness(stood, c.ID)
		w.Foreign, w.Own, w.Mode, w.UID, w.GID = !b.open.rootsOwn(src, c.At.Capture), -1, c.Mark.Mode, c.Mark.UID, c.Mark.GID
		if w.like != nil {
			w.Mode, w.UID, w.GID = w.like.Mode, w.like.UID, w.like.GID
		}
		w.Copy, w.From = CopyID(c.ID), place.Place{Machine: src.AtMachine, Path: place.Join(src.At, c.At.Path())}
		w.copy, w.source, w.ref, w.expect = c.ID, c.Source, c.Ref(), expectation{Size: c.Size, Written: writtenOf(c)}
		if e.Type == entry.File && c.Number != 0 {
			key := fileNumber{c.Source, c.Number}
			if first, twice := b.links[key]; twice {
				w.Note = "it was the same file as " + place.Readable(first) + " (a hard link); it comes back as one of its own"
			} else {
				b.links[key] = e.Path
			}
		}
	}
	b.wants = append(b.wants, w)
	return nil
}

// later adds what stands in the folder and came after the moment.
func (b *folderPlan) later(folder trails.Folder) error {
	added := map[string]bool{}
	for _, e := range folder.Entries {
		if e.State == trails.Added {
			added[e.Path] = true
		}
	}
	var walk func(rel string, at reach.Tree) error
	walk = func(rel string, at reach.Tree) error {
		entries, err := at.List(b.ctx)
		if err != nil {
			return err
		}
		for _, e := range entries {
			path := place.Join(rel, e.Name)
			was, listed := b.listed[path]
			if !listed {
				// What no source ever saw may be left out of them all, so only what is newer goes.
				if added[path] || e.Written.After(b.at) || e.Changed.After(b.at) {
					b.wants = append(
						b.wants,
						wanted{Wanted: plan.Wanted{To: b.to(path), Type: e.Type, Away: true, Dated: b.at}, asOf: true},
					)
				}
				continue
			}
			if e.Type != entry.Folder || was != entry.Folder {
				continue
			}
			sub, err := at.Enter(b.ctx, e.Name)
			if errors.Is(err, problem.Private) {
				continue
			}
			if err != nil {
				return err
			}
			err = walk(path, sub)
			sub.Close()
			if err != nil {
				return err
			}
		}
		return nil
	}
	files, err := b.open.files(b.base.Machine)
	if err != nil {
		return err
	}
	top, err := files.Tree(b.ctx, b.base.Path)
	if errors.Is(err, fs.ErrNotExist) || errors.Is(err, problem.NotFolder) {
		return nil
	}
	if err != nil {
		return err
	}
	defer top.Close()
	return walk("", top)
}

// dirOf returns the folder of a relative path, "" for the top.
func dirOf(path string) string { return strings.TrimPrefix(place.Folder("/"+path), "/") }
