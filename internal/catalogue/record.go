package catalogue

import (
	"context"
	"database/sql"
	"strings"
	"time"

	"humble-rewind/internal/core/fileclass"
	"humble-rewind/internal/core/names"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/plan"
	"humble-rewind/internal/source"
)

// KnownSpan is an open span as a survey compares it.
type KnownSpan struct {
	ID   int64
	Mark string
}

// Capture is one reading of a source that is under way.
type Capture struct {
	c       *Catalogue
	id      int64
	source  Source
	fresh   []found
	ended   []int64
	writing chan error     // of the batch being written meanwhile; nil where none is
	visited map[int64]bool // store folders that were read

	// Numbers of folders met lately, used by write alone.
	dirs, storeDirs map[string]int64
}

// maxInterned bounds the folders remembered.
const maxInterned = 10_000

type found struct {
	source.Sighting
	Place  string
	Person string
}

// batchRows is how many rows one transaction records: enough to make its cost small, few enough that a killed survey
// loses little and that readers' view of the log stays short.
const batchRows = 8000

// BeginCapture begins a reading of a source.
func (c *Catalogue) BeginCapture(ctx context.Context, src Source, at time.Time) (*Capture, error) {
	r, err := c.write.ExecContext(ctx, "INSERT INTO captures (source_id, at) VALUES (?, ?)", src.ID, at.UnixNano())
	if err != nil {
		return nil, err
	}
	id, err := r.LastInsertId()
	return &Capture{c: c, id: id, source: src, visited: map[int64]bool{}, dirs: map[string]int64{}, storeDirs: map[string]int64{}}, err
}

// Known returns the open spans of a folder of the store by name.
func (k *Capture) Known(ctx context.Context, dir string) (map[string]KnownSpan, error) {
	rows, err := k.c.read.QueryContext(ctx, `SELECT x.id, x.store_name, x.mark FROM spans x
		WHERE x.store_dir_id = (SELECT id FROM store_dirs WHERE source_id = ? AND path = ?) AND x.ended_capture IS NULL`, k.source.ID, []byte(dir))
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	known := map[string]KnownSpan{}
	for rows.Next() {
		var s KnownSpan
		var name string
		if err := rows.Scan(&s.ID, &name, &s.Mark); err != nil {
			return nil, err
		}
		known[name] = s
	}
	return known, rows.Err()
}

// Visit says that a folder of the store was read, so that Finish does not end what it holds.
func (k *Capture) Visit(ctx context.Context, dir string) error {
	var id int64
	err := k.c.read.QueryRowContext(ctx, "SELECT id FROM store_dirs WHERE source_id = ? AND path = ?", k.source.ID, []byte(dir)).Scan(&id)
	if err == sql.ErrNoRows {
		return nil // new in this capture, so nothing older can be in it
	}
	k.visited[id] = true
	return err
}

// Add records a sighting that is new or changed; origin is where it came from or else where it lies.
func (k *Capture) Add(ctx context.Context, s source.Sighting, origin, person string) error {
	k.fresh = append(k.fresh, found{s, origin, person})
	return k.flushFull(ctx)
}

// End ends the span of something that is no longer there, or no longer as it was.
func (k *Capture) End(ctx context.Context, span int64) error {
	k.ended = append(k.ended, span)
	return k.flushFull(ctx)
}

// flushFull hands a full batch over to be written while the next is gathered.
func (k *Capture) flushFull(ctx context.Context) error {
	if len(k.fresh)+len(k.ended) < batchRows {
		return nil
	}
	if err := k.written(); err != nil {
		return err
	}
	fresh, ended, done := k.fresh, k.ended, make(chan error, 1)
	k.fresh, k.ended, k.writing = make([]found, 0, batchRows), nil, done
	go func() { done <- k.write(ctx, fresh, ended) }()
	return nil
}

// written waits for the batch being written.
func (k *Capture) written() error {
	if k.writing == nil {
		return nil
	}
	err := <-k.writing
	k.writing = nil
	return err
}

// Abandon waits for what is being written; call it where a capture does not come to Finish.
func (k *Capture) Abandon() { _ = k.written() }

// flush writes everything gathered so far.
func (k *Capture) flush(ctx context.Context) error {
	if err := k.written(); err != nil {
		return err
	}
	err := k.write(ctx, k.fresh, k.ended)
	k.fresh, k.ended = nil, nil
	return err
}

// Finish ends what lies in folders of the store that no longer exist, and makes the capture the source's latest. What
// lies at or below the paths in unread stays as it is. readable is how many readable copies the source holds. It returns
// how many spans it ended.
func (k *Capture) Finish(ctx context.Context, readable int64, unread, notes []string) (int64, error) {
	if err := k.flush(ctx); err != nil {
		return 0, err
	}
	vanished, err := k.vanished(ctx, unread)
	if err != nil {
		return 0, err
	}
	var ended int64
	err = k.c.tx(ctx, func(tx *sql.Tx) error {
		for _, dir := range vanished {
			r, err := tx.ExecContext(ctx, "UPDATE spans SET ended_capture = ?, last_capture = ? WHERE store_dir_id = ? AND ended_capture IS NULL",
				k.id, k.lastBefore(), dir)
			if err != nil {
				return err
			}
			n, err := r.RowsAffected()
			if err != nil {
				return err
			}
			ended += n
		}
		if _, err := tx.ExecContext(ctx, "UPDATE captures SET complete = 1 WHERE id = ?", k.id); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, "UPDATE sources SET last_capture = ?, trouble = '', notes = ?, found = ? WHERE id = ?",
			k.id, toJSON(notes), readable, k.source.ID)
		return err
	})
	return ended, err
}

