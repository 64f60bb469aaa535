package catalogue

import (
	"context"
	"database/sql"
	"encoding/hex"
	"errors"
	"fmt"
	"strings"
	"time"

	"humble-rewind/internal/core/condition"
	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/fileclass"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/sighting"
)

// Copy is one readable copy, or the record of one.
type Copy struct {
	ID          int64
	Place       place.Place // where it came from; where that is not known, where it lies
	OriginKnown bool
	Claimed     string // the path that a record says it came from, which is not trusted; "" where there is none
	Type        entry.Type
	Class       fileclass.Class
	Source      Source
	At          sighting.Locator
	Person      string
	Written     time.Time
	Captured    time.Time // of the capture that first showed it
	LastSeen    time.Time // of the capture that last did
	Gone        time.Time
	Ended       bool   // the latest capture of its source does not show it any more
	State       string // of its place today: present, gone or changed
	Readable    bool
	Within      bool   // it lies in a folder that is a copy itself
	Size        int64  // negative where nothing tells
	Target      string // of a link
	Number      int64  // tells hard links from equal files; 0 where it does not
	Content     entry.ContentID
	SHA256      string // hex; "" while unknown
	Condition   condition.Verdict
	Notes       []string
	ItemOf      int64  // the copy of the folder that it lies in; 0 where it lies in none
	Lies        string // where it lies, for people; "" where that is the path of LiesAt

	ref sighting.Ref // "" where that of At is enough
}

// Ref is how the copy's store finds it.
func (c Copy) Ref() sighting.Ref {
	if c.ref != "" {
		return c.ref
	}
	return c.At.Ref()
}

// Expires returns when the store's policy removes the copy; zero where it never does.
func (c Copy) Expires() time.Time {
	if c.Gone.IsZero() || c.Source.RetentionDays == 0 {
		return time.Time{}
	}
	return c.Gone.AddDate(0, 0, c.Source.RetentionDays)
}

// LiesAt returns the place of the copy's own bytes.
func (c Copy) LiesAt() place.Place {
	return place.Place{Machine: c.Source.AtMachine, Path: place.Join(c.Source.At, c.At.Path())}
}

const copyColumns = `x.id, d.path, p.name, x.origin_known, x.type, x.class, x.source_id, sd.path, x.store_name, x.person,
	x.within, x.written_at, x.first_at, coalesce(x.last_at, max(last.at, x.first_at), x.first_at), x.gone_at, x.last_at IS NOT NULL,
		x.readable, x.size, coalesce(x.target, x''), coalesce(x.number, 0), x.sha256, x.notes, coalesce(x.claimed, x''), x.mark,
	coalesce(x.ref, x''), coalesce(x.lies, ''), e.findings,
	` + captureName + `, ` + state

// captureName is the latest of the points in time that still hold x.
const captureName = `coalesce((SELECT k.name FROM captures k WHERE k.source_id = x.source_id AND k.held AND k.at >= x.first_at
	AND (x.last_at IS NULL OR k.at <= x.last_at) ORDER BY k.at DESC LIMIT 1), x'')`

const copyTables = ` JOIN places p ON p.id = x.place_id JOIN dirs d ON d.id = p.dir_id JOIN store_dirs sd ON sd.id = x.store_dir_id
	JOIN sources so ON so.id = x.source_id LEFT JOIN captures last ON last.id = so.last_capture
	LEFT JOIN examined e ON e.sha256 = x.sha256`

