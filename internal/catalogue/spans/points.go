package spans

import (
	"context"
	"errors"
	"slices"
	"time"

	"humble-rewind/internal/catalogue/block"
	"humble-rewind/internal/catalogue/file"
	"humble-rewind/internal/catalogue/rows"
	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/core/digest"
	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/problem"
	"humble-rewind/internal/core/sighting"
)

// Points lists the points in time of a source that were read completely, by name.
func (c Surveys) Points(ctx context.Context, sourceID copies.SourceID) (map[string]time.Time, error) {
	rows, err := c.f.Reads.QueryContext(ctx, "SELECT name, at FROM captures WHERE source_id = ? AND complete AND held", sourceID)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	points := map[string]time.Time{}
	for rows.Next() {
		var name string
		var at int64
		if err := rows.Scan(&name, &at); err != nil {
			return nil, err
		}
		points[name] = time.Unix(0, at).UTC()
	}
	return points, rows.Err()
}

// lineKey tells a span of a line from the others, whatever number it has.
type lineKey struct {
	folder int64
	name   string
	first  int64 // 0 of what is beside the line
	mark   entry.Mark
}

func keyInLine(folder int64, s *block.Span) lineKey {
	k := lineKey{folder, s.Name, s.First, s.Mark}
	if s.Beside {
		k.first = 0
	}
	return k
}

// beginLine records all points in time of a source, not complete yet, in place of those known before, and returns the numbers of what was
// known: what is told again keeps them.
func (c *room) beginLine(ctx context.Context, src rows.Source, points []sighting.Capture) (map[lineKey]copies.ID, error) {
	folders, err := foldersWhere(ctx, c.f.Reads, "f.source_id = ?", src.ID)
	if err != nil {
		return nil, err
	}
	numbers := map[lineKey]copies.ID{}
	defer c.forgetStore(src.ID)
	return numbers, c.f.Tx(ctx, func(w *file.Writing) error {
		if err := c.rewriteAll(ctx, w, folders, func(f *folder, all []block.Span) ([]block.Span, bool) {
			for i := range all {
				numbers[keyInLine(f.id, &all[i])] = all[i].ID
			}
			return nil, len(all) > 0
		}); err != nil {
			return err
		}
		for _, step := range []string{"DELETE FROM captures WHERE source_id = ?", "UPDATE sources SET renew = 0, trouble = '', " +
			"last_capture = NULL, found = 0 WHERE id = ?"} {
			if err := w.Exec(ctx, step, src.ID); err != nil {
				return err
			}
		}
		if err := dropPending(ctx, w, src.ID); err != nil {
			return err
		}
		inserts := w.Inserter("INSERT INTO captures (source_id, at, name, held)", "", 4)
		for _, p := range points {
			if err := inserts.Add(ctx, src.ID, p.At.UnixNano(), []byte(p.Name), true); err != nil {
				return err
			}
		}
		return inserts.Flush(ctx)
	})
}

// discard takes everything back that the capture has recorded.
func (k *Capture) discard(ctx context.Context) error {
	if err := k.written(); err != nil {
		return err
	}
	if k.id == 0 {
		return nil
	}
	return k.c.dropCapture(ctx, k.source.ID, k.id, k.at)
}

// forgetPending forgets what an interrupted reading of a point in time left to wait for its end.
func (c *room) forgetPending(ctx context.Context, source copies.SourceID) error {
	var any bool
	if err := c.f.Reads.QueryRowContext(ctx, "SELECT EXISTS (SELECT 1 FROM pending_blocks) OR EXISTS (SELECT 1 FROM pending_folders)").
		Scan(&any); err != nil || !any {
		return err
	}
	return c.f.Tx(ctx, func(w *file.Writing) error { return dropPending(ctx, w, source) })
}

func dropPending(ctx context.Context, w *file.Writing, source copies.SourceID) error {
	return errors.Join(w.Exec(ctx, dropPendingBlocks, source), w.Exec(ctx, dropPendingFolders, source))
}

