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
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/plan"
	"humble-rewind/internal/core/stray"
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

func (k kind) Open(setup source.Setup) source.Source { return &store{setup, k.rules} }

func (kind) Describe(ctx context.Context, setup source.Setup) (source.Described, error) {
	folder, err := setup.Files.Folder(ctx, setup.At)
	if err != nil {
		return source.Described{}, fmt.Errorf("look for leftovers in %s: %w", place.Quote(setup.At), err)
	}
	return source.Described{Notes: []string{}}, folder.Close()
}

func (kind) Suggest(ctx context.Context, setup source.Setup) ([]source.Suggestion, error) {
	var found []source.Suggestion
	for _, at := range live.HomeFolders(setup.Homes) {
		if folder, err := setup.Files.Folder(ctx, at); err == nil {
			folder.Close()
			found = append(found, source.Suggestion{At: at, Why: "autosaves, backup copies and other leftovers in the homes"})
		}
	}
	return found, ctx.Err()
}

type store struct {
	source.Setup
	rules stray.Rules
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
	folder, err := s.Files.Folder(ctx, s.At)
	if err != nil {
		return fmt.Errorf("look for leftovers in %s: %w", place.Quote(s.At), err)
	}
	defer folder.Close()
	excluded := treewalk.Excluding(s.Exclusions)
	file := "" // the one asked about last: folders are walked, and no leftovers themselves
	w := treewalk.Walk{Known: known, Report: report, Now: time.Now(), Keeps: entry.All,
		Origin: func(path string) (string, bool) {
			at := place.Join(s.At, path)
			m, ok := s.rules.Match(at, s.home(at))
			if !ok || at != file {
				return "", false
			}
			origin, exact := m.Exact()
			if !exact {
				return "", true
			}
			return source.Apply(s.Maps, origin), true
		},
		Skip: func(path string, i reach.Info) bool {
			at := place.Join(s.At, path)
			if i.Type == plan.Folder {
				return i.Name == "Trash" && strings.HasSuffix(at, "/.local/share/Trash") || strings.HasPrefix(i.Name, ".Trash") || slices.Contains(s.Stores, at) || excluded(at, i.Name)
			}
			if i.Type == plan.File {
				file = at
			}
			return excluded(at, i.Name)
		},
	}
	if err := w.Run(ctx, folder); err != nil {
		return fmt.Errorf("look for leftovers in %s: %w", place.Quote(s.At), err)
	}
	return nil
}

func (s *store) Open(ctx context.Context, at source.Locator) (source.Content, error) {
	folder, err := s.Files.Folder(ctx, place.Join(s.At, at.Dir))
	if err != nil {
		return source.Content{}, fmt.Errorf("open leftover %s: %w", place.Quote(at.Path()), err)
	}
	defer folder.Close()
	c, err := source.OpenContent(folder, at.Name)
	if err != nil {
		return source.Content{}, fmt.Errorf("open leftover %s: %w", place.Quote(at.Path()), err)
	}
	return c, nil
}
