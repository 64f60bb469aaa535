package reach_test

import (
	"context"
	"errors"
	"sync"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humble-rewind/internal/core/problem"
	"humble-rewind/internal/core/turns"
	"humble-rewind/internal/reach"
	"humble-rewind/internal/reach/local"
	"humble-rewind/internal/reach/reachtest"
)

// dialled is a way whose machines can be made to hang or to refuse.
type dialled struct {
	count   atomic.Int32
	refuse  atomic.Bool
	hanging chan struct{} // closed to let go
}

var errRefused = errors.New("refused")

func (d *dialled) way(t *testing.T) reach.Way {
	root := t.TempDir()
	return reach.Way{Scheme: "far", Backoff: time.Second, Open: func(ctx context.Context, at reach.Address) (reach.Session, error) {
		d.count.Add(1)
		if at.Host == "dead" {
			select {
			case <-d.hanging:
			case <-ctx.Done():
				return nil, ctx.Err()
			}
		}
		if d.refuse.Load() {
			return nil, errRefused
		}
		return local.Open(root)
	}}
}

func TestNobodyWaitsForAMachineThatHeDidNotAskFor(t *testing.T) {
	d := &dialled{hanging: make(chan struct{})}
	s := reach.Sessions{Ways: reach.Ways{d.way(t)}}
	defer func() { require.NoError(t, s.Close()) }()
	var waiting sync.WaitGroup
	waiting.Go(func() { _, _ = s.Get(context.Background(), "dead", "far://dead/") })
	require.Eventually(t, func() bool { return d.count.Load() == 1 }, time.Minute, time.Millisecond)
	_, err := s.Get(t.Context(), "alive", "far://alive/")
	require.NoError(t, err, "another machine is reached meanwhile")
	patient, stop := context.WithTimeout(t.Context(), 20*time.Millisecond)
	defer stop()
	_, err = s.Get(patient, "dead", "far://dead/")
	assert.ErrorIs(t, err, context.DeadlineExceeded, "whoever waits for the same one can leave")
	close(d.hanging)
	waiting.Wait()
}

func TestAMachineThatRefusesIsLeftAloneEverLonger(t *testing.T) {
	d := &dialled{}
	d.refuse.Store(true)
	now := time.Date(2026, 11, 3, 12, 0, 0, 0, time.UTC)
	s := reach.Sessions{Ways: reach.Ways{d.way(t)}, Now: func() time.Time { return now }}
	defer func() { require.NoError(t, s.Close()) }()
	dials := 0
	for _, pause := range []time.Duration{time.Second, 2 * time.Second, 4 * time.Second} {
		_, err := s.Get(t.Context(), "loft", "far://loft/")
		dials++
		require.ErrorIs(t, err, errRefused)
		begun := now
		now = now.Add(pause*4/5 - time.Millisecond)
		_, err = s.Get(t.Context(), "loft", "far://loft/")
		left, ok := errors.AsType[*reach.BackoffError](err)
		require.True(t, ok, "%v", err)
		assert.ErrorIs(t, left, errRefused, "and it is said what it refused with")
		assert.EqualValues(t, dials, d.count.Load())
		assert.InDelta(t, pause, left.Until.Sub(begun), float64(pause)/5, "by chance a fifth more or less")
		now = left.Until
	}
	d.refuse.Store(false)
	one, err := s.Get(t.Context(), "loft", "far://loft/")
	require.NoError(t, err)
	two, err := s.Get(t.Context(), "loft", "far://loft/")
	require.NoError(t, err)
	assert.Same(t, one, two, "it is reached once")
	_, err = s.Get(t.Context(), "loft", "far://elsewhere/")
	require.NoError(t, err, "another address is another machine")
	assert.EqualValues(t, 5, d.count.Load())
}

func TestALimitLetsOnlySoManyCallsThrough(t *testing.T) {
	files, err := local.Open(t.TempDir())
	require.NoError(t, err)
	defer files.Close()
	var now, most atomic.Int32
	counted := reach.Around(files, func(context.Context) (func(), error) {
		most.Store(max(most.Load(), now.Add(1)))
		time.Sleep(time.Millisecond)
		return func() { now.Add(-1) }, nil
	})
	limited := reach.Limited(counted, 2)
	var all sync.WaitGroup
	for range 20 {
		all.Go(func() {
			root, err := limited.Tree(context.Background(), "/")
			if assert.NoError(t, err) {
				root.Close()
			}
		})
	}
	all.Wait()
	assert.EqualValues(t, 2, most.Load())
	left, stop := context.WithCancel(t.Context())
	stop()
	_, err = limited.Tree(left, "/")
	assert.ErrorIs(t, err, context.Canceled, "whoever left is not let through")
}

