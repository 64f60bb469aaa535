// Package strays reads leftovers of programs (autosaves, backup copies, temporary and recovery files, locks) beside
// documents and in the places where programs keep them, by rules that a technician can extend; see package stray.
//
// A leftover whose name tells its document comes with that as its origin, so that it is brought back under the document's
// name. All others come without: which document they belong to is worked out from their content. Locks are reported, since
// they tell who had a document open, but they are no copies of anything.
package strays

import (
	"context"
	_ "embed"
	"fmt"
	"slices"
	"strings"
	"time"

	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/exclude"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/sighting"
	"humble-rewind/internal/core/stray"
	"humble-rewind/internal/core/traits"
	"humble-rewind/internal/reach"
	"humble-rewind/internal/source"
	"humble-rewind/internal/source/live"
	"humble-rewind/internal/source/treewalk"
)

// DefaultText is the file of rules that come with the program, to be extended.
//
//go:embed default.rules
var DefaultText string

// Default are the rules that come with the program.
var Default = func() stray.Rules {
	rules, err := stray.Parse(strings.NewReader(DefaultText))
	if err != nil {
		panic("default.rules: " + err.Error()) // a test parses them
	}
	return rules
}()

// Kind returns the kind "strays" with its rules.
func Kind(rules stray.Rules) source.Kind { return kind{rules} }

type kind struct{ rules stray.Rules }

func (kind) Name() string { return "strays" }

func (kind) Traits() traits.Traits {
	return traits.Traits{Shape: traits.Traces, Rank: 60, Leftovers: true, Cost: traits.Little, Usual: true}
}

func (kind) Options() []source.Option { return nil }

func (k kind) Open(_ context.Context, setup source.Setup) (source.Store, error) {
	return &store{setup, k.rules}, nil
}

func (kind) Describe(ctx context.Context, setup source.Setup) (source.Described, error) {
	folder, err := setup.Files.Tree(ctx, setup.At)
	if err != nil {
		return source.Described{}, fmt.Errorf("look for leftovers in %s: %w", place.Quote(setup.At), err)
	}
	return source.Described{Notes: []string{}}, folder.Close()
}

func (kind) Suggest(ctx context.Context, setup source.Setup) ([]source.Suggestion, error) {
	var found []source.Suggestion
	for _, at := range live.HomeFolders(setup.Homes) {
		if folder, err := setup.Files.Tree(ctx, at); err == nil {
			folder.Close()
			found = append(found, source.Suggestion{At: at, Why: "autosaves, backup copies and other leftovers in the homes"})
		}
	}
	for _, at := range stray.Sessions("") {
		if folder, err := setup.Files.Tree(ctx, at); err == nil {
			folder.Close()
			found = append(found, source.Suggestion{At: at, Besides: true, Why: "what programs wrote for a moment and left behind"})
		}
	}
	return found, ctx.Err()
}

type store struct {
	source.Setup
	rules stray.Rules
}

func (s *store) Close() error { return nil }

// Vouches names the leftover, whose name says what it is of.
func (s *store) Vouches(_ context.Context, at sighting.Locator) []string {
	return []string{place.Join(s.At, at.Path())}
}

// home is the innermost home that a path lies in.
func (s *store) home(path string) string {
	best := ""
	for _, h := range s.Homes {
		if place.Under(path, h) && len(h) > len(best) {
			best = h
		}
	}
	return best
}

func (s *store) Survey(ctx context.Context, known source.Known, report source.Reporter) error {
	folder, err := s.Files.Tree(ctx, s.At)
	if err != nil {
		return fmt.Errorf("look for leftovers in %s: %w", place.Quote(s.At), err)
	}
	defer folder.Close()
	if isSession(s.At) {
		if err := (&session{store: s, known: known, report: report}).run(ctx, folder); err != nil {
			return fmt.Errorf("look for leftovers in %s: %w", place.Quote(s.At), err)
		}
		return nil
	}
	w := treewalk.Walk{Known: known, Report: report, Now: time.Now(), Way: s.Files.Traits(), Keeps: entry.All,
		Origin: func(path string, i reach.Info) (string, bool) {
			at := place.Join(s.At, path)
			m, ok := s.rules.Match(at, s.home(at))
			if !ok || i.Type != entry.File { // folders are walked, and no leftovers themselves
				return "", false
			}
			origin, exact := m.Exact()
			if !exact {
				return "", true
			}
			return place.Mapped(s.Maps, origin), true
		},
		Skip: func(path string, i reach.Info) bool {
			at := place.Join(s.At, path)
			if i.Type == entry.Folder {
				return exclude.Trash(at) || slices.Contains(s.Stores, at) || exclude.By(s.Exclusions, at) != ""
			}
			return exclude.By(s.Exclusions, at) != ""
		},
	}
	if err := w.Run(ctx, folder); err != nil {
		return fmt.Errorf("look for leftovers in %s: %w", place.Quote(s.At), err)
	}
	return nil
}

func (s *store) Open(ctx context.Context, ref sighting.Ref) (source.Opened, error) {
	c, err := source.OpenBelow(ctx, s.Files, s.At, ref)
	if err != nil {
		return source.Opened{}, fmt.Errorf("open leftover %w", err)
	}
	return c, nil
}
