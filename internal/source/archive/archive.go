// Package archive reads zip files (PKWARE's APPNOTE, as package archive/zip of the standard library does) and tar files (POSIX.1-1988
// and 2001, GNU; package archive/tar), also packed by gzip (RFC 1952), bzip2, xz or zstd (RFC 8878): one, or all in a folder, each of which
// holds files as they were at one point in time.
//
// What each can know differs:
//
//	format  clock                                    checksum   read
//	zip     2 s of a wall clock without a zone, or   CRC-32     members apart, each from its beginning
//	        1 s or finer where a member says UTC
//	tar     1 s or finer, UTC                        none       members apart where the way can, else all before it too;
//	                                                            a packed one is unpacked once into a file without a name
//
// Neither's word is taken for whose a member is or who may read it: the numbers are of the machine that it was packed on, and whoever
// packed it could write any. Members are read by their own names alone: what would lead out of the archive, or is called as another
// member is, is left out and said; archives in archives are looked into one level deep. Encrypted members (classic and AES) are read with
// the store's secret.
//
// When an archive is of is told by its name, else by the latest write time in it, else by its own. Members whose place on the machine
// nothing tells, since no map does and they lie in nobody's home, come without an origin.
package archive

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/exclude"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/problem"
	"humble-rewind/internal/core/traits"
	"humble-rewind/internal/reach"
	"humble-rewind/internal/source"
)

// Kind is the kind "archive".
var Kind source.Kind = kind{}

type kind struct{}

func (kind) Name() string { return "archive" }

func (kind) Traits() traits.Traits {
	return traits.Traits{Shape: traits.Points, Rank: 50, Zoneless: true, Ownerless: true, Cost: traits.Whole, Lockable: true, Tree: true}
}

// optionNames is the code page of names that are neither marked as UTF-8 nor are UTF-8.
const optionNames = "names"

func (kind) Options() []source.Option {
	return []source.Option{{Name: optionNames, Check: checkCodePage,
		Says: "The code page of names in zip files that are not UTF-8, as the machine that packed them had it: " + strings.Join(
			codePageNames(),
			", ",
		) + ". Left out, it is cp437."}}
}

func (kind) Open(_ context.Context, setup source.Setup) (source.Store, error) {
	return newStore(setup), nil
}

func (k kind) Describe(ctx context.Context, setup source.Setup) (source.Described, error) {
	refuse := func(err error) (source.Described, error) {
		return source.Described{}, fmt.Errorf("look for archives at %s: %w", place.Quote(setup.At), err)
	}
	if err := exclude.Check(setup.Exclusions); err != nil {
		return refuse(err)
	}
	s := newStore(setup)
	defer s.Close()
	files, err := s.list(ctx)
	if err != nil {
		return refuse(err)
	}
	if len(files) == 0 {
		return refuse(fmt.Errorf("there is no file in it whose name ends in %s", ending))
	}
	o, release, err := s.get(ctx, files[len(files)-1].name)
	if err != nil {
		return refuse(fmt.Errorf("%s: %w", place.Readable(files[len(files)-1].name), err))
	}
	defer release()
	notes := []string{fmt.Sprintf("%s.", count(len(files), "archive", "archives")),
		"Whose its files are and who may read them is not told by archives; what is brought back belongs to whom the folder it goes " +
			"into does."}
	if !slices.ContainsFunc(o.members, func(m member) bool { _, known := s.origin(m.path); return known }) {
		notes = append(
			notes,
			"Nothing tells where on the machine its files came from, so they are found by name alone. Say it with a map, such as "+
				"/=/home/ines.",
		)
	}
	return source.Described{Notes: append(notes, o.notes...)}, nil
}

func count(n int, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %s", n, many)
}

// usual are the folders in which archives are usually kept; of each home, those below it.
var (
	usual = []string{
		"/srv/backup",
		"/srv/backups",
		"/srv/archive",
		"/srv/archives",
		"/mnt/backup",
		"/mnt/backups",
		"/var/backups",
		"/backup",
		"/backups",
	}
	inHomes = []string{"Backup", "Backups", "Archive", "Archives"}
)

// Suggest looks for folders with archives in them.
func (kind) Suggest(ctx context.Context, setup source.Setup) ([]source.Suggestion, error) {
	places := slices.Clone(usual)
	for _, home := range setup.Homes {
		for _, name := range inHomes {
			places = append(places, place.Join(home, name))
		}
	}
	var found []source.Suggestion
	for _, at := range places {
		setup.At = at
		if files, err := (&store{Setup: setup}).list(ctx); err == nil && len(files) > 0 {
			found = append(found, source.Suggestion{At: at, Why: count(len(files), "archive", "archives")})
		}
	}
	return found, ctx.Err()
}

// file is an archive file.
type file struct {
	name    string // in the store's folder
	size    int64
	written time.Time
}

// list lists the archives: the file that the location is, or those directly in the folder that it is.
func (s *store) list(ctx context.Context) ([]file, error) {
	itself, err := reach.Look(ctx, s.Files, s.At)
	if err != nil {
		return nil, err
	}
	if itself.Type == entry.File {
		if f, _ := formatOf(itself.Name); f == nil {
			return nil, fmt.Errorf("its name does not end in %s, which are read: %w", ending, problem.Unsupported)
		}
		return []file{{itself.Name, itself.Size, itself.Written}}, nil
	}
	inside, err := s.Files.Tree(ctx, s.At)
	if err != nil {
		return nil, err
	}
	defer inside.Close()
	entries, err := inside.List(ctx)
	var files []file
	for _, e := range entries {
		if f, _ := formatOf(e.Name); f != nil && e.Type == entry.File && exclude.By(s.Exclusions, place.Join(s.At, e.Name)) == "" {
			files = append(files, file{e.Name, e.Size, e.Written})
		}
	}
	slices.SortFunc(files, func(a, b file) int { return strings.Compare(a.name, b.name) })
	return files, err
}
