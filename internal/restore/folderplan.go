package restore

import (
	"cmp"
	"context"
	"errors"
	"io/fs"
	"slices"
	"strings"
	"time"

	"humble-rewind/internal/contents"
	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/plan"
	"humble-rewind/internal/core/problem"
	"humble-rewind/internal/core/remark"
	"humble-rewind/internal/past"
	"humble-rewind/internal/reach"
	"humble-rewind/internal/restore/hands"
	"humble-rewind/internal/restore/journal"

	"golang.org/x/sync/errgroup"
)

// folderPlan is the plan for a folder: which of its entries are needed, and, each time they are asked for, how each is brought back.
type folderPlan struct {
	r       *Restorer
	req     Request
	at      time.Time
	dated   time.Time   // that, in the zone to show it in
	base    place.Place // where the folder goes
	entries []past.Entry
	needed  []int         // of the entries, in the order in which they are planned
	whole   []wanted      // folders in it that only make sense whole
	later   []plan.Wanted // what came after the moment, by path
	points  *points

	// Of the plan being made.
	ctx   context.Context
	open  *hands.Hands
	world *world
	links map[fileNumber]string
}

// fileNumber tells the files of a store from one another that a source saw under several names.
type fileNumber struct {
	source copies.SourceID
	number uint64
}

// into tells whether the destination is a folder that the folder goes into.
func (b *folderPlan) into() bool {
	return b.req.ToFolder || b.world.At(*b.req.To).Type == entry.Folder
}

// prepare finds out which entries are needed.
func (b *folderPlan) prepare() error {
	listed := map[string]entry.Type{"": entry.Folder} // what stood there then, by relative path
	exact := b.req.AsOf.Only == OnlyExact
	var rest []int
	for n := range b.entries {
		e := &b.entries[n]
		if e.State == past.Added {
			continue
		}
		if exact {
			listed[e.Path] = e.Type
			for path := dirOf(e.Path); path != "" && listed[path] == ""; path = dirOf(path) {
				listed[path] = entry.Folder // though no source may have seen it as such
			}
		}
		need, err := b.needs(*e)
		if err != nil {
			return err
		}
		if need && (e.Copy != 0 || e.Type != entry.Folder) { // which is made again for what goes into it
			if e.Type == entry.Folder {
				b.needed = append(b.needed, n)
			} else {
				rest = append(rest, n)
			}
		}
	}
	// Folders come without what is in them, the highest first; then everything else, by path as the entries are.
	slices.SortStableFunc(b.needed, func(x, y int) int {
		return cmp.Compare(strings.Count(b.entries[x].Path, "/"), strings.Count(b.entries[y].Path, "/"))
	})
	b.needed = append(b.needed, rest...)
	b.dated = b.at
	if zone, err := b.open.Zone(b.base.Machine); err == nil {
		b.dated = b.at.In(zone)
	}
	b.points = newPoints(b.r.Past.View)
	if exact {
		if err := b.findLater(listed); err != nil {
			return err
		}
	}
	if err := b.wholes(); err != nil {
		return err
	}
	b.ctx, b.open, b.world = nil, nil, nil
	return nil
}

// each plans item after item.
func (b *folderPlan) each(ctx context.Context, do func(plan.Item, *wanted) error) (bytes int64, err error) {
	group, ctx := errgroup.WithContext(ctx)
	now := *b
	now.ctx, now.open, now.links = ctx, hands.New(ctx, b.r.Site), map[fileNumber]string{}
	defer now.open.Close()
	maker := plan.NewMaker(b.req.Rule, newWorld(now.open))
	ahead := make(chan known, 1)
	group.Go(func() error {
		defer close(ahead)
		return now.readAhead(ahead)
	})
	group.Go(func() error {
		later := b.later
		put := func(w *wanted) error {
			w.Foreign = w.Foreign && !b.req.KeepOwners
			return do(maker.Item(&w.Wanted), w)
		}
		putLater := func(before *plan.Wanted) error {
			for len(later) > 0 && (before == nil || plan.Before(&later[0], before) < 0) {
				w := wanted{Wanted: later[0], asOf: true}
				if err := put(&w); err != nil {
					return err
				}
				later = later[1:]
			}
			return nil
		}
		for k := range ahead {
			for _, n := range k.needed {
				e := &b.entries[n]
				w, err := now.want(e, k.copies[e.Copy], k.copies[e.Stood])
				if err != nil {
					return err
				}
				if err := putLater(&w.Wanted); err != nil {
					return err
				}
				if err := put(&w); err != nil {
					return err
				}
			}
		}
		if ctx.Err() != nil {
			return ctx.Err()
		}
		for _, w := range b.whole {
			if err := put(&w); err != nil {
				return err
			}
		}
		return putLater(nil)
	})
	err = group.Wait()
	return maker.Bytes(), err
}

// known is what is known of the copies of some entries.
type known struct {
	needed []int
	copies map[copies.ID]*copies.Copy
}

