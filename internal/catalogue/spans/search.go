package spans

import (
	"container/heap"
	"context"
	"errors"
	"slices"

	"humble-rewind/internal/catalogue/block"
	"humble-rewind/internal/catalogue/file"
	"humble-rewind/internal/catalogue/names"
	"humble-rewind/internal/core/copies"
	fold "humble-rewind/internal/core/names"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/problem"
)

// search looks for spans and keeps the best of them in an order. Folders are opened in the order of what can be in them, and no more of
// them than it takes.
type search struct {
	r       *look
	words   []string                                         // folded; each must occur in the name
	source  func(*copies.Store) bool                         // nil: any
	folder  func(*indexedFolder) bool                        // nil: any
	among   map[int64]bool                                   // folders; nil: all
	span    func(*located) bool                              // nil: any
	content func(l *located, known contentRow) (bool, error) // asked last; nil: any
	by      order
	after   *rank // what comes behind it is kept; nil: all
	limit   int   // how many are kept
	count   int   // how far is counted; 0: not at all

	found names.Found // by the words
	names names.Texts

	total int
	more  bool  // there are more than total
	best  []hit // in the order
}

// patience is how many folders are looked into where all that is left to find out is how many copies there are: each takes a tenth of a
// millisecond.
const patience = 1000

type hit struct {
	located
	rank rank
}

// candidate is a folder that may hold something, by what can come first of it.
type candidate struct {
	bound  rank
	folder int64
	blocks []int64 // of it; nil: all
}

// candidates is a heap, the best bound on top.
type candidates struct {
	all []candidate
	by  order
}

func (c *candidates) Len() int           { return len(c.all) }
func (c *candidates) Less(i, j int) bool { return c.by.before(c.all[i].bound, c.all[j].bound) }
func (c *candidates) Swap(i, j int)      { c.all[i], c.all[j] = c.all[j], c.all[i] }
func (c *candidates) Push(x any)         { c.all = append(c.all, x.(candidate)) }
func (c *candidates) Pop() any {
	last := c.all[len(c.all)-1]
	c.all = c.all[:len(c.all)-1]
	return last
}

func (s *search) run(ctx context.Context) error {
	open, err := s.candidates(ctx)
	if err != nil {
		return err
	}
	heap.Init(open)
	counted, missed := 0, 0
	for open.Len() > 0 {
		c := heap.Pop(open).(candidate)
		full := len(s.best) >= s.limit && !s.by.before(c.bound, s.best[s.limit-1].rank)
		if full && (s.count == 0 || s.total > s.count) {
			return nil
		}
		if full {
			if counted++; counted > patience {
				s.total, s.more = min(s.total, s.count), true
				return nil
			}
		}
		if s.found.Unsure() {
			has, err := s.found.Has(ctx, &s.names, c.blocks[0]) // there is one each
			if err != nil {
				return err
			}
			if !has {
				if missed++; missed == maxMissed {
					if err := s.makeSure(ctx, open); err != nil {
						return err
					}
				}
				continue
			}
		}
		if err := s.open(ctx, c); err != nil {
			return err
		}
		if err := ctx.Err(); err != nil {
			return err
		}
	}
	return nil
}

// maxMissed is in how many blocks what is sought is looked for by themselves, in vain, before it is looked for everywhere: what is common
// elsewhere may be rare where the order begins.
const maxMissed = 3000

// makeSure leaves those candidates that have such a name.
func (s *search) makeSure(ctx context.Context, open *candidates) (err error) {
	if s.found, err = s.r.c.text.Search(ctx, s.r.q, s.meant, s.words, true); err != nil {
		return err
	}
	open.all = slices.DeleteFunc(open.all, func(c candidate) bool {
		_, found := slices.BinarySearch(s.found.Blocks, c.blocks[0])
		return !found
	})
	heap.Init(open)
	return nil
}

// meant tells whether a source is looked through.
func (s *search) meant(id copies.SourceID) bool {
	store := s.r.stores[id]
	return store != nil && (s.source == nil || s.source(store))
}

