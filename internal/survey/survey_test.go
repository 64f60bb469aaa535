package survey_test

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
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

// script is a kind of source with one store, which reports what a test tells it to.
type script struct {
	run       func(source.Known, source.Reporter) error
	ownerless bool
}

func (*script) Name() string { return "script" }

func (s *script) Traits() traits.Traits {
	return traits.Traits{Shape: traits.Removals, Ownerless: s.ownerless}
}

func (*script) Options() []source.Option { return nil }

func (s *script) Open(context.Context, source.Setup) (source.Store, error) { return store{s}, nil }

func (*script) Describe(context.Context, source.Setup) (source.Described, error) {
	return source.Described{}, nil
}

func (*script) Suggest(context.Context, source.Setup) ([]source.Suggestion, error) { return nil, nil }

type store struct{ *script }

func (s store) Survey(_ context.Context, known source.Known, report source.Reporter) error {
	return s.run(known, report)
}

func (store) Close() error { return nil }

func (store) Vouches(context.Context, sighting.Locator) []string { return nil }

func (store) Open(context.Context, sighting.Ref) (source.Opened, error) {
	return source.Opened{}, errors.New("there is nothing to open")
}

// sight reports names in a folder of the store, all with the same mark.
func sight(dir string, mark int64, names ...string) func(source.Known, source.Reporter) error {
	return func(_ source.Known, report source.Reporter) error {
		for _, name := range names {
			if err := report.Sight(sighting.Sighting{At: sighting.Locator{Dir: dir, Name: name}, Mark: entry.Mark{Size: mark},
				Origin: "/home/ines/" + dir + "/" + name, Type: entry.File, GoneAt: sitetest.Gone, Readable: true}); err != nil {
				return err
			}
		}
		return nil
	}
}

func both(steps ...func(source.Known, source.Reporter) error) func(source.Known, source.Reporter) error {
	return func(known source.Known, report source.Reporter) error {
		for _, step := range steps {
			if err := step(known, report); err != nil {
				return err
			}
		}
		return nil
	}
}

func unread(dir string) func(source.Known, source.Reporter) error {
	return func(_ source.Known, report source.Reporter) error { return report.Unread(dir, errors.New("locked")) }
}

type bench struct {
	*sitetest.Site
	*script
	src catalogue.Source
}

func newBench(t *testing.T) *bench { return newBenchOf(t, &script{}) }

func newBenchOf(t *testing.T, of *script) *bench {
	b := &bench{Site: sitetest.New(t), script: of}
	b.Kinds = source.Kinds{b.script}
	var err error
	b.src, err = b.AddSource(t.Context(), registry.NewSource{Machine: "loft", Kind: "script", At: "/"})
	require.NoError(t, err)
	return b
}

func (b *bench) survey(run func(source.Known, source.Reporter) error) (survey.Result, error) {
	b.script.run = run
	return survey.Run(context.Background(), b.Site.Site, b.src, time.Now(), survey.Following{})
}

func (b *bench) must(t *testing.T, run func(source.Known, source.Reporter) error) string {
	t.Helper()
	r, err := b.survey(run)
	require.NoError(t, err)
	return fmt.Sprintf("%d found, %d fresh, %d gone", r.Found, r.Fresh, r.Gone)
}

// What a store says of owners is dropped where its kind cannot tell them: somebody else said it.
func TestAStoreThatCannotTellOwnersNamesNone(t *testing.T) {
	for _, ownerless := range []bool{false, true} {
		b := newBenchOf(t, &script{ownerless: ownerless})
		b.must(t, func(_ source.Known, report source.Reporter) error {
			return report.Sight(sighting.Sighting{At: sighting.Locator{Name: "keel"}, Origin: "/srv/keel", Type: entry.File, GoneAt: sitetest.Gone,
				Readable: true, UID: entry.Is[int64](1001), Mark: entry.Mark{Size: 1, UID: entry.Is[int64](1001), GID: entry.Is[int64](1001),
					Mode: entry.Is[fs.FileMode](0o600)}})
		})
		all := b.Find(catalogue.Query{Records: true})
		require.Len(t, all, 1)
		assert.Equal(t, !ownerless, all[0].Mark.UID.Known || all[0].Mark.GID.Known || all[0].Mark.Mode.Known)
		assert.Equal(t, map[bool]string{false: "ines", true: ""}[ownerless], all[0].Person)
	}
}