// readAhead reads what is known of the copies, some at a time, so that it is not held of all at once.
func (b *folderPlan) readAhead(ahead chan<- known) error {
	for some := range slices.Chunk(b.needed, 4096) {
		var ids []copies.ID
		for _, n := range some {
			e := &b.entries[n]
			if e.Copy != 0 {
				ids = append(ids, e.Copy)
			}
			if e.Stood != 0 && e.Stood != e.Copy {
				ids = append(ids, e.Stood)
			}
		}
		all, err := b.r.Past.View.Copies.ByIDs(b.ctx, ids)
		if err != nil {
			return err
		}
		byID := make(map[copies.ID]*copies.Copy, len(all))
		for i, c := range all {
			byID[ids[i]] = c
		}
		select {
		case ahead <- known{some, byID}:
		case <-b.ctx.Done():
			return b.ctx.Err()
		}
	}
	return nil
}

func (b *folderPlan) to(rel string) place.Place {
	return place.Place{Machine: b.base.Machine, Path: place.Join(b.base.Path, rel)}
}

// needs tells whether an entry has to be written: what stands in its place decides, not what a survey saw.
func (b *folderPlan) needs(e past.Entry) (bool, error) {
	stands := b.world.At(b.to(e.Path))
	switch {
	case stands.Problem.Any() || !stands.Exists:
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
		if stands.Written.Equal(e.Written) && e.State == past.Same {
			return false, nil
		}
		return b.differs(e)
	}
	return e.State != past.Same, nil
}

// differs compares the bytes of a version with those of what stands in its place.
func (b *folderPlan) differs(e past.Entry) (bool, error) {
	if e.Copy == 0 {
		return true, nil
	}
	c, err := b.r.Past.View.Copies.ByID(b.ctx, e.Copy)
	if err != nil {
		return true, err
	}
	if !e.SHA256.Known() {
		if e.SHA256, err = b.r.Contents.Digest(b.ctx, c); err != nil {
			return true, b.ctx.Err()
		}
	}
	to := b.to(e.Path)
	folder, err := b.open.Parent(to)
	if err != nil {
		return true, nil
	}
	sum, err := contents.DigestAt(b.ctx, folder, to.Name())
	if err != nil {
		return true, b.ctx.Err()
	}
	return sum != e.SHA256, nil
}

// want is an entry as it is wanted. Looking at each copy where it lies would double the work of planning many thousands; whoever
// carries the plan out looks before it reads.
func (b *folderPlan) want(e *past.Entry, c, stood *copies.Copy) (w wanted, err error) {
	w = wanted{
		Wanted: plan.Wanted{
			Type:    e.Type,
			Size:    max(0, e.Size),
			To:      b.to(e.Path),
			Dated:   b.dated,
			DatedBy: "as of",
			Alone:   e.Type == entry.Folder,
		},
		asOf: true,
	}
	if b.req.AsOf.Only == OnlyExact {
		w.Rule = plan.SetAside
	}
	if !e.Proved {
		w.Notes = []remark.Remark{remark.New("assumed")}
	}
	if e.State == past.Moved {
		w.Notes = []remark.Remark{remark.New("now-at", "path", place.Readable(place.Join(b.req.AsOf.Place.Path, e.MovedTo)))}
	}
	switch {
	case c == nil:
		w.Problem = remark.New("record-only")
	case e.Type == entry.Other:
		w.Problem = remark.New("device")
	default:
		src := c.Store.Source
		if c, err = b.points.at(b.ctx, c, b.at); err != nil {
			return w, err
		}
		if b.open.Forged(src, c.At, place.Join(b.req.AsOf.Place.Path, e.Path)) {
			w.Problem = remark.New("claims-here")
		}
		w.like = likeness(stood, c.ID)
		w.Foreign, w.Own, w.Mode, w.UID, w.GID = !b.open.RootsOwn(src, c.At.Capture), -1, c.Mark.Mode, c.Mark.UID, c.Mark.GID
		if w.like != nil {
			w.Mode, w.UID, w.GID = w.like.Mode, w.like.UID, w.like.GID
		}
		if !b.req.KeepOwners {
			w.across(b.open, c)
		}
		w.Copy, w.From = c.ID.String(), c.LiesAt()
		w.copy, w.source, w.ref, w.expect = c.ID, src.ID, c.Ref(), journal.Expectation{Size: c.Size, Written: writtenOf(c)}
		if e.Type == entry.File && c.Number != 0 {
			key := fileNumber{src.ID, c.Number}
			if first, twice := b.links[key]; twice {
				w.Notes = []remark.Remark{remark.New("hard-link", "path", place.Readable(first))}
			} else {
				b.links[key] = e.Path
			}
		}
	}
	return w, nil
}

// findLater finds what stands in the folder and came after the moment.
func (b *folderPlan) findLater(listed map[string]entry.Type) error {
	added := map[string]bool{}
	for _, e := range b.entries {
		if e.State == past.Added {
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
			was, known := listed[path]
			if !known {
				// What no source ever saw may be left out of them all, so only what is newer goes.
				if added[path] || e.Written.After(b.at) || e.Changed.After(b.at) {
					b.later = append(b.later, plan.Wanted{To: b.to(path), Type: e.Type, Away: true, Dated: b.at})
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
	files, err := b.open.Files(b.base.Machine)
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
	err = walk("", top)
	slices.SortFunc(b.later, func(x, y plan.Wanted) int { return plan.Before(&x, &y) })
	return err
}

// dirOf returns the folder of a relative path, "" for the top.
func dirOf(path string) string { return strings.TrimPrefix(place.Folder("/"+path), "/") }
