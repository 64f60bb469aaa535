package jobs_test

import (
	"context"
	"errors"
	"io"
	"log/slog"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/core/principal"
	"humble-rewind/internal/jobs"
)

func runner(t *testing.T, c *catalogue.Catalogue, workers ...jobs.Worker) *jobs.Runner {
	r := jobs.New(c, slog.New(slog.NewTextHandler(io.Discard, nil)), time.Now, workers...)
	t.Cleanup(r.Stop)
	return r
}

func records(t *testing.T) *catalogue.Catalogue {
	c, err := catalogue.Open(t.Context(), t.TempDir())
	require.NoError(t, err)
	t.Cleanup(func() { c.Close() })
	return c
}

// ended follows a job to its end and returns everything that was seen of it.
func ended(t *testing.T, r *jobs.Runner, id int64) (seen []catalogue.Job) {
	t.Helper()
	require.NoError(t, r.Follow(t.Context(), id, func(j catalogue.Job) error { seen = append(seen, j); return nil }))
	return seen
}

func TestAJobTellsHowFarItIsAndHowItEnded(t *testing.T) {
	for want, err := range map[catalogue.JobState]error{
		catalogue.JobDone:   nil,
		catalogue.JobPart:   errors.Join(jobs.ErrPart, errors.New("one was locked")),
		catalogue.JobFailed: errors.New("the drive is gone"),
	} {
		step := make(chan struct{})
		r := runner(t, records(t), jobs.Worker{Kind: "count", Do: func(_ context.Context, task *jobs.Task) error {
			var upTo int64
			if err := task.Request(&upTo); err != nil {
				return err
			}
			task.Update(func(j *catalogue.Job) { j.Done = upTo })
			<-step
			return err
		}})
		j, submitErr := r.Submit(t.Context(), jobs.Order{Kind: "count", By: catalogue.TheService, Request: 7, Total: 7})
		require.NoError(t, submitErr)
		require.Eventually(
			t,
			func() bool { now, err := r.Job(t.Context(), j.ID); return err == nil && now.Done == 7 },
			time.Minute,
			time.Millisecond,
		)
		close(step)
		seen := ended(t, r, j.ID)
		last := seen[len(seen)-1]
		assert.Equal(t, want, last.State)
		assert.EqualValues(t, 7, last.Done)
		assert.False(t, last.EndedAt.IsZero())
		if err != nil {
			assert.Equal(t, err.Error(), last.Error)
		}
		_, err := r.Cancel(t.Context(), j.ID)
		assert.ErrorIs(t, err, jobs.ErrEnded)
	}
}

func TestAFaultEndsTheJobAlone(t *testing.T) {
	r := runner(t, records(t), jobs.Worker{Kind: "fault", Do: func(context.Context, *jobs.Task) error { panic("out of planks") }})
	j, err := r.Submit(t.Context(), jobs.Order{Kind: "fault", By: catalogue.TheService})
	require.NoError(t, err)
	seen := ended(t, r, j.ID)
	assert.Equal(t, catalogue.JobFailed, seen[len(seen)-1].State)
	assert.Contains(t, seen[len(seen)-1].Error, "out of planks")
}

func TestACancelledJobIsToldApartFromAStop(t *testing.T) {
	c := records(t)
	began, byTechnician, resumed := make(chan struct{}, 2), make(chan bool, 2), make(chan bool, 3)
	wait := jobs.Worker{Kind: "wait", AtOnce: 2, Do: func(ctx context.Context, task *jobs.Task) error {
		resumed <- task.Resumed
		if task.Resumed {
			return nil
		}
		began <- struct{}{}
		<-ctx.Done()
		byTechnician <- jobs.Cancelled(ctx)
		return ctx.Err()
	}}
	r := runner(t, c, wait)
	first, err := r.Submit(t.Context(), jobs.Order{Kind: "wait", By: catalogue.TheService})
	require.NoError(t, err)
	<-began
	_, err = r.Cancel(t.Context(), first.ID)
	require.NoError(t, err)
	seen := ended(t, r, first.ID)
	assert.Equal(t, catalogue.JobCancelled, seen[len(seen)-1].State)
	assert.True(t, <-byTechnician)

	second, err := r.Submit(t.Context(), jobs.Order{Kind: "wait", By: catalogue.TheService})
	require.NoError(t, err)
	<-began
	r.Stop()
	assert.False(t, <-byTechnician)
	left, err := c.Jobs.ByID(t.Context(), second.ID)
	require.NoError(t, err)
	assert.False(t, left.State.Ended(), "a stop ends no job")

	again := runner(t, c, wait)
	require.NoError(t, again.Resume(t.Context()))
	seen = ended(t, again, second.ID)
	assert.Equal(t, catalogue.JobDone, seen[len(seen)-1].State)
	assert.Equal(t, []bool{false, false, true}, []bool{<-resumed, <-resumed, <-resumed}, "only what was interrupted is resumed")
}

