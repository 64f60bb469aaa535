// Package cloud reads cloud drives: what they hold now, the versions that they keep of each file, with who made them, and what is in
// their own trash, which the user's machine does not show.
//
// The drive is a machine of its own, reached by a way that is a [reach.Keeper] (package dav). What stands at which place of the people's
// machine a map says, so that a synced folder there and the drive's are one place to the trail:
//
//	source add front-office cloud --at office-drive:/ --maps "/=/home/ines/Office drive"
//
// What a drive can tell:
//
//	clock      the server's, as fine as it tells it
//	versions   when each became the content, and by whom, where the drive keeps versions
//	removals   when, by whom and until when they are kept, where the drive shows its trash
//	content    entity tags, which tell contents of one drive apart
//	owner      not told
//
// A drive that can tell what changed since a token is asked that; otherwise its folders are walked, and versions asked for of what has
// another tag than before.
package cloud

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/exclude"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/problem"
	"humble-rewind/internal/core/sighting"
	"humble-rewind/internal/core/traits"
	"humble-rewind/internal/reach"
	"humble-rewind/internal/source"
)

// Kind is the kind "cloud".
var Kind source.Kind = kind{}

type kind struct{}

func (kind) Name() string { return "cloud" }

func (kind) Traits() traits.Traits {
	return traits.Traits{Shape: traits.Kept, Rank: 25, Resolution: time.Second, Ownerless: true, Expires: true, Cost: traits.Little, Tree: true}
}

func (kind) Options() []source.Option { return nil }

// errNoDrive says that a machine is none.
var errNoDrive = fmt.Errorf("the machine is not a cloud drive: add the drive as a machine first, by an address such as "+
	"davs://ines@drive.example/files: %w", problem.Unsupported)

func (kind) Open(_ context.Context, setup source.Setup) (source.Store, error) {
	keeper, ok := reach.KeeperOf(setup.Files)
	if !ok {
		return nil, errNoDrive
	}
	return &store{setup, keeper}, nil
}

// Describe tries what the drive offers, step by step.
func (k kind) Describe(ctx context.Context, setup source.Setup) (source.Described, error) {
	if err := exclude.Check(setup.Exclusions); err != nil {
		return source.Described{}, err
	}
	keeper, ok := reach.KeeperOf(setup.Files)
	if !ok {
		return source.Described{}, errNoDrive
	}
	top, err := setup.Files.Tree(ctx, setup.At)
	if err != nil {
		return source.Described{}, fmt.Errorf("open %s on the drive: %w", place.Quote(setup.At), err)
	}
	defer top.Close()
	list, err := top.List(ctx)
	if err != nil {
		return source.Described{}, fmt.Errorf("list %s on the drive: %w", place.Quote(setup.At), err)
	}
	notes := []string{fmt.Sprintf("Signed in; %d entries in its top folder.", len(list))}
	var described source.Described
	for _, e := range list {
		if e.Type != entry.File {
			continue
		}
		if all, err := keeper.Versions(ctx, place.Join(setup.At, e.Name)); err == nil && len(all) > 0 {
			notes = append(notes, "It keeps versions.")
		} else {
			notes = append(notes, "It keeps no versions: only what it holds now can be read.")
		}
		break
	}
	removed, err := keeper.Removed(ctx, setup.At)
	switch {
	case errors.Is(err, problem.Unsupported):
		notes = append(notes, "It shows no trash.")
	case err != nil:
		return source.Described{}, fmt.Errorf("read the drive's trash: %w", err)
	default:
		notes = append(notes, fmt.Sprintf("Its own trash holds %d items.", len(removed)))
		for _, r := range removed {
			if !r.Expires.IsZero() {
				days := int(r.Expires.Sub(r.At).Hours()+12) / 24
				described.KeepsDays = &days
				break
			}
		}
	}
	if len(setup.Maps) == 0 && setup.Elsewhere {
		notes = append(notes, "Nothing says where its files stand on the machine. Say it with a map, such as /=/home/ines/Office drive.")
	}
	described.Notes = notes
	return described, nil
}

// Suggest finds nothing: a drive does not lie on a machine.
func (kind) Suggest(context.Context, source.Setup) ([]source.Suggestion, error) { return nil, nil }

// store is a drive, or a folder of one.
type store struct {
	source.Setup
	keeper reach.Keeper
}

func (s *store) Close() error { return nil }

// Vouches names nothing: where the drive's files stand on the machine is said by a map of the technician's.
func (s *store) Vouches(context.Context, sighting.Locator) []string { return nil }

// The refs: a word and the rest.
const (
	refNow  = "now "  // a path of the drive
	refKept = "kept " // the address of a version or of something removed, a space, and the path that it goes back to
)

func (s *store) Open(ctx context.Context, ref sighting.Ref) (source.Opened, error) {
	if path, ok := strings.CutPrefix(string(ref), refNow); ok {
		folder, err := s.Files.Tree(ctx, place.Folder(path))
		if err != nil {
			return source.Opened{}, err
		}
		defer folder.Close()
		return source.OpenEntry(ctx, folder, place.Name(path))
	}
	address, _, ok := kept(ref)
	if !ok {
		return source.Opened{}, fmt.Errorf("%w: %.16x", sighting.ErrNotRef, string(ref))
	}
	if strings.HasSuffix(address, "/") {
		tree, err := s.keeper.EnterKept(ctx, address)
		if err != nil {
			return source.Opened{}, err
		}
		return source.Opened{Info: reach.Info{Type: entry.Folder, Size: -1}, Folder: tree}, nil
	}
	file, err := s.keeper.OpenKept(ctx, address)
	if err != nil {
		return source.Opened{}, err
	}
	info, err := file.Info(ctx)
	return source.Opened{Info: info, File: file}, err
}

func kept(ref sighting.Ref) (address, path string, ok bool) {
	rest, ok := strings.CutPrefix(string(ref), refKept)
	if !ok {
		return "", "", false
	}
	return strings.Cut(rest, " ")
}

// Returns tells to which path of the drive a copy goes back, and whether it becomes a version there.
func (s *store) Returns(ref sighting.Ref) (path string, versions bool, err error) {
	if path, ok := strings.CutPrefix(string(ref), refNow); ok {
		return path, false, nil
	}
	_, path, ok := kept(ref) // which only drives have that keep versions
	if !ok {
		return "", false, sighting.ErrNotRef
	}
	return path, true, nil
}
