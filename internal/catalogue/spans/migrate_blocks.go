package spans

import (
	"context"
	"database/sql"

	"github.com/pressly/goose/v3"

	"humble-rewind/internal/catalogue/block"
	"humble-rewind/internal/catalogue/file"
	"humble-rewind/internal/catalogue/rows"
	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/place"
)

// MoveSpans is the migration that packs the rows of spans into blocks. They keep their numbers, and folders those of the table
// store_dirs. What is kept of a mark and cannot be understood is left out, so that the next survey reads the entry anew.
var MoveSpans = goose.NewGoMigration(10, &goose.GoFunc{RunTx: func(ctx context.Context, tx *sql.Tx) error {
	m := mover{c: &room{}, w: file.NewWriting(tx)}
	if err := m.w.Exec(ctx, "UPDATE counters SET value = (SELECT coalesce(max(id), 0) FROM store_dirs) WHERE name = 'folders'"); err != nil {
		return err
	}
	if err := m.c.counters.load(ctx, m.w); err != nil {
		return err
	}
	if err := m.move(ctx); err != nil {
		return err
	}
	if err := m.runs(ctx); err != nil {
		return err
	}
	return m.w.Exec(ctx, `INSERT INTO contents (span_id, sha256, condition, named) SELECT id, sha256, condition, content FROM spans
		WHERE coalesce(sha256, condition, content) IS NOT NULL ON CONFLICT DO UPDATE SET sha256 = excluded.sha256, condition = excluded.condition,
		named = excluded.named`)
}}, nil)

// mover moves spans from rows into blocks.
type mover struct {
	c      *room
	w      *file.Writing
	writer *folderWriter
	dirs   map[string]int64
	gather int // spans that wait to be written
}

// move moves folder after folder.
func (m *mover) move(ctx context.Context) error {
	for after := int64(0); ; {
		change := folderChange{fresh: true}
		var machine copies.MachineID
		found, err := m.w.QueryContext(ctx, "SELECT d.id, d.source_id, d.path, d.print, s.machine_id FROM store_dirs d JOIN sources s ON "+
			"s.id = d.source_id WHERE d.id > ? ORDER BY d.id LIMIT 1", after)
		if err != nil {
			return err
		}
		any := false
		for found.Next() {
			any = true
			if err := found.Scan(&change.folder.id, &change.folder.source, &change.folder.path, &change.print, &machine); err != nil {
				return err
			}
		}
		if err := found.Close(); err != nil {
			return err
		}
		if !any {
			return m.flush(ctx)
		}
		after = change.folder.id
		if m.writer == nil || m.writer.source.ID != change.folder.source {
			if err := m.flush(ctx); err != nil {
				return err
			}
			m.dirs = map[string]int64{}
			m.writer = m.c.folderWriter(m.w, rows.Source{Source: copies.Source{ID: change.folder.source, MachineID: machine}}, m.dirs)
			m.writer.moving = true
		}
		if err := m.folder(ctx, &change); err != nil {
			return err
		}
	}
}

// flush writes what waits.
func (m *mover) flush(ctx context.Context) error {
	if m.writer == nil {
		return nil
	}
	err := m.writer.flush(ctx)
	m.writer = m.c.folderWriter(m.w, m.writer.source, m.dirs)
	m.writer.moving = true
	m.gather = 0
	return err
}

// folder moves what is known of a folder, some names at a time.
func (m *mover) folder(ctx context.Context, change *folderChange) error {
	rows := 2 * blockSpans
	position, low := int64(0), ""
	for {
		spans, err := m.spans(ctx, change.folder.id, low, rows)
		if err != nil {
			return err
		}
		next, more := "", len(spans) == rows
		if more { // the last name may go on
			next = spans[len(spans)-1].Name
			if i, _ := find(spans, next); i > 0 {
				spans = spans[:i]
			} else {
				next += "\x00"
			}
		}
		if len(spans) > 0 {
			b := m.block(change, spans)
			b.id, b.low = position, low
			if position == 0 {
				b.low = ""
			}
			m.gather += len(spans)
			change.blocks = append(change.blocks, b)
			change.folder.parts++
			if err := m.writer.block(ctx, change, &change.blocks[len(change.blocks)-1]); err != nil {
				return err
			}
			change.blocks = nil
		}
		if !more {
			break
		}
		position, low = position+spacing, next
	}
	if change.folder.parts == 0 {
		return nil
	}
	if err := m.writer.write(ctx, change); err != nil {
		return err
	}
	if m.gather < batchSpans {
		return nil
	}
	return m.flush(ctx)
}

