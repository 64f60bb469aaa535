package spans

import (
	"cmp"
	"context"
	"database/sql"
	"errors"
	"maps"
	"slices"
	"time"

	"humble-rewind/internal/catalogue/block"
	"humble-rewind/internal/catalogue/file"
	"humble-rewind/internal/catalogue/rows"
	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/problem"
)

// forgetStores makes Stores read all of them again.
func (c *room) forgetStores() {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.stores, c.stale = nil, nil
}

// forgetStore makes Stores read one again. It is called when what changed is kept.
func (c *room) forgetStore(source copies.SourceID) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.stale = append(c.stale, source)
}

// Stores returns the sources of the scope with their captures, by number. The answer is shared and must not be changed.
func (c Copies) Stores(ctx context.Context) (map[copies.SourceID]*copies.Store, error) {
	r, err := c.look(ctx)
	if err != nil {
		return nil, err
	}
	return r.stores, nil
}

func (c *room) allStores(ctx context.Context) (map[copies.SourceID]*copies.Store, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.stores == nil {
		stores, err := c.readStores(ctx)
		if err != nil {
			return nil, err
		}
		c.stores, c.stale = stores, nil
	}
	if len(c.stale) > 0 {
		stores := maps.Clone(c.stores) // which others read
		slices.Sort(c.stale)
		for _, id := range slices.Compact(c.stale) {
			src, err := c.sources.ByID(ctx, id)
			if errors.Is(err, problem.NotKnown) {
				delete(stores, id)
				continue
			}
			if err != nil {
				return nil, err
			}
			if stores[id], err = c.readStore(ctx, src); err != nil {
				return nil, err
			}
		}
		c.stores, c.stale = stores, nil
	}
	return c.stores, nil
}

func (c *room) readStores(ctx context.Context) (map[copies.SourceID]*copies.Store, error) {
	sources, err := c.sources.Of(ctx, "")
	if err != nil {
		return nil, err
	}
	stores := make(map[copies.SourceID]*copies.Store, len(sources))
	for _, src := range sources {
		if stores[src.ID], err = c.readStore(ctx, src); err != nil {
			return nil, err
		}
	}
	return stores, nil
}

func (c *room) readStore(ctx context.Context, src rows.Source) (*copies.Store, error) {
	s := &copies.Store{Source: src.Source}
	err := c.readCaptures(ctx, s)
	resolution := src.Traits.Resolution
	if err == nil && resolution == 0 {
		resolution, err = c.resolution(ctx, src.ID)
	}
	if err != nil {
		return nil, err
	}
	s.Resolution = max(resolution, src.Way.Clock)
	if !src.Traits.Dated() { // points in time are all there
		steps, err := stepsOf(ctx, c.f.Reads, src.ID)
		if err != nil {
			return nil, err
		}
		s.Step = steps.Usual()
	}
	return s, nil
}

func (c *room) readCaptures(ctx context.Context, s *copies.Store) error {
	rows, err := c.f.Reads.QueryContext(ctx, "SELECT at, held, name FROM captures WHERE source_id = ? AND complete ORDER BY at", s.ID)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var at int64
		var held bool
		var name string
		if err := rows.Scan(&at, &held, &name); err != nil {
			return err
		}
		t := time.Unix(0, at).UTC()
		s.Captures = append(s.Captures, t)
		if held {
			s.Held, s.Names = append(s.Held, t), append(s.Names, name)
		}
	}
	return rows.Err()
}

// resolution guesses how fine a source's write times are from some of them: file systems keep nanoseconds, seconds, or,
// as FAT does, every other second.
func (c *room) resolution(ctx context.Context, source copies.SourceID) (time.Duration, error) {
	const some, few = 300, 20
	var all, odd int
	rows, err := c.f.Reads.QueryContext(
		ctx,
		`SELECT b.now, b.past FROM folders f CROSS JOIN blocks b ON b.id = f.id << 36 WHERE f.source_id = ?
		LIMIT 100`,
		source,
	)
	if err != nil {
		return 0, err
	}
	defer rows.Close()
	var now, past sql.RawBytes
	for all < some && rows.Next() {
		if err := rows.Scan(&now, &past); err != nil {
			return 0, err
		}
		for _, packed := range [...][]byte{now, past} {
			r, err := block.Read(packed)
			if err != nil {
				continue // whoever needs what is in it says so
			}
			for r.Next() && all < some {
				at := r.Span.Written
				if r.Span.Type != entry.File || !at.Known {
					continue
				}
				all++
				if at.Nano != 0 {
					return time.Nanosecond, nil
				}
				if at.Sec%2 != 0 {
					odd++
				}
			}
		}
	}
	if err := rows.Err(); err != nil {
		return 0, err
	}
	if odd > 0 || all < few {
		return time.Second, nil
	}
	return 2 * time.Second, nil
}

// At returns everything that sources saw at a place, by the captures that first showed it.
func (c Copies) At(ctx context.Context, p place.Place) ([]*copies.Copy, error) {
	r, err := c.look(ctx)
	if err != nil {
		return nil, err
	}
	var all []located
	if err := r.at(ctx, p, nil, func(l *located) {
		if l.OriginKnown {
			all = append(all, *l)
		}
	}); err != nil {
		return nil, err
	}
	slices.SortFunc(all, func(a, b located) int { return cmp.Or(cmp.Compare(a.First, b.First), cmp.Compare(a.ID, b.ID)) })
	return r.records(ctx, all)
}

