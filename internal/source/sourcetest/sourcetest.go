// Package sourcetest holds the contract of stores as a test that every kind is put through.
package sourcetest

import (
	"context"
	"errors"
	"io"
	"io/fs"
	"maps"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/sighting"
	"humble-rewind/internal/core/traits"
	"humble-rewind/internal/source"
)

// Run surveys a store, opens what it reports and surveys it again. The store must hold a few copies, at least one of
// them a file, and nothing may change it meanwhile. It is closed in the end.
func Run(t *testing.T, k source.Kind, setup source.Setup) {
	ctx := context.Background()
	kindHolds(t, k, setup)
	s, err := k.Open(ctx, setup)
	require.NoError(t, err)
	first := newRecord()
	require.NoError(t, s.Survey(ctx, first, first))
	require.NotEmpty(t, first.seen)
	assert.False(t, first.scattered, "the sightings of one folder come together")
	assert.Equal(t, k.Traits().Dated(), len(first.points) > 0, "a store begins points in time just where its traits say that it has them")

	files := 0
	for _, seen := range first.seen {
		assert.NotZero(t, seen.Mark, seen.At)
		if seen.Same {
			assert.NotEmpty(t, seen.At.Capture, "%v is called unchanged although nothing is known", seen.At)
			continue
		}
		assert.False(t, seen.Nameless && seen.Origin != "", "%v has lost its name and yet a place", seen.At)
		assert.False(
			t,
			k.Traits().Ownerless && (seen.UID.Known || seen.Mark.UID.Known || seen.Mark.Mode.Known),
			"%v has an owner that its store does not tell",
			seen.At,
		)
		if !seen.Readable {
			continue
		}
		if opens(t, s, seen) {
			files++
		}
	}
	require.Positive(t, files, "a source without a file proves little")
	surveyedAgain(t, s, first)
	surveyedInSlices(t, s, first)

	missing := sighting.Locator{Capture: first.seen[0].At.Capture, Dir: first.seen[0].At.Dir, Name: "nothing of this name"}
	_, err = s.Open(ctx, missing.Ref())
	assert.True(t, errors.Is(err, fs.ErrNotExist) || errors.Is(err, sighting.ErrNotRef), "%v", err)
	_, err = s.Open(ctx, "\xff\xff")
	assert.ErrorIs(t, err, sighting.ErrNotRef)

	stop := errors.New("enough")
	assert.ErrorIs(t, s.Survey(ctx, newRecord(), &record{refuse: stop}), stop, "an error of the reporter ends the survey")
	cancelled, cancel := context.WithCancel(ctx)
	cancel()
	_ = s.Survey(cancelled, newRecord(), newRecord()) // must return

	outlivesItsStore(t, s, first)
}

// kindHolds checks what a kind says of itself.
func kindHolds(t *testing.T, k source.Kind, setup source.Setup) {
	assert.NotEmpty(t, k.Name())
	assert.Contains(t, []traits.Shape{traits.Now, traits.Points, traits.Versions, traits.Kept, traits.Removals, traits.Traces}, k.Traits().Shape)
	assert.NotEmpty(t, k.Traits().Cost)
	for _, o := range k.Options() {
		assert.NotEmpty(t, o.Says, "option %s says what it is for", o.Name)
	}
	assert.Error(t, source.CheckOptions(k, map[string]string{"no such option": ""}))
	assert.NoError(t, source.CheckOptions(k, setup.Options))
	described, err := k.Describe(context.Background(), setup)
	require.NoError(t, err)
	assert.NotNil(t, described.Notes)
}

// opens opens what was sighted, and tells whether it is a file.
func opens(t *testing.T, s source.Store, seen sighting.Sighting) bool {
	content, err := s.Open(context.Background(), RefOf(seen))
	require.NoError(t, err, seen.At)
	defer func() { require.NoError(t, content.Close()) }()
	assert.Equal(t, seen.Type, content.Info.Type, seen.At)
	switch seen.Type {
	case entry.File:
		assert.EqualValues(t, seen.Size, size(t, content), "%v has the size that was reported", seen.At)
		assert.EqualValues(t, seen.Size, size(t, content), "%v can be read again", seen.At)
		return true
	case entry.Link:
		assert.Equal(t, seen.Target != "", content.Target != "")
	case entry.Folder:
		if content.Folder != nil {
			_, err := content.Folder.List(context.Background())
			assert.NoError(t, err)
		}
	}
	return false
}

func size(t *testing.T, c source.Opened) int64 {
	stream, err := c.File.Stream(context.Background())
	require.NoError(t, err)
	n, err := io.Copy(io.Discard, stream)
	require.NoError(t, errors.Join(err, stream.Close()))
	return n
}

// RefOf is how what was sighted is opened.
func RefOf(s sighting.Sighting) sighting.Ref {
	if s.Ref != "" {
		return s.Ref
	}
	return s.At.Ref()
}

// surveyedAgain checks that a second survey tells the same.
func surveyedAgain(t *testing.T, s source.Store, first *record) {
	again := newRecord()
	again.known, again.memo = first.marks(), first.kept
	require.NoError(t, s.Survey(context.Background(), again, again))
	if again.delta && len(again.points) == 0 {
		assert.Empty(t, again.seen, "of what did not change nothing is told by a store that tells what did")
	} else {
		assert.Equal(t, first.marks(), again.marks(), "marks are stable while nothing changes")
	}
	for _, seen := range again.seen {
		if seen.At.Capture != "" || !seen.From.IsZero() {
			continue // the same place has a mark of its own at every point in time
		}
		assert.Equal(t, first.marks()[inTree(seen.At)], seen.Mark, seen.At)
	}
	// What was read completely need not be read again.
	done := newRecord()
	done.done, done.memo = first.points, first.kept
	require.NoError(t, s.Survey(context.Background(), done, done))
	assert.Equal(t, first.points, done.points)
	if len(first.points) > 0 {
		assert.Empty(t, done.seen, "nothing is sighted of points in time that are known")
	}
}