// candidates lists the folders that may hold something.
func (s *search) candidates(ctx context.Context) (*candidates, error) {
	if err := s.r.c.searchable(ctx); err != nil {
		return nil, err
	}
	var meant []bool // by source
	for id := range s.r.stores {
		for len(meant) <= int(id) {
			meant = append(meant, false)
		}
		meant[id] = s.meant(id)
	}
	open := &candidates{by: s.by}
	index := &s.r.c.index
	add := func(id int64, blocks []int64) {
		if id >= int64(len(index.all)) {
			return
		}
		f := &index.all[id]
		if f.source == 0 || int(f.source) >= len(meant) || !meant[f.source] || s.among != nil && !s.among[id] ||
			s.folder != nil && !s.folder(f) {
			return
		}
		put := func(f *indexedFolder, blocks []int64) {
			bound := rank{s.by.bound(s.r, f), f.greatest}
			if !s.by.descending {
				bound.id = 0
			}
			open.all = append(open.all, candidate{bound, id, blocks})
		}
		if len(blocks) < 2 {
			put(f, blocks)
			return
		}
		for i := range blocks { // each by what it holds itself
			b, ok := index.blocks[blocks[i]]
			if !ok {
				b = *f
			}
			if b.name = f.name; s.folder == nil || s.folder(&b) {
				put(&b, blocks[i:i+1])
			}
		}
	}
	var blocks []int64
	if len(s.words) > 0 {
		var err error
		if s.found, err = s.r.c.text.Search(ctx, s.r.q, s.meant, s.words, false); err != nil {
			return nil, err
		}
		blocks, s.names.Q = s.found.Blocks, s.r.q
		open.all = make([]candidate, 0, len(blocks))
	}
	index.mu.RLock()
	defer index.mu.RUnlock()
	switch {
	case len(s.words) > 0:
		for len(blocks) > 0 {
			id, n := folderOf(blocks[0]), 1
			for n < len(blocks) && folderOf(blocks[n]) == id {
				n++
			}
			add(id, blocks[:n])
			blocks = blocks[n:]
		}
	case s.among != nil:
		for id := range s.among {
			add(id, nil)
		}
	default:
		several := map[int64][]int64{}
		for id := range index.blocks {
			several[folderOf(id)] = append(several[folderOf(id)], id)
		}
		for id := range index.all {
			add(int64(id), several[int64(id)])
		}
	}
	return open, nil
}

// open looks into a folder.
func (s *search) open(ctx context.Context, c candidate) error {
	f, err := folderByID(ctx, s.r.q, c.folder)
	if errors.Is(err, problem.NotKnown) {
		return nil
	}
	if err != nil {
		return err
	}
	if c.blocks == nil {
		c.blocks = []int64{blockID(f.id, 0)}
		if f.parts > 1 {
			parts, err := partsOf(ctx, s.r.q, f.id)
			if err != nil {
				return err
			}
			c.blocks = nil
			for _, p := range parts {
				c.blocks = append(c.blocks, p.id)
			}
		}
	}
	for _, id := range c.blocks {
		if err := s.look(ctx, f, id); err != nil {
			return err
		}
	}
	return nil
}

// look looks into a block.
func (s *search) look(ctx context.Context, f *folder, id int64) error {
	raw, err := load(ctx, s.r.q, id)
	if errors.Is(err, problem.NotKnown) {
		return nil
	}
	if err != nil {
		return err
	}
	var fit []hit
	l := located{folder: f} // one for all: most are passed over
	for _, packed := range [...][]byte{raw.now, raw.past} {
		b, err := block.Read(packed)
		if err != nil {
			return damaged(f, err)
		}
		for b.Next() {
			if !s.named(&b.Span) {
				continue
			}
			if l.Span = b.Span; s.span != nil && !s.span(&l) {
				continue
			}
			at := rank{s.by.value(s.r, &l), int64(l.ID)}
			switch {
			case !s.wanted(at) && !s.counting():
			case s.content != nil:
				fit = append(fit, hit{l, at})
			default:
				s.keep(&l, at)
			}
		}
		if err := b.Err(); err != nil {
			return damaged(f, err)
		}
	}
	return s.take(ctx, fit)
}

// wanted tells whether what is there in the order is among the best so far; counting whether it matters otherwise.
func (s *search) wanted(at rank) bool {
	return (s.after == nil || s.by.before(*s.after, at)) && (len(s.best) < s.limit || s.by.before(at, s.best[len(s.best)-1].rank))
}

func (s *search) counting() bool { return s.count > 0 && s.total <= s.count }

