package restore

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"math"
	"strings"
	"time"

	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/plan"
	"humble-rewind/internal/core/trail"
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
	if err == nil {
		if n, _ := t.Current(a.At); n >= 0 && t.Versions[n].Type != plan.Folder {
			return r.fileAsOf(ctx, open, t, n)
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
	b := folderPlan{r: r, ctx: ctx, open: open, req: req, at: a.At, base: a.Place, world: &world{open: open, standing: map[place.Place]plan.Standing{}}, listed: map[string]plan.Type{"": plan.Folder}}
	if req.To != nil {
		if b.base = *req.To; b.into() {
			b.base.Path = place.Join(req.To.Path, a.Place.Name())
		}
	}
	return b.plan(folder)
}

// fileAsOf wants the version of a file that was current.
func (r *Restorer) fileAsOf(ctx context.Context, open *handles, t trails.Trail, n int) ([]wanted, error) {
	v := &t.Versions[n]
	id := readable(v, t)
	if id == 0 {
		return nil, &site.InputError{What: fmt.Sprintf("bring back %s", t.Place), Err: errors.New("only the record of that version is left"),
			Next: "Choose another moment; the trail shows which versions can still be read."}
	}
	c, err := r.Site.Catalogue.Copy(ctx, id)
	if err != nil {
		return nil, err
	}
	w := r.want(open, c)
	w.To, w.Leaves = t.Place, false // the store keeps it: what is wanted is a point in time
	if _, proved := t.Current(v.Arrived); !proved {
		w.Note = "assumed: nobody looked between"
	}
	return []wanted{w}, nil
}

// readable picks the copy of a version to read: what stays as it is before what stands in place now.
func readable(v *trail.Version, t trails.Trail) int64 {
	var best int64
	for _, i := range v.Seen {
		f := t.Facts[i]
		if !f.Readable {
			continue
		}
		if best = f.Copy; !t.Stores[f.Source].Source.Live {
			return best
		}
	}
	return best
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
	listed  map[string]plan.Type // what stood there then, by relative path
	wants   []wanted
	sources map[int64]catalogue.Source
	links   map[inode]string
}

type inode struct {
	source, number int64
}

// into tells whether the destination is a folder that the folder goes into.
func (b *folderPlan) into() bool {
	return b.req.ToFolder || b.world.At(*b.req.To).Type == plan.Folder
}

func (b *folderPlan) plan(folder trails.Folder) ([]wanted, error) {
	var needed []int // of the entries
	for n, e := range folder.Entries {
		if e.State == trails.Added {
			continue
		}
		b.listed[e.Path] = e.Type
		for path := dirOf(e.Path); path != "" && b.listed[path] == ""; path = dirOf(path) {
			b.listed[path] = plan.Folder // though no source may have seen it as such
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
		if id := folder.Entries[n].Copy; id != 0 {
			ids = append(ids, id)
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
	b.links = map[inode]string{}
	b.wants = make([]wanted, 0, len(needed))
	for _, n := range needed {
		b.want(folder.Entries[n], copies[folder.Entries[n].Copy])
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
	case e.Type == plan.Folder && stands.Type == plan.Folder:
		return false, nil
	case b.req.AsOf.Only != OnlyChanged && b.req.AsOf.Only != OnlyExact:
		return false, nil
	case e.Type != stands.Type:
		return true, nil
	case e.Type == plan.File:
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
		sum, err := b.r.Trails.Digest(b.ctx, c)
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
	f, err := folder.Open(to.Name())
	if err != nil {
		return true, nil
	}
	defer f.Close()
	h := sha256.New()
	if _, err := io.Copy(h, counted{b.ctx, io.NewSectionReader(f, 0, math.MaxInt64)}); err != nil {
		return true, b.ctx.Err()
	}
	return fmt.Sprintf("%x", h.Sum(nil)) != e.SHA256, nil
}

// want adds an entry. Looking at each copy where it lies would double the work of planning many thousands; whoever
// carries the plan out looks before it reads.
func (b *folderPlan) want(e trails.Entry, c catalogue.Lying) {
	w := wanted{Wanted: plan.Wanted{Type: e.Type, Size: max(0, e.Size), To: b.to(e.Path), Dated: b.at, DatedBy: "as of", Alone: e.Type == plan.Folder}, asOf: true}
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
	case e.Copy == 0 && e.Type == plan.Folder:
		return // it is made again for what goes into it
	case e.Copy == 0:
		w.Problem = "only the record of it is left; there is nothing to bring back"
	case e.Type == plan.Other:
		w.Problem = "it is a device, pipe or socket; there is no content to bring back"
	default:
		src := b.sources[c.Source]
		w.Copy, w.From = CopyID(c.ID), place.Place{Machine: src.AtMachine, Path: place.Join(src.At, c.At.Path())}
		w.copy, w.source, w.at, w.expect = c.ID, c.Source, c.At, expectation{Size: c.Size, Written: c.Written}
		if e.Type == plan.File && c.Inode != 0 {
			key := inode{c.Source, c.Inode}
			if first, twice := b.links[key]; twice {
				w.Note = "it was the same file as " + place.Readable(first) + " (a hard link); it comes back as one of its own"
			} else {
				b.links[key] = e.Path
			}
		}
	}
	b.wants = append(b.wants, w)
}

// later adds what stands in the folder and came after the moment.
func (b *folderPlan) later(folder trails.Folder) error {
	added := map[string]bool{}
	for _, e := range folder.Entries {
		if e.State == trails.Added {
			added[e.Path] = true
		}
	}
	var walk func(rel string, at reach.Reader) error
	walk = func(rel string, at reach.Reader) error {
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
					b.wants = append(b.wants, wanted{Wanted: plan.Wanted{To: b.to(path), Type: e.Type, Away: true, Dated: b.at}, asOf: true})
				}
				continue
			}
			if e.Type != plan.Folder || was != plan.Folder {
				continue
			}
			sub, err := at.Enter(e.Name)
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
	top, err := files.Folder(b.ctx, b.base.Path)
	if errors.Is(err, fs.ErrNotExist) || errors.Is(err, reach.ErrNotFolder) {
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
