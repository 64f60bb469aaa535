package survey

import (
	"context"
	"errors"
	"fmt"
	"runtime/debug"
	"slices"
	"sync"
	"time"

	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/contents"
	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/principal"
	"humble-rewind/internal/core/turns"
	"humble-rewind/internal/jobs"
	"humble-rewind/internal/registry"
	"humble-rewind/internal/say"
)

// JobKind is the kind of survey jobs.
const JobKind = "survey"

// Request is what a survey job is submitted with: the sources' numbers.
type Request struct {
	Sources  []copies.SourceID `json:"sources"`
	Priority turns.Priority    `json:"priority,omitempty"`
	ReadAll  bool              `json:"read_all,omitempty"` // also digest all content not yet known
	Examine  bool              `json:"examine,omitempty"`  // also examine all content not yet examined
}

// Order is a survey that is asked for.
type Order struct {
	Sources  []catalogue.Source
	Priority turns.Priority
	ReadAll  bool
	Examine  bool
}

// By is the job that somebody asks for with it.
func (o Order) By(who string) jobs.Order {
	order := jobs.Order{Kind: JobKind, By: who, Once: true}
	request := Request{Priority: o.Priority, ReadAll: o.ReadAll, Examine: o.Examine}
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
// cannot be read does not keep the others from it. A resumed job goes on with the sources that had not ended; what is recorded of them already
// costs only a comparison.
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

// round is one job being done: the surveys of its sources, each a part that goes on, fails and ends by itself.
type round struct {
	*worker
	task    *jobs.Task
	request Request
}

func (w *worker) do(ctx context.Context, task *jobs.Task) error {
	r := &round{worker: w, task: task}
	if err := task.Request(&r.request); err != nil {
		return err
	}
	ctx = turns.With(ctx, r.request.Priority)
	r.begin()
	var all sync.WaitGroup
	defer all.Wait()
	for n, id := range r.request.Sources {
		if r.ended(n) {
			continue
		}
		src, err := w.reader.Site.Catalogue.Sources.ByID(ctx, id)
		if errors.Is(err, catalogue.ErrNotFound) {
			r.part(n, func(p *catalogue.Part) { p.State = catalogue.JobDone }) // removed meanwhile
			continue
		}
		if err != nil {
			return err
		}
		r.part(n, func(p *catalogue.Part) { p.Machine = src.AtMachine })
		done := make(chan struct{})
		all.Go(func() {
			defer close(done)
			r.survey(ctx, n, src)
		})
		w.lanes.wait(ctx, src.AtMachine, w.reader.Site.Far(ctx, src.AtMachine), done)
	}
	all.Wait()
	if err := ctx.Err(); err != nil {
		return err
	}
	failed := 0
	for _, p := range task.Job().Parts {
		if p.State == catalogue.JobFailed {
			failed++
		}
	}
	switch {
	case failed > 0 && failed == len(r.request.Sources):
		return fmt.Errorf("none of the %d sources could be read", failed)
	case failed > 0:
		return fmt.Errorf("%w: %d of %d sources could not be read", jobs.ErrPart, failed, len(r.request.Sources))
	}
	return nil
}

// begin makes the parts of the job. Those that had ended when a stop interrupted it stay ended.
func (r *round) begin() {
	r.task.Update(func(j *catalogue.Job) {
		before := map[copies.SourceID]catalogue.Part{}
		for _, p := range j.Parts {
			before[p.Source] = p
		}
		j.Parts = make([]catalogue.Part, len(r.request.Sources))
		var outcomes []catalogue.Outcome
		for n, id := range r.request.Sources {
			j.Parts[n] = catalogue.Part{Source: id, State: catalogue.JobWaiting}
			i := slices.IndexFunc(j.Outcomes, func(o catalogue.Outcome) bool { return o.Source.ID == id })
			if was := before[id]; was.State.Ended() && i >= 0 {
				j.Parts[n] = was
				outcomes = append(outcomes, j.Outcomes[i])
			}
		}
		j.Outcomes = outcomes
		count(j)
	})
}

// ended tells whether a part had ended when the job was interrupted.
func (r *round) ended(n int) bool { return r.task.Job().Parts[n].State.Ended() }

// part changes how far a part is, and what the job says of all of them with it.
func (r *round) part(n int, change func(*catalogue.Part)) {
	r.task.Update(func(j *catalogue.Job) {
		j.Parts = slices.Clone(j.Parts) // which others read
		change(&j.Parts[n])
		count(j)
	})
}

// count says how far a job is by its parts: in copies, or bytes that are read.
func count(j *catalogue.Job) {
	j.Done, j.Doing = 0, ""
	for _, p := range j.Parts {
		j.Done += p.Done
		if p.State == catalogue.JobRunning && p.Doing != "" {
			j.Doing = p.Doing
		}
	}
}

// survey surveys one source, slice by slice, and does what else is asked for. What goes wrong with it ends it alone.
func (r *round) survey(ctx context.Context, n int, src catalogue.Source) {
	outcome := catalogue.Outcome{Source: catalogue.SurveyedOf(src.Source)}
	err := r.slices(ctx, n, src, &outcome)
	if ctx.Err() != nil {
		return
	}
	state := catalogue.JobDone
	if err != nil {
		state, outcome.Error = catalogue.JobFailed, say.Error(err)
		if errors.Is(err, catalogue.ErrNotFound) {
			outcome.Error = "it was removed while it was surveyed; what had been recorded of it went with it"
		} else if kept := r.reader.Site.Catalogue.Sources.SetTrouble(ctx, src.ID, outcome.Error); kept != nil {
			outcome.Error += "; and that could not be recorded: " + say.Error(kept)
		}
	}
	r.task.Update(func(j *catalogue.Job) {
		j.Parts = slices.Clone(j.Parts)
		p := &j.Parts[n]
		p.State, p.Done, p.Doing = state, outcome.Found, ""
		j.Outcomes = inOrder(append(slices.Clone(j.Outcomes), outcome), r.request.Sources)
		count(j)
	})
}

// inOrder puts outcomes in the order in which their sources were asked for.
func inOrder(all []catalogue.Outcome, sources []copies.SourceID) []catalogue.Outcome {
	at := make(map[copies.SourceID]int, len(sources))
	for n, id := range sources {
		at[id] = n
	}
	slices.SortStableFunc(all, func(a, b catalogue.Outcome) int { return at[a.Source.ID] - at[b.Source.ID] })
	return all
}

// slices surveys a source, a turn in its lane for each slice.
func (r *round) slices(ctx context.Context, n int, src catalogue.Source, outcome *catalogue.Outcome) (err error) {
	defer func() { // a fault in one source takes no other with it, see jobs
		if fault := recover(); fault != nil {
			err = fmt.Errorf("a fault of the program stopped it: %v\n%s", fault, debug.Stack())
		}
	}()
	turn, err := r.lanes.take(ctx, laneOf(src))
	if err != nil {
		return err
	}
	defer turn.give()
	for again := true; again; {
		r.part(n, func(p *catalogue.Part) { p.State = catalogue.JobRunning })
		if again, err = r.slice(ctx, n, src, turn, outcome); err != nil {
			return err
		}
		if again {
			r.part(n, func(p *catalogue.Part) { p.State = catalogue.JobWaiting })
			if err := turn.again(ctx); err != nil {
				return err
			}
		}
	}
	return r.contents(ctx, n, src, turn, outcome)
}

// slice surveys as much of a source as one turn is for, and tells whether that was not all.
func (r *round) slice(ctx context.Context, n int, src catalogue.Source, turn *turn, outcome *catalogue.Outcome) (again bool, err error) {
	s := r.reader.Site
	if src.Traits.Live() {
		if err := (registry.Registry{Site: s}).RefreshPeople(ctx, src.Machine, r.now()); err != nil {
			return false, err
		}
	}
	if src, err = s.Catalogue.Sources.ByID(ctx, src.ID); err != nil { // as it is now that it has its turn
		return false, err
	}
	outcome.Source = catalogue.SurveyedOf(src.Source)
	following := Following{Due: turn.due,
		Seen: func(seen int64, dir string) {
			r.part(n, func(p *catalogue.Part) {
				p.Done, p.Doing = seen, src.AtMachine+":"+place.Readable(place.Join(src.At, dir))
			})
		},
		Progress: func(done, total int64, doing string) {
			r.part(n, func(p *catalogue.Part) {
				p.Read, p.Total, p.Doing = done, total, src.AtMachine+":"+place.Readable(place.Join(src.At, doing))
			})
		}}
	result, err := Run(ctx, s, src, r.now(), following)
	if errors.Is(err, catalogue.ErrMeanwhile) { // something was brought back from it: what is there now is read again
		if src, err = s.Catalogue.Sources.ByID(ctx, src.ID); err == nil {
			result, err = Run(ctx, s, src, r.now(), following)
		}
	}
	if _, gone := s.Catalogue.Sources.ByID(ctx, src.ID); err != nil && errors.Is(gone, catalogue.ErrNotFound) {
		err = gone
	}
	outcome.Found, outcome.Fresh, outcome.Gone, outcome.Notes = result.Found, result.Fresh, result.Gone, result.Notes
	return result.Again, err
}

// contents reads what is asked for besides, and lets others have their turn between files.
func (r *round) contents(ctx context.Context, n int, src catalogue.Source, turn *turn, outcome *catalogue.Outcome) error {
	reading := func(bytes int64, doing string) {
		r.part(n, func(p *catalogue.Part) { p.Doing = doing })
		r.task.Update(func(j *catalogue.Job) { j.Bytes = max(j.Bytes, bytes) })
		if turn.due() {
			_ = turn.again(ctx) // what reads on notices by itself that its context is done
		}
	}
	if r.request.ReadAll {
		unread, err := r.reader.DigestAll(ctx, src.ID, func(_, bytes int64, path string) { reading(bytes, "reading "+place.Readable(path)) })
		if err != nil {
			return err
		}
		if unread > 0 {
			outcome.Notes = append(outcome.Notes,
				fmt.Sprintf("%d files could not be read, or changed since; their digests stay unknown.", unread))
		}
	}
	if r.request.Examine {
		unread, err := r.examiner.All(ctx, src.ID, func(files, bytes int64) {
			reading(bytes, fmt.Sprintf("examining: %d files so far", files))
		})
		if err != nil {
			return err
		}
		if unread > 0 {
			outcome.Notes = append(outcome.Notes, fmt.Sprintf("%d files could not be examined: they cannot be read, or changed since.", unread))
		}
	}
	return nil
}
