package spans

import (
	"context"
	"database/sql"
	"errors"
	"strings"

	"humble-rewind/internal/catalogue/block"
	"humble-rewind/internal/catalogue/file"
	"humble-rewind/internal/catalogue/names"
	"humble-rewind/internal/catalogue/rows"
	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/core/digest"
	"humble-rewind/internal/core/entry"
	fold "humble-rewind/internal/core/names"
	"humble-rewind/internal/core/place"
)

// folderChange is what a survey has found out about one folder, to be written as a whole or not at all.
type folderChange struct {
	folder  folder
	fresh   bool // it is not yet among the folders
	print   []byte
	blocks  []blockChange
	delayed bool  // it waits for the end of its capture
	since   int64 // when it was read, see rewrites
}

// blockChange is a block as it becomes.
type blockChange struct {
	id        int64 // its position, until it is written
	low       string
	now, past []block.Span
	keepPast  bool     // what has ended of it stays as it is
	whole     bool     // it is new in a folder that was known: what it holds was in another block
	names     []string // in the store, of entries that are new
	splits    []split
	bounds    bounds // as it is written
	waits     *waitingBlock
}

// waitingBlock is a block that waits packed until its folder is written: of a folder of a million entries that are all new, there are a
// thousand.
type waitingBlock struct {
	spans     int
	now, past []byte
	names     string // with a zero byte, which no name has, behind each
}

// wait packs what a block holds; unpack undoes that.
func (b *blockChange) wait() {
	w := &waitingBlock{spans: len(b.now) + len(b.past), now: block.Encode(b.now), past: block.Encode(b.past)}
	if len(b.names) > 0 {
		w.names = strings.Join(b.names, "\x00") + "\x00"
	}
	b.now, b.past, b.names, b.waits = nil, nil, nil, w
}

func (b *blockChange) unpack() (err error) {
	w := b.waits
	if w == nil {
		return nil
	}
	b.waits = nil
	if b.now, err = block.Decode(w.now); err != nil {
		return err
	}
	if b.past, err = block.Decode(w.past); err != nil {
		return err
	}
	for name := range strings.SplitSeq(strings.TrimSuffix(w.names, "\x00"), "\x00") {
		if w.names != "" {
			b.names = append(b.names, name)
		}
	}
	return nil
}

// weight is about how many spans it takes to write a change.
func (f *folderChange) weight() (n int) {
	for _, b := range f.blocks {
		n += len(b.now) + len(b.past) + 1
		if b.waits != nil {
			n += b.waits.spans
		}
	}
	return n
}

// folderWriter writes what became of folders, with everything that belongs to them, in one transaction.
type folderWriter struct {
	c      *room
	w      *file.Writing
	source rows.Source
	dirs   map[string]int64 // numbers of folders of the machine met lately
	moving bool             // all spans are new to the blocks, though they have numbers

	folders, blocks, pendingBlocks, runs, elsewhere, targets, contents *file.Inserter
	keys                                                               []sizeKey
	text                                                               names.Batch
	sums                                                               []digest.Sum // digests that became known without reading
}

// maxInterned bounds the folders remembered.
const maxInterned = 10_000

const (
	blockColumns = "id, low, least, greatest, gone_last, gone_first, written, largest, now, past"
	putBlock     = `ON CONFLICT DO UPDATE SET low = excluded.low, least = excluded.least, greatest = excluded.greatest, gone_last =
		excluded.gone_last, gone_first = excluded.gone_first, written = excluded.written, largest = excluded.largest, now = excluded.now,
		past = excluded.past`
)

func (c *room) folderWriter(w *file.Writing, source rows.Source, dirs map[string]int64) *folderWriter {
	return &folderWriter{c: c, w: w, source: source, dirs: dirs,
		folders: w.Inserter("INSERT INTO folders (id, source_id, path, dir_id, print, standing, parts, greatest, gone_last, gone_first, "+
			"written, largest)", "", 12),
		blocks:        w.Inserter("INSERT INTO blocks ("+blockColumns+")", putBlock, 10),
		pendingBlocks: w.Inserter("INSERT INTO pending_blocks (source_id, "+blockColumns+")", putBlock, 11),
		runs:          w.Inserter("INSERT INTO id_runs (first, folder_id)", "", 2),
		elsewhere:     w.Inserter("INSERT INTO elsewhere (dir_id, name, block_id)", "ON CONFLICT DO NOTHING", 3),
		targets:       w.Inserter("INSERT INTO link_targets (target, folder_id)", "ON CONFLICT DO NOTHING", 2),
		contents: w.Inserter("INSERT INTO contents (span_id, sha256, named)", "ON CONFLICT DO UPDATE SET sha256 = excluded.sha256, "+
			"condition = NULL, named = excluded.named", 3),
	}
}

