// Package live reads a machine's own files as they are now, so that the catalogue knows what is present, changed, gone
// and renamed.
//
// Its number, size, write time and change time tell whether a file changed; contents are not read. Left out are trash
// folders and stores that other sources read, the system's own file systems (/proc, /sys, /dev, /run), and what the
// exclusions name.
package live

import (
	"context"
	"fmt"
	"io/fs"
	"slices"
	"time"

	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/exclude"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/sighting"
	"humble-rewind/internal/core/traits"
	"humble-rewind/internal/reach"
	"humble-rewind/internal/source"
	"humble-rewind/internal/source/treewalk"
)

// Kind is the kind "live".
var Kind source.Kind = kind{}

type kind struct{}

func (kind) Name() string { return "live" }

func (kind) Traits() traits.Traits {
	return traits.Traits{Shape: traits.Now, Cost: traits.Little, Usual: true, Tree: true}
}

func (kind) Options() []source.Option { return nil }

func (kind) Open(_ context.Context, setup source.Setup) (source.Store, error) {
	return &store{setup}, nil
}

func (kind) Describe(ctx context.Context, setup source.Setup) (source.Described, error) {
	if err := exclude.Check(setup.Exclusions); err != nil {
		return source.Described{}, err
	}
	folder, err := setup.Files.Tree(ctx, setup.At)
	if err != nil {
		return source.Described{}, fmt.Errorf("look after %s: %w", place.Quote(setup.At), err)
	}
	return source.Described{Notes: []string{}}, folder.Close()
}

func (kind) Suggest(ctx context.Context, setup source.Setup) ([]source.Suggestion, error) {
	var found []source.Suggestion
	for _, at := range HomeFolders(setup.Homes) {
		if folder, err := setup.Files.Tree(ctx, at); err == nil {
			folder.Close()
			found = append(found, source.Suggestion{At: at, Why: "the homes of the people as they are now"})
		}
	}
	return found, ctx.Err()
}

// HomeFolders returns the folders that hold the homes, each once.
func HomeFolders(homes []string) []string {
	var parents []string
	for _, home := range homes {
		if parent := place.Folder(home); parent == "/" {
			parents = append(parents, home)
		} else {
			parents = append(parents, parent)
		}
	}
	slices.Sort(parents)
	return slices.Compact(parents)
}

type store struct{ source.Setup }

func (s *store) Close() error { return nil }

// Vouches names the file itself.
func (s *store) Vouches(_ context.Context, at sighting.Locator) []string {
	return []string{place.Join(s.At, at.Path())}
}

// system are folders of file systems that hold no files of people's.
var system = []string{"/proc", "/sys", "/dev", "/run"}

func (s *store) Survey(ctx context.Context, known source.Known, report source.Reporter) error {
	folder, err := s.Files.Tree(ctx, s.At)
	if err != nil {
		return fmt.Errorf("read the files at %s: %w", place.Quote(s.At), err)
	}
	defer folder.Close()
	w := treewalk.Walk{Known: known, Report: report, Now: time.Now(), Way: s.Files.Traits(),
		Origin: func(path string, _ reach.Info) (string, bool) { return place.Join(s.At, path), true },
		Keeps:  entry.All,
		Skip: func(path string, i reach.Info) bool {
			at := place.Join(s.At, path)
			return i.Type == entry.Folder && s.otherStore(at) || exclude.By(s.Exclusions, at) != ""
		},
	}
	if err := w.Run(ctx, folder); err != nil {
		return fmt.Errorf("read the files at %s: %w", place.Quote(s.At), err)
	}
	if w.Files == 0 && w.Folders == 0 {
		// An unmounted disk looks just like this, and would make everything seem deleted.
		return fmt.Errorf(
			"read the files at %s: the folder is empty, as if its drive were not mounted; what is known of it stays: %w",
			place.Quote(s.At),
			fs.ErrNotExist,
		)
	}
	return nil
}

// otherStore tells whether a folder is a trash or is read by another source.
func (s *store) otherStore(at string) bool {
	return exclude.Trash(at) || slices.Contains(system, at) || slices.Contains(s.Stores, at)
}

func (s *store) Open(ctx context.Context, ref sighting.Ref) (source.Opened, error) {
	c, err := source.OpenBelow(ctx, s.Files, s.At, ref)
	if err != nil {
		return source.Opened{}, fmt.Errorf("open file %w", err)
	}
	return c, nil
}
