package catalogue

import (
	"bytes"
	"context"
	"database/sql"
	"errors"
	"math"
	"time"

	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/names"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/sighting"
)

// knownSpan is a span as a survey compares it.
type knownSpan struct {
	ID      int64
	Mark    entry.Mark // the zero Mark where what is kept of it cannot be understood, so that it is read again
	firstAt int64
	lastAt  int64 // of an open span the greatest there is
}

// Capture is one reading of a source that is under way, or of one of the points in time that it holds.
type Capture struct {
	c       *Catalogue
	id      int64  // 0 until something is written
	name    string // of a point in time
	source  Source
	at      int64
	dated   bool  // of a store that holds many
	before  int64 // the time of the complete capture before this one; no time where there is none
	after   int64 // the same behind it
	fresh   []found
	ended   []int64
	amended []amended
	writing chan error        // of the batch being written meanwhile; nil where none is
	visited map[int64]bool    // store folders that were read
	prints  map[string][]byte // of those in which something is new, changed or gone

	// Numbers of folders met lately, used by write alone.
	dirs, storeDirs map[string]int64
}

const (
	never   = math.MinInt64
	forever = math.MaxInt64
)

// maxInterned bounds the folders remembered.
const maxInterned = 10_000

type found struct {
	sighting.Sighting
	Place  string
	Person string
	lastAt any // nil: it is still there
}

// batchRows is how many rows one transaction records: enough to make its cost small, few enough that a killed survey
// loses little and that readers' view of the log stays short.
const batchRows = 8000

// beginCapture begins a reading of a source as it is now.
func (c *Catalogue) beginCapture(ctx context.Context, src Source, at time.Time) (*Capture, error) {
	return c.capture(ctx, src, sighting.Capture{At: at}, false)
}

func (c *Catalogue) capture(ctx context.Context, src Source, point sighting.Capture, dated bool) (*Capture, error) {
	k := &Capture{
		c:         c,
		name:      point.Name,
		source:    src,
		at:        point.At.UnixNano(),
		dated:     dated,
		visited:   map[int64]bool{},
		prints:    map[string][]byte{},
		dirs:      map[string]int64{},
		storeDirs: map[string]int64{},
	}
	err := c.read.QueryRowContext(ctx, `SELECT coalesce((SELECT max(at) FROM captures WHERE source_id = ?1 AND complete AND at < ?2), ?3),
		coalesce((SELECT min(at) FROM captures WHERE source_id = ?1 AND complete AND at > ?2), ?4)`, src.ID, k.at, int64(never),
		int64(forever)).Scan(&k.before, &k.after)
	return k, err
}

// enter records the capture itself, together with the first that it saw: most are small enough for one transaction.
func (k *Capture) enter(ctx context.Context, tx *sql.Tx) error {
	if k.id != 0 {
		return nil
	}
	err := tx.QueryRowContext(ctx, "SELECT id FROM captures WHERE source_id = ? AND name = ? AND at = ?", k.source.ID, []byte(k.name),
		k.at).
		Scan(&k.id)
	if errors.Is(err, sql.ErrNoRows) {
		err = tx.QueryRowContext(ctx, "INSERT INTO captures (source_id, at, name, held) VALUES (?, ?, ?, ?) RETURNING id", k.source.ID,
			k.at, []byte(k.name), k.dated).
			Scan(&k.id)
	}
	return err
}

// known returns the open spans of a folder of the store by name. Of two that a killed survey left for one name, the older
// is ended.
func (k *Capture) known(ctx context.Context, dir string) (map[string]knownSpan, error) {
	known := map[string]knownSpan{}
	err := k.spans(ctx, dir, "x.last_at IS NULL", nil, func(name string, s knownSpan) error {
		before, twice := known[name]
		if !twice {
			known[name] = s
			return nil
		}
		if before.ID > s.ID {
			before, s = s, before
		}
		known[name] = s
		return k.end(ctx, before.ID)
	})
	return known, err
}

