package past

import (
	"context"
	"maps"
	"slices"
	"strings"
	"time"

	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/trail"
)

// FolderPage is Folder for some of what lies directly in it: at most limit names, those that come behind after; "" is the beginning. What
// is deeper shows in the state of the folders, and what has moved is known again where both places are on the page or in its folders.
// next is what to go on behind; "" where nothing is left. A page past the end is empty. How long it takes depends on the page, not on the
// folder.
func (r *Reader) FolderPage(ctx context.Context, p place.Place, asOf, against time.Time, after string, limit int) (f Folder, next string,
	err error) {
	f = Folder{Place: p, AsOf: asOf, Against: against}
	pg := &paging{assembly: assembly{Folder: &f, moments: map[time.Time]int{}, rows: map[string]*row{}}, deeper: map[string]bool{},
		inside: map[string]*inside{}}
	pg.each = pg.take
	until, err := pg.begin(ctx, r)
	if err != nil {
		return f, "", err
	}
	names, seen, err := pg.names(ctx, r, until, after, limit+1)
	if err != nil {
		return f, "", err
	}
	if len(names) > limit {
		names, next = names[:limit], names[limit-1]
	}
	for _, name := range names {
		if err := pg.name(ctx, r, name, seen[name], until); err != nil {
			return f, "", err
		}
	}
	if pg.places == 0 && after == "" {
		return f, "", nothingAt(p)
	}
	pg.Entries = append(pg.Entries, pg.kept...)
	pg.finish()
	pg.fold()
	return f, next, nil
}

// maxKept is how many files that came or went in the folders of a page are looked at for what has moved.
const maxKept = 50_000

// paging is a page of a folder being put together: of what is deeper than its entries nothing is kept but what may have moved.
type paging struct {
	assembly
	deeper map[string]bool    // the entries in which something was seen, by their names
	inside map[string]*inside // what that is like
	kept   []Entry            // that may have moved, from deeper
}

// names returns the names that come next, with what was seen of each directly in the folder. There are at most so many.
func (pg *paging) names(ctx context.Context, r *Reader, until time.Time, after string, most int) ([]string, map[string][]*copies.Copy,
	error) {
	seen := map[string][]*copies.Copy{}
	for _, of := range [...]place.Place{pg.Place, pg.Was} { // its own come first, as everywhere
		if of.Path == "" || of.Machine != pg.Place.Machine {
			continue
		}
		met, last := 0, ""
		for one, err := range r.View.Copies.In(ctx, of, after) {
			if err != nil {
				return nil, nil, err
			}
			if of == pg.Was && !one.First.Before(until) {
				continue
			}
			name := one.Place.Name()
			if met == 0 || name != last {
				if met++; met > most {
					break
				}
				last = name
			}
			seen[name] = append(seen[name], one)
		}
		folders, err := r.View.Copies.FoldersIn(ctx, of, after) // also those that were never seen themselves
		if err != nil {
			return nil, nil, err
		}
		for _, name := range folders {
			pg.deeper[name] = true
			if _, ok := seen[name]; !ok {
				seen[name] = nil
			}
		}
	}
	names := slices.Sorted(maps.Keys(seen))
	return names[:min(len(names), most)], seen, nil
}

// name takes up an entry of the folder, and what is in it.
func (pg *paging) name(ctx context.Context, r *Reader, name string, seen []*copies.Copy, until time.Time) error {
	path := place.Join(pg.Place.Path, name)
	if len(seen) > 0 {
		pg.place(path, seen)
	}
	if !pg.deeper[name] {
		return nil
	}
	former := map[string][]*copies.Copy{}
	if pg.Was.Path != "" && pg.Was.Machine == pg.Place.Machine {
		if err := pg.former(ctx, r, place.Place{Machine: pg.Was.Machine, Path: place.Join(pg.Was.Path, name)}, until, former); err != nil {
			return err
		}
	}
	return pg.below(ctx, r, place.Place{Machine: pg.Place.Machine, Path: path}, former)
}

// take keeps an entry of the folder itself; what is deeper is folded into it.
func (pg *paging) take(rel string, t *trail.Trail, seen []*copies.Copy) {
	name, rest, deeper := strings.Cut(rel, "/")
	before, weight := len(pg.Entries), pg.weight
	pg.assembly.take(rel, t, seen)
	if !deeper || len(pg.Entries) == before {
		return
	}
	e := pg.Entries[before]
	pg.Entries, pg.weight = pg.Entries[:before], weight
	in := pg.inside[name]
	if in == nil {
		in = &inside{first: e, states: map[State]bool{}}
		pg.inside[name] = in
	}
	in.add(rest, e)
	if e.Type == entry.File && (e.State == Missing || e.State == Added) && len(pg.kept) < maxKept {
		pg.kept = append(pg.kept, e)
		return
	}
	in.states[e.State] = true
	if e.Type != entry.Folder {
		pg.count(e.State, 1)
	}
}

// fold leaves the entries of the folder itself, and says of its folders what is in them, as [Folder.Level] does.
func (pg *paging) fold() {
	all, at := pg.Entries[:0], map[string]int{}
	for _, e := range pg.Entries {
		name, _, deeper := strings.Cut(e.Path, "/")
		if !deeper {
			at[e.Path] = len(all)
			all = append(all, e)
			continue
		}
		in := pg.inside[name]
		in.states[e.State] = true
		if in.first.Path == e.Path {
			in.first = e // which may have moved
		}
	}
	for name, in := range pg.inside {
		i, ok := at[name]
		if !ok {
			i = len(all)
			all = append(all, standIn(name, in.first))
		}
		in.tell(&all[i])
	}
	byPath(all)
	pg.Entries = all
}