// dir returns the number of a folder of the machine, new or known.
func (f *folderWriter) dir(ctx context.Context, path string) (int64, error) {
	if id, ok := f.dirs[path]; ok {
		return id, nil
	}
	var id int64
	err := f.w.QueryRowContext(ctx, "SELECT id FROM dirs WHERE machine_id = ? AND path = ?", f.source.MachineID, []byte(path)).Scan(&id)
	if errors.Is(err, sql.ErrNoRows) {
		err = f.w.QueryRowContext(ctx, "INSERT INTO dirs (machine_id, path) VALUES (?, ?) RETURNING id", f.source.MachineID,
			[]byte(path)).Scan(&id)
	}
	if err != nil {
		return 0, err
	}
	if len(f.dirs) >= maxInterned {
		clear(f.dirs)
	}
	f.dirs[path] = id
	return id, nil
}

// write writes one folder.
func (f *folderWriter) write(ctx context.Context, change *folderChange) error {
	if !change.fresh && f.c.rewrites.since(change.folder.id, change.since) {
		return ErrMeanwhile
	}
	for i := range change.blocks {
		b := &change.blocks[i]
		waited := b.waits != nil
		if err := b.unpack(); err != nil {
			return err
		}
		if err := f.block(ctx, change, b); err != nil {
			return err
		}
		if waited {
			b.now, b.past, b.names = nil, nil, nil
		}
	}
	var dir any
	if change.folder.dir != "" {
		id, err := f.dir(ctx, change.folder.dir)
		if err != nil {
			return err
		}
		dir = id
	}
	x := &change.folder
	b := &x.bounds
	switch {
	case change.fresh:
		return f.folders.Add(ctx, x.id, f.source.ID, []byte(x.path), dir, change.print, x.standing, x.parts, b.greatest, b.goneLast,
			b.goneFirst, b.written, b.largest)
	case change.delayed:
		if err := f.w.Exec(ctx, "UPDATE folders SET dir_id = coalesce(dir_id, ?) WHERE id = ?", dir, x.id); err != nil {
			return err
		}
		return f.w.Exec(ctx, "INSERT OR REPLACE INTO pending_folders VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?)", x.id, f.source.ID,
			change.print, x.standing, x.parts, b.greatest, b.goneLast, b.goneFirst, b.written, b.largest)
	}
	return f.w.Exec(ctx, `UPDATE folders SET dir_id = coalesce(dir_id, ?), print = ?, standing = ?, parts = ?,
		greatest = ?, gone_last = ?, gone_first = ?, written = ?, largest = ? WHERE id = ?`, dir, change.print, x.standing,
		x.parts, b.greatest, b.goneLast, b.goneFirst, b.written, b.largest, x.id)
}

// block writes one block. What is new in it takes its number.
func (f *folderWriter) block(ctx context.Context, change *folderChange, b *blockChange) error {
	b.id = blockID(change.folder.id, b.id)
	if err := f.number(ctx, change, b); err != nil {
		return err
	}
	if err := f.known(ctx, change, b); err != nil {
		return err
	}
	least, greatest := reachOf(b.now, b.past)
	for _, spans := range [...][]block.Span{b.now, b.past} {
		for i := range spans {
			b.bounds.take(&spans[i])
		}
	}
	now, past := block.Encode(b.now), []byte(nil)
	if b.keepPast {
		// Also what is kept unread is within.
		var l sql.NullInt64
		var kept bounds
		err := f.w.QueryRowContext(ctx, "SELECT past, least, greatest, gone_last, gone_first, written, largest FROM blocks WHERE id = ?", b.id).
			Scan(&past, &l, &kept.greatest, &kept.goneLast, &kept.goneFirst, &kept.written, &kept.largest)
		if err != nil && !errors.Is(err, sql.ErrNoRows) {
			return err
		}
		if len(past) > 0 {
			least = min(least, l.Int64)
			b.bounds.join(&kept)
			greatest = max(greatest, kept.greatest)
		}
	} else {
		past = block.Encode(b.past)
	}
	x := &b.bounds
	row := []any{b.id, []byte(b.low), least, greatest, x.goneLast, x.goneFirst, x.written, x.largest, now, past}
	if change.delayed {
		return f.pendingBlocks.Add(ctx, append([]any{f.source.ID}, row...)...)
	}
	return f.blocks.Add(ctx, row...)
}

// reachOf returns the least and the greatest number of spans.
func reachOf(all ...[]block.Span) (least, greatest int64) {
	least = block.Open
	for _, spans := range all {
		for i := range spans {
			least, greatest = min(least, int64(spans[i].ID)), max(greatest, int64(spans[i].ID))
		}
	}
	return least, greatest
}

// number gives numbers to what is new, and keeps what is looked up by more than names.
func (f *folderWriter) number(ctx context.Context, change *folderChange, b *blockChange) error {
	count := int64(0)
	for _, spans := range [...][]block.Span{b.now, b.past} {
		for i := range spans {
			if spans[i].ID == 0 {
				count++
			}
		}
	}
	if count == 0 && !f.moving {
		return nil
	}
	next := int64(0)
	if count > 0 {
		next = f.c.counters.spans(count)
		if err := f.runs.Add(ctx, next, change.folder.id); err != nil {
			return err
		}
	}
	for _, spans := range [...][]block.Span{b.now, b.past} {
		for i := range spans {
			s := &spans[i]
			switch {
			case s.ID == 0:
				s.ID = copies.ID(next)
				next++
			case !f.moving:
				continue
			}
			if err := f.lookedUp(ctx, change, s); err != nil {
				return err
			}
		}
	}
	return f.split(ctx, b)
}