// TypesAt returns of which types sources saw something at a place.
func (c Copies) TypesAt(ctx context.Context, p place.Place) ([]entry.Type, error) {
	r, err := c.look(ctx)
	if err != nil {
		return nil, err
	}
	var all []entry.Type
	err = r.at(ctx, p, nil, func(l *located) {
		if l.OriginKnown && !slices.Contains(all, l.Type) {
			all = append(all, l.Type)
		}
	})
	return all, err
}

// NamedIn returns the paths of what was ever seen of a machine directly in some folders under some names.
func (c Copies) NamedIn(ctx context.Context, machine string, folders, names []string) (paths []string, err error) {
	r, err := c.look(ctx)
	if err != nil {
		return nil, err
	}
	for _, dir := range folders {
		for _, name := range names {
			p := place.Place{Machine: machine, Path: place.Join(dir, name)}
			seen := false
			if err := r.at(ctx, p, nil, func(l *located) { seen = seen || l.OriginKnown }); err != nil {
				return nil, err
			}
			if seen {
				paths = append(paths, p.Path)
			}
		}
	}
	return paths, nil
}

// Twins returns files of a size and a write time, as it was recorded, that were seen elsewhere than at a place, at most limit. Times are one
// that the coarser of two clocks cannot tell apart, of which tick is that of the time asked for.
func (c Search) Twins(ctx context.Context, than place.Place, size int64, recorded time.Time, tick time.Duration,
	limit int) ([]*copies.Copy, error) {
	at := file.Nanos(recorded)
	if recorded.IsZero() || size <= 0 || !at.Valid {
		return nil, nil
	}
	r, err := c.look(ctx)
	if err != nil {
		return nil, err
	}
	coarsest := max(tick, time.Nanosecond)
	for _, s := range r.stores {
		coarsest = max(coarsest, s.Resolution)
	}
	within := sizeWritten{at.Int64 - int64(coarsest) + 1, at.Int64 + int64(coarsest) - 1}
	var all []located
	err = c.eachSized(ctx, size, &within, func(folder int64) (bool, error) {
		err := r.eachIn(ctx, folder, func(l *located) bool {
			if l.Type == entry.File && l.Size == size && l.OriginKnown && (l.placePath() != than.Path || r.machineOf(l) != than.Machine) &&
				r.twin(l, recorded, tick) {
				all = append(all, *l)
			}
			return len(all) < limit
		})
		return len(all) < limit, err
	})
	if err != nil {
		return nil, err
	}
	return r.records(ctx, all)
}

// twin tells whether a span may have been written at a moment.
func (r *look) twin(l *located, recorded time.Time, tick time.Duration) bool {
	s := r.stores[l.folder.source]
	return s != nil && !s.Traits.Unproved && l.Written.Known && !copies.Apart(l.Written.Time(), recorded, max(tick, s.Resolution))
}

// machineOf names the machine whose files a span is of.
func (r *look) machineOf(l *located) string {
	if s := r.stores[l.folder.source]; s != nil {
		return s.Machine
	}
	return ""
}

// eachIn calls see with the spans of a folder until it says that it is enough.
func (r *look) eachIn(ctx context.Context, id int64, see func(*located) bool) error {
	f, err := folderByID(ctx, r.q, id)
	if errors.Is(err, problem.NotKnown) || err == nil && r.stores[f.source] == nil {
		return nil
	}
	if err != nil {
		return err
	}
	for at := blockID(id, 0); ; {
		b, err := r.block(ctx, f, at)
		if err != nil {
			return err
		}
		for _, spans := range [...][]block.Span{b.now, b.past} {
			for i := range spans {
				if !see(&located{spans[i], f}) {
					return nil
				}
			}
		}
		if f.parts <= 1 {
			return nil
		}
		err = r.q.QueryRowContext(ctx, "SELECT id FROM blocks WHERE id > ? AND id <= ? ORDER BY id LIMIT 1", at, lastBlock(id)).Scan(&at)
		if errors.Is(err, sql.ErrNoRows) {
			return nil
		}
		if err != nil {
			return err
		}
	}
}

// LinksTo returns links that point to a path, by what they are recorded to hold.
func (c Search) LinksTo(ctx context.Context, machine, path string) ([]*copies.Copy, error) {
	const limit = 100
	folders, err := file.Numbers(c.f.Reads.QueryContext(ctx, "SELECT folder_id FROM link_targets WHERE target = ?", []byte(path)))
	if err != nil {
		return nil, err
	}
	r, err := c.look(ctx)
	if err != nil {
		return nil, err
	}
	var all []located
	for _, id := range folders {
		if err := r.eachIn(ctx, id, func(l *located) bool {
			if l.Type == entry.Link && l.Target == path && l.OriginKnown && r.machineOf(l) == machine {
				all = append(all, *l)
			}
			return len(all) < limit
		}); err != nil {
			return nil, err
		}
	}
	return r.records(ctx, all)
}