// dropCapture forgets a point in time that was not read completely, with what only that showed.
func (c *room) dropCapture(ctx context.Context, source copies.SourceID, id, at int64) error {
	folders, err := foldersWhere(ctx, c.f.Reads, "f.source_id = ?", source)
	if err != nil {
		return err
	}
	// What later captures, read since, show too began with the first of them.
	next := int64(forever)
	if err := c.f.Reads.QueryRowContext(ctx, "SELECT coalesce(min(at), ?) FROM captures WHERE source_id = ? AND complete AND at > ?", next,
		source,
		at).Scan(&next); err != nil {
		return err
	}
	defer c.forgetStore(source)
	return c.f.Tx(ctx, func(w *file.Writing) error {
		if err := errors.Join(w.Exec(ctx, "DELETE FROM captures WHERE id = ?", id), dropPending(ctx, w, source)); err != nil {
			return err
		}
		return c.rewriteAll(ctx, w, folders, func(_ *folder, all []block.Span) ([]block.Span, bool) {
			var left []block.Span
			changed := false
			for _, s := range all {
				switch {
				case s.First != at:
				case next != forever && s.Last >= next:
					s.First, changed = next, true
				default:
					changed = true
					continue
				}
				left = append(left, s)
			}
			return left, changed
		})
	})
}

// endSurvey keeps how a survey of a source went. held says which points in time the store still holds, nil where it does
// not hold several; those no longer there are records only from now on. readable is how many copies can be read, those
// included, and negative where they have to be counted; the answer is how many that leaves.
func (c *room) endSurvey(ctx context.Context, src rows.Source, at time.Time, held map[string]bool, readable int64,
	notes []string, memo []byte) (int64, error) {
	defer c.forgetStore(src.ID)
	if held != nil {
		lost, err := c.thin(ctx, src.ID, held)
		if err != nil {
			return 0, err
		}
		if readable >= 0 {
			readable -= lost
		}
	}
	if readable < 0 {
		var err error
		if readable, err = c.readable(ctx, src.ID); err != nil {
			return 0, err
		}
	}
	_, err := c.f.Write.ExecContext(
		ctx,
		"UPDATE sources SET surveyed_at = ?, trouble = '', recheck = 0, slice = NULL, notes = ?, found = ?, memo = ? WHERE id = ?",
		at.UnixNano(),
		file.ToJSON(notes),
		readable,
		memo,
		src.ID,
	)
	return readable, err
}

// interrupted tells whether a survey of a source wrote something after the last point in time that was read completely, and did not come to
// the end: then nobody knows how many copies it had.
func (c *room) interrupted(ctx context.Context, source copies.SourceID) (is bool, err error) {
	err = c.f.Reads.QueryRowContext(ctx, `SELECT EXISTS (SELECT 1 FROM captures WHERE source_id = ?1 AND NOT complete AND
		id > (SELECT coalesce(max(id), 0) FROM captures WHERE source_id = ?1 AND complete))`, source).Scan(&is)
	return is, err
}

// readable counts the copies of a source that can be read.
func (c *room) readable(ctx context.Context, source copies.SourceID) (count int64, err error) {
	c.forgetStore(source)
	stores, err := c.allStores(ctx)
	if err != nil || stores[source] == nil {
		return 0, err
	}
	for from := (Position{}); ; {
		some, err := c.blocksFrom(ctx, source, from)
		if err != nil || len(some) == 0 {
			return count, err
		}
		for _, b := range some {
			from = Position{b.folder.id, b.id}
			for _, spans := range [...][]block.Span{b.now, b.past} {
				for i := range spans {
					if _, held := stores[source].HeldIn(spans[i].First, spans[i].Last); held && spans[i].Readable {
						count++
					}
				}
			}
		}
	}
}

