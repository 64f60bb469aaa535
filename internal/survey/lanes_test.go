package survey_test

import (
	"context"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/core/turns"
	"humble-rewind/internal/jobs"
	"humble-rewind/internal/reach"
	"humble-rewind/internal/reach/local"
	"humble-rewind/internal/registry"
	"humble-rewind/internal/sitetest"
	"humble-rewind/internal/survey"
)

// Surveyed side by side, sources end with the same records as one after the other.
func TestSourcesSurveyedSideBySideKeepTheirRecordsApart(t *testing.T) {
	known := func(together bool) map[string]string {
		s := sitetest.New(t)
		var sources []catalogue.Source
		for n := range 6 {
			at := fmt.Sprintf("/srv/%d", n)
			files := map[string]string{}
			for f := range 300 {
				files[fmt.Sprintf("%s/%d/plan %d.txt", at, f%20, f)] = fmt.Sprintf("of %d", n)
			}
			s.Lay(files)
			src, err := s.AddSource(t.Context(), registry.NewSource{Machine: "loft", Kind: "live", At: at})
			require.NoError(t, err)
			sources = append(sources, src)
		}
		for range 3 { // the second and third time with changes
			var all sync.WaitGroup
			for n, src := range sources {
				run := func() {
					src, err := s.Catalogue.Sources.ByID(context.Background(), src.ID)
					assert.NoError(t, err)
					_, err = survey.Run(context.Background(), s.Site, src, time.Now(), survey.Following{})
					assert.NoError(t, err, n)
				}
				if together {
					all.Go(run)
				} else {
					run()
				}
			}
			all.Wait()
			for n := range sources {
				s.Lay(map[string]string{fmt.Sprintf("/srv/%d/3/plan 3.txt", n): "longer than before", fmt.Sprintf("/srv/%d/new.txt", n): "new"})
			}
		}
		places := map[string]string{}
		for _, c := range s.Find(catalogue.Query{Limit: 5000, Records: true}) {
			places[fmt.Sprintf("%s %d %v", c.Place.Path, c.Size, c.Gone.IsZero())] = c.Store.At
		}
		report, err := s.Catalogue.Check(t.Context(), func(time.Duration) {})
		require.NoError(t, err)
		assert.Empty(t, report)
		return places
	}
	one, other := known(false), known(true)
	require.Greater(t, len(one), 1800)
	assert.Equal(t, one, other)
}

// hanging is a way to machines, which are folders of the test, of which those called dead do not answer while it is set.
func hanging(dead *atomic.Bool, hung *atomic.Int32) reach.Way {
	plain := local.Way()
	return reach.Way{Scheme: "quay", Open: func(ctx context.Context, at reach.Address) (reach.Session, error) {
		s, err := plain.Open(ctx, reach.Address{Path: at.Path})
		if err != nil || at.Host != "dead" {
			return s, err
		}
		return reach.Around(s, func(ctx context.Context) (func(), error) {
			if dead.Load() {
				hung.Add(1)
				<-ctx.Done()
				return nil, ctx.Err()
			}
			return func() {}, nil
		}), nil
	}}
}

