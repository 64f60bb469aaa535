// Package jobs runs long work in the background, keeps how far it is, and tells whoever follows it.
//
// Jobs are rows of the catalogue, so a stop loses none: what was interrupted is given to its worker again at the start.
package jobs

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"runtime/debug"
	"slices"
	"sync"
	"time"

	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/core/principal"
)

// Worker does one kind of job. It is called again with Resumed set for a job that a stop interrupted, and must then
// finish or report it. Errors that wrap ErrPart end the job as done in part.
type Worker struct {
	Kind     string
	Right    principal.Right // that it takes to have it done, or stopped
	AtOnce   int             // how many may run side by side
	Do       func(ctx context.Context, task *Task) error
	ErrorFor func(error) string // words an error for a technician; nil: its text
}

// ErrPart marks work that could be done only in part.
var ErrPart = errors.New("done in part")

// Why a job is told to stop.
var (
	errCancelled = errors.New("cancelled by a technician")
	errTaken     = errors.New("who had asked for it has no right to it any more")
)

// Cancelled tells whether a job's context ended because somebody told it to stop, not because the service stops.
func Cancelled(ctx context.Context) bool {
	cause := context.Cause(ctx)
	return errors.Is(cause, errCancelled) || errors.Is(cause, errTaken)
}

// ErrEnded says that a job has ended and cannot be cancelled any more.
var ErrEnded = errors.New("the job has ended")

// Runner runs jobs. Start it once; Stop waits for the workers to let go.
type Runner struct {
	Changed func(id int64) // called whenever a job has changed; set it before anything is begun

	catalogue *catalogue.Catalogue
	log       *slog.Logger
	now       func() time.Time
	workers   map[string]Worker
	slots     map[string]chan struct{}
	ctx       context.Context
	stop      context.CancelCauseFunc
	wait      sync.WaitGroup

	asking  sync.Mutex
	mu      sync.Mutex
	running map[int64]*Task
}

// New makes a runner for the workers.
func New(c *catalogue.Catalogue, log *slog.Logger, now func() time.Time, workers ...Worker) *Runner {
	r := &Runner{
		catalogue: c,
		log:       log,
		now:       now,
		workers:   map[string]Worker{},
		slots:     map[string]chan struct{}{},
		running:   map[int64]*Task{},
	}
	r.Changed = func(int64) {}
	r.ctx, r.stop = context.WithCancelCause(context.Background())
	for _, w := range workers {
		r.workers[w.Kind] = w
		r.slots[w.Kind] = make(chan struct{}, max(1, w.AtOnce))
	}
	return r
}

// Resume starts again what the last stop interrupted.
func (r *Runner) Resume(ctx context.Context) error {
	unfinished, err := r.catalogue.Jobs.Unfinished(ctx)
	if err != nil {
		return err
	}
	for _, j := range unfinished {
		r.start(j, true)
	}
	return nil
}

// Stop asks all jobs to stop where they are and waits for them; they are resumed at the next start.
func (r *Runner) Stop() {
	r.stop(context.Canceled)
	r.wait.Wait()
}

// Order is what is to be done.
type Order struct {
	Kind     string
	By       string
	Request  any // kept as JSON for the worker
	Total    int64
	Receipt  int64              // 0 where there is none
	Machines []copies.MachineID // that it works on, where it has no receipt that tells
	// Once says that one is enough: where the same is asked for already and was not begun, that is the answer.
	Once bool
}

// Submit records a job and starts it as soon as there is room.
func (r *Runner) Submit(ctx context.Context, o Order) (catalogue.Job, error) {
	encoded, err := json.Marshal(o.Request)
	if err != nil {
		return catalogue.Job{}, err
	}
	if o.Once {
		r.asking.Lock() // until it is among those that run
		defer r.asking.Unlock()
		if j, found := r.sameAs(o.Kind, encoded); found {
			return j, nil
		}
	}
	j, err := r.catalogue.Jobs.Add(ctx, catalogue.Job{Kind: o.Kind, By: o.By, Request: encoded, CreatedAt: r.now(), Total: o.Total,
		Receipt: o.Receipt}, o.Machines...)
	if err != nil {
		return catalogue.Job{}, err
	}
	r.Changed(j.ID)
	r.start(j, false)
	return j, nil
}

// sameAs finds the first job that is asked for and none of whose parts was begun yet.
func (r *Runner) sameAs(kind string, request []byte) (first catalogue.Job, found bool) {
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, t := range r.running {
		j := t.Job()
		begun := slices.ContainsFunc(j.Parts, func(p catalogue.Part) bool { return p.State != catalogue.JobWaiting })
		if !begun && !j.State.Ended() && j.Kind == kind && bytes.Equal(j.Request, request) && (!found || j.ID < first.ID) {
			first, found = j, true
		}
	}
	return first, found
}

