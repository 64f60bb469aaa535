package spans

import (
	"context"
	"database/sql"
	"errors"
	"slices"
	"time"

	"humble-rewind/internal/catalogue/block"
	"humble-rewind/internal/catalogue/file"
	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/problem"
)

// look is one look at the records: blocks that several questions of it lead to are read once.
type look struct {
	c       *room
	q       file.Querier
	stores  map[copies.SourceID]*copies.Store
	blocks  map[int64]*content
	spans   int // in blocks
	folders map[int64]*folder
	dirs    map[place.Place]*dirLook
}

// dirLook is which folders hold what came from a folder of a machine.
type dirLook struct {
	id      int64 // 0: nothing did
	folders []*folder
}

// located is a span with where it lies.
type located struct {
	block.Span
	folder *folder
}

func (l *located) placePath() string { return l.folder.placeOf(&l.Span) }

// keptSpans bounds what one look keeps.
const keptSpans = 100_000

func (c *room) look(ctx context.Context) (*look, error) {
	stores, err := c.allStores(ctx)
	return &look{c: c, q: c.f.Reads, stores: stores, blocks: map[int64]*content{}, dirs: map[place.Place]*dirLook{}}, err
}

// block reads a block; one that is not there is empty.
func (r *look) block(ctx context.Context, f *folder, id int64) (*content, error) {
	if b, ok := r.blocks[id]; ok {
		return b, nil
	}
	raw, err := load(ctx, r.q, id)
	if errors.Is(err, problem.NotKnown) {
		return &content{}, nil
	}
	if err != nil {
		return nil, err
	}
	b := &content{id: id, all: true}
	if b.now, err = block.Decode(raw.now); err == nil {
		b.past, err = block.Decode(raw.past)
	}
	if err != nil {
		return nil, damaged(f, err)
	}
	if r.spans += len(b.now) + len(b.past); r.spans > keptSpans {
		clear(r.blocks)
		r.spans = len(b.now) + len(b.past)
	}
	r.blocks[id] = b
	return b, nil
}

// blockFor returns the id of the block of a folder that a name belongs into.
func (r *look) blockFor(ctx context.Context, f *folder, name string) (id int64, err error) {
	if f.parts <= 1 {
		return blockID(f.id, 0), nil
	}
	err = r.q.QueryRowContext(ctx, "SELECT id FROM blocks WHERE id BETWEEN ? AND ? AND low <= ? ORDER BY id DESC LIMIT 1",
		blockID(f.id, 0), lastBlock(f.id), []byte(name)).Scan(&id)
	return id, file.NoRows(err)
}

// under returns all spans under a name of a folder of a store.
func (r *look) under(ctx context.Context, f *folder, name string) ([]located, error) {
	id, err := r.blockFor(ctx, f, name)
	if err != nil {
		return nil, err
	}
	b, err := r.block(ctx, f, id)
	if err != nil {
		return nil, err
	}
	var all []located
	for _, spans := range [...][]block.Span{named(b.past, name), named(b.now, name)} {
		for _, s := range spans {
			all = append(all, located{s, f})
		}
	}
	return all, nil
}

// dir finds which folders hold what came from a folder of a machine.
func (r *look) dir(ctx context.Context, p place.Place) (*dirLook, error) {
	if d, ok := r.dirs[p]; ok {
		return d, nil
	}
	d := &dirLook{}
	err := r.q.QueryRowContext(ctx, "SELECT id FROM dirs WHERE path = ? AND machine_id = (SELECT id FROM machines WHERE name = ?)",
		[]byte(p.Path), p.Machine).Scan(&d.id)
	if err == nil {
		d.folders, err = foldersWhere(ctx, r.q, "f.dir_id = ? ORDER BY f.id", d.id)
	}
	if err != nil && !errors.Is(err, sql.ErrNoRows) {
		return nil, err
	}
	r.dirs[p] = d
	return d, nil
}

