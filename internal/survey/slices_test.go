package survey_test

import (
	"context"
	"errors"
	"fmt"
	"strconv"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/sighting"
	"humble-rewind/internal/core/traits"
	"humble-rewind/internal/registry"
	"humble-rewind/internal/sitetest"
	"humble-rewind/internal/source"
	"humble-rewind/internal/survey"
)

// pile is a kind of store that takes long to read: its folders are read one a slice. What it does wrong is said by fault.
type pile struct {
	source.Kind
	folders *[]string // of each there are two copies
	fault   func(slice int) error
	slices  int
}

func (p *pile) Name() string { return "pile" }
func (p *pile) Traits() traits.Traits {
	return traits.Traits{Shape: traits.Traces, Rank: 90, Cost: traits.Whole}
}
func (p *pile) Options() []source.Option { return nil }
func (p *pile) Describe(context.Context, source.Setup) (source.Described, error) {
	return source.Described{}, nil
}
func (p *pile) Open(context.Context, source.Setup) (source.Store, error) { return pileStore{p}, nil }

type pileStore struct{ *pile }

func (pileStore) Close() error                                       { return nil }
func (pileStore) Vouches(context.Context, sighting.Locator) []string { return nil }
func (pileStore) Open(context.Context, sighting.Ref) (source.Opened, error) {
	return source.Opened{}, errors.New("it cannot be opened")
}

func (p pileStore) Survey(_ context.Context, known source.Known, report source.Reporter) error {
	p.slices++
	at, _ := strconv.Atoi(string(known.Cursor())) // nil is the beginning
	if p.fault != nil {
		if err := p.fault(p.slices); err != nil {
			return err
		}
	}
	for ; at < len(*p.folders); at++ {
		dir := (*p.folders)[at]
		report.Note("It is a pile.")
		report.Progress(int64(at), int64(len(*p.folders)), dir)
		for _, name := range []string{"one", "two"} {
			if err := report.Sight(sighting.Sighting{At: sighting.Locator{Dir: dir, Name: name}, Mark: entry.Mark{Type: entry.File, Size: 7}, Type: entry.File,
				Size: 7, Nameless: true, Readable: true}); err != nil {
				return err
			}
		}
		if report.Due() && at < len(*p.folders)-1 {
			return report.Again([]byte(strconv.Itoa(at + 1)))
		}
	}
	return nil
}

// piled is a site with a pile of some folders.
func piled(t *testing.T, folders ...string) (*sitetest.Site, *pile, catalogue.Source) {
	s := sitetest.New(t)
	p := &pile{folders: &folders}
	s.Kinds = append(s.Kinds, p)
	src, err := s.AddSource(t.Context(), registry.NewSource{Machine: "loft", Kind: "pile", At: "/srv"})
	require.NoError(t, err)
	return s, p, src
}

// slice surveys one slice, with what is known of the source now.
func slice(t *testing.T, s *sitetest.Site, src catalogue.Source, at time.Time, due bool) (survey.Result, error) {
	now, err := s.Catalogue.Sources.ByID(t.Context(), src.ID)
	require.NoError(t, err)
	return survey.Run(t.Context(), s.Site, now, at, survey.Following{Due: func() bool { return due }})
}

// dirs counts the copies in each folder, those that are still there or those that are gone.
func dirs(s *sitetest.Site, there bool) map[string]int {
	all := map[string]int{}
	for _, c := range s.Find(catalogue.Query{Records: true, Limit: 1000}) {
		if c.Open == there {
			all[c.At.Dir]++
		}
	}
	return all
}

// What a slice found is shown once it has ended, each slice goes on where the last ended whatever stopped the service between them, and only the
// last says what is gone.
func TestASurveyGoesOnInSlices(t *testing.T) {
	s, p, src := piled(t, "a", "b", "c", "d")
	began := time.Now()
	for n := range 4 {
		r, err := slice(t, s, src, began.Add(time.Duration(n)*time.Minute), true)
		require.NoError(t, err)
		assert.Equal(t, n < 3, r.Again)
		assert.Equal(t, []string{"It is a pile."}, r.Notes, "said once")
		assert.EqualValues(t, 2*(n+1), r.Fresh)
		assert.Len(t, dirs(s, true), n+1, "what was found is shown")
		now, err := s.Catalogue.Sources.ByID(t.Context(), src.ID)
		require.NoError(t, err)
		assert.EqualValues(t, 2*(n+1), now.Found)
		assert.Equal(t, n == 3, !now.SurveyedAt.IsZero(), "it was surveyed once all of it was")
	}
	assert.Equal(t, 4, p.slices)

	*p.folders = []string{"b", "c", "e"}
	for n := range 3 {
		assert.Equal(t, 2, dirs(s, true)["a"])
		r, err := slice(t, s, src, began.Add(time.Hour), true)
		require.NoError(t, err)
		assert.Equal(t, n < 2, r.Again)
		gone := len(dirs(s, false))
		if n < 2 {
			assert.Zero(t, gone, "nothing is gone before all was looked at")
			assert.Zero(t, r.Gone)
		} else {
			assert.EqualValues(t, 4, r.Gone)
			assert.EqualValues(t, 6, r.Found)
		}
	}
	whole, err := slice(t, s, src, began.Add(2*time.Hour), false)
	require.NoError(t, err)
	assert.Zero(t, whole.Fresh+whole.Gone, "a survey in one piece comes to the same")
}

