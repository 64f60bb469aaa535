// Package image reads images of drives, byte for byte as the drive has them: raw files, sparse or not. Two kinds look at the same bytes.
//
// "image" tells of what was erased: the directory entries that the file systems still hold, each with how much of its content is intact,
// worked out from blocks alone. What it holds may be another's by now, so that nothing of it is believed by its name, size and time
// (traits.Unproved). "unmounted" tells of the files that stand there, as they were when the image was taken: a dying drive needs those
// first.
//
//	file system     clock                                owner    where an erased content lies
//	FAT12/16/32     2 s of a wall clock without a zone   none     its first cluster is known; one piece is assumed
//	exFAT           10 ms, with a zone where one is told none     one piece where the entry says so, or a chain still in the table
//	ext2            1 s, UTC                             numbers  its inode, where that was left
//	ext3, ext4      1 ns, UTC                            numbers  older copies of its inode in the journal
//
// NTFS, btrfs, XFS and LUKS are recognised, and said not to be read by entries. All structures are taken apart by children, see
// source.Unpacker: whoever owned the drive could write every byte. A ref holds the pieces of a content, so that opening it parses nothing.
package image

import (
	"context"
	"fmt"
	"strings"

	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/exclude"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/problem"
	"humble-rewind/internal/core/traits"
	"humble-rewind/internal/reach"
	"humble-rewind/internal/source"
)

// Erased is the kind "image", Standing the kind "unmounted".
var (
	Erased   source.Kind = kind{erased: true}
	Standing source.Kind = kind{}
)

type kind struct{ erased bool }

func (k kind) Name() string {
	if k.erased {
		return "image"
	}
	return "unmounted"
}

func (k kind) Traits() traits.Traits {
	if k.erased {
		return traits.Traits{Shape: traits.Traces, Rank: 90, Unproved: true, Cost: traits.Little}
	}
	return traits.Traits{Shape: traits.Points, Rank: 55, Cost: traits.Little}
}

func (kind) Options() []source.Option { return nil }

func (k kind) Open(_ context.Context, setup source.Setup) (source.Store, error) {
	return &store{Setup: setup, erased: k.erased}, nil
}

func (k kind) Describe(ctx context.Context, setup source.Setup) (source.Described, error) {
	refuse := func(err error) (source.Described, error) {
		return source.Described{}, fmt.Errorf("look for an image of a drive at %s: %w", place.Quote(setup.At), err)
	}
	if err := exclude.Check(setup.Exclusions); err != nil {
		return refuse(err)
	}
	s := &store{Setup: setup, erased: k.erased}
	defer s.Close()
	o, release, err := s.get(ctx)
	if err != nil {
		return refuse(err)
	}
	defer release()
	first := ""
	notes := []string{}
	for _, v := range o.layout.Volumes {
		if v.Read && first == "" {
			first = v.Name
		}
		notes = append(notes, said(v))
	}
	for _, n := range o.layout.Notes {
		notes = append(notes, words(n))
	}
	if first == "" {
		return refuse(fmt.Errorf("there is no file system on it that is read (%s): %w", strings.Join(notes, " "), problem.Unsupported))
	}
	if len(setup.Maps) == 0 {
		notes = append(notes, "Nothing tells where on the machine its files came from, so they are found by name alone. Say it with a map, such as "+
			"/"+first+"=/home.")
	}
	forever := 0
	return source.Described{Notes: notes, KeepsDays: &forever}, nil
}

// usual are the folders in which images of drives are usually kept.
var usual = []string{"/srv/images", "/srv/image", "/var/images", "/mnt/images", "/images"}

// endings are what images are usually called by.
var endings = []string{".img", ".dd", ".raw", ".image"}

// Suggest looks for files that are called as images are.
func (k kind) Suggest(ctx context.Context, setup source.Setup) ([]source.Suggestion, error) {
	var found []source.Suggestion
	for _, dir := range usual {
		tree, err := setup.Files.Tree(ctx, dir)
		if err != nil {
			continue
		}
		all, err := tree.List(ctx)
		_ = tree.Close()
		if err != nil {
			continue
		}
		for _, e := range all {
			if e.Type == entry.File && looksLike(e.Name) {
				found = append(found, source.Suggestion{At: place.Join(dir, e.Name), Why: "it is called as an image of a drive is", Besides: true})
			}
		}
	}
	return found, ctx.Err()
}

func looksLike(name string) bool {
	for _, ending := range endings {
		if strings.HasSuffix(strings.ToLower(name), ending) {
			return true
		}
	}
	return false
}

// file looks at the image's own file.
func (s *store) file(ctx context.Context) (reach.Info, error) {
	info, err := reach.Look(ctx, s.Files, s.At)
	switch {
	case err != nil || info.Type == entry.File:
	case info.Type == entry.Link:
		err = problem.LinkInTheWay
	default:
		err = problem.NotFile
	}
	return info, err
}
