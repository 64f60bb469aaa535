package survey

import (
	"context"
	"errors"
	"fmt"
	"time"

	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/jobs"
	"humble-rewind/internal/site"
)

// JobKind is the kind of survey jobs.
const JobKind = "survey"

// Request is what a survey job is submitted with: the sources' numbers.
type Request struct {
	Sources []int64 `json:"sources"`
}

// Worker surveys one source after the other. A source that cannot be read does not keep the others from it. A resumed
// job surveys all its sources again, since what is recorded already costs only a comparison.
func Worker(s *site.Site, now func() time.Time) jobs.Worker {
	return jobs.Worker{Kind: JobKind, AtOnce: 1, Do: func(ctx context.Context, task *jobs.Task) error {
		var request Request
		if err := task.Request(&request); err != nil {
			return err
		}
		task.Update(func(j *catalogue.Job) { j.Outcomes, j.Done = nil, 0 })
		var before int64
		failed := 0
		for _, id := range request.Sources {
			src, err := s.Catalogue.Source(ctx, id)
			if errors.Is(err, catalogue.ErrNotFound) {
				continue // removed meanwhile
			}
			if err != nil {
				return err
			}
			result, err := Run(ctx, s, src, now(), func(seen int64, dir string) {
				task.Update(func(j *catalogue.Job) {
					j.Done = before + seen
					j.Doing = src.AtMachine + ":" + place.Readable(place.Join(src.At, dir))
				})
			})
			if ctx.Err() != nil {
				return ctx.Err()
			}
			outcome := catalogue.Outcome{Source: src, Found: result.Found, Fresh: result.Fresh, Gone: result.Gone, Notes: result.Notes}
			if err != nil {
				failed++
				outcome.Error = err.Error()
				if err := s.Catalogue.SetTrouble(ctx, id, outcome.Error); err != nil {
					return err
				}
			}
			before += result.Found
			task.Update(func(j *catalogue.Job) { j.Done, j.Outcomes = before, append(j.Outcomes, outcome) })
		}
		switch {
		case failed > 0 && failed == len(request.Sources):
			return fmt.Errorf("none of the %d sources could be read", failed)
		case failed > 0:
			return fmt.Errorf("%w: %d of %d sources could not be read", jobs.ErrPart, failed, len(request.Sources))
		}
		return nil
	}}
}