// split gives what is known of a content to a span that shares it with the one that it was part of.
func (f *folderWriter) split(ctx context.Context, b *blockChange) error {
	for _, s := range b.splits {
		for _, spans := range [...][]block.Span{named(b.now, s.name), named(b.past, s.name)} {
			for i := range spans {
				if x := &spans[i]; x.First == s.first && x.ID != s.of {
					if err := f.w.Exec(ctx, "INSERT OR IGNORE INTO contents (span_id, sha256, condition, named) SELECT ?, sha256, condition, "+
						"named FROM contents WHERE span_id = ?", int64(x.ID), int64(s.of)); err != nil {
						return err
					}
				}
			}
		}
	}
	return nil
}

// lookedUp keeps of a new span what it is looked up by.
func (f *folderWriter) lookedUp(ctx context.Context, change *folderChange, s *block.Span) error {
	change.folder.bounds.take(s)
	if at := instantNanos(s.Written); s.Type == entry.File && s.Size > 0 && at.Valid {
		f.keys = append(f.keys, sizeKey{s.Size, at.Int64, change.folder.id})
	}
	if s.Type == entry.Link && s.Target != "" {
		if err := f.targets.Add(ctx, []byte(s.Target), change.folder.id); err != nil {
			return err
		}
	}
	id := s.Mark.Content
	if id.Value == "" || f.source.Traits.Unproved { // what it calls its contents tells nothing of what they are now
		return nil
	}
	var sum any
	if told := digest.Parse(id.Value); id.Kind == entry.SHA256 && told.Known() {
		sum = told.Bytes() // which need not be read for
		f.sums = append(f.sums, told)
	}
	return f.contents.Add(ctx, int64(s.ID), sum, contentName(id))
}

// known makes the names of what is new in a block searchable, and the folders that its entries come from.
func (f *folderWriter) known(ctx context.Context, change *folderChange, b *blockChange) error {
	see := func(s *block.Span) error {
		at := change.folder.placeOf(s)
		f.text.Add(b.id, fold.Fold(place.Name(at)))
		if s.Place == "" {
			return nil
		}
		dir, err := f.dir(ctx, place.Folder(at))
		if err == nil {
			err = f.elsewhere.Add(ctx, dir, nameHash(place.Name(at)), b.id)
		}
		return err
	}
	if b.whole {
		for _, spans := range [...][]block.Span{b.now, b.past} {
			for i := range spans {
				if err := see(&spans[i]); err != nil {
					return err
				}
			}
		}
		return nil
	}
	for _, name := range b.names {
		for _, spans := range [...][]block.Span{named(b.now, name), named(b.past, name)} {
			for i := range spans {
				if err := see(&spans[i]); err != nil {
					return err
				}
			}
		}
	}
	return nil
}

// flush writes what has been gathered.
func (f *folderWriter) flush(ctx context.Context) error {
	for _, i := range [...]*file.Inserter{f.folders, f.blocks, f.pendingBlocks, f.runs, f.elsewhere, f.targets, f.contents} {
		if err := i.Flush(ctx); err != nil {
			return err
		}
	}
	if !f.moving { // of what is moved by a migration the names are made anew
		if err := f.c.text.Write(ctx, f.w, f.source.ID, &f.text); err != nil {
			return err
		}
	}
	if err := addKeys(ctx, f.w, f.keys); err != nil {
		return err
	}
	j := f.c.judging(f.w)
	for _, sum := range f.sums { // of some stores the digests are known without reading
		if err := j.known(ctx, sum); err != nil {
			return err
		}
	}
	return f.c.counters.keep(ctx, f.w)
}

// writeFolders writes changes in one transaction, with what else belongs into it.
func (c *room) writeFolders(ctx context.Context, source rows.Source, dirs map[string]int64, changes []folderChange,
	also func(*file.Writing) error) error {
	var written *folderWriter
	err := c.f.Tx(ctx, func(w *file.Writing) error {
		written = c.folderWriter(w, source, dirs)
		for i := range changes {
			if err := written.write(ctx, &changes[i]); err != nil {
				return err
			}
		}
		if err := written.flush(ctx); err != nil {
			return err
		}
		return also(w)
	})
	if err != nil {
		return err
	}
	<-c.indexed // else it is read meanwhile
	for i := range changes {
		c.index.put(&changes[i])
	}
	written.text.Each(c.index.met)
	if c.text.Take(source.ID, &written.text) {
		return c.readIndex(context.WithoutCancel(ctx))
	}
	return nil
}

// contentName is a content id as it is kept.
func contentName(id entry.ContentID) string { return string(id.Kind) + ":" + id.Value }