// state tells how the place of x is today, as far as is known: by the machine's own files where those are surveyed there,
// else by the store's latest capture.
const state = `(CASE
	WHEN so.shape = 'now' THEN CASE
		WHEN x.last_at IS NULL THEN 'present'
		WHEN EXISTS (SELECT 1 FROM spans n WHERE n.place_id = x.place_id AND n.source_id = x.source_id AND n.last_at IS NULL) THEN 'changed'
		ELSE 'gone' END
	ELSE coalesce(
		(SELECT CASE WHEN n.type = x.type AND (n.type NOT IN ('file', 'link') OR n.sha256 = x.sha256
				OR (n.sha256 IS NULL OR x.sha256 IS NULL) AND n.size = x.size AND abs(n.written_at - x.written_at) < 2000000001) THEN
					'present' ELSE 'changed' END
			FROM spans n JOIN sources l ON l.id = n.source_id WHERE n.place_id = x.place_id AND l.shape = 'now' AND n.last_at IS NULL
				AND x.origin_known LIMIT 1),
		CASE WHEN x.gone_at IS NOT NULL OR NOT x.origin_known THEN 'gone'
			WHEN EXISTS (SELECT 1 FROM sources l JOIN dirs ld ON ld.id = (SELECT dir_id FROM places WHERE id = x.place_id)
				WHERE l.machine_id = so.machine_id AND l.shape = 'now' AND l.last_capture IS NOT NULL
				AND (l.at = x'2f' OR ld.path = l.at OR substr(ld.path, 1, length(l.at) + 1) = CAST(l.at || '/' AS BLOB))) THEN 'gone'
			WHEN x.last_at IS NULL THEN 'present'
			WHEN EXISTS (SELECT 1 FROM spans n WHERE n.place_id = x.place_id AND n.source_id = x.source_id AND n.last_at IS NULL) THEN
				'changed'
			ELSE 'gone' END) END)`

// Copy returns a copy by its number.
func (c *Catalogue) Copy(ctx context.Context, id int64) (Copy, error) {
	all, err := c.Copies(ctx, []int64{id})
	if err != nil {
		return Copy{}, err
	}
	return all[0], nil
}

// Copies returns copies by their numbers, in their order. ErrNotFound names the first that is not there.
func (c *Catalogue) Copies(ctx context.Context, ids []int64) ([]Copy, error) {
	return c.copiesWith(ctx, ids, copyColumns)
}

// CopiesOfPlace is Copies for those of one place, whose state the caller works out for all of them together.
func (c *Catalogue) CopiesOfPlace(ctx context.Context, ids []int64) ([]Copy, error) {
	return c.copiesWith(ctx, ids, strings.Replace(copyColumns, state, "''", 1))
}

func (c *Catalogue) copiesWith(ctx context.Context, ids []int64, columns string) ([]Copy, error) {
	byID := map[int64]Copy{}
	for rest := ids; len(rest) > 0; {
		n := min(500, len(rest))
		args := make([]any, n)
		for i, id := range rest[:n] {
			args[i] = id
		}
		found, err := c.copies(ctx, "SELECT "+columns+" FROM spans x"+copyTables+" WHERE x.id IN (?"+strings.Repeat(",?", n-1)+")", args)
		if err != nil {
			return nil, err
		}
		for _, copy := range found {
			byID[copy.ID] = copy
		}
		rest = rest[n:]
	}
	all := make([]Copy, len(ids))
	for i, id := range ids {
		copy, ok := byID[id]
		if !ok {
			now, err := c.successor(ctx, id)
			if err != nil {
				return nil, err
			}
			renewed, err := c.copiesWith(ctx, []int64{now}, columns)
			if err != nil {
				return nil, err
			}
			copy = renewed[0]
		}
		all[i] = copy
	}
	return all, nil
}

// Lying is where the bytes of a copy are, and what they are like.
type Lying struct {
	ID      int64
	Source  int64
	At      sighting.Locator
	Size    int64
	Written time.Time
	Number  int64     // tells hard links from equal files; 0 where it does not
	First   time.Time // the capture that first showed it
	Last    time.Time // the one that last did; zero while the latest still does
	Mark    entry.Mark

	ref sighting.Ref
}

// Ref is how the copy's store finds it.
func (l Lying) Ref() sighting.Ref {
	if l.ref != "" {
		return l.ref
	}
	return l.At.Ref()
}