func TestNoMoreRunAtOnceThanTheWorkerAllows(t *testing.T) {
	var running, most atomic.Int32
	r := runner(t, records(t), jobs.Worker{Kind: "one", AtOnce: 1, Do: func(context.Context, *jobs.Task) error {
		most.Store(max(most.Load(), running.Add(1)))
		defer running.Add(-1)
		time.Sleep(2 * time.Millisecond) // long enough for another to come in between, were that allowed
		return nil
	}})
	var ids []int64
	for range 8 {
		j, err := r.Submit(t.Context(), jobs.Order{Kind: "one", By: catalogue.TheService})
		require.NoError(t, err)
		ids = append(ids, j.ID)
	}
	for _, id := range ids {
		ended(t, r, id)
	}
	assert.EqualValues(t, 1, most.Load())
}

// A job goes on no longer than who asked for it may have it done, and does not begin where he may not.
func TestAJobEndsWithTheRightToIt(t *testing.T) {
	c := records(t)
	loft, err := c.Machines.Add(t.Context(), catalogue.Machine{Name: "loft", At: "/x", Zone: "UTC"})
	require.NoError(t, err)
	slip, err := c.Machines.Add(t.Context(), catalogue.Machine{Name: "slip", At: "/y", Zone: "UTC"})
	require.NoError(t, err)
	require.NoError(t, c.Technicians.Set(t.Context(), "maren", []byte("token")))
	began := make(chan struct{}, 4)
	wait := jobs.Worker{Kind: "wait", Right: principal.Survey, AtOnce: 4, Do: func(ctx context.Context, _ *jobs.Task) error {
		began <- struct{}{}
		<-ctx.Done()
		return ctx.Err()
	}}
	r := runner(t, c, wait)
	for name, take := range map[string]func() error{
		"the right": func() error { return c.Technicians.Allow(t.Context(), "maren", principal.Everything(), principal.Find) },
		"the scope": func() error {
			return c.Technicians.Allow(t.Context(), "maren", principal.Of(slip.ID), principal.Survey)
		},
	} {
		require.NoError(t, c.Technicians.Allow(t.Context(), "maren", principal.Of(loft.ID), principal.Survey))
		j, err := r.Submit(t.Context(), jobs.Order{Kind: "wait", By: "maren", Machines: []copies.MachineID{loft.ID}})
		require.NoError(t, err)
		<-began
		require.NoError(t, take(), name)
		seen := ended(t, r, j.ID)
		assert.Equal(t, catalogue.JobCancelled, seen[len(seen)-1].State, name)
		assert.Contains(t, seen[len(seen)-1].Error, "no right to it any more", name)
		again, err := r.Submit(t.Context(), jobs.Order{Kind: "wait", By: "maren", Machines: []copies.MachineID{loft.ID}})
		require.NoError(t, err)
		seen = ended(t, r, again.ID)
		assert.Equal(t, catalogue.JobCancelled, seen[len(seen)-1].State, name)
	}
	require.NoError(t, c.Technicians.Remove(t.Context(), "maren"))
	gone, err := r.Submit(t.Context(), jobs.Order{Kind: "wait", By: "maren"})
	require.NoError(t, err)
	seen := ended(t, r, gone.ID)
	assert.Equal(t, catalogue.JobCancelled, seen[len(seen)-1].State)
	assert.Empty(t, began, "what he may not have done does not begin")
}
