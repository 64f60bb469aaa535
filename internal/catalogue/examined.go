package catalogue

import (
	"context"
	"database/sql"
	"encoding/hex"
	"errors"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"humble-rewind/internal/core/condition"
	"humble-rewind/internal/core/fileclass"
	"humble-rewind/internal/core/place"
)

// Findings returns what was found when a content was examined; ErrNotFound where it was not.
func (c *Catalogue) Findings(ctx context.Context, sha256 []byte) (condition.Findings, error) {
	var text string
	if err := c.read.QueryRowContext(ctx, "SELECT findings FROM examined WHERE sha256 = ?", sha256).Scan(&text); err != nil {
		return condition.Findings{}, noRows(err)
	}
	return fromJSON[condition.Findings](text)
}

// Examined is what examining a copy's content found.
type Examined struct {
	Copy     int64
	SHA256   []byte
	Findings condition.Findings
}

// SetExamined keeps what examining contents found, with the copies' digests.
func (c *Catalogue) SetExamined(ctx context.Context, all []Examined, at time.Time) error {
	if len(all) == 0 {
		return nil
	}
	return c.tx(ctx, func(tx *sql.Tx) error {
		for _, e := range all {
			if _, err := tx.ExecContext(ctx, "INSERT INTO examined (sha256, findings, at) VALUES (?, ?, ?) ON CONFLICT DO UPDATE SET "+
				"findings = excluded.findings, at = excluded.at",
				e.SHA256, toJSON(e.Findings), at.UnixNano()); err != nil {
				return err
			}
			if _, err := tx.ExecContext(ctx, "UPDATE spans SET sha256 = ? WHERE id = ? AND sha256 IS NOT ?", e.SHA256, e.Copy,
				e.SHA256); err != nil {
				return err
			}
			if err := judge(ctx, tx, e.SHA256, e.Findings); err != nil {
				return err
			}
		}
		return nil
	})
}

// Judged is what is known of a copy's content without reading it.
type Judged struct {
	State  condition.State
	SHA256 string // "" while unknown
}

// Conditions returns what is known of copies, by their numbers.
func (c *Catalogue) Conditions(ctx context.Context, ids []int64) (map[int64]Judged, error) {
	all := make(map[int64]Judged, len(ids))
	for some := range slices.Chunk(ids, 5000) {
		rows, err := c.read.QueryContext(
			ctx,
			"SELECT id, coalesce(condition, 'unread'), sha256 FROM spans WHERE id IN (SELECT value FROM json_each(?))",
			toJSON(some),
		)
		if err != nil {
			return nil, err
		}
		for rows.Next() {
			var id int64
			var j Judged
			var sha []byte
			if err := rows.Scan(&id, &j.State, &sha); err != nil {
				return nil, errors.Join(err, rows.Close())
			}
			j.SHA256 = hex.EncodeToString(sha)
			all[id] = j
		}
		if err := errors.Join(rows.Err(), rows.Close()); err != nil {
			return nil, err
		}
	}
	return all, nil
}

// UnexaminedIn lists readable files of a source that were not examined, after the one numbered after.
func (c *Catalogue) UnexaminedIn(ctx context.Context, source, after int64, limit int) ([]int64, error) {
	return numbers(
		c.read.QueryContext(
			ctx,
			"SELECT id FROM spans WHERE id > ? AND source_id = ? AND type = 'file' AND readable AND condition IS NULL ORDER BY id LIMIT ?",
			after,
			source,
			limit,
		),
	)
}

// judge says of every span of a content what the findings mean under its name.
func judge(ctx context.Context, tx *sql.Tx, sha256 []byte, f condition.Findings) error {
	rows, err := tx.QueryContext(
		ctx,
		"SELECT x.id, p.name FROM spans x JOIN places p ON p.id = x.place_id WHERE x.sha256 = ? AND x.type = 'file'",
		sha256,
	)
	if err != nil {
		return err
	}
	states := map[int64]condition.State{}
	for rows.Next() {
		var id int64
		var name string
		if err := rows.Scan(&id, &name); err != nil {
			return errors.Join(err, rows.Close())
		}
		states[id] = f.For(name).State
	}
	if err := errors.Join(rows.Err(), rows.Close()); err != nil {
		return err
	}
	for id, state := range states {
		if _, err := tx.ExecContext(ctx, "UPDATE spans SET condition = ? WHERE id = ? AND condition IS NOT ?", string(state), id,
			string(state)); err != nil {
			return err
		}
	}
	return nil
}

// judgeKnown does so for contents that were examined before the span's digest was known.
func judgeKnown(ctx context.Context, tx *sql.Tx, sha256 []byte) error {
	var text string
	err := tx.QueryRowContext(ctx, "SELECT findings FROM examined WHERE sha256 = ?", sha256).Scan(&text)
	if errors.Is(err, sql.ErrNoRows) {
		return nil
	}
	if err != nil {
		return err
	}
	f, err := fromJSON[condition.Findings](text)
	if err != nil {
		return err
	}
	return judge(ctx, tx, sha256, f)
}