// Lying returns where copies lie, by their numbers, for work on very many that needs no more.
func (c *Catalogue) Lying(ctx context.Context, ids []int64) (map[int64]Lying, error) {
	all := make(map[int64]Lying, len(ids))
	for rest := ids; len(rest) > 0; {
		n := min(500, len(rest))
		args := make([]any, n)
		for i, id := range rest[:n] {
			args[i] = id
		}
		rows, err := c.read.QueryContext(ctx, "SELECT x.id, x.source_id, "+captureName+", sd.path, x.store_name, x.size, x.written_at, "+
			"coalesce(x.number, 0), x.first_at, x.last_at, x.mark, coalesce(x.ref, x'') FROM spans x"+
			" JOIN store_dirs sd ON sd.id = x.store_dir_id WHERE x.id IN (?"+strings.Repeat(",?", n-1)+")", args...)
		if err != nil {
			return nil, err
		}
		dir := ""
		for rows.Next() {
			var l Lying
			var written, last sql.NullInt64
			var first int64
			var mark []byte
			if err := rows.Scan(&l.ID, &l.Source, &l.At.Capture, &l.At.Dir, &l.At.Name, &l.Size, &written, &l.Number, &first, &last,
				&mark, &l.ref); err != nil {
				return nil, errors.Join(err, rows.Close())
			}
			l.First, l.Last = time.Unix(0, first).UTC(), moment(last)
			l.Mark, _ = entry.ParseMark(mark) // one that cannot be read says nothing of it
			if l.At.Dir == dir {              // neighbours share what is the same
				l.At.Dir = dir
			}
			dir, l.Written = l.At.Dir, moment(written)
			all[l.ID] = l
		}
		if err := errors.Join(rows.Err(), rows.Close()); err != nil {
			return nil, err
		}
		rest = rest[n:]
	}
	return all, nil
}

// copies runs a query for copyColumns and completes what it finds with the sources and the folders they lie in.
func (c *Catalogue) copies(ctx context.Context, query string, args []any) ([]Copy, error) {
	rows, err := c.read.QueryContext(ctx, query, args...)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var all []Copy
	for rows.Next() {
		var f Copy
		var dir, name string
		var written, captured, lastSeen, gone sql.NullInt64
		var sha, mark []byte
		var notes, findings sql.NullString
		if err := rows.Scan(&f.ID, &dir, &name, &f.OriginKnown, &f.Type, &f.Class, &f.Source.ID, &f.At.Dir, &f.At.Name, &f.Person,
			&f.Within, &written, &captured, &lastSeen, &gone, &f.Ended, &f.Readable, &f.Size, &f.Target, &f.Number, &sha, &notes,
			&f.Claimed, &mark,
			&f.ref, &f.Lies, &findings, &f.At.Capture, &f.State); err != nil {
			return nil, err
		}
		f.Place.Path = place.Join(dir, name)
		f.Written, f.Captured, f.LastSeen, f.Gone = moment(written), moment(captured), moment(lastSeen), moment(gone)
		f.SHA256 = hex.EncodeToString(sha)
		if m, err := entry.ParseMark(mark); err == nil {
			f.Content = m.Content
			if m.Written.Known { // also what cannot be counted
				f.Written = m.Written.Time()
			}
		}
		if f.Notes, err = fromJSON[[]string](notes.String); err != nil {
			return nil, err
		}
		f.Condition.State = condition.Unread
		if findings.Valid && f.Type == entry.File {
			found, err := fromJSON[condition.Findings](findings.String)
			if err != nil {
				return nil, err
			}
			f.Condition = found.For(name)
		}
		all = append(all, f)
	}
	if err := errors.Join(rows.Err(), rows.Close()); err != nil {
		return nil, err
	}
	return all, c.complete(ctx, all)
}

func (c *Catalogue) complete(ctx context.Context, all []Copy) error {
	if len(all) == 0 {
		return nil
	}
	sources, err := c.Sources(ctx, "")
	if err != nil {
		return err
	}
	byID := map[int64]Source{}
	for _, s := range sources {
		byID[s.ID] = s
	}
	parents := map[sighting.Locator]int64{}
	for i := range all {
		f := &all[i]
		f.Source = byID[f.Source.ID]
		f.Place.Machine = f.Source.Machine
		if f.ItemOf, err = c.itemOf(ctx, *f, parents); err != nil {
			return err
		}
	}
	return nil
}

