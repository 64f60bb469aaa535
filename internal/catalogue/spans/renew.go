package spans

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"slices"

	"humble-rewind/internal/catalogue/block"
	"humble-rewind/internal/catalogue/file"
	"humble-rewind/internal/catalogue/names"
	"humble-rewind/internal/catalogue/rows"
	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/core/problem"
)

// Renew forgets what was recorded of the points in time of a source, so that its survey reads all of them anew. What was
// known of points that its store no longer holds stays as a record, as far as no other point showed it too. Copies that
// receipts and cases name can still be asked for by their numbers.
func (c Surveys) Renew(ctx context.Context, src rows.Source) error {
	defer c.forgetStore(src.ID)
	const inCases = `SELECT CAST(substr(ref, 2) AS INTEGER) FROM case_entries WHERE ref GLOB 'c[0-9]*'`
	stores, err := c.allStores(ctx)
	if err != nil {
		return err
	}
	store := stores[src.ID]
	if store == nil {
		return fmt.Errorf("source %s: %w", src.ID, problem.NotKnown)
	}
	told, err := file.Numbers(c.f.Reads.QueryContext(ctx, inCases))
	if err != nil {
		return err
	}
	err = c.receipts.EachItem(ctx, func(_ int64, i rows.ReceiptItem) error {
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
	folders, err := foldersWhere(ctx, c.f.Reads, "f.source_id = ?", src.ID)
	if err != nil {
		return err
	}
	return c.f.Tx(ctx, func(w *file.Writing) error {
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
						w.Exec(ctx, "INSERT OR IGNORE INTO former_copies (id, source_id, path, name, at) VALUES (?, ?, "+
							"?, ?, ?)", s.ID, src.ID, []byte(f.path), []byte(s.Name), store.Held[i].UnixNano()),
					)
				}
			}
			return left, true
		})
		if err := errors.Join(err, failed, dropPending(ctx, w, src.ID)); err != nil {
			return err
		}
		if err := w.Exec(ctx, "DELETE FROM captures WHERE source_id = ?", src.ID); err != nil {
			return err
		}
		return w.Exec(ctx, "UPDATE sources SET renew = 0, trouble = '', last_capture = NULL, found = 0, renewed_below = ? WHERE id = ?",
			c.counters.lastSpan()+1, src.ID)
	})
}

// successor finds the copy that a copy forgotten by Renew is now: of what was recorded anew at its place in its store, what
// the same capture showed. The error, problem.NotKnown, says what became of it.
func (r *look) successor(ctx context.Context, id copies.ID) (located, error) {
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
	return located{}, r.unknown(ctx, id)
}

// unknown is what is said of a number under which nothing is known, be it that its store is out of scope.
func (r *look) unknown(ctx context.Context, id copies.ID) error {
	var forgotten bool
	if err := r.q.QueryRowContext(ctx, "SELECT EXISTS (SELECT 1 FROM sources WHERE renewed_below > ?)", id).Scan(&forgotten); err != nil {
		return err
	}
	if forgotten {
		return fmt.Errorf("copy %s: its store was read anew and its copies have other numbers since; look for it by its place or name: %w", id,
			problem.NotKnown)
	}
	return fmt.Errorf("copy %s: %w", id, problem.NotKnown)
}

// deleteContents ends with the folders of which nothing is to be known any more of the contents of their spans.
const deleteContents = "DELETE FROM contents WHERE (SELECT folder_id FROM id_runs WHERE first <= span_id ORDER BY first DESC LIMIT 1) IN "

// Disbelieve forgets what is known of the contents of a source's copies: its store says now that they may have become another's since. What is
// read of them from then on counts.
func (c Contents) Disbelieve(ctx context.Context, id copies.SourceID) error {
	_, err := c.f.Write.ExecContext(ctx, deleteContents+"(SELECT id FROM folders WHERE source_id = ?)", id)
	return err
}

// forget removes sources with everything that surveys saw in them, and what remove removes, which has to be something.
func (c *room) forget(ctx context.Context, sources, remove string, arg any) error {
	of := "(SELECT id FROM folders WHERE source_id IN (SELECT id FROM sources WHERE " + sources + "))"
	defer c.forgetStores()
	err := c.f.Tx(ctx, func(w *file.Writing) error {
		for _, step := range []string{
			deleteContents + of,
			"DELETE FROM blocks WHERE id >> 36 IN " + of,
			"DELETE FROM elsewhere WHERE block_id >> 36 IN " + of,
			"DELETE FROM link_targets WHERE folder_id IN " + of,
			"DELETE FROM pending_blocks WHERE id >> 36 IN " + of,
			"DELETE FROM pending_folders WHERE id IN " + of,
			// Not from id_runs: a number that is found nowhere else would seem to be of the run before. It is never given again.
			"DELETE FROM folders WHERE id IN " + of,
		} {
			if _, err := w.ExecContext(ctx, step, arg); err != nil {
				return err
			}
		}
		if err := file.Affected(w.ExecContext(ctx, remove, arg)); err != nil {
			return err
		}
		if _, err := w.ExecContext(ctx, `DELETE FROM dirs WHERE id NOT IN (SELECT dir_id FROM folders WHERE dir_id IS NOT NULL) AND
			id NOT IN (SELECT dir_id FROM elsewhere)`); err != nil {
			return err
		}
		return names.Forget(ctx, w)
	})
	if err != nil {
		return err
	}
	<-c.indexed
	return c.readIndex(context.WithoutCancel(ctx))
}
