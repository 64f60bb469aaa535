package catalogue

import (
	"context"
	"database/sql"
	"encoding/hex"
	"strings"

	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/fileclass"
	"humble-rewind/internal/core/names"
	"humble-rewind/internal/core/place"
)

// makeStaging makes the table that sightings pass through, in memory and on the writing connection alone: one statement
// fills it with many rows, a few more spread them over places and spans.
func (c *Catalogue) makeStaging(ctx context.Context) error {
	_, err := c.write.ExecContext(ctx, `CREATE TEMP TABLE IF NOT EXISTS staging (
		dir_id INTEGER, name BLOB, folded TEXT, store_dir_id INTEGER, store_name BLOB, mark TEXT, type TEXT, class TEXT, size INTEGER,
		person TEXT, written_at INTEGER, gone_at INTEGER, within INTEGER, readable INTEGER, origin_known INTEGER, notes TEXT, number
			INTEGER, target BLOB, claimed BLOB, last_at INTEGER,
		ref BLOB, lies TEXT, content TEXT, sha256 BLOB)`)
	return err
}

const stagingColumns, rowsPerInsert = 24, 100

func (k *Capture) write(ctx context.Context, fresh []found, ended []int64) error {
	return k.c.tx(ctx, func(tx *sql.Tx) error { return k.writeIn(ctx, tx, fresh, ended) })
}

func (k *Capture) writeIn(ctx context.Context, tx *sql.Tx, fresh []found, ended []int64) error {
	if err := k.enter(ctx, tx); err != nil {
		return err
	}
	if len(ended) > 0 {
		end, err := tx.PrepareContext(ctx, endSpans+" WHERE id = ?")
		if err != nil {
			return err
		}
		defer end.Close()
		for _, id := range ended {
			if _, err := end.ExecContext(ctx, k.before, k.dated, id); err != nil {
				return err
			}
		}
	}
	if err := k.unprint(ctx, tx, fresh, ended); err != nil {
		return err
	}
	if len(fresh) == 0 {
		return nil
	}
	if err := k.stage(ctx, tx, fresh); err != nil {
		return err
	}
	if err := k.spread(ctx, tx); err != nil {
		return err
	}
	for _, f := range fresh { // of some stores the digests are known without reading
		if sum, err := hex.DecodeString(f.Mark.Content.Value); f.Mark.Content.Kind == entry.SHA256 && err == nil {
			if err := judgeKnown(ctx, tx, sum); err != nil {
				return err
			}
		}
	}
	return nil
}

// unprint forgets the prints of the folders that a batch changes: finish, which a killed survey does not come to, sets new ones.
// Those of a point in time stay true of the one before until then.
func (k *Capture) unprint(ctx context.Context, tx *sql.Tx, fresh []found, ended []int64) error {
	if k.dated {
		return nil
	}
	last := "/" // no folder of a store begins with a slash
	for _, f := range fresh {
		if f.At.Dir == last {
			continue
		}
		last = f.At.Dir
		if _, err := tx.ExecContext(ctx, "UPDATE store_dirs SET print = NULL WHERE source_id = ? AND path = ?", k.source.ID,
			[]byte(last)); err != nil {
			return err
		}
	}
	for _, id := range ended {
		if _, err := tx.ExecContext(ctx, "UPDATE store_dirs SET print = NULL WHERE id = (SELECT store_dir_id FROM spans WHERE id = ?)",
			id); err != nil {
			return err
		}
	}
	return nil
}

// intern returns the number of a folder, new or known, of the machine or of the store.
func intern(ctx context.Context, tx *sql.Tx, seen map[string]int64, table, owner string, of int64, path string) (int64, error) {
	if id, ok := seen[path]; ok {
		return id, nil
	}
	var id int64
	err := tx.QueryRowContext(ctx, "INSERT INTO "+table+" ("+owner+", path) VALUES (?, ?) ON CONFLICT DO UPDATE SET path = excluded.path "+
		"RETURNING id", of, []byte(path)).Scan(&id)
	if len(seen) >= maxInterned {
		clear(seen)
	}
	seen[path] = id
	return id, err
}