// itemOf finds the open copy of the folder that a copy lies in: it is the copy's own folder in the store.
func (c *Catalogue) itemOf(ctx context.Context, f Copy, seen map[sighting.Locator]int64) (int64, error) {
	if f.At.Dir == "" || !f.Within {
		return 0, nil
	}
	parent := sighting.Locator{Dir: place.Folder("/" + f.At.Dir)[1:], Name: place.Name("/" + f.At.Dir)}
	key := sighting.Locator{Dir: fmt.Sprint(f.Source.ID) + "/" + parent.Dir, Name: parent.Name}
	if id, ok := seen[key]; ok {
		return id, nil
	}
	var id int64
	err := c.read.QueryRowContext(ctx, `SELECT id FROM spans WHERE last_at IS NULL AND store_name = ?
		AND store_dir_id = (SELECT id FROM store_dirs WHERE source_id = ? AND path = ?)`, []byte(parent.Name), f.Source.ID,
		[]byte(parent.Dir)).Scan(&id)
	if err != nil && !errors.Is(err, sql.ErrNoRows) {
		return 0, err
	}
	seen[key] = id
	return id, nil
}

// SetDigest keeps the digest of a copy's content.
func (c *Catalogue) SetDigest(ctx context.Context, id int64, sha256 []byte) error {
	return c.SetDigests(ctx, map[int64][]byte{id: sha256})
}

// below selects, of a folder's span, the spans of everything in it that ended with it or are open as it is.
const below = `WITH RECURSIVE tree (id, source_id, path, ended) AS (
	SELECT x.id, x.source_id, CAST(CASE WHEN length(sd.path) = 0 THEN x.store_name ELSE sd.path || '/' || x.store_name END AS BLOB),
		x.last_at
		FROM spans x JOIN store_dirs sd ON sd.id = x.store_dir_id WHERE x.id = ?1 AND x.type = 'folder'
	UNION ALL
	SELECT x.id, x.source_id, CAST(sd.path || '/' || x.store_name AS BLOB), t.ended
		FROM tree t CROSS JOIN store_dirs sd ON sd.source_id = t.source_id AND sd.path = t.path CROSS JOIN spans x ON x.store_dir_id = sd.id
		WHERE x.last_at IS t.ended) `

const (
	end = `UPDATE spans SET last_at = max(first_at, coalesce((SELECT k.at FROM captures k JOIN sources so ON so.last_capture = k.id
		WHERE so.id = spans.source_id), first_at)),
		readable = 0 WHERE last_at IS NULL AND `
	// Of several spans that one store position has had, only the latest can be open.
	reopen = `UPDATE spans SET last_at = NULL, readable = type <> 'other' WHERE last_at IS NOT NULL AND NOT EXISTS (SELECT 1 FROM spans y
		WHERE y.store_dir_id = spans.store_dir_id AND y.store_name = spans.store_name AND y.id > spans.id) AND `
	those  = "id IN (SELECT value FROM json_each(?1))"
	inside = "id IN (SELECT id FROM tree)"
)

// EndCopies ends the spans of copies that were taken out of their stores, and of everything in them.
func (c *Catalogue) EndCopies(ctx context.Context, ids []int64) error {
	return c.change(ctx, ids, end)
}

// ReopenCopies takes EndCopies back for copies that were put back into their stores, but where a survey has seen them
// there again already.
func (c *Catalogue) ReopenCopies(ctx context.Context, ids []int64) error {
	return c.change(ctx, ids, reopen)
}

// change changes the spans of copies and of everything in those that are folders.
func (c *Catalogue) change(ctx context.Context, ids []int64, statement string) error {
	if len(ids) == 0 {
		return nil
	}
	return c.tx(ctx, func(tx *sql.Tx) error {
		folders, err := numbers(tx.QueryContext(ctx, "SELECT id FROM spans WHERE type = 'folder' AND "+those, toJSON(ids)))
		if err != nil {
			return err
		}
		for _, id := range folders { // before the folder's own span changes, by which the others are known
			if _, err := tx.ExecContext(ctx, below+statement+inside, id); err != nil {
				return err
			}
		}
		_, err = tx.ExecContext(ctx, statement+those, toJSON(ids))
		return err
	})
}

// numbers reads a query's one column of numbers.
func numbers(rows *sql.Rows, err error) ([]int64, error) {
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	all := []int64{}
	for rows.Next() {
		var n int64
		if err := rows.Scan(&n); err != nil {
			return nil, err
		}
		all = append(all, n)
	}
	return all, rows.Err()
}
