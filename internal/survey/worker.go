package survey

import (
	"context"
	"errors"
	"fmt"
	"runtime/debug"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/contents"
	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/principal"
	"humble-rewind/internal/jobs"
	"humble-rewind/internal/registry"
	"humble-rewind/internal/say"
)

// JobKind is the kind of survey jobs.
const JobKind = "survey"

// Request is what a survey job is submitted with: the sources' numbers.
type Request struct {
	Sources []copies.SourceID `json:"sources"`
	ReadAll bool              `json:"read_all,omitempty"` // also digest all content not yet known
	Examine bool              `json:"examine,omitempty"`  // also examine all content not yet examined
}

// Order is a survey that is asked for.
type Order struct {
	Sources []catalogue.Source
	ReadAll bool
	Examine bool
}

// By is the job that somebody asks for with it.
func (o Order) By(who string) jobs.Order {
	order := jobs.Order{Kind: JobKind, By: who}
	request := Request{ReadAll: o.ReadAll, Examine: o.Examine}
	for _, src := range o.Sources {
		request.Sources = append(request.Sources, src.ID)
		order.Machines = append(order.Machines, src.MachineID)
	}
	order.Request = request
	return order
}

// Examiner examines what a source holds.
type Examiner interface {
	// All examines the files of a source that were not examined yet, and counts those that could not be read.
	All(ctx context.Context, source copies.SourceID, progress func(files, bytes int64)) (unread int64, err error)
}

// Worker surveys sources, one after the other. One that takes longer than a while does not hold up those behind it that are in another
// lane, nor other jobs: a machine that does not answer, or a store whose structure takes long to read. A source that
// cannot be read does not keep the others from it. A resumed job surveys all its sources again, since what is recorded already costs only
// a comparison.
func Worker(reader *contents.Reader, examiner Examiner, now func() time.Time) jobs.Worker {
	w := &worker{reader: reader, examiner: examiner, now: now, lanes: newLanes()}
	return jobs.Worker{Kind: JobKind, Right: principal.Survey, AtOnce: jobsAtOnce, ErrorFor: say.Error, Do: w.do}
}

// jobsAtOnce is how many jobs have their turn; their lanes bound how much is done.
const jobsAtOnce = 16

type worker struct {
	reader   *contents.Reader
	examiner Examiner
	now      func() time.Time
	lanes    *lanes
}

// round is one job being done.
type round struct {
	*worker
	task    *jobs.Task
	request Request

	mu       sync.Mutex
	seen     map[copies.SourceID]int64 // copies, by source
	read     map[copies.SourceID]int64 // bytes
	outcomes map[copies.SourceID]catalogue.Outcome
	failed   int
}

func (w *worker) do(ctx context.Context, task *jobs.Task) error {
	r := &round{worker: w, task: task, seen: map[copies.SourceID]int64{}, read: map[copies.SourceID]int64{}, outcomes: map[copies.SourceID]catalogue.Outcome{}}
	if err := task.Request(&r.request); err != nil {
		return err
	}
	task.Update(func(j *catalogue.Job) { j.Outcomes, j.Done = nil, 0 })
	all, ctx := errgroup.WithContext(ctx)
	for _, id := range r.request.Sources {
		src, err := w.reader.Site.Catalogue.Sources.ByID(ctx, id)
		if errors.Is(err, catalogue.ErrNotFound) {
			continue // removed meanwhile
		}
		if err != nil {
			return errors.Join(err, all.Wait())
		}
		done := make(chan struct{})
		all.Go(func() (err error) {
			defer close(done)
			defer func() { // a fault in one job takes no other with it, see jobs
				if fault := recover(); fault != nil {
					err = fmt.Errorf("a fault of the program stopped it: %v\n%s", fault, debug.Stack())
				}
			}()
			return w.lanes.with(ctx, w.laneOf(ctx, src), func() error { return r.source(ctx, src) })
		})
		w.lanes.wait(ctx, src.AtMachine, w.reader.Site.Far(ctx, src.AtMachine), done)
	}
	if err := all.Wait(); err != nil {
		return err
	}
	switch {
	case r.failed > 0 && r.failed == len(r.request.Sources):
		return fmt.Errorf("none of the %d sources could be read", r.failed)
	case r.failed > 0:
		return fmt.Errorf("%w: %d of %d sources could not be read", jobs.ErrPart, r.failed, len(r.request.Sources))
	}
	return nil
}