// Somebody who waits comes before a survey that was asked for, and that before what the service does by itself, whoever came first.
func TestACallThatIsWaitedForGoesBeforeOthers(t *testing.T) {
	files, err := local.Open(t.TempDir())
	require.NoError(t, err)
	defer files.Close()
	synctest.Test(t, func(t *testing.T) {
		first := make(chan struct{})
		var order []turns.Priority // one call at a time
		limited := reach.Limited(reach.Around(files, func(ctx context.Context) (func(), error) {
			<-first
			order = append(order, turns.Of(ctx))
			return func() {}, nil
		}), 1)
		var all sync.WaitGroup
		for _, p := range []turns.Priority{turns.Idle, turns.Idle, turns.Scheduled, turns.Asked, turns.Waited} {
			all.Go(func() {
				root, err := limited.Tree(turns.With(t.Context(), p), "/")
				if assert.NoError(t, err) {
					root.Close()
				}
			})
			synctest.Wait()
		}
		close(first)
		all.Wait()
		assert.Equal(t, []turns.Priority{turns.Idle, turns.Waited, turns.Asked, turns.Scheduled, turns.Idle}, order)
	})
}

// A caller who leaves while it is asked whether the machine is still there does not close it for those who are at work on it.
func TestWhoeverLeavesTakesNobodysMachineAway(t *testing.T) {
	d := &dialled{}
	far := d.way(t)
	poor := reach.Way{Scheme: "far", Open: func(ctx context.Context, at reach.Address) (reach.Session, error) {
		s, err := far.Open(ctx, at)
		if err != nil {
			return nil, err
		}
		return reachtest.Poor(s, time.Millisecond), nil
	}}
	s := reach.Sessions{Ways: reach.Ways{poor}}
	defer func() { require.NoError(t, s.Close()) }()
	at, err := s.Get(t.Context(), "loft", "far://loft/")
	require.NoError(t, err)
	left, leave := context.WithCancel(t.Context())
	leave()
	for range 40 { // a lock that is free and a caller who has left are taken in any order
		_, err := s.Get(left, "loft", "far://loft/")
		assert.ErrorIs(t, err, context.Canceled)
	}
	root, err := at.Tree(t.Context(), "/")
	require.NoError(t, err)
	require.NoError(t, root.Close())
	_, err = s.Get(t.Context(), "loft", "far://loft/")
	require.NoError(t, err)
	assert.EqualValues(t, 1, d.count.Load(), "it was reached once")
}

// A machine that nobody uses is let go of, so that its drive can be unmounted, and reached anew behind what was handed out. What is open keeps
// it, however long it is not read.
func TestAMachineThatNobodyUsesIsLetGoOf(t *testing.T) {
	d := &dialled{}
	closed := atomic.Int32{}
	far := d.way(t)
	way := reach.Way{Scheme: "far", Open: func(ctx context.Context, at reach.Address) (reach.Session, error) {
		s, err := far.Open(ctx, at)
		return closing{s, &closed}, err
	}}
	s := reach.Sessions{Ways: reach.Ways{way}, Idle: 20 * time.Millisecond}
	defer func() { require.NoError(t, s.Close()) }()
	files, err := s.Get(t.Context(), "loft", "far://loft/")
	require.NoError(t, err)
	folder, err := files.Folder(t.Context(), "/")
	require.NoError(t, err)
	made, err := folder.Create(t.Context(), "keel")
	require.NoError(t, err)
	require.NoError(t, folder.Close())
	time.Sleep(100 * time.Millisecond) // five times as long: it would have been closed
	assert.Zero(t, closed.Load(), "a file is open")
	_, err = made.Write([]byte("oak"))
	require.NoError(t, err)
	require.NoError(t, made.Close())
	_ = made.Close() // twice is once
	require.Eventually(t, func() bool { return closed.Load() == 1 }, time.Minute, time.Millisecond)
	root, err := files.Tree(t.Context(), "/")
	require.NoError(t, err, "what was handed out lasts")
	content, err := reach.ReadFile(t.Context(), root, "keel", 10)
	require.NoError(t, err)
	assert.Equal(t, "oak", string(content))
	assert.EqualValues(t, 2, d.count.Load())
	again, err := s.Get(t.Context(), "loft", "far://loft/")
	require.NoError(t, err)
	assert.Same(t, files, again, "and is the same")
	require.NoError(t, root.Close())

	require.Eventually(t, func() bool { return closed.Load() == 2 }, time.Minute, time.Millisecond)
	d.refuse.Store(true)
	_, err = files.Tree(t.Context(), "/")
	require.ErrorIs(t, err, errRefused, "where it cannot be reached any more that is said")
	d.refuse.Store(false)
	s.Drop("loft")
	_, err = files.Tree(t.Context(), "/")
	require.ErrorIs(t, err, problem.Lost, "what was let go of is not reached behind anybody's back")
}