func (k *Capture) stage(ctx context.Context, tx *sql.Tx, fresh []found) error {
	row := "(" + strings.Repeat("?,", stagingColumns-1) + "?)"
	many := "INSERT INTO staging VALUES " + strings.Repeat(row+",", rowsPerInsert-1) + row
	insert, err := tx.PrepareContext(ctx, many)
	if err != nil {
		return err
	}
	defer insert.Close()
	for rest := fresh; len(rest) > 0; {
		n := min(rowsPerInsert, len(rest))
		args := make([]any, 0, n*stagingColumns)
		for _, f := range rest[:n] {
			dir, err := intern(ctx, tx, k.dirs, "dirs", "machine_id", k.source.MachineID, place.Folder(f.Place))
			if err != nil {
				return err
			}
			storeDir, err := intern(ctx, tx, k.storeDirs, "store_dirs", "source_id", k.source.ID, f.At.Dir)
			if err != nil {
				return err
			}
			args = append(args, f.columns(dir, storeDir)...)
		}
		if n == rowsPerInsert {
			_, err = insert.ExecContext(ctx, args...)
		} else {
			_, err = tx.ExecContext(ctx, "INSERT INTO staging VALUES "+strings.Repeat(row+",", n-1)+row, args...)
		}
		if err != nil {
			return err
		}
		rest = rest[n:]
	}
	return nil
}

func (f *found) columns(dir, storeDir int64) []any {
	name := place.Name(f.Place)
	class := fileclass.Of(name)
	if f.Type == entry.Folder {
		class = fileclass.Folders
	}
	var notes any
	if len(f.Notes) > 0 {
		notes = toJSON(f.Notes)
	}
	var number, target, claimed, ref, lies, content, sum any
	if f.Number != 0 {
		number = int64(f.Number)
	}
	if f.Ref != "" {
		ref = []byte(f.Ref)
	}
	if f.Lies != "" {
		lies = f.Lies
	}
	if id := f.Mark.Content; id.Value != "" {
		content = contentName(id)
		if raw, err := hex.DecodeString(id.Value); id.Kind == entry.SHA256 && err == nil {
			sum = raw // which need not be read for
		}
	}
	if f.Target != "" {
		target = []byte(f.Target)
	}
	if f.Claimed != "" {
		claimed = []byte(f.Claimed)
	}
	return []any{dir, []byte(name), names.Fold(name), storeDir, []byte(f.At.Name), f.Mark.Append(nil),
		string(
			f.Type,
		), string(class), f.Size, f.Person, nanos(f.Written), nanos(f.GoneAt), f.Within, f.Readable, f.Origin != "", notes, number,
		target, claimed, f.lastAt, ref, lies, content, sum}
}

func (k *Capture) spread(ctx context.Context, tx *sql.Tx) error {
	steps := []struct {
		sql  string
		args []any
	}{
		{"INSERT INTO places (dir_id, name, folded) SELECT dir_id, name, folded FROM staging WHERE true ON CONFLICT DO NOTHING", nil},
		{
			`INSERT INTO spans (place_id, source_id, store_dir_id, store_name, mark, type, class, size, person, written_at, gone_at,
				within, readable, origin_known, notes, number, target, claimed, first_at, last_at,
				ref, lies, content, sha256)
			SELECT p.id, ?, t.store_dir_id, t.store_name, t.mark, t.type, t.class, t.size, t.person, t.written_at, t.gone_at, t.within,
				t.readable, t.origin_known, t.notes,
				t.number, t.target, t.claimed, ?, t.last_at, t.ref, t.lies, t.content, t.sha256
			FROM staging t CROSS JOIN places p ON p.dir_id = t.dir_id AND p.name = t.name`,
			[]any{k.source.ID, k.at},
		},
		{"DELETE FROM staging", nil},
	}
	for _, step := range steps {
		if _, err := tx.ExecContext(ctx, step.sql, step.args...); err != nil {
			return err
		}
	}
	return nil
}

// FeedNames makes the names of all places recorded since the last time searchable.
func (c *Catalogue) FeedNames(ctx context.Context) error {
	return c.tx(ctx, func(tx *sql.Tx) error {
		if _, err := tx.ExecContext(ctx, `INSERT INTO names (rowid, folded) SELECT id, folded FROM places
			WHERE id > (SELECT up_to FROM names_fed) ORDER BY id`); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, "UPDATE names_fed SET up_to = max(up_to, coalesce((SELECT max(id) FROM places), 0))")
		return err
	})
}

// contentName is a content id as it is kept.
func contentName(id entry.ContentID) string { return string(id.Kind) + ":" + id.Value }