// thin notes which points in time are gone, and counts how many copies cannot be read any more because only they showed them.
func (c *room) thin(ctx context.Context, sourceID copies.SourceID, held map[string]bool) (lost int64, err error) {
	var known int
	const count = "SELECT count(*) FROM captures WHERE source_id = ? AND held"
	if err := c.f.Reads.QueryRowContext(ctx, count, sourceID).Scan(&known); err != nil || known == len(held) { // each that is held is known
		return 0, err
	}
	rows, err := c.f.Reads.QueryContext(ctx, "SELECT id, name, at, complete FROM captures WHERE source_id = ? AND held", sourceID)
	if err != nil {
		return 0, err
	}
	defer rows.Close()
	type point struct {
		id, at   int64
		complete bool
	}
	var gone []point
	var before, after copies.Store
	for rows.Next() {
		var p point
		var name string
		if err := rows.Scan(&p.id, &name, &p.at, &p.complete); err != nil {
			return 0, err
		}
		if !held[name] {
			gone = append(gone, p)
		} else if p.complete {
			after.Held = append(after.Held, atNanos(p.at))
		}
		if p.complete {
			before.Held = append(before.Held, atNanos(p.at))
		}
	}
	if err := errors.Join(rows.Err(), rows.Close()); err != nil || len(gone) == 0 {
		return 0, err
	}
	thinned := false
	for _, p := range gone {
		if !p.complete { // a reading that was interrupted, of what is not there any more
			if err := c.dropCapture(ctx, sourceID, p.id, p.at); err != nil {
				return 0, err
			}
			continue
		}
		thinned = true
		if _, err := c.f.Write.ExecContext(ctx, "UPDATE captures SET held = 0 WHERE id = ?", p.id); err != nil {
			return 0, err
		}
	}
	if !thinned {
		return 0, nil
	}
	for _, s := range [...]*copies.Store{&before, &after} {
		slices.SortFunc(s.Held, time.Time.Compare)
	}
	for from := (Position{}); ; {
		some, err := c.blocksFrom(ctx, sourceID, from)
		if err != nil || len(some) == 0 {
			return lost, err
		}
		for _, b := range some {
			from = Position{b.folder.id, b.id}
			for _, spans := range [...][]block.Span{b.now, b.past} {
				for i := range spans {
					_, was := before.HeldIn(spans[i].First, spans[i].Last)
					_, is := after.HeldIn(spans[i].First, spans[i].Last)
					if spans[i].Readable && was && !is {
						lost++
					}
				}
			}
		}
	}
}

// Held lists the points in time of a source that can still be read and lie from one moment to another, oldest first.
func (c Copies) Held(ctx context.Context, sourceID copies.SourceID, from, to time.Time) ([]sighting.Capture, error) {
	if r, err := c.look(ctx); err != nil || r.stores[sourceID] == nil {
		return nil, err
	}
	rows, err := c.f.Reads.QueryContext(
		ctx,
		"SELECT name, at FROM captures WHERE source_id = ? AND complete AND held AND at BETWEEN ? AND ? ORDER BY at",
		sourceID,
		from.UnixNano(),
		to.UnixNano(),
	)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var all []sighting.Capture
	for rows.Next() {
		var k sighting.Capture
		var at int64
		if err := rows.Scan(&k.Name, &at); err != nil {
			return nil, err
		}
		k.At = time.Unix(0, at).UTC()
		all = append(all, k)
	}
	return all, rows.Err()
}

// Divide makes two spans of one whose content turned out to have changed between two points in time, though nothing else
// about it did: the span keeps what lasted until last, with its digest, and another one begins at first.
func (c Surveys) Divide(ctx context.Context, span copies.ID, last, first time.Time, before, after digest.Sum) error {
	r, err := c.look(ctx)
	if err != nil {
		return err
	}
	found, err := r.find(ctx, []copies.ID{span})
	if err != nil {
		return err
	}
	l, ok := found[span]
	if !ok {
		return problem.NotKnown
	}
	id, err := r.blockFor(ctx, l.folder, l.Name)
	if err != nil {
		return err
	}
	return c.f.Tx(ctx, func(w *file.Writing) error {
		if err := c.rewrite(ctx, w, l.folder, id, func(all []block.Span) ([]block.Span, bool) {
			i := slices.IndexFunc(all, func(s block.Span) bool { return s.ID == span })
			if i < 0 {
				return all, false
			}
			later := all[i]
			later.ID, later.First = 0, first.UnixNano()
			all[i].Last = last.UnixNano()
			return append(all, later), true
		}); err != nil {
			return err
		}
		if err := w.Exec(ctx, putDigest, int64(span), before.Bytes()); err != nil {
			return err
		}
		// The other has the number given last.
		if err := w.Exec(ctx, putDigest, c.counters.lastSpan(), after.Bytes()); err != nil {
			return err
		}
		j := c.judging(w)
		return errors.Join(j.known(ctx, before), j.known(ctx, after))
	})
}