func (r *Runner) start(j catalogue.Job, resumed bool) {
	ctx, cancel := context.WithCancelCause(r.ctx)
	t := &Task{runner: r, Resumed: resumed, cancel: cancel, job: j, changed: make(chan struct{}), ended: make(chan struct{})}
	r.mu.Lock()
	r.running[j.ID] = t
	r.mu.Unlock()
	r.wait.Go(func() {
		defer cancel(nil)
		slot := r.slots[j.Kind]
		select {
		case slot <- struct{}{}:
			r.run(ctx, t)
			<-slot
		case <-ctx.Done():
			r.end(ctx, t, context.Cause(ctx))
		}
		r.keep(t)
		r.mu.Lock()
		delete(r.running, j.ID)
		r.mu.Unlock()
	})
}

func (r *Runner) run(ctx context.Context, t *Task) {
	worker, ok := r.workers[t.job.Kind]
	stop := r.while(ctx, t, worker.Right)
	defer stop()
	if err := context.Cause(ctx); err != nil {
		r.end(ctx, t, err)
		return
	}
	t.Update(func(j *catalogue.Job) { j.State = catalogue.JobRunning })
	err := fmt.Errorf("no worker for %q jobs", t.job.Kind)
	if ok {
		err = r.do(ctx, worker, t)
	}
	if err != nil && worker.ErrorFor != nil && !errors.Is(err, context.Canceled) {
		err = worded{err, worker.ErrorFor(err)}
	}
	r.end(ctx, t, err)
}

// while stops a job once who asked for it may not have it done any more, also where that is so from the beginning. Call stop at its end.
func (r *Runner) while(ctx context.Context, t *Task, right principal.Right) (stop func()) {
	if !r.mayHave(ctx, t, right) {
		return func() {}
	}
	watching, stop := context.WithCancel(ctx)
	go func() {
		every := time.NewTicker(principal.Again)
		defer every.Stop()
		for {
			select {
			case <-every.C:
				if !r.mayHave(watching, t, right) {
					return
				}
			case <-watching.Done():
				return
			}
		}
	}()
	return stop
}

// mayHave tells whether who asked for a job may have it done, and stops it where not. What cannot be told now stops nothing.
func (r *Runner) mayHave(ctx context.Context, t *Task, right principal.Right) bool {
	j := t.Job()
	if j.By == catalogue.TheService {
		return true
	}
	who, err := r.catalogue.Technicians.Named(ctx, j.By)
	if err == nil && !who.Scope.Whole() {
		_, err = r.catalogue.View(who).Jobs.ByID(ctx, j.ID)
	}
	if errors.Is(err, catalogue.ErrNotFound) || err == nil && !who.May(right) {
		t.cancel(errTaken)
		return false
	}
	return true
}

// Right is the right that it takes to have jobs of a kind done, or stopped.
func (r *Runner) Right(kind string) principal.Right { return r.workers[kind].Right }

// do keeps a fault in one job from taking the service with it, and every start after it once the job is resumed.
func (r *Runner) do(ctx context.Context, worker Worker, t *Task) (err error) {
	defer func() {
		if fault := recover(); fault != nil {
			r.log.LogAttrs(
				ctx,
				slog.LevelError,
				"job faulted",
				slog.Int64("job", t.job.ID),
				slog.Any("fault", fault),
				slog.String("stack", string(debug.Stack())),
			)
			err = fmt.Errorf("a fault of the program stopped it: %v; the service's log says where", fault)
		}
	}()
	return worker.Do(ctx, t)
}

type worded struct {
	error
	text string
}

func (w worded) Error() string { return w.text }
func (w worded) Unwrap() error { return w.error }

func (r *Runner) end(ctx context.Context, t *Task, err error) {
	if err != nil && ctx.Err() != nil && !Cancelled(ctx) {
		t.save() // the service stops: the job stays unfinished and is resumed
		return
	}
	t.Update(func(j *catalogue.Job) {
		j.EndedAt, j.Doing = r.now(), ""
		switch {
		case err == nil:
			j.State = catalogue.JobDone
		case ctx.Err() != nil:
			j.State, j.Error = catalogue.JobCancelled, context.Cause(ctx).Error()
		case errors.Is(err, ErrPart):
			j.State, j.Error = catalogue.JobPart, err.Error()
		default:
			j.State, j.Error = catalogue.JobFailed, err.Error()
		}
	})
	t.unkept = !t.save()
	j := t.Job()
	r.log.LogAttrs(
		ctx,
		slog.LevelInfo,
		"job ended",
		slog.Int64("job", j.ID),
		slog.String("kind", j.Kind),
		slog.String("state", string(j.State)),
		slog.Int64("done", j.Done),
		slog.Duration("took", j.EndedAt.Sub(j.CreatedAt)),
		slog.String("error", j.Error),
	)
}

