package catalogue

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
)

// Renew forgets what was recorded of the points in time of a source, so that its survey reads all of them anew. What was
// known of points that its store no longer holds stays as a record, as far as no other point showed it too. Copies that
// receipts and cases name can still be asked for by their numbers.
func (c *Catalogue) Renew(ctx context.Context, src Source) error {
	const (
		held = `EXISTS (SELECT 1 FROM captures k WHERE k.source_id = ?1 AND k.held AND k.at >= x.first_at AND (x.last_at IS NULL OR
			k.at <= x.last_at))`
		// The capture whose bytes a copy was read from.
		latest = `coalesce((SELECT max(k.at) FROM captures k WHERE k.source_id = ?1 AND k.held AND k.at >= x.first_at AND (x.last_at IS
			NULL OR k.at <= x.last_at)), x.first_at)`
		named = `SELECT span_id FROM receipt_items UNION SELECT CAST(substr(ref, 2) AS INTEGER) FROM case_entries WHERE ref GLOB 'c[0-9]*'`
	)
	return c.tx(ctx, func(tx *sql.Tx) error {
		for _, step := range []string{
			`INSERT OR IGNORE INTO former_copies SELECT x.id, x.source_id, x.store_dir_id, x.store_name, ` + latest + ` FROM spans x
				WHERE x.source_id = ?1 AND ` + held + ` AND x.id IN (` + named + `)`,
			`DELETE FROM spans AS x WHERE x.source_id = ?1 AND ` + held,
			`UPDATE spans SET readable = 0, last_at = coalesce(last_at, (SELECT max(at) FROM captures WHERE source_id = ?1), first_at)
				WHERE source_id = ?1`,
			`DELETE FROM captures WHERE source_id = ?1`,
			`UPDATE store_dirs SET print = NULL WHERE source_id = ?1`,
			`UPDATE sources SET renew = 0, trouble = '', last_capture = NULL, found = 0, renewed_below = coalesce((SELECT seq FROM
				sqlite_sequence WHERE name = 'spans'), 0) + 1 WHERE id = ?1`,
		} {
			if _, err := tx.ExecContext(ctx, step, src.ID); err != nil {
				return err
			}
		}
		return nil
	})
}

// successor finds the copy that a copy forgotten by Renew is now: of what was recorded anew at its place in its store, what
// the same capture showed. The error, ErrNotFound, says what became of it.
func (c *Catalogue) successor(ctx context.Context, id int64) (int64, error) {
	var now int64
	err := c.read.QueryRowContext(ctx, `SELECT x.id FROM former_copies f JOIN spans x ON x.store_dir_id = f.store_dir_id AND
		x.store_name = f.store_name
		WHERE f.id = ? AND x.first_at <= f.at AND (x.last_at IS NULL OR x.last_at >= f.at) ORDER BY x.id DESC LIMIT 1`, id).
		Scan(&now)
	if !errors.Is(err, sql.ErrNoRows) {
		return now, err
	}
	var forgotten bool
	if err := c.read.QueryRowContext(ctx, "SELECT EXISTS (SELECT 1 FROM sources WHERE renewed_below > ?)",
		id).Scan(&forgotten); err != nil {
		return 0, err
	}
	if forgotten {
		return 0, fmt.Errorf(
			"copy c%d: its store was read anew after an upgrade and its copies have other numbers since; look for it by its "+
				"place or name: %w",
			id,
			ErrNotFound,
		)
	}
	return 0, fmt.Errorf("copy c%d: %w", id, ErrNotFound)
}
