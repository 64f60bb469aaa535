// Package trash reads trash directories as the freedesktop.org Trash specification, version 1.0, lays them out: the
// home trash, $topdir/.Trash/$uid and $topdir/.Trash-$uid.
//
// Whatever lies in a trash is shown, also what breaks the specification: items without a record, records without an
// item, records that cannot be read or trusted. What is wrong is said in the sighting's notes. Left out are trashes on
// other mounted file systems (add their top folders as sources of their own) and an $XDG_DATA_HOME other than the
// default (add its Trash folder as the location).
package trash

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"strings"

	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/sighting"
	"humble-rewind/internal/core/traits"
	"humble-rewind/internal/reach"
	"humble-rewind/internal/source"
)

// Kind is the kind "trash".
var Kind source.Kind = kind{}

type kind struct{}

func (kind) Name() string { return "trash" }

func (kind) Traits() traits.Traits {
	return traits.Traits{Shape: traits.Removals, Rank: 10, Expires: true, Cost: traits.Little, Usual: true}
}

func (kind) Options() []source.Option { return nil }

func (kind) Open(_ context.Context, setup source.Setup) (source.Store, error) {
	return &store{setup}, nil
}

func (kind) Describe(ctx context.Context, setup source.Setup) (source.Described, error) {
	l, err := locate(ctx, setup)
	if err != nil {
		return source.Described{}, fmt.Errorf("look for a trash at %s: %w", place.Quote(setup.At), err)
	}
	if len(l.cans) == 0 && !isHome(setup) {
		notes := strings.Join(l.notes, " ")
		if notes == "" {
			notes = "Name a home folder, the top folder of a drive or a trash folder itself."
		}
		return source.Described{}, fmt.Errorf("look for a trash at %s: there is none. %s", place.Quote(setup.At), notes)
	}
	return source.Described{Drive: l.drive, Notes: append([]string{}, l.notes...)}, nil
}

// Suggest looks into the homes, the root, and whatever is mounted where drives usually are.
func (kind) Suggest(ctx context.Context, setup source.Setup) ([]source.Suggestion, error) {
	var found []source.Suggestion
	look := func(at string, why string) {
		setup.At = at
		l, err := locate(ctx, setup)
		if err != nil || len(l.cans) == 0 {
			return
		}
		found = append(found, source.Suggestion{At: at, Drive: l.drive, Why: why})
	}
	for _, home := range setup.Homes {
		look(home, "a home with a trash")
	}
	look("/", "the root has a trash of its own")
	for _, parent := range []string{"/media", "/run/media", "/mnt", "/srv"} {
		for _, path := range subfolders(ctx, setup.Files, parent) {
			look(path, "a drive with a trash of its own")
			if parent == "/media" || parent == "/run/media" {
				for _, drive := range subfolders(ctx, setup.Files, path) {
					look(drive, "a removable drive with a trash of its own")
				}
			}
		}
	}
	return found, ctx.Err()
}

func subfolders(ctx context.Context, files reach.Session, path string) []string {
	folder, err := files.Tree(ctx, path)
	if err != nil {
		return nil
	}
	defer folder.Close()
	entries, _ := folder.List(ctx)
	var found []string
	for _, e := range entries {
		if e.Type == entry.Folder {
			found = append(found, place.Join(path, e.Name))
		}
	}
	return found
}

type store struct{ source.Setup }

func (s *store) Close() error { return nil }

func (s *store) Survey(ctx context.Context, known source.Known, report source.Reporter) error {
	l, err := locate(ctx, s.Setup)
	if err != nil {
		return fmt.Errorf("read the trash at %s: %w", place.Quote(s.At), err)
	}
	if l.empty && !isHome(s.Setup) {
		return fmt.Errorf(
			"read the trash at %s: the folder is empty, as if its drive were not plugged in; what is known of it stays",
			place.Quote(s.At),
		)
	}
	for _, note := range l.notes {
		report.Note(note)
	}
	for _, c := range l.cans {
		v := &visit{store: s, can: c, known: known, report: report}
		if err := v.survey(ctx); err != nil {
			return err
		}
	}
	return nil
}

func (s *store) Open(ctx context.Context, ref sighting.Ref) (source.Opened, error) {
	c, err := source.OpenBelow(ctx, s.Files, s.At, ref)
	if err != nil {
		return source.Opened{}, fmt.Errorf("open trash item %w", err)
	}
	return c, nil
}

func isGone(err error) bool { return errors.Is(err, fs.ErrNotExist) }
