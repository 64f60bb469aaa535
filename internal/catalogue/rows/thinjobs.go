package rows

import (
	"context"
	"database/sql"
	"slices"
	"time"

	"humble-rewind/internal/catalogue/file"
	"humble-rewind/internal/core/thinning"
)

// silent tells of a survey's outcome whether nothing came of it.
func (o Outcome) silent() bool {
	return o.Fresh == 0 && o.Gone == 0 && len(o.Notes) == 0 && o.Error == ""
}

// Thin drops ended jobs of a kind from which nothing came, but the first of each day and the latest, and of those that are kept what says nothing.
// It leaves those of the last days alone. It returns how many were dropped.
func (c *Jobs) Thin(ctx context.Context, kind string, now time.Time) (dropped int64, err error) {
	before := now.Add(-thinning.Recent).UnixNano()
	rows, err := c.f.Read.QueryContext(ctx, "SELECT id, created_at, state, outcomes, parts FROM jobs WHERE kind = ? AND ended_at < ? AND id < (SELECT "+
		"max(id) FROM jobs WHERE kind = ?) ORDER BY created_at, id", kind, before, kind)
	if err != nil {
		return 0, err
	}
	defer rows.Close()
	var drop []int64
	slim := map[int64]string{}
	last := time.Time{}
	for rows.Next() {
		var id int64
		var created sql.NullInt64
		var state JobState
		var text, parts string
		if err := rows.Scan(&id, &created, &state, &text, &parts); err != nil {
			return 0, err
		}
		outcomes, err := file.FromJSON[[]Outcome](text)
		if err != nil {
			return 0, err
		}
		left := slices.DeleteFunc(slices.Clone(outcomes), Outcome.silent)
		day := file.Moment(created).Truncate(24 * time.Hour)
		switch {
		case len(left) == 0 && state == JobDone && day.Equal(last):
			drop = append(drop, id)
			continue
		case len(left) < len(outcomes) || parts != "[]":
			slim[id] = file.ToJSON(left)
		}
		last = day
	}
	if err := rows.Err(); err != nil || len(drop)+len(slim) == 0 {
		return 0, err
	}
	return int64(len(drop)), c.f.Tx(ctx, func(w *file.Writing) error {
		for id, outcomes := range slim {
			if err := w.Exec(ctx, "UPDATE jobs SET outcomes = ?, parts = '[]' WHERE id = ?", outcomes, id); err != nil {
				return err
			}
		}
		return w.Exec(ctx, "DELETE FROM jobs WHERE id IN (SELECT value FROM json_each(?))", file.ToJSON(drop))
	})
}
