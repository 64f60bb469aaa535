package spans

import (
	"context"
	"slices"

	"humble-rewind/internal/catalogue/block"
	"humble-rewind/internal/catalogue/file"
	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/place"
)

// rewrite changes the spans of a block. What change returns is kept in place of them; new spans have the number 0.
func (c *room) rewrite(ctx context.Context, w *file.Writing, f *folder, id int64, change func([]block.Span) ([]block.Span, bool)) error {
	raw, err := load(ctx, w, id)
	if err != nil {
		return err
	}
	all, err := block.Decode(raw.past)
	var now []block.Span
	if err == nil {
		now, err = block.Decode(raw.now)
	}
	if err != nil {
		return damaged(f, err)
	}
	after, isChanged := change(append(all, now...))
	if !isChanged {
		return nil
	}
	c.rewrites.note(f.id)
	b := blockChange{id: id}
	for _, s := range after {
		if s.ID == 0 {
			s.ID = copies.ID(c.counters.spans(1))
			if err := w.Exec(ctx, "INSERT INTO id_runs (first, folder_id) VALUES (?, ?)", int64(s.ID), f.id); err != nil {
				return err
			}
			f.bounds.take(&s)
			c.index.widen(f.id, id, int64(s.ID))
		}
		if s.Stands() {
			b.now = append(b.now, s)
		} else {
			b.past = append(b.past, s)
		}
	}
	sortSpans(b.now)
	sortSpans(b.past)
	least, greatest := reachOf(b.now, b.past)
	f.standing += int64(len(b.now) - len(now))
	if err := w.Exec(ctx, "UPDATE blocks SET least = ?, greatest = max(greatest, ?), now = ?, past = ? WHERE id = ?", least, greatest,
		block.Encode(b.now), block.Encode(b.past), id); err != nil {
		return err
	}
	if err := c.counters.keep(ctx, w); err != nil {
		return err
	}
	return w.Exec(ctx, "UPDATE folders SET print = NULL, standing = ?, greatest = max(greatest, ?) WHERE id = ?", f.standing,
		f.bounds.greatest, f.id)
}

// rewriteAll changes the spans of all blocks of some folders.
func (c *room) rewriteAll(ctx context.Context, w *file.Writing, folders []*folder,
	change func(*folder, []block.Span) ([]block.Span, bool)) error {
	for _, f := range folders {
		parts, err := partsOf(ctx, w, f.id)
		if err != nil {
			return err
		}
		for _, p := range parts {
			if err := c.rewrite(ctx, w, f, p.id, func(all []block.Span) ([]block.Span, bool) { return change(f, all) }); err != nil {
				return err
			}
		}
	}
	return nil
}

// End ends the spans of copies that were taken out of their stores, and of everything in them.
func (c Surveys) End(ctx context.Context, ids []copies.ID) error {
	return c.change(ctx, ids, func(s *block.Span, _ []block.Span, last int64) bool {
		if !s.Stands() {
			return false
		}
		s.Last = max(s.First, last)
		return true
	})
}

// Reopen takes EndCopies back for copies that were put back into their stores, but where a survey has seen them
// there again already.
func (c Surveys) Reopen(ctx context.Context, ids []copies.ID) error {
	return c.change(ctx, ids, func(s *block.Span, all []block.Span, _ int64) bool {
		// Of several spans that one store position has had, only the latest can be open.
		if s.Stands() || slices.ContainsFunc(all, func(o block.Span) bool { return o.Name == s.Name && o.ID > s.ID }) {
			return false
		}
		s.Last = block.Open
		return true
	})
}

// change changes the spans of copies and of everything in those that are folders and ended when they did, or stand like them. A span is
// told with all of its block, and with the last capture of its source.
func (c *room) change(ctx context.Context, ids []copies.ID, one func(s *block.Span, all []block.Span, last int64) bool) error {
	if len(ids) == 0 {
		return nil
	}
	r, err := c.look(ctx)
	if err != nil {
		return err
	}
	found, err := r.find(ctx, ids)
	if err != nil {
		return err
	}
	byFolder := map[int64][]copies.ID{}
	for id, l := range found {
		byFolder[l.folder.id] = append(byFolder[l.folder.id], id)
	}
	return c.f.Tx(ctx, func(w *file.Writing) error {
		apply := func(meant func(*block.Span) bool) func(f *folder, all []block.Span) ([]block.Span, bool) {
			return func(f *folder, all []block.Span) ([]block.Span, bool) {
				var last int64
				if s := r.stores[f.source]; s != nil && !s.Latest().IsZero() {
					last = s.Latest().UnixNano()
				}
				any := false
				for i := range all {
					if meant(&all[i]) && one(&all[i], all, last) {
						any = true
					}
				}
				return all, any
			}
		}
		for _, id := range ids { // what is in a folder first: it is known by when the folder ended
			l, ok := found[id]
			if !ok || l.Type != entry.Folder {
				continue
			}
			path := place.Join("/"+l.folder.path, l.Name)[1:]
			inside, err := foldersWhere(ctx, w, "f.source_id = ? AND (f.path = ? OR f.path >= ? AND f.path < ?)", l.folder.source,
				[]byte(path), []byte(path+"/"), []byte(path+"0"))
			if err != nil {
				return err
			}
			if err := c.rewriteAll(ctx, w, inside, apply(func(s *block.Span) bool { return s.Last == l.Last })); err != nil {
				return err
			}
		}
		for id, those := range byFolder {
			f, err := folderByID(ctx, w, id)
			if err != nil {
				return err
			}
			slices.Sort(those)
			meant := func(s *block.Span) bool { _, ok := slices.BinarySearch(those, s.ID); return ok }
			if err := c.rewriteAll(ctx, w, []*folder{f}, apply(meant)); err != nil {
				return err
			}
		}
		return nil
	})
}