// lastBefore is the capture that last saw what this one no longer sees: the latest complete one.
func (k *Capture) lastBefore() any {
	var id sql.NullInt64
	// A failed read leaves NULL, which is shown as unknown; the span is ended all the same.
	_ = k.c.read.QueryRow("SELECT last_capture FROM sources WHERE id = ?", k.source.ID).Scan(&id)
	return id
}

func (k *Capture) vanished(ctx context.Context, unread []string) ([]int64, error) {
	rows, err := k.c.read.QueryContext(ctx, `SELECT d.id, d.path FROM store_dirs d WHERE d.source_id = ?
		AND EXISTS (SELECT 1 FROM spans WHERE store_dir_id = d.id AND ended_capture IS NULL AND first_capture <> ?)`, k.source.ID, k.id)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var gone []int64
	for rows.Next() {
		var id int64
		var path string
		if err := rows.Scan(&id, &path); err != nil {
			return nil, err
		}
		if !k.visited[id] && !underAny(path, unread) {
			gone = append(gone, id)
		}
	}
	return gone, rows.Err()
}

func underAny(path string, folders []string) bool {
	for _, folder := range folders {
		if place.Under("/"+path, "/"+folder) {
			return true
		}
	}
	return false
}

// makeStaging makes the table that sightings pass through, in memory and on the writing connection alone: one statement
// fills it with many rows, a few more spread them over places and spans.
func (c *Catalogue) makeStaging(ctx context.Context) error {
	_, err := c.write.ExecContext(ctx, `CREATE TEMP TABLE IF NOT EXISTS staging (
		dir_id INTEGER, name BLOB, folded TEXT, store_dir_id INTEGER, store_name BLOB, mark TEXT, type TEXT, class TEXT, size INTEGER,
		person TEXT, written_at INTEGER, gone_at INTEGER, within INTEGER, readable INTEGER, origin_known INTEGER, notes TEXT)`)
	return err
}

const stagingColumns, rowsPerInsert = 16, 100

func (k *Capture) write(ctx context.Context, fresh []found, ended []int64) error {
	if len(fresh) == 0 && len(ended) == 0 {
		return nil
	}
	last := k.lastBefore()
	return k.c.tx(ctx, func(tx *sql.Tx) error {
		end, err := tx.PrepareContext(ctx, "UPDATE spans SET ended_capture = ?, last_capture = ? WHERE id = ?")
		if err != nil {
			return err
		}
		defer end.Close()
		for _, id := range ended {
			if _, err := end.ExecContext(ctx, k.id, last, id); err != nil {
				return err
			}
		}
		if err := k.stage(ctx, tx, fresh); err != nil {
			return err
		}
		return k.spread(ctx, tx)
	})
}

// intern returns the number of a folder, new or known, of the machine or of the store.
func intern(ctx context.Context, tx *sql.Tx, seen map[string]int64, table, owner string, of int64, path string) (int64, error) {
	if id, ok := seen[path]; ok {
		return id, nil
	}
	var id int64
	err := tx.QueryRowContext(ctx, "INSERT INTO "+table+" ("+owner+", path) VALUES (?, ?) ON CONFLICT DO UPDATE SET path = excluded.path RETURNING id", of, []byte(path)).Scan(&id)
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
	if f.Type == plan.Folder {
		class = fileclass.Folders
	}
	var notes any
	if len(f.Notes) > 0 {
		notes = toJSON(f.Notes)
	}
	return []any{dir, []byte(name), names.Fold(name), storeDir, []byte(f.At.Name), f.Mark,
		string(f.Type), string(class), f.Size, f.Person, nanos(f.Written), nanos(f.GoneAt), f.Within, f.Readable, f.Origin != "", notes}
}

func (k *Capture) spread(ctx context.Context, tx *sql.Tx) error {
	steps := []struct {
		sql  string
		args []any
	}{
		{"INSERT INTO places (dir_id, name, folded) SELECT dir_id, name, folded FROM staging WHERE true ON CONFLICT DO NOTHING", nil},
		{`INSERT INTO spans (place_id, source_id, store_dir_id, store_name, mark, type, class, size, person, written_at, gone_at, within, readable, origin_known, notes, first_capture)
			SELECT p.id, ?, t.store_dir_id, t.store_name, t.mark, t.type, t.class, t.size, t.person, t.written_at, t.gone_at, t.within, t.readable, t.origin_known, t.notes, ?
			FROM staging t CROSS JOIN places p ON p.dir_id = t.dir_id AND p.name = t.name`, []any{k.source.ID, k.id}},
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