func (k *Capture) spans(ctx context.Context, dir, where string, args []any, see func(string, knownSpan) error) error {
	rows, err := k.c.read.QueryContext(
		ctx,
		`SELECT x.id, x.store_name, x.mark, x.first_at, coalesce(x.last_at, 9223372036854775807) FROM spans x
		WHERE x.store_dir_id = (SELECT id FROM store_dirs WHERE source_id = ? AND path = ?) AND `+where,
		append([]any{k.source.ID, []byte(dir)}, args...)...)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var s knownSpan
		var name string
		var mark []byte
		if err := rows.Scan(&s.ID, &name, &mark, &s.firstAt, &s.lastAt); err != nil {
			return err
		}
		s.Mark, _ = entry.ParseMark(mark)
		if err := see(name, s); err != nil {
			return err
		}
	}
	return rows.Err()
}

// unchanged tells by its print whether a folder of the store was read and holds just what the latest capture showed. If
// not, the print is kept with the capture. A capture that comes late has no such folder: prints are of the latest.
func (k *Capture) unchanged(ctx context.Context, dir string, print []byte) (bool, error) {
	if k.late() {
		return false, nil
	}
	var id int64
	var before []byte
	err := k.c.read.QueryRowContext(ctx, "SELECT id, print FROM store_dirs WHERE source_id = ? AND path = ?", k.source.ID, []byte(dir)).
		Scan(&id, &before)
	if err != nil && !errors.Is(err, sql.ErrNoRows) {
		return false, err
	}
	if err == nil && bytes.Equal(before, print) {
		k.visited[id] = true
		return true, nil
	}
	k.prints[dir] = print
	return false, nil
}

// nameBefore is what the complete capture before this one is called.
func (k *Capture) nameBefore(ctx context.Context) (name string, err error) {
	err = k.c.read.QueryRowContext(ctx, "SELECT name FROM captures WHERE source_id = ? AND complete AND at = ?", k.source.ID, k.before).
		Scan(&name)
	if errors.Is(err, sql.ErrNoRows) {
		return "", nil
	}
	return name, err
}

// unprinted says that a folder of the store no longer holds what its print is of.
func (k *Capture) unprinted(dir string) { k.prints[dir] = nil }

// visit says that a folder of the store was read, so that finish does not end what it holds.
func (k *Capture) visit(ctx context.Context, dir string) error {
	var id int64
	err := k.c.read.QueryRowContext(ctx, "SELECT id FROM store_dirs WHERE source_id = ? AND path = ?", k.source.ID, []byte(dir)).Scan(&id)
	if err == sql.ErrNoRows {
		return nil // new in this capture, so nothing older can be in it
	}
	k.visited[id] = true
	return err
}

// add records a sighting that is new or changed; origin is where it came from or else where it lies.
func (k *Capture) add(ctx context.Context, s sighting.Sighting, origin, person string) error {
	var last any
	if k.late() {
		last = k.at
	}
	k.fresh = append(k.fresh, found{s, origin, person, last})
	return k.flushFull(ctx)
}

// amended is a span of which something is told otherwise than before.
type amended struct {
	span int64
	found
}

// amendSpan puts right what is recorded of a span: where it came from, whose it is, and what is wrong with it.
func (k *Capture) amendSpan(ctx context.Context, span int64, s sighting.Sighting, origin, person string) error {
	k.amended = append(k.amended, amended{span, found{s, origin, person, nil}})
	if len(k.amended) < batchRows {
		return nil
	}
	all := k.amended
	k.amended = nil
	return k.c.tx(ctx, func(tx *sql.Tx) error { return k.amend(ctx, tx, all) })
}

func (k *Capture) amend(ctx context.Context, tx *sql.Tx, all []amended) error {
	for _, a := range all {
		dir, err := intern(ctx, tx, k.dirs, "dirs", "machine_id", k.source.MachineID, place.Folder(a.Place))
		if err != nil {
			return err
		}
		name := place.Name(a.Place)
		if _, err := tx.ExecContext(ctx, "INSERT INTO places (dir_id, name, folded) VALUES (?, ?, ?) ON CONFLICT DO NOTHING", dir,
			[]byte(name),
			names.Fold(name)); err != nil {
			return err
		}
		var claimed, notes any
		if a.Claimed != "" {
			claimed = []byte(a.Claimed)
		}
		if len(a.Notes) > 0 {
			notes = toJSON(a.Notes)
		}
		if _, err := tx.ExecContext(ctx, "UPDATE spans SET place_id = (SELECT id FROM places WHERE dir_id = ? AND name = ?), "+
			"origin_known = ?, claimed = ?, person = ?, notes = ? WHERE id = ?",
			dir, []byte(name), a.Origin != "", claimed, a.Person, notes, a.span); err != nil {
			return err
		}
	}
	return nil
}