// named tells whether all words occur in a name.
func (s *search) named(x *block.Span) bool {
	if len(s.words) == 0 {
		return true
	}
	name := x.Name
	if x.Place != "" {
		name = place.Name(x.Place)
	}
	for _, word := range s.words {
		if !fold.Has(name, word) {
			return false
		}
	}
	return true
}

// take keeps those of some spans whose contents are as asked for.
func (s *search) take(ctx context.Context, fit []hit) error {
	if len(fit) == 0 {
		return nil
	}
	ids := make([]copies.ID, len(fit))
	for i := range fit {
		ids[i] = fit[i].ID
	}
	known, err := s.r.c.contentsOf(ctx, ids)
	if err != nil {
		return err
	}
	for i := range fit {
		h := &fit[i]
		if !s.wanted(h.rank) && !s.counting() {
			continue
		}
		if ok, err := s.content(&h.located, known[h.ID]); err != nil {
			return err
		} else if ok {
			s.keep(&h.located, h.rank)
		}
	}
	return nil
}

// keep counts a span, and keeps it where it is among the best.
func (s *search) keep(l *located, at rank) {
	s.total++
	if !s.wanted(at) {
		return
	}
	n, _ := slices.BinarySearchFunc(s.best, at, func(b hit, r rank) int {
		if s.by.before(b.rank, r) {
			return -1
		}
		return 1
	})
	if s.best = slices.Insert(s.best, n, hit{*l, at}); len(s.best) > s.limit {
		s.best = s.best[:s.limit]
	}
}

// searchable waits until names and folders have been read.
func (c *room) searchable(ctx context.Context) error {
	select {
	case <-c.indexed:
		return c.indexing
	case <-ctx.Done():
		return ctx.Err()
	}
}

// readIndex reads names and folders; what is lost of the names is made anew.
func (c *room) readIndex(ctx context.Context) error {
	if err := c.index.load(ctx, c.f.Reads); err != nil {
		return err
	}
	err := c.text.Load(ctx, c.f.Reads, c.index.met)
	if !errors.Is(err, problem.Damaged) {
		return err
	}
	if err := c.f.Tx(ctx, func(w *file.Writing) error { return c.rebuildNames(ctx, w) }); err != nil {
		return err
	}
	return c.text.Load(ctx, c.f.Reads, c.index.met)
}

// rebuildNames makes the names from the blocks, source by source.
func (c *room) rebuildNames(ctx context.Context, w *file.Writing) error {
	if err := names.Drop(ctx, w); err != nil {
		return err
	}
	sources, err := file.Numbers(w.QueryContext(ctx, "SELECT id FROM sources ORDER BY id"))
	if err != nil {
		return err
	}
	for _, source := range sources {
		if err := c.rebuildNamesOf(ctx, w, copies.SourceID(source)); err != nil {
			return err
		}
	}
	return nil
}

func (c *room) rebuildNamesOf(ctx context.Context, w *file.Writing, source copies.SourceID) error {
	var batch names.Batch
	for after := int64(0); ; {
		some, err := foldersWhere(ctx, w, "f.source_id = ? AND f.id > ? ORDER BY f.id LIMIT 500", source, after)
		if err != nil {
			return err
		}
		for _, f := range some {
			after = f.id
			parts, err := partsOf(ctx, w, f.id)
			if err != nil {
				return err
			}
			for _, p := range parts {
				if err := namesOf(ctx, w, f, p.id, &batch); err != nil {
					return err
				}
			}
		}
		if batch.Len() >= names.ChunkBytes || len(some) == 0 {
			if err := c.text.Write(ctx, w, source, &batch); err != nil {
				return err
			}
			batch = names.Batch{}
		}
		if len(some) == 0 {
			return nil
		}
	}
}

func namesOf(ctx context.Context, w *file.Writing, f *folder, id int64, into *names.Batch) error {
	raw, err := load(ctx, w, id)
	if err != nil {
		return err
	}
	for _, packed := range [...][]byte{raw.now, raw.past} {
		b, err := block.Read(packed)
		if err != nil {
			return damaged(f, err)
		}
		for last := ""; b.Next(); {
			if at := f.placeOf(&b.Span); at != last {
				into.Add(id, fold.Fold(place.Name(at)))
				last = at
			}
		}
	}
	return nil
}