// surveyedInSlices checks that a survey whose turn is over at once each time comes to the same, and to an end.
func surveyedInSlices(t *testing.T, s source.Store, first *record) {
	all := newRecord()
	all.due = true
	for again := true; again; {
		require.Less(t, all.slices, 1000, "slices come to an end")
		all.again, all.left, all.done = false, nil, maps.Clone(all.points)
		require.NoError(t, s.Survey(context.Background(), all, all))
		again = all.again
	}
	assert.Equal(t, first.points, all.points)
	assert.False(t, all.scattered)
	told := func(r *record) map[sighting.Locator]int {
		times := map[sighting.Locator]int{}
		for _, seen := range r.seen {
			times[seen.At]++
		}
		return times
	}
	assert.Equal(t, told(first), told(all), "each thing is told once")
}

// outlivesItsStore checks that an open copy can be read to its end although its store was closed.
func outlivesItsStore(t *testing.T, s source.Store, first *record) {
	for _, seen := range first.seen {
		if seen.Type != entry.File || !seen.Readable || seen.Same {
			continue
		}
		content, err := s.Open(context.Background(), RefOf(seen))
		require.NoError(t, err)
		require.NoError(t, s.Close())
		assert.EqualValues(t, seen.Size, size(t, content))
		require.NoError(t, content.Close())
		return
	}
}

// record is the known and the reporter of a survey.
type record struct {
	known     map[sighting.Locator]entry.Mark
	done      map[string]time.Time // points in time that are known
	seen      []sighting.Sighting
	points    map[string]time.Time
	gone      []sighting.Locator
	left      map[string]bool
	scattered bool
	refuse    error
	delta     bool
	memo      []byte // that the survey before asked to be remembered
	kept      []byte
	due       bool // others should have their turn
	again     bool // it goes on from the cursor
	cursor    []byte
	slices    int
}

func (r *record) Cursor() []byte                { return r.cursor }
func (r *record) Progress(int64, int64, string) {}
func (r *record) Due() bool                     { return r.due }

func (r *record) Again(cursor []byte) error {
	if r.again {
		return errors.New("a slice ends twice")
	}
	r.again, r.cursor = true, cursor
	r.slices++
	return nil
}

func newRecord() *record {
	return &record{known: map[sighting.Locator]entry.Mark{}, points: map[string]time.Time{}}
}

func (r *record) Marks(_ context.Context, dir string) (func(string) entry.Mark, error) {
	return func(name string) entry.Mark { return r.known[sighting.Locator{Dir: dir, Name: name}] }, nil
}

func (r *record) Sight(s sighting.Sighting) error {
	if r.refuse != nil {
		return r.refuse
	}
	if r.left == nil {
		r.left = map[string]bool{}
	}
	if n := len(r.seen); n > 0 && r.seen[n-1].At.Capture == s.At.Capture && r.seen[n-1].At.Dir != s.At.Dir {
		r.left[r.seen[n-1].At.Dir] = true
	}
	r.scattered = r.scattered || r.left[s.At.Dir]
	r.seen = append(r.seen, s)
	return nil
}

func (r *record) Gone(at sighting.Locator) error {
	if !r.delta {
		return errors.New("something is called gone although everything is reported")
	}
	r.gone = append(r.gone, at)
	return nil
}

func (r *record) Unchanged(context.Context, string, []byte, int) (bool, error) { return false, nil }

func (r *record) Captures(context.Context) (map[string]time.Time, error) { return r.done, nil }

func (r *record) Begin(c sighting.Capture) error {
	if r.refuse != nil {
		return r.refuse
	}
	r.left = nil
	r.known = r.marks()
	r.points[c.Name] = c.At
	r.delta = c.Since != ""
	if c.Since != "" && r.points[c.Since].IsZero() {
		return errors.New("a point in time reports what changed since one that is not known")
	}
	return nil
}

func (r *record) Since() error {
	r.delta = true
	return nil
}

func (r *record) Further() error {
	for name, at := range r.done {
		r.points[name] = at
	}
	return nil
}

func (r *record) Latest(context.Context) (name string, at time.Time, err error) {
	for n, t := range r.done {
		if t.After(at) {
			name, at = n, t
		}
	}
	return name, at, nil
}

func (r *record) Line(points []sighting.Capture) error {
	for _, p := range points {
		if err := r.Begin(p); err != nil {
			return err
		}
	}
	return nil
}

func (r *record) Discard(string) error {
	return errors.New("nothing changed, and yet a point in time was discarded")
}
func (r *record) Unread(string, error) error { return nil }
func (r *record) Memo() []byte               { return r.memo }
func (r *record) Remember(memo []byte)       { r.kept = memo }
func (r *record) Note(string)                {}

func (r *record) marks() map[sighting.Locator]entry.Mark {
	all := map[sighting.Locator]entry.Mark{}
	for _, s := range r.seen {
		all[inTree(s.At)] = s.Mark
	}
	return all
}

// inTree is where something is in whichever point in time.
func inTree(l sighting.Locator) sighting.Locator { return sighting.Locator{Dir: l.Dir, Name: l.Name} }