// end ends the span of something that is no longer there, or no longer as it was. Of a point in time that is believed
// only once it was read to its end: one that is being removed meanwhile would seem to lack files.
func (k *Capture) end(ctx context.Context, span int64) error {
	k.ended = append(k.ended, span)
	return k.flushFull(ctx)
}

const spanColumns = `place_id, source_id, store_dir_id, store_name, mark, type, class, size, person, written_at, gone_at, within, readable,
	origin_known, notes, sha256, number, target, claimed, ref, lies, content`

// flushFull hands a full batch over to be written while the next is gathered.
func (k *Capture) flushFull(ctx context.Context) error {
	if n := len(k.fresh); n+len(k.ended) < batchRows || k.dated && n < batchRows {
		return nil
	}
	if err := k.written(); err != nil {
		return err
	}
	fresh, ended, done := k.fresh, k.ended, make(chan error, 1)
	k.fresh, k.ended, k.writing = make([]found, 0, batchRows), nil, done
	if k.dated {
		ended, k.ended = nil, ended
	}
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

// abandon waits for what is being written; call it where a capture does not come to finish.
func (k *Capture) abandon() { _ = k.written() }

// finish ends what lies in folders of the store that no longer exist, and makes the capture the source's latest. What
// lies at or below the paths in unread stays as it is. It returns how many spans it ended.
func (k *Capture) finish(ctx context.Context, unread []string) (int64, error) {
	if err := k.written(); err != nil {
		return 0, err
	}
	vanished, err := k.vanished(ctx, unread)
	if err != nil {
		return 0, err
	}
	var ended int64
	err = k.c.tx(ctx, func(tx *sql.Tx) error {
		if err := errors.Join(k.writeIn(ctx, tx, k.fresh, k.ended), k.amend(ctx, tx, k.amended)); err != nil {
			return err
		}
		for _, dir := range vanished {
			if k.late() {
				if err := k.split(ctx, tx, "store_dir_id = ?", dir); err != nil {
					return err
				}
				continue
			}
			if _, err := tx.ExecContext(ctx, "UPDATE store_dirs SET print = NULL WHERE id = ?", dir); err != nil { // should it come back
				return err
			}
			r, err := tx.ExecContext(ctx, endSpans+" WHERE store_dir_id = ? AND last_at IS NULL", k.before, k.dated, dir)
			if err != nil {
				return err
			}
			n, err := r.RowsAffected()
			if err != nil {
				return err
			}
			ended += n
		}
		for dir, print := range k.prints {
			if _, err := tx.ExecContext(ctx, "UPDATE store_dirs SET print = ? WHERE source_id = ? AND path = ?", print, k.source.ID,
				[]byte(dir)); err != nil {
				return err
			}
		}
		if !k.dated { // what it showed before, its store does not hold any more
			if _, err := tx.ExecContext(ctx, "UPDATE captures SET held = 0 WHERE source_id = ? AND held", k.source.ID); err != nil {
				return err
			}
		}
		if _, err := tx.ExecContext(ctx, "UPDATE captures SET complete = 1, held = 1 WHERE id = ?", k.id); err != nil {
			return err
		}
		_, err := tx.ExecContext(
			ctx,
			"UPDATE sources SET last_capture = (SELECT id FROM captures WHERE source_id = ?1 AND complete ORDER BY at DESC LIMIT 1) "+
				"WHERE id = ?1",
			k.source.ID,
		)
		return err
	})
	return ended, err
}

// endSpans ends spans at the capture before, though never before they began. What a store holds only as it is now
// cannot be read any more then.
const endSpans = "UPDATE spans SET last_at = max(?, first_at), readable = readable AND ?"

func (k *Capture) vanished(ctx context.Context, unread []string) ([]int64, error) {
	alive, args := "last_at IS NULL AND first_at <> ?", []any{k.source.ID, k.at}
	if k.late() {
		alive, args = "first_at <= ? AND (last_at IS NULL OR last_at >= ?)", []any{k.source.ID, k.before, k.after}
	}
	rows, err := k.c.read.QueryContext(ctx, `SELECT d.id, d.path FROM store_dirs d WHERE d.source_id = ?
		AND EXISTS (SELECT 1 FROM spans WHERE store_dir_id = d.id AND `+alive+")", args...)
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