// at calls see with everything that sources saw at a place. meant narrows it to some sources; nil: all.
func (r *look) at(ctx context.Context, p place.Place, meant func(source copies.SourceID) bool, see func(*located)) error {
	d, err := r.dir(ctx, place.Place{Machine: p.Machine, Path: place.Folder(p.Path)})
	if err != nil {
		return err
	}
	for _, f := range d.folders {
		if r.stores[f.source] == nil || meant != nil && !meant(f.source) {
			continue
		}
		all, err := r.under(ctx, f, p.Name())
		if err != nil {
			return err
		}
		for i := range all {
			if all[i].Place == "" {
				see(&all[i])
			}
		}
	}
	if d.id == 0 {
		return nil
	}
	blocks, err := file.Numbers(r.q.QueryContext(ctx, "SELECT block_id FROM elsewhere WHERE dir_id = ? AND name = ?", d.id, nameHash(p.Name())))
	if err != nil {
		return err
	}
	return r.elsewhere(ctx, blocks, meant, func(l *located) {
		if l.Place == p.Path {
			see(l)
		}
	})
}

// elsewhere calls see with everything in blocks whose place is its own.
func (r *look) elsewhere(ctx context.Context, blocks []int64, meant func(source copies.SourceID) bool, see func(*located)) error {
	for _, id := range blocks {
		f, err := r.folder(ctx, folderOf(id))
		if errors.Is(err, problem.NotKnown) || err == nil && (r.stores[f.source] == nil || meant != nil && !meant(f.source)) {
			continue
		}
		if err != nil {
			return err
		}
		b, err := r.block(ctx, f, id)
		if err != nil {
			return err
		}
		for _, spans := range [...][]block.Span{b.past, b.now} {
			for i := range spans {
				if spans[i].Place != "" {
					see(&located{spans[i], f})
				}
			}
		}
	}
	return nil
}

// folder finds a folder that this look may have met.
func (r *look) folder(ctx context.Context, id int64) (*folder, error) {
	if f, ok := r.folders[id]; ok {
		return f, nil
	}
	f, err := folderByID(ctx, r.q, id)
	if err == nil {
		if r.folders == nil || len(r.folders) > maxInterned {
			r.folders = map[int64]*folder{}
		}
		r.folders[id] = f
	}
	return f, err
}

// readable tells whether the store still holds the bytes of a span.
func (r *look) readable(l *located) bool {
	s := r.stores[l.folder.source]
	if !l.Readable || s == nil {
		return false
	}
	if !s.Traits.Dated() {
		return l.Stands()
	}
	_, held := s.HeldIn(l.First, l.Last)
	return held
}

// lastSeen is the capture that last showed a span.
func (r *look) lastSeen(l *located) int64 {
	if !l.Stands() {
		return l.Last
	}
	if s := r.stores[l.folder.source]; s != nil && !s.Latest().IsZero() {
		return max(s.Latest().UnixNano(), l.First)
	}
	return l.First
}

// find finds spans by their numbers. Those asked for together mostly lie in few folders: each folder that one leads to is looked
// through for all that are still sought.
func (r *look) find(ctx context.Context, ids []copies.ID) (map[copies.ID]located, error) {
	sought := slices.Clone(ids)
	slices.Sort(sought)
	sought = slices.Compact(sought)
	all := make(map[copies.ID]located, len(sought))
	for _, id := range sought {
		if _, found := all[id]; found {
			continue
		}
		var folder int64
		err := r.q.QueryRowContext(ctx, "SELECT folder_id FROM id_runs WHERE first <= ? ORDER BY first DESC LIMIT 1", int64(id)).Scan(&folder)
		if err == nil {
			err = r.findIn(ctx, folder, sought, all)
		}
		if err != nil && !errors.Is(err, sql.ErrNoRows) {
			return nil, err
		}
	}
	return all, nil
}

// findIn finds spans of one folder.
func (r *look) findIn(ctx context.Context, id int64, ids []copies.ID, into map[copies.ID]located) error {
	f, err := folderByID(ctx, r.q, id)
	if errors.Is(err, problem.NotKnown) {
		return nil
	}
	if err != nil {
		return err
	}
	parts := []part{{id: blockID(id, 0), greatest: forever}}
	if f.parts > 1 {
		if parts, err = partsOf(ctx, r.q, id); err != nil {
			return err
		}
	}
	for _, p := range parts {
		i, _ := slices.BinarySearch(ids, copies.ID(p.least))
		if i == len(ids) || int64(ids[i]) > p.greatest {
			continue
		}
		b, err := r.block(ctx, f, p.id)
		if err != nil {
			return err
		}
		for _, spans := range [...][]block.Span{b.now, b.past} {
			for _, s := range spans {
				if _, ok := slices.BinarySearch(ids, s.ID); ok {
					into[s.ID] = located{s, f}
				}
			}
		}
	}
	return nil
}

func atNanos(n int64) time.Time { return time.Unix(0, n).UTC() }
