package survey

import (
	"context"
	"errors"
	"fmt"
	"time"

	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/contents"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/explain"
	"humble-rewind/internal/jobs"
)

// JobKind is the kind of survey jobs.
const JobKind = "survey"

// Request is what a survey job is submitted with: the sources' numbers.
type Request struct {
	Sources []int64 `json:"sources"`
	ReadAll bool    `json:"read_all,omitempty"` // also digest all content not yet known
	Examine bool    `json:"examine,omitempty"`  // also examine all content not yet examined
}

// Examiner examines what a source holds.
type Examiner interface {
	// All examines the files of a source that were not examined yet, and counts those that could not be read.
	All(ctx context.Context, sourceID int64, progress func(files, bytes int64)) (unread int64, err error)
}

// Worker surveys one source after the other. A source that cannot be read does not keep the others from it. A resumed
// job surveys all its sources again, since what is recorded already costs only a comparison.
func Worker(reader *contents.Reader, examiner Examiner, now func() time.Time) jobs.Worker {
	s := reader.Site
	return jobs.Worker{Kind: JobKind, AtOnce: 1, ErrorFor: explain.Error, Do: func(ctx context.Context, task *jobs.Task) error {
		var request Request
		if err := task.Request(&request); err != nil {
			return err
		}
		task.Update(func(j *catalogue.Job) { j.Outcomes, j.Done = nil, 0 })
		var before, read int64
		failed := 0
		for _, id := range request.Sources {
			src, err := s.Catalogue.Source(ctx, id)
			if errors.Is(err, catalogue.ErrNotFound) {
				continue // removed meanwhile
			}
			if err != nil {
				return err
			}
			if src.Traits.Live() {
				if err := s.RefreshPeople(ctx, src.Machine, now()); err != nil {
					return err
				}
			}
			progress := func(seen int64, dir string) {
				task.Update(func(j *catalogue.Job) {
					j.Done = before + seen
					j.Doing = src.AtMachine + ":" + place.Readable(place.Join(src.At, dir))
				})
			}
			result, err := Run(ctx, s, src, now(), progress)
			if errors.Is(err, catalogue.ErrMeanwhile) { // something was brought back from it: what is there now is read again
				result, err = Run(ctx, s, src, now(), progress)
			}
			if ctx.Err() != nil {
				return ctx.Err()
			}
			if _, gone := s.Catalogue.Source(ctx, id); err != nil && errors.Is(gone, catalogue.ErrNotFound) {
				err = errors.New("it was removed while it was surveyed; what had been recorded of it went with it")
			}
			outcome := catalogue.Outcome{Source: src, Found: result.Found, Fresh: result.Fresh, Gone: result.Gone, Notes: result.Notes}
			if err != nil {
				failed++
				outcome.Error = explain.Error(err)
				if err := s.Catalogue.SetTrouble(ctx, id, outcome.Error); err != nil {
					return err
				}
			}
			if err == nil && request.ReadAll {
				unread, err := reader.DigestAll(ctx, id, func(files, bytes int64, path string) {
					task.Update(func(j *catalogue.Job) { j.Bytes, j.Doing = read+bytes, "reading "+place.Readable(path) })
				})
				if err != nil {
					return err
				}
				read = task.Job().Bytes
				if unread > 0 {
					outcome.Notes = append(
						outcome.Notes,
						fmt.Sprintf("%d files could not be read, or changed since; their digests stay unknown.", unread),
					)
				}
			}
			if err == nil && request.Examine {
				unread, err := examiner.All(ctx, id, func(files, bytes int64) {
					task.Update(func(j *catalogue.Job) {
						j.Bytes, j.Doing = read+bytes, fmt.Sprintf("examining: %d files so far", files)
					})
				})
				if err != nil {
					return err
				}
				read = task.Job().Bytes
				if unread > 0 {
					outcome.Notes = append(
						outcome.Notes,
						fmt.Sprintf("%d files could not be examined: they cannot be read, or changed since.", unread),
					)
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
