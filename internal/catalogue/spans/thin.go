package spans

import (
	"cmp"
	"context"
	"database/sql"
	"errors"
	"maps"
	"slices"
	"time"

	"github.com/pressly/goose/v3"

	"humble-rewind/internal/catalogue/block"
	"humble-rewind/internal/catalogue/file"
	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/thinning"
)

// worthIt is how many captures must be old enough to go before all stores are looked through.
const worthIt = 100

// Thin drops captures of stores that show what there is now, as far as nothing is worked out from them: see package thinning. What happened on one
// machine may be asked about on another, so all are looked at together. Points in time that a store holds are never dropped. After each piece
// of work rest is called with how long it took. It returns how many were dropped.
func (c Surveys) Thin(ctx context.Context, now time.Time, rest func(worked time.Duration)) (dropped int, err error) {
	all, err := c.allStores(ctx)
	if err != nil {
		return 0, err
	}
	stores := slices.SortedFunc(maps.Values(all), func(a, b *copies.Store) int { return cmp.Compare(a.ID, b.ID) })
	times := make([][]int64, len(stores))
	for n, s := range stores {
		for _, at := range s.Captures {
			times[n] = append(times[n], at.UnixNano())
		}
	}
	if may := countOf(stores, thinning.New(now, times...).Dropped()); may < worthIt {
		return 0, nil
	}
	thin := thinning.New(now, times...)
	for _, s := range stores {
		if err := c.eventsOf(ctx, s, thin.Event, rest); err != nil {
			return 0, err
		}
	}
	for n, gone := range thin.Dropped() {
		if stores[n].Traits.Dated() || len(gone) == 0 {
			continue
		}
		if err := c.dropCaptures(ctx, stores[n].ID, gone); err != nil {
			return dropped, err
		}
		dropped += len(gone)
	}
	return dropped, nil
}

// countOf counts the captures that could go.
func countOf(stores []*copies.Store, dropped [][]int64) (n int) {
	for i, s := range stores {
		if !s.Traits.Dated() {
			n += len(dropped[i])
		}
	}
	return n
}

// eventsOf tells when something in a store began, ended or was removed.
func (c *room) eventsOf(ctx context.Context, s *copies.Store, event func(at int64), rest func(worked time.Duration)) error {
	at := func(i entry.Instant) {
		if n := instantNanos(i); n.Valid {
			event(n.Int64 - int64(s.ClockAhead))
		}
	}
	for from := (Position{}); ; {
		begun := time.Now()
		some, err := c.blocksFrom(ctx, s.ID, from)
		if err != nil || len(some) == 0 {
			return err
		}
		for _, b := range some {
			from = Position{b.folder.id, b.id}
			for _, spans := range [...][]block.Span{b.now, b.past} {
				for i := range spans {
					x := &spans[i]
					event(x.First)
					if !x.Stands() {
						event(x.Last)
					}
					at(x.Gone)
					at(x.Told)
				}
			}
		}
		if rest != nil {
			rest(time.Since(begun))
		}
		if err := ctx.Err(); err != nil {
			return err
		}
	}
}

// dropCaptures drops captures of a source by their times. What was written of them meanwhile keeps them.
func (c *room) dropCaptures(ctx context.Context, source copies.SourceID, times []int64) error {
	defer c.forgetStore(source)
	return c.f.Tx(ctx, func(w *file.Writing) error {
		return w.Exec(ctx, "DELETE FROM captures WHERE source_id = ?1 AND complete AND at IN (SELECT value FROM json_each(?2)) AND id <> "+
			"coalesce((SELECT last_capture FROM sources WHERE id = ?1), 0)", source, file.ToJSON(times))
	})
}

// countStep counts how long after the capture before it one was.
func (k *Capture) countStep(ctx context.Context, w *file.Writing) error {
	if k.dated || k.before == never {
		return nil
	}
	steps, err := stepsOf(ctx, w, k.source.ID)
	if err != nil {
		return err
	}
	steps.Add(time.Duration(k.at - k.before))
	return keepSteps(ctx, w, k.source.ID, steps)
}

func stepsOf(ctx context.Context, q file.Querier, source copies.SourceID) (thinning.Steps, error) {
	var text string
	if err := q.QueryRowContext(ctx, "SELECT steps FROM sources WHERE id = ?", source).Scan(&text); err != nil {
		return nil, file.NoRows(err)
	}
	steps, err := file.FromJSON[thinning.Steps](text)
	if steps == nil {
		steps = thinning.Steps{}
	}
	return steps, err
}

func keepSteps(ctx context.Context, w *file.Writing, source copies.SourceID, steps thinning.Steps) error {
	return w.Exec(ctx, "UPDATE sources SET steps = ? WHERE id = ?", file.ToJSON(steps), source)
}

// CountSteps is the migration that counts the steps of the captures that there were.
var CountSteps = goose.NewGoMigration(20, &goose.GoFunc{RunTx: func(ctx context.Context, tx *sql.Tx) error {
	w := file.NewWriting(tx)
	sources, err := file.Numbers(w.QueryContext(ctx, "SELECT id FROM sources"))
	if err != nil {
		return err
	}
	for _, id := range sources {
		times, err := file.Numbers(w.QueryContext(ctx, "SELECT at FROM captures WHERE source_id = ? AND complete ORDER BY at", id))
		steps := thinning.Steps{}
		for i := 1; i < len(times); i++ {
			steps.Add(time.Duration(times[i] - times[i-1]))
		}
		if err = errors.Join(err, keepSteps(ctx, w, copies.SourceID(id), steps)); err != nil {
			return err
		}
	}
	return nil
}}, nil)
