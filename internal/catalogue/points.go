package catalogue

import (
	"context"
	"database/sql"
	"errors"
	"strings"
	"time"

	"humble-rewind/internal/core/sighting"
)

// beginDated begins, or takes up again, the reading of one of the points in time that a source holds.
func (c *Catalogue) beginDated(ctx context.Context, src Source, point sighting.Capture) (*Capture, error) {
	return c.capture(ctx, src, point, true)
}

// late tells whether a later point in time was read before this one.
func (k *Capture) late() bool { return k.after != forever }

// Points lists the points in time of a source that were read completely, by name.
func (c *Catalogue) Points(ctx context.Context, sourceID int64) (map[string]time.Time, error) {
	rows, err := c.read.QueryContext(ctx, "SELECT name, at FROM captures WHERE source_id = ? AND complete AND held", sourceID)
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

// around returns, for a capture that comes late, the spans of a folder of the store that the captures before and behind
// it show, by name, and those that an interrupted reading of this very capture has added.
func (k *Capture) around(ctx context.Context, dir string) (before, behind, own map[string]knownSpan, err error) {
	before, behind, own = map[string]knownSpan{}, map[string]knownSpan{}, map[string]knownSpan{}
	err = k.spans(
		ctx,
		dir,
		"x.first_at <= ? AND (x.last_at IS NULL OR x.last_at >= ?)",
		[]any{k.after, k.before},
		func(name string, s knownSpan) error {
			if s.firstAt <= k.before && s.lastAt >= k.before {
				before[name] = s
			}
			if s.firstAt <= k.after && s.lastAt >= k.after {
				behind[name] = s
			}
			if s.firstAt == k.at || s.lastAt == k.at {
				own[name] = s
			}
			return nil
		},
	)
	return before, behind, own, err
}

// extend makes a span that the capture before this one was the last to show, or the one behind the first, reach this one.
func (k *Capture) extend(ctx context.Context, s knownSpan) error {
	column := "last_at"
	if s.firstAt > k.at {
		column = "first_at"
	}
	_, err := k.c.write.ExecContext(ctx, "UPDATE spans SET "+column+" = ? WHERE id = ?", k.at, s.ID)
	return err
}

// splitSpan makes two spans of one that this capture shows to have been interrupted.
func (k *Capture) splitSpan(ctx context.Context, span int64) error {
	return k.c.tx(ctx, func(tx *sql.Tx) error { return k.split(ctx, tx, "id = ?", span) })
}

func (k *Capture) split(ctx context.Context, tx *sql.Tx, where string, args ...any) error {
	across := where + " AND first_at <= ? AND (last_at IS NULL OR last_at >= ?)"
	args = append(args, k.before, k.after)
	if _, err := tx.ExecContext(ctx, "INSERT INTO spans ("+spanColumns+", first_at, last_at) SELECT "+spanColumns+", ?, last_at FROM "+
		"spans WHERE "+across,
		append([]any{k.after}, args...)...); err != nil {
		return err
	}
	_, err := tx.ExecContext(ctx, "UPDATE spans SET last_at = ? WHERE "+across, append([]any{k.before}, args...)...)
	return err
}

// discard takes everything back that the capture has recorded.
func (k *Capture) discard(ctx context.Context) error {
	if err := k.written(); err != nil {
		return err
	}
	k.fresh, k.ended = nil, nil
	if k.id == 0 {
		return nil
	}
	return k.c.dropCapture(ctx, k.source.ID, k.id, k.at)
}

func (c *Catalogue) dropCapture(ctx context.Context, sourceID, id, at int64) error {
	return c.tx(ctx, func(tx *sql.Tx) error {
		if _, err := tx.ExecContext(ctx, "DELETE FROM captures WHERE id = ?", id); err != nil {
			return err
		}
		_, err := tx.ExecContext(
			ctx,
			"DELETE FROM spans WHERE source_id = ? AND first_at = ? AND (last_at IS NULL OR last_at = first_at)",
			sourceID,
			at,
		)
		return err
	})
}

// endSurvey keeps how a survey of a source went. held says which points in time the store still holds, nil where it does
// not hold several; those no longer there are records only from now on. readable is how many copies can be read, those
// included; the answer is how many that leaves.
func (c *Catalogue) endSurvey(ctx context.Context, src Source, at time.Time, held map[string]bool, readable int64,
	notes []string, memo []byte) (int64, error) {
	if held != nil {
		lost, err := c.thin(ctx, src.ID, held)
		if err != nil {
			return 0, err
		}
		readable -= lost
	}
	defer c.forgetStores()
	_, err := c.write.ExecContext(
		ctx,
		"UPDATE sources SET surveyed_at = ?, trouble = '', recheck = 0, notes = ?, found = ?, memo = ? WHERE id = ?",
		at.UnixNano(),
		toJSON(notes),
		readable,
		memo,
		src.ID,
	)
	return readable, err
}

// thin notes which points in time are gone, and that what only they showed cannot be read any more: so many copies.
func (c *Catalogue) thin(ctx context.Context, sourceID int64, held map[string]bool) (int64, error) {
	rows, err := c.read.QueryContext(ctx, "SELECT id, name, at, complete FROM captures WHERE source_id = ? AND held", sourceID)
	if err != nil {
		return 0, err
	}
	defer rows.Close()
	type gone struct {
		id, at   int64
		complete bool
	}
	var all []gone
	for rows.Next() {
		var g gone
		var name string
		if err := rows.Scan(&g.id, &name, &g.at, &g.complete); err != nil {
			return 0, err
		}
		if !held[name] {
			all = append(all, g)
		}
	}
	if err := errors.Join(rows.Err(), rows.Close()); err != nil || len(all) == 0 {
		return 0, err
	}
	for _, g := range all {
		if !g.complete { // a reading that was interrupted, of what is not there any more
			if err := c.dropCapture(ctx, sourceID, g.id, g.at); err != nil {
				return 0, err
			}
		} else if _, err := c.write.ExecContext(ctx, "UPDATE captures SET held = 0 WHERE id = ?", g.id); err != nil {
			return 0, err
		}
	}
	changed, err := c.write.ExecContext(
		ctx,
		`UPDATE spans SET readable = 0 WHERE source_id = ?1 AND readable AND NOT EXISTS (SELECT 1 FROM captures k
		WHERE k.source_id = ?1 AND k.held AND k.at >= spans.first_at AND (spans.last_at IS NULL OR k.at <= spans.last_at))`,
		sourceID,
	)
	if err != nil {
		return 0, err
	}
	return changed.RowsAffected()
}

// Held lists the points in time of a source that can still be read and lie from one moment to another, oldest first.
func (c *Catalogue) Held(ctx context.Context, sourceID int64, from, to time.Time) ([]sighting.Capture, error) {
	rows, err := c.read.QueryContext(
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
func (c *Catalogue) Divide(ctx context.Context, span int64, last, first time.Time, before, after []byte) error {
	return c.tx(ctx, func(tx *sql.Tx) error {
		if _, err := tx.ExecContext(ctx, "INSERT INTO spans ("+spanColumns+", first_at, last_at) SELECT "+strings.Replace(spanColumns,
			"sha256", "?", 1)+", ?, last_at FROM spans WHERE id = ?",
			after, first.UnixNano(), span); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, "UPDATE spans SET last_at = ?, sha256 = ?, condition = NULL WHERE id = ?", last.UnixNano(),
			before, span); err != nil {
			return err
		}
		if err := judgeKnown(ctx, tx, before); err != nil {
			return err
		}
		return judgeKnown(ctx, tx, after)
	})
}
