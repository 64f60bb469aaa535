// Package history reads folders that are kept under version control by git: every content that a commit of any branch, tag, stash or
// reflog holds, and what no name reaches any more.
//
// What stood at a place as of a moment is told by the line of the checked-out branch: its commits, following first parents, by the time
// at which they were committed. Each is a point in time of the store. What other branches, the reflog, a stash or nothing at all reaches
// are versions beside that line. A blob that no tree names has lost its name.
//
// What git can tell, and what not:
//
//	clock        1 s, with its zone: when a version was recorded, which is not before it was saved
//	who          the author that the commit names, and the first line of what they said
//	owner, mode  not told, but for links
//	names        bytes; a rename is told only where the content stayed
//	content      as stored: where attributes convert line ends or filters change contents, the file on the disk had other bytes
//
// A repository is somebody's folder and may be hostile. Git is never run in it: its objects, and nothing else, are copied through the
// machine's way into a bare repository of the service's own, with a configuration of its own. So no hook, filter, pager, helper,
// alternate, graft, replacement or setting of the repository's takes effect. Children have bounds on memory and time.
package history

import (
	"context"
	"errors"
	"fmt"
	"os/exec"
	"slices"
	"strings"
	"time"

	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/exclude"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/traits"
	"humble-rewind/internal/reach"
	"humble-rewind/internal/source"
)

// Kind is the kind "history".
var Kind source.Kind = kind{}

type kind struct{}

func (kind) Name() string { return "history" }

func (kind) Traits() traits.Traits {
	return traits.Traits{Shape: traits.Points, Rank: 30, Resolution: time.Second, Ownerless: true, Proves: true, Entire: true,
		Cost: traits.Little, Private: ".git", Tree: true}
}

func (kind) Options() []source.Option { return nil }

// errNoGit says what the service's host lacks.
var errNoGit = errors.New("git is not installed where the service runs, and repositories are read with it; install it (Debian: apt install git)")

func (kind) Open(_ context.Context, setup source.Setup) (source.Store, error) {
	if _, err := exec.LookPath("git"); err != nil {
		return nil, errNoGit
	}
	dir, release, err := setup.OwnFolder()
	if err != nil {
		return nil, err
	}
	m, err := openMirror(dir)
	if err != nil {
		release()
		return nil, err
	}
	return &store{Setup: setup, mirror: m, release: release}, nil
}

func (k kind) Describe(ctx context.Context, setup source.Setup) (source.Described, error) {
	if err := exclude.Check(setup.Exclusions); err != nil {
		return source.Described{}, err
	}
	r, err := find(ctx, setup)
	if err != nil {
		return source.Described{}, fmt.Errorf("look for a repository at %s: %w", place.Quote(setup.At), err)
	}
	defer r.Close()
	heads, err := r.readHeads(ctx)
	if err != nil {
		return source.Described{}, fmt.Errorf("read the repository at %s: %w", place.Quote(setup.At), err)
	}
	notes := []string{heads.describe()}
	if r.tree == "" && len(setup.Maps) == 0 {
		notes = append(notes, "It has no folder of files beside it (a bare repository), so nothing tells where on the machine its files stood. "+
			"Say it with a map, such as /=/home/ines/Lines.")
	}
	return source.Described{Notes: append(notes, r.notes...)}, nil
}

// How far below a home repositories are looked for, and how many folders are looked into.
const (
	searchDepth   = 4
	searchFolders = 5000
)

// Suggest looks for repositories below people's homes, and in the folders in which shared ones are usually kept.
func (kind) Suggest(ctx context.Context, setup source.Setup) ([]source.Suggestion, error) {
	var found []source.Suggestion
	left := searchFolders
	var look func(path string, depth int)
	look = func(path string, depth int) {
		if left--; left < 0 || ctx.Err() != nil {
			return
		}
		folder, err := setup.Files.Tree(ctx, path)
		if err != nil {
			return // not there, or a link: nothing to suggest
		}
		entries, err := folder.List(ctx)
		folder.Close()
		if err != nil {
			return
		}
		names := map[string]entry.Type{}
		for _, e := range entries {
			names[e.Name] = e.Type
		}
		switch {
		case names[".git"] == entry.Folder:
			found = append(found, source.Suggestion{At: path, Why: "a folder under version control"})
		case names["objects"] == entry.Folder && names["refs"] == entry.Folder && names["HEAD"] == entry.File:
			found = append(found, source.Suggestion{At: path, Why: "a bare repository"})
			return
		}
		if depth == 0 {
			return
		}
		slices.SortFunc(entries, func(a, b reach.Info) int { return strings.Compare(a.Name, b.Name) })
		for _, e := range entries {
			if e.Type == entry.Folder && !strings.HasPrefix(e.Name, ".") {
				look(place.Join(path, e.Name), depth-1)
			}
		}
	}
	for _, home := range setup.Homes {
		look(home, searchDepth)
	}
	for _, path := range []string{"/srv/git", "/srv/repositories", "/var/lib/git"} {
		look(path, 2)
	}
	return found, ctx.Err()
}