func TestOnlyWhatChangedIsWritten(t *testing.T) {
	b := newBench(t)
	assert.Equal(t, "3 found, 3 fresh, 0 gone", b.must(t, both(sight("a", 1, "x", "y"), sight("b", 1, "z"))))
	assert.Equal(t, "3 found, 0 fresh, 0 gone", b.must(t, both(sight("a", 1, "x", "y"), sight("b", 1, "z"))))
	assert.Equal(t, "3 found, 1 fresh, 1 gone", b.must(t, both(sight("a", 1, "x", "y"), sight("b", 2, "z"))), "a new mark is a new version")
	assert.Equal(
		t,
		"1 found, 0 fresh, 2 gone",
		b.must(t, sight("a", 1, "x")),
		"a folder that is no longer reported has vanished with what "+
			"was in it",
	)
	assert.Len(t, b.Find(catalogue.Query{}), 1)
	assert.Len(t, b.Find(catalogue.Query{Records: true}), 4)
}

func TestWhatCannotBeReadStaysAsItIsKnown(t *testing.T) {
	b := newBench(t)
	b.must(t, both(sight("a", 1, "x"), sight("a/deep", 1, "y"), sight("b", 1, "z")))
	r, err := b.survey(both(unread("a"), sight("b", 1, "z")))
	require.NoError(t, err)
	assert.Zero(t, r.Gone)
	assert.Contains(t, r.Notes[0], "/a could not be read: locked")
	assert.Len(t, b.Find(catalogue.Query{}), 3)
}

func TestASurveyThatFailsEndsNothing(t *testing.T) {
	b := newBench(t)
	b.must(t, both(sight("a", 1, "x"), sight("b", 1, "z")))
	gone := errors.New("the drive was pulled out")
	_, err := b.survey(both(sight("a", 1, "x"), func(source.Known, source.Reporter) error { return gone }))
	assert.ErrorIs(t, err, gone)
	assert.Len(t, b.Find(catalogue.Query{}), 2)
}

func TestASourceThatContradictsTheRecordsIsNotBelieved(t *testing.T) {
	b := newBench(t)
	_, err := b.survey(func(_ source.Known, report source.Reporter) error {
		return report.Sight(sighting.Sighting{At: sighting.Locator{Dir: "a", Name: "x"}, Same: true})
	})
	assert.ErrorContains(t, err, "is not known")
}

func TestNotesAreBounded(t *testing.T) {
	b := newBench(t)
	r, err := b.survey(func(_ source.Known, report source.Reporter) error {
		for i := range 1000 {
			report.Note(fmt.Sprint(i))
		}
		return nil
	})
	require.NoError(t, err)
	assert.LessOrEqual(t, len(r.Notes), 51)
}

func TestCopiesBelongToWhomTheirPlaceBelongs(t *testing.T) {
	b := newBench(t)
	b.must(t, func(_ source.Known, report source.Reporter) error {
		for i, c := range []struct {
			origin string
			uid    int64
		}{{"/home/ines/a", 0}, {"/srv/b", 1001}, {"/srv/c", 55}, {"/home/inesx/d", 55}} {
			if err := report.Sight(sighting.Sighting{At: sighting.Locator{Dir: "a", Name: fmt.Sprint(i)}, Mark: entry.Mark{Size: 1},
				Origin: c.origin,
				UID:    entry.Is(c.uid), Type: entry.File, Readable: true}); err != nil {
				return err
			}
		}
		return nil
	})
	whose := map[string]string{}
	for _, c := range b.Find(catalogue.Query{}) {
		whose[c.Place.Path] = c.Person
	}
	assert.Equal(t, map[string]string{"/home/ines/a": "ines", "/srv/b": "ines", "/srv/c": "", "/home/inesx/d": ""}, whose)
}