// keep tries again to keep how a job ended, where it could not be: the data folder may be full. Until then it is known here.
func (r *Runner) keep(t *Task) {
	for t.unkept {
		select {
		case <-time.After(again):
			t.unkept = !t.save()
		case <-r.ctx.Done():
			return
		}
	}
}

// again is how long it is waited before it is tried again to keep how a job ended.
const again = 5 * time.Second

// Receipts tells which receipts jobs are at work on, or will be as soon as there is room for them.
func (r *Runner) Receipts() map[int64]bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	all := map[int64]bool{}
	for _, t := range r.running {
		if j := t.Job(); !j.State.Ended() {
			all[j.Receipt] = true
		}
	}
	return all
}

// Job returns how a job stands now.
func (r *Runner) Job(ctx context.Context, id int64) (catalogue.Job, error) {
	r.mu.Lock()
	t := r.running[id]
	r.mu.Unlock()
	if t != nil {
		return t.Job(), nil
	}
	return r.catalogue.Jobs.ByID(ctx, id)
}

// Cancel asks a job to stop after the item it is at.
func (r *Runner) Cancel(ctx context.Context, id int64) (catalogue.Job, error) {
	r.mu.Lock()
	t := r.running[id]
	r.mu.Unlock()
	if t == nil || t.Job().State.Ended() {
		j, err := r.Job(ctx, id)
		if err == nil {
			err = fmt.Errorf("job j%d: %w", id, ErrEnded)
		}
		return j, err
	}
	t.cancel(errCancelled)
	return t.Job(), nil
}

// Follow calls see with a job as it stands and again whenever it changed, at most some ten times a second, until it has
// ended, ctx is done or see fails.
func (r *Runner) Follow(ctx context.Context, id int64, see func(catalogue.Job) error) error {
	const pause = 100 * time.Millisecond
	for {
		r.mu.Lock()
		t := r.running[id]
		r.mu.Unlock()
		if t == nil {
			j, err := r.catalogue.Jobs.ByID(ctx, id)
			if err != nil {
				return err
			}
			return see(j)
		}
		j, changed := t.watch()
		if j.State.Ended() {
			return see(j)
		}
		if err := see(j); err != nil {
			return err
		}
		select {
		case <-changed:
		case <-ctx.Done():
			return ctx.Err()
		case <-r.ctx.Done():
			return nil
		}
		select { // let changes gather, but its end is told at once
		case <-time.After(pause):
		case <-t.ended:
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

// Task is a job in its worker's hands.
type Task struct {
	Resumed bool

	runner  *Runner
	cancel  context.CancelCauseFunc
	mu      sync.Mutex
	job     catalogue.Job
	changed chan struct{} // closed at the next change
	ended   chan struct{} // closed once it has ended
	saved   time.Time
	unkept  bool // it ended, and that could not be saved
}

// Job returns the job as it stands.
func (t *Task) Job() catalogue.Job {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.job
}

// Request decodes what the job was submitted with.
func (t *Task) Request(v any) error { return json.Unmarshal(t.Job().Request, v) }

// Update changes the job and tells its followers. It is kept at most about once a second.
func (t *Task) Update(change func(*catalogue.Job)) {
	t.mu.Lock()
	wasOver := t.job.State.Ended()
	change(&t.job)
	if t.job.State.Ended() && !wasOver {
		close(t.ended)
	}
	close(t.changed)
	t.changed = make(chan struct{})
	now := t.runner.now()
	due := now.Sub(t.saved) > time.Second
	if due {
		t.saved = now
	}
	id := t.job.ID
	t.mu.Unlock()
	t.runner.Changed(id)
	if due {
		t.save()
	}
}

func (t *Task) save() (kept bool) {
	// A context of its own: how a job ended must be kept even while everything stops.
	ctx, done := context.WithTimeout(context.Background(), 30*time.Second)
	defer done()
	if err := t.runner.catalogue.Jobs.Save(ctx, t.Job()); err != nil {
		t.runner.log.LogAttrs(ctx, slog.LevelError, "job not kept", slog.Int64("job", t.job.ID), slog.String("error", err.Error()))
		return false
	}
	return true
}

func (t *Task) watch() (catalogue.Job, <-chan struct{}) {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.job, t.changed
}