// Unexamined lists files that stand on machines now, were written since a moment and were not examined yet, newest
// first.
func (c *Catalogue) Unexamined(ctx context.Context, since time.Time, most int64, limit int) ([]int64, error) {
	return numbers(c.read.QueryContext(
		ctx,
		`SELECT x.id FROM spans x JOIN sources so ON so.id = x.source_id
		WHERE x.written_at >= ? AND x.last_at IS NULL AND so.shape = 'now' AND x.type = 'file' AND x.condition IS NULL AND x.size <= ?
		AND x.class IN (?, ?, ?, ?, ?, ?, ?) ORDER BY x.written_at DESC LIMIT ?`,
		since.UnixNano(),
		most,
		string(
			fileclass.Documents,
		),
		string(fileclass.Spreadsheets),
		string(fileclass.Drawings),
		string(fileclass.Pictures),
		string(fileclass.Contacts),
		string(fileclass.Calendars),
		string(fileclass.Mail),
		limit,
	))
}

// FactsByDigest returns everything that holds a content, at most limit.
func (c *Catalogue) FactsByDigest(ctx context.Context, stores map[int64]*Store, sha256 string, limit int) ([]Fact, error) {
	sum, err := hex.DecodeString(sha256)
	if err != nil || len(sum) == 0 {
		return nil, err
	}
	return collect(c.facts(ctx, stores, "SELECT "+factColumns+` FROM spans x CROSS JOIN places p ON p.id = x.place_id`+factTables+`
		WHERE x.sha256 = ? LIMIT ?`, sum, limit))
}

// FactsOfSize returns files of a size that stand on machines now, at most limit.
func (c *Catalogue) FactsOfSize(ctx context.Context, stores map[int64]*Store, size int64, limit int) ([]Fact, error) {
	return collect(c.facts(ctx, stores, "SELECT "+factColumns+` FROM spans x CROSS JOIN places p ON p.id = x.place_id`+factTables+`
		WHERE x.size = ? AND x.last_at IS NULL AND x.type = 'file' AND x.source_id IN (SELECT id FROM sources WHERE shape = 'now')
			LIMIT ?`, size, limit))
}

// FactsNamed returns what sources saw under just this name, in any folder of any machine, at most limit.
func (c *Catalogue) FactsNamed(ctx context.Context, stores map[int64]*Store, name string, limit int) ([]Fact, error) {
	s := search{c: c}
	if err := s.words(ctx, place.Readable(name)); err != nil || s.names == nil {
		return nil, err
	}
	return collect(c.facts(ctx, stores, "SELECT "+factColumns+` FROM places p`+factTables+` CROSS JOIN spans x ON x.place_id = p.id
		WHERE p.id IN (SELECT value FROM json_each(?)) AND p.name = ? ORDER BY x.id LIMIT ?`, toJSON(s.names), []byte(name), limit))
}

// FactsLike returns what stands on a machine now under a name in which all words occur, at most limit. Words of one or two
// letters alone find nothing: the index does not know them.
func (c *Catalogue) FactsLike(ctx context.Context, stores map[int64]*Store, machine, words string, limit int) ([]Fact, error) {
	return c.factsLike(
		ctx,
		stores,
		words,
		"m.name = ? AND x.last_at IS NULL AND x.source_id IN (SELECT id FROM sources WHERE shape = 'now')",
		machine,
		limit,
	)
}

// FactsLost does so for what the stores of a machine hold without a record of where it came from.
func (c *Catalogue) FactsLost(ctx context.Context, stores map[int64]*Store, machine, words string, limit int) ([]Fact, error) {
	return c.factsLike(
		ctx,
		stores,
		words,
		"NOT x.origin_known AND x.readable AND x.source_id IN (SELECT s.id FROM sources s JOIN machines sm ON sm.id = s.machine_id "+
			"WHERE sm.name = ?)",
		machine,
		limit,
	)
}

// factsLike returns files under a name in which all words occur, of a machine, the one written last first.
func (c *Catalogue) factsLike(ctx context.Context, stores map[int64]*Store, words, where, machine string, limit int) ([]Fact, error) {
	const indexed = 3 // letters
	if !slices.ContainsFunc(strings.Fields(words), func(w string) bool { return utf8.RuneCountInString(w) >= indexed }) {
		return nil, nil
	}
	s := search{c: c}
	if err := s.words(ctx, words); err != nil || s.names == nil {
		return nil, err
	}
	return collect(c.facts(ctx, stores, "SELECT "+factColumns+` FROM places p`+factTables+` CROSS JOIN spans x ON x.place_id = p.id
		WHERE p.id IN (SELECT value FROM json_each(?)) AND x.type = 'file' AND `+where+` ORDER BY x.written_at DESC LIMIT ?`,
		toJSON(s.names), machine, limit))
}

// FactsOfSource returns what a source holds now, at most limit, the newest first.
func (c *Catalogue) FactsOfSource(ctx context.Context, stores map[int64]*Store, source int64, limit int) ([]Fact, error) {
	return collect(c.facts(ctx, stores, "SELECT "+factColumns+` FROM spans x CROSS JOIN places p ON p.id = x.place_id`+factTables+`
		WHERE x.source_id = ? AND x.last_at IS NULL AND x.type = 'file' ORDER BY x.written_at DESC LIMIT ?`, source, limit))
}
