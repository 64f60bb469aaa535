package catalogue

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"slices"

	"humble-rewind/internal/catalogue/block"
	"humble-rewind/internal/core/copies"
)

// Renew forgets what was recorded of the points in time of a source, so that its survey reads all of them anew. What was
// known of points that its store no longer holds stays as a record, as far as no other point showed it too. Copies that
// receipts and cases name can still be asked for by their numbers.
func (c *Catalogue) Renew(ctx context.Context, src Source) error {
	defer c.forgetStore(src.ID)
	const inCases = `SELECT CAST(substr(ref, 2) AS INTEGER) FROM case_entries WHERE ref GLOB 'c[0-9]*'`
	stores, err := c.Stores(ctx)
	if err != nil {
		return err
	}
	store := stores[src.ID]
	if store == nil {
		return fmt.Errorf("source %s: %w", src.ID, ErrNotFound)
	}
	told, err := numbers(c.reads.QueryContext(ctx, inCases))
	if err != nil {
		return err
	}
	err = c.eachItem(ctx, func(_ int64, i ReceiptItem) error {
		if i.Source == src.ID {
			told = append(told, int64(i.Copy))
		}
		return nil
	})
	if err != nil {
		return err
	}
	slices.Sort(told)
	latest := int64(never)
	if !store.Latest().IsZero() {
		latest = store.Latest().UnixNano()
	}
	folders, err := foldersWhere(ctx, c.reads, "f.source_id = ?", src.ID)
	if err != nil {
		return err
	}
	return c.tx(ctx, func(tx *sql.Tx) error {
		w := newWriting(tx)
		var failed error
		err := c.rewriteAll(ctx, w, folders, func(f *folder, all []block.Span) ([]block.Span, bool) {
			var left []block.Span
			for _, s := range all {
				i, held := store.HeldIn(s.First, s.Last)
				if !held {
					if s.Stands() {
						s.Last = max(latest, s.First)
					}
					left = append(left, s)
					continue
				}
				if _, ok := slices.BinarySearch(told, int64(s.ID)); ok {
					failed = errors.Join(
						failed,
						w.exec(ctx, "INSERT OR IGNORE INTO former_copies (id, source_id, path, name, at) VALUES (?, ?, "+
							"?, ?, ?)", s.ID, src.ID, []byte(f.path), []byte(s.Name), store.Held[i].UnixNano()),
					)
				}
			}
			return left, true
		})
		if err := errors.Join(err, failed, dropPending(ctx, w, src.ID)); err != nil {
			return err
		}
		if err := w.exec(ctx, "DELETE FROM captures WHERE source_id = ?", src.ID); err != nil {
			return err
		}
		return w.exec(ctx, "UPDATE sources SET renew = 0, trouble = '', last_capture = NULL, found = 0, renewed_below = ? WHERE id = ?",
			c.counters.lastSpan()+1, src.ID)
	})
}

// successor finds the copy that a copy forgotten by Renew is now: of what was recorded anew at its place in its store, what
// the same capture showed. The error, ErrNotFound, says what became of it.
func (r *reading) successor(ctx context.Context, id copies.ID) (located, error) {
	var source copies.SourceID
	var at int64
	var path, name string
	err := r.q.QueryRowContext(ctx, "SELECT source_id, path, name, at FROM former_copies WHERE id = ?", id).Scan(&source, &path, &name, &at)
	if err != nil && !errors.Is(err, sql.ErrNoRows) {
		return located{}, err
	}
	if err == nil {
		f, err := folderAt(ctx, r.q, source, path)
		if err != nil {
			return located{}, err
		}
		var now located
		if f != nil {
			all, err := r.under(ctx, f, name)
			if err != nil {
				return located{}, err
			}
			for _, l := range all {
				if l.At(at) && l.ID > now.ID {
					now = l
				}
			}
		}
		if now.ID != 0 {
			return now, nil
		}
	}
	var forgotten bool
	if err := r.q.QueryRowContext(ctx, "SELECT EXISTS (SELECT 1 FROM sources WHERE renewed_below > ?)", id).Scan(&forgotten); err != nil {
		return located{}, err
	}
	if forgotten {
		return located{}, fmt.Errorf(
			"copy %s: its store was read anew after an upgrade and its copies have other numbers since; look for it "+
				"by its place or name: %w",
			id,
			ErrNotFound,
		)
	}
	return located{}, fmt.Errorf("copy %s: %w", id, ErrNotFound)
}