// Slices that go on too long, tell things twice, go nowhere or fail do no harm.
func TestSlicesThatGoWrong(t *testing.T) {
	began := time.Now()
	t.Run("it fails at each slice", func(t *testing.T) {
		s, p, src := piled(t, "a", "b", "c")
		_, err := slice(t, s, src, began, true)
		require.NoError(t, err)
		p.fault = func(int) error { return errors.New("the drive is gone") }
		for range 3 {
			_, err = slice(t, s, src, began, true)
			require.ErrorContains(t, err, "the drive is gone")
			assert.Equal(t, map[string]int{"a": 2}, dirs(s, true), "what was found stays")
		}
		p.fault = nil
		r, err := slice(t, s, src, began, false)
		require.NoError(t, err)
		assert.EqualValues(t, 6, r.Found)
	})
	t.Run("it goes on where it was", func(t *testing.T) {
		s, _, src := piled(t, "a", "b", "c")
		_, err := slice(t, s, src, began, true)
		require.NoError(t, err)
		s.Kinds[len(s.Kinds)-1] = stuck{&pile{}}
		_, err = slice(t, s, src, began, true)
		require.ErrorContains(t, err, "it goes on where it was")
		now, err := s.Catalogue.Sources.ByID(t.Context(), src.ID)
		require.NoError(t, err)
		assert.Empty(t, now.Slice, "the next begins anew")
	})
	t.Run("it tells a folder twice", func(t *testing.T) {
		s, p, src := piled(t, "a", "b", "c")
		_, err := slice(t, s, src, began, true)
		require.NoError(t, err)
		*p.folders = []string{"x", "a", "y"}
		_, err = slice(t, s, src, began, true)
		require.ErrorContains(t, err, "was told in an earlier slice")
		assert.Equal(t, map[string]int{"a": 2}, dirs(s, true))
	})
	t.Run("it began long ago", func(t *testing.T) {
		s, p, src := piled(t, "a", "b", "c")
		_, err := slice(t, s, src, began, true)
		require.NoError(t, err)
		*p.folders = []string{"c"}
		r, err := slice(t, s, src, began.AddDate(0, 0, 3), true)
		require.NoError(t, err)
		assert.False(t, r.Again)
		assert.Equal(t, map[string]int{"a": 2}, dirs(s, false))
	})
	t.Run("its progress goes backwards", func(t *testing.T) {
		s, p, src := piled(t, "a")
		var told []int64
		s.Kinds[len(s.Kinds)-1] = backwards{p}
		_, err := survey.Run(t.Context(), s.Site, src, began, survey.Following{Progress: func(done, _ int64, _ string) { told = append(told, done) }})
		require.NoError(t, err)
		assert.Equal(t, []int64{7, 7, 10}, told)
	})
}

// stuck goes on from where it is, for ever.
type stuck struct{ *pile }

func (s stuck) Open(context.Context, source.Setup) (source.Store, error) { return stuckStore{}, nil }

type stuckStore struct{ pileStore }

func (stuckStore) Survey(_ context.Context, known source.Known, report source.Reporter) error {
	return report.Again(known.Cursor())
}

// backwards says of its progress what cannot be.
type backwards struct{ *pile }

func (b backwards) Open(context.Context, source.Setup) (source.Store, error) {
	return backwardsStore{}, nil
}

type backwardsStore struct{ pileStore }

func (backwardsStore) Survey(_ context.Context, _ source.Known, report source.Reporter) error {
	for _, done := range []int64{7, -3, 99} {
		report.Progress(done, 10, fmt.Sprint(done))
	}
	return nil
}