// closing counts how often sessions are closed.
type closing struct {
	reach.Session
	count *atomic.Int32
}

func (c closing) Close() error {
	c.count.Add(1)
	return c.Session.Close()
}

// Those who wait for one machine wait for one attempt, which goes on when the first of them leaves.
func TestOneAttemptIsForAllWhoWait(t *testing.T) {
	d := &dialled{hanging: make(chan struct{})}
	s := reach.Sessions{Ways: reach.Ways{d.way(t)}}
	defer func() { require.NoError(t, s.Close()) }()
	first, leave := context.WithCancel(t.Context())
	left := make(chan error)
	go func() {
		_, err := s.Get(first, "dead", "far://dead/")
		left <- err
	}()
	require.Eventually(t, func() bool { return d.count.Load() == 1 }, time.Minute, time.Millisecond)
	var all sync.WaitGroup
	for range 5 {
		all.Go(func() {
			_, err := s.Get(t.Context(), "dead", "far://dead/")
			assert.NoError(t, err)
		})
	}
	leave()
	require.ErrorIs(t, <-left, context.Canceled)
	close(d.hanging)
	all.Wait()
	assert.EqualValues(t, 1, d.count.Load())
}

// A machine is awake, asleep or locked by what reaching it last came to; each change is told once; a stopped one is reached by nobody.
func TestTheStateOfAMachineIsWhatReachingItCameTo(t *testing.T) {
	var fails error
	way := reach.Way{Scheme: "made", Open: func(context.Context, reach.Address) (reach.Session, error) {
		if fails != nil {
			return nil, fails
		}
		return local.Open(t.TempDir())
	}}
	var changed []string
	s := &reach.Sessions{Ways: reach.Ways{way}, Changed: func(name string) { changed = append(changed, name) }}
	defer s.Close()
	assert.Equal(t, reach.Unasked, s.Condition("loft").State)
	for _, c := range []struct {
		fails error
		state reach.State
	}{{nil, reach.Awake}, {problem.Unreachable, reach.Asleep}, {problem.Lost, reach.Asleep}, {problem.NotSignedIn, reach.Locked}, {nil, reach.Awake}} {
		fails = c.fails
		s.Drop("loft")
		_, err := s.Get(t.Context(), "loft", "made://x")
		assert.Equal(t, c.fails == nil, err == nil)
		now := s.Condition("loft")
		assert.Equal(t, c.state, now.State)
		assert.Equal(t, c.fails == nil, now.Err == nil)
	}
	assert.NotEmpty(t, changed)
}

// A machine that takes a call and never answers it is told of in words, not by the name of a bound.
func TestAMachineThatNeverAnswersIsSaidNotTo(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		way := reach.Way{Scheme: "made", Open: func(ctx context.Context, _ reach.Address) (reach.Session, error) {
			<-ctx.Done()
			return nil, context.Cause(ctx)
		}}
		s := &reach.Sessions{Ways: reach.Ways{way}}
		defer s.Close()
		_, err := s.Get(t.Context(), "loft", "made://x")
		require.ErrorIs(t, err, problem.Unreachable)
		assert.ErrorContains(t, err, "did not answer within 30 seconds")
		assert.Equal(t, reach.Asleep, s.Condition("loft").State)
	})
}