// source surveys one source, and does what else is asked for.
func (r *round) source(ctx context.Context, src catalogue.Source) error {
	s := r.reader.Site
	if src.Traits.Live() {
		if err := (registry.Registry{Site: s}).RefreshPeople(ctx, src.Machine, r.now()); err != nil {
			return err
		}
	}
	src, err := s.Catalogue.Sources.ByID(ctx, src.ID) // as it is now that it has its turn
	if errors.Is(err, catalogue.ErrNotFound) {
		return nil
	}
	if err != nil {
		return err
	}
	progress := func(seen int64, dir string) { r.progress(src, seen, dir) }
	result, err := Run(ctx, s, src, r.now(), progress)
	if errors.Is(err, catalogue.ErrMeanwhile) { // something was brought back from it: what is there now is read again
		result, err = Run(ctx, s, src, r.now(), progress)
	}
	if ctx.Err() != nil {
		return ctx.Err()
	}
	if _, gone := s.Catalogue.Sources.ByID(ctx, src.ID); err != nil && errors.Is(gone, catalogue.ErrNotFound) {
		err = errors.New("it was removed while it was surveyed; what had been recorded of it went with it")
	}
	outcome := catalogue.Outcome{Source: src, Found: result.Found, Fresh: result.Fresh, Gone: result.Gone, Notes: result.Notes}
	if err != nil {
		r.fail()
		outcome.Error = say.Error(err)
		if err := s.Catalogue.Sources.SetTrouble(ctx, src.ID, outcome.Error); err != nil {
			return err
		}
	}
	if err == nil && r.request.ReadAll {
		unread, err := r.reader.DigestAll(ctx, src.ID, func(_, bytes int64, path string) {
			r.reading(src, bytes, "reading "+place.Readable(path))
		})
		if err != nil {
			return err
		}
		if unread > 0 {
			outcome.Notes = append(outcome.Notes,
				fmt.Sprintf("%d files could not be read, or changed since; their digests stay unknown.", unread))
		}
	}
	if err == nil && r.request.Examine {
		unread, err := r.examiner.All(ctx, src.ID, func(files, bytes int64) {
			r.reading(src, bytes, fmt.Sprintf("examining: %d files so far", files))
		})
		if err != nil {
			return err
		}
		if unread > 0 {
			outcome.Notes = append(outcome.Notes, fmt.Sprintf("%d files could not be examined: they cannot be read, or changed since.", unread))
		}
	}
	r.done(src, outcome)
	return nil
}

func (r *round) fail() {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.failed++
}

// progress says how far a source is; the job counts all of them together.
func (r *round) progress(src catalogue.Source, seen int64, dir string) {
	r.mu.Lock()
	r.seen[src.ID] = seen
	all := sum(r.seen)
	r.mu.Unlock()
	r.task.Update(func(j *catalogue.Job) {
		j.Done, j.Doing = all, src.AtMachine+":"+place.Readable(place.Join(src.At, dir))
	})
}

func (r *round) reading(src catalogue.Source, bytes int64, doing string) {
	r.mu.Lock()
	r.read[src.ID] = bytes
	all := sum(r.read)
	r.mu.Unlock()
	r.task.Update(func(j *catalogue.Job) { j.Bytes, j.Doing = all, doing })
}

// done adds what became of a source, in the order in which they were asked for.
func (r *round) done(src catalogue.Source, outcome catalogue.Outcome) {
	r.mu.Lock()
	r.seen[src.ID], r.outcomes[src.ID] = outcome.Found, outcome
	all := sum(r.seen)
	var outcomes []catalogue.Outcome
	for _, id := range r.request.Sources {
		if o, ended := r.outcomes[id]; ended {
			outcomes = append(outcomes, o)
		}
	}
	r.mu.Unlock()
	r.task.Update(func(j *catalogue.Job) { j.Done, j.Outcomes = all, outcomes })
}

func sum(counts map[copies.SourceID]int64) (all int64) {
	for _, n := range counts {
		all += n
	}
	return all
}