// A machine that hangs holds up no other, however many stores it has; a job that waits for it can be stopped, and surveys it when it answers.
func TestAMachineThatHangsHoldsUpNoOther(t *testing.T) {
	var dead atomic.Bool
	var hung atomic.Int32
	s := sitetest.NewWith(t, reach.Ways{local.Way(), hanging(&dead, &hung)})
	var sources []catalogue.Source
	for n := range 10 {
		name, host := fmt.Sprintf("m%d", n), "alive"
		if n == 2 {
			host = "dead"
		}
		root := t.TempDir()
		_, err := s.AddMachine(t.Context(), registry.NewMachine{Name: name, At: "quay://" + host + root})
		require.NoError(t, err)
		for k := range 4 {
			at := fmt.Sprintf("/srv/%d", k)
			require.NoError(t, os.MkdirAll(filepath.Join(root, at), 0o755))
			require.NoError(t, os.WriteFile(filepath.Join(root, at, "keel.txt"), []byte(name), 0o644))
			src, err := s.AddSource(t.Context(), registry.NewSource{Machine: name, Kind: "live", At: at})
			require.NoError(t, err)
			sources = append(sources, src)
		}
	}
	dead.Store(true)
	runner := jobs.New(s.Catalogue, slog.New(slog.DiscardHandler), time.Now, survey.Worker(s.Contents, nil, time.Now))
	defer runner.Stop()
	j, err := runner.Submit(t.Context(), survey.Order{Sources: sources}.By(catalogue.TheService))
	require.NoError(t, err)
	done := func() int {
		j, err := runner.Job(t.Context(), j.ID)
		require.NoError(t, err)
		return len(j.Outcomes)
	}
	begun := time.Now()
	require.Eventually(t, func() bool { return done() == 36 }, 2*time.Minute, 10*time.Millisecond, "%d of 36", done())
	assert.Positive(t, hung.Load())
	assert.Less(t, time.Since(begun), 2*20*time.Second, "it is waited for once, not for each of its stores")
	_, err = runner.Cancel(t.Context(), j.ID)
	require.NoError(t, err)
	require.Eventually(t, func() bool {
		j, err := runner.Job(t.Context(), j.ID)
		return err == nil && j.State == catalogue.JobCancelled
	}, 2*time.Minute, 10*time.Millisecond)

	dead.Store(false)
	again, err := runner.Submit(t.Context(), survey.Order{Sources: sources[8:12]}.By(catalogue.TheService))
	require.NoError(t, err)
	require.Eventually(t, func() bool {
		j, err := runner.Job(t.Context(), again.ID)
		return err == nil && j.State == catalogue.JobDone
	}, 2*time.Minute, 10*time.Millisecond)
	assert.Len(t, s.Find(catalogue.Query{Words: "keel", Machine: "m2", Limit: 10}), 4)
}

// What is waited for goes first, of equals what was asked for first; whoever leaves takes nobody's turn; and a survey that goes on in slices lets
// the others have theirs.
func TestWhoIsWaitedForGoesFirst(t *testing.T) {
	s, p, src := piled(t, "a", "b", "c", "d", "e", "f")
	var other []catalogue.Source
	for n := range 3 {
		s.Lay(map[string]string{fmt.Sprintf("/srv/%d/keel.txt", n): "oak"})
		live, err := s.AddSource(t.Context(), registry.NewSource{Machine: "loft", Kind: "pile", At: fmt.Sprintf("/srv/%d", n)})
		require.NoError(t, err)
		other = append(other, live)
	}
	first, release := make(chan struct{}), make(chan struct{})
	p.fault = func(slice int) error {
		if slice == 1 {
			close(first)
			<-release
		}
		return nil
	}
	runner := jobs.New(s.Catalogue, slog.New(slog.DiscardHandler), time.Now, survey.Worker(s.Contents, nil, time.Now))
	defer runner.Stop()
	submit := func(priority turns.Priority, sources ...catalogue.Source) int64 {
		j, err := runner.Submit(t.Context(), survey.Order{Sources: sources, Priority: priority}.By(catalogue.TheService))
		require.NoError(t, err)
		return j.ID
	}
	job := func(id int64) catalogue.Job {
		j, err := runner.Job(t.Context(), id)
		require.NoError(t, err)
		return j
	}
	submit(turns.Asked, src)
	<-first
	scheduled := submit(turns.Scheduled, other[0])
	assert.Equal(t, scheduled, submit(turns.Scheduled, other[0]), "the same, not begun: one is enough")
	for range 1000 {
		assert.Equal(t, scheduled, submit(turns.Scheduled, other[0]))
	}
	left := submit(turns.Waited, other[1])
	waited := submit(turns.Waited, other[2])
	for _, id := range []int64{scheduled, left, waited} {
		require.Eventually(t, func() bool { return len(job(id).Parts) == 1 && job(id).State == catalogue.JobRunning }, time.Minute, time.Millisecond)
	}
	time.Sleep(20 * time.Millisecond) // so that each stands in its lane
	_, err := runner.Cancel(t.Context(), left)
	require.NoError(t, err)
	require.Eventually(t, func() bool { return job(left).State.Ended() }, time.Minute, time.Millisecond)
	close(release)
	require.Eventually(t, func() bool { return job(scheduled).State.Ended() }, time.Minute, time.Millisecond)
	assert.True(t, job(waited).EndedAt.Before(job(scheduled).EndedAt), "who is waited for goes first")
	assert.Equal(t, catalogue.JobCancelled, job(left).State)
}
