// Package sourcetest holds the contract of sources as a test that every kind is put through.
package sourcetest

import (
	"context"
	"errors"
	"io"
	"io/fs"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/plan"
	"humble-rewind/internal/source"
)

// Run surveys a source, opens what it reports and surveys it again. The source must hold a few copies, at least one of
// them a file, and nothing may change it meanwhile.
func Run(t *testing.T, s source.Source) {
	ctx := context.Background()
	first := &record{known: map[source.Locator]entry.Mark{}}
	require.NoError(t, s.Survey(ctx, first, first))
	require.NotEmpty(t, first.seen)
	assert.False(t, first.scattered, "the sightings of one folder come together")

	files := 0
	for _, sighting := range first.seen {
		assert.NotZero(t, sighting.Mark, sighting.At)
		if sighting.Same {
			assert.NotEmpty(t, sighting.At.Capture, "%v is called unchanged although nothing is known", sighting.At)
			continue
		}
		if !sighting.Readable {
			continue
		}
		content, err := s.Open(ctx, sighting.At)
		require.NoError(t, err, sighting.At)
		assert.Equal(t, sighting.Type, content.Info.Type, sighting.At)
		if sighting.Type == plan.File {
			files++
			read, err := io.Copy(io.Discard, io.NewSectionReader(content.File, 0, 1<<40))
			require.NoError(t, err)
			assert.Equal(t, sighting.Size, read, "%v has the size that was reported", sighting.At)
		}
		require.NoError(t, content.Close())
	}
	require.Positive(t, files, "a source without a file proves little")

	again := &record{known: first.marks()}
	require.NoError(t, s.Survey(ctx, again, again))
	assert.Equal(t, first.marks(), again.marks(), "marks are stable while nothing changes")
	for _, sighting := range again.seen {
		if sighting.At.Capture != "" {
			continue // the same place has a mark of its own at every point in time
		}
		assert.Equal(t, first.marks()[inTree(sighting.At)], sighting.Mark, sighting.At)
	}

	_, err := s.Open(ctx, source.Locator{Capture: first.seen[0].At.Capture, Dir: first.seen[0].At.Dir, Name: "nothing of this name"})
	assert.ErrorIs(t, err, fs.ErrNotExist)

	stop := errors.New("enough")
	assert.ErrorIs(t, s.Survey(ctx, first, &record{refuse: stop}), stop, "an error of the reporter ends the survey")
	cancelled, cancel := context.WithCancel(ctx)
	cancel()
	_ = s.Survey(cancelled, first, &record{}) // must return
}

type record struct {
	known     map[source.Locator]entry.Mark
	seen      []source.Sighting
	done      map[string]bool
	scattered bool
	refuse    error
}

func (r *record) Marks(_ context.Context, dir string) (func(string) entry.Mark, error) {
	return func(name string) entry.Mark { return r.known[source.Locator{Dir: dir, Name: name}] }, nil
}

func (r *record) Sight(s source.Sighting) error {
	if r.refuse != nil {
		return r.refuse
	}
	if r.done == nil {
		r.done = map[string]bool{}
	}
	if n := len(r.seen); n > 0 && r.seen[n-1].At.Dir != s.At.Dir {
		r.done[r.seen[n-1].At.Dir] = true
	}
	r.scattered = r.scattered || r.done[s.At.Dir]
	r.seen = append(r.seen, s)
	return nil
}

func (r *record) Unchanged(context.Context, string, []byte, int) (bool, error) { return false, nil }

func (r *record) Captures(context.Context) (map[string]time.Time, error) { return nil, nil }

func (r *record) Begin(source.Capture) error {
	r.done = nil
	r.known = r.marks()
	return nil
}

func (r *record) Discard(string) error {
	return errors.New("nothing changed, and yet a point in time was discarded")
}
func (r *record) Unread(string, error) error { return nil }
func (r *record) Note(string)                {}

func (r *record) marks() map[source.Locator]entry.Mark {
	all := map[source.Locator]entry.Mark{}
	for _, s := range r.seen {
		all[inTree(s.At)] = s.Mark
	}
	return all
}

// inTree is where something is in whichever point in time.
func inTree(l source.Locator) source.Locator { return source.Locator{Dir: l.Dir, Name: l.Name} }