// block makes a block of spans.
func (m *mover) block(change *folderChange, spans []block.Span) blockChange {
	b := blockChange{whole: true}
	for i := range spans {
		s := &spans[i]
		dir, name := place.Folder(s.Place), place.Name(s.Place)
		if name == s.Name && change.folder.dir == "" {
			change.folder.dir = dir
		}
		if name == s.Name && dir == change.folder.dir {
			s.Place = ""
		}
		if s.Stands() {
			b.now = append(b.now, *s)
		} else {
			b.past = append(b.past, *s)
		}
	}
	// A killed survey could leave two spans for one name that seem to stand: the older one has ended.
	for i := 0; i+1 < len(b.now); {
		if b.now[i].Name != b.now[i+1].Name {
			i++
			continue
		}
		over := b.now[i]
		over.Last = max(over.First, b.now[i+1].First)
		b.past = append(b.past, over)
		b.now = append(b.now[:i], b.now[i+1:]...)
	}
	sortSpans(b.past)
	change.folder.standing += int64(len(b.now))
	return b
}

// spans reads rows of a folder, by name.
func (m *mover) spans(ctx context.Context, folder int64, low string, limit int) ([]block.Span, error) {
	rows, err := m.w.QueryContext(
		ctx,
		`SELECT x.id, x.store_name, x.mark, x.type, x.size, x.person, x.written_at, x.gone_at, x.within, x.readable,
		x.origin_known, coalesce(x.notes, ''), coalesce(x.number, 0), coalesce(x.target, x''), coalesce(x.claimed, x''), x.first_at, x.last_at,
		coalesce(x.ref, x''), coalesce(x.lies, ''), d.path, p.name FROM spans x JOIN places p ON p.id = x.place_id JOIN dirs d ON d.id = p.dir_id
		WHERE x.store_dir_id = ? AND x.store_name >= ? ORDER BY x.store_name, x.first_at, x.id LIMIT ?`,
		folder,
		[]byte(low),
		limit,
	)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var all []block.Span
	for rows.Next() {
		var s block.Span
		var mark []byte
		var written, gone, last sql.NullInt64
		var number int64
		var notes, dir, name string
		if err := rows.Scan(&s.ID, &s.Name, &mark, &s.Type, &s.Size, &s.Person, &written, &gone, &s.Within, &s.Readable, &s.OriginKnown, &notes,
			&number, &s.Target, &s.Claimed, &s.First, &last, &s.Ref, &s.Lies, &dir, &name); err != nil {
			return nil, err
		}
		s.Mark, _ = entry.ParseMark(mark)
		s.Size, s.Number, s.Place, s.Gone = max(s.Size, -1), uint64(number), place.Join(dir, name), entry.At(file.Moment(gone))
		if s.Notes, err = file.FromJSON[[]string](notes); err != nil {
			return nil, err
		}
		s.Written = entry.At(file.Moment(written))
		if !written.Valid {
			s.Written = s.Mark.Written // which could not be counted
		}
		if s.Last = block.Open; last.Valid {
			s.Last = last.Int64
			s.Readable = true // as it was while it stood
		}
		all = append(all, s)
	}
	return all, rows.Err()
}

// runs writes down in which folders the numbers are.
func (m *mover) runs(ctx context.Context) error {
	insert := m.w.Inserter("INSERT INTO id_runs (first, folder_id)", "", 2)
	run := int64(0)
	for after := int64(0); ; {
		rows, err := m.w.QueryContext(ctx, "SELECT id, store_dir_id FROM spans WHERE id > ? ORDER BY id LIMIT 10000", after)
		if err != nil {
			return err
		}
		var starts [][2]int64
		before := after
		for rows.Next() {
			var folder int64
			if err := rows.Scan(&after, &folder); err != nil {
				return err
			}
			if folder != run {
				run = folder
				starts = append(starts, [2]int64{after, folder})
			}
		}
		if err := rows.Close(); err != nil {
			return err
		}
		for _, s := range starts {
			if err := insert.Add(ctx, s[0], s[1]); err != nil {
				return err
			}
		}
		if after == before {
			return insert.Flush(ctx)
		}
	}
}
