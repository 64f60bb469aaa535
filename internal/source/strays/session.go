package strays

import (
	"cmp"
	"context"
	"fmt"
	"path"
	"slices"
	"strings"

	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/exclude"
	"humble-rewind/internal/core/fileclass"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/sighting"
	"humble-rewind/internal/core/stray"
	"humble-rewind/internal/reach"
	"humble-rewind/internal/source"
	"humble-rewind/internal/source/treewalk"
)

// Folders in which programs keep what is written for a moment hold anything, often very much of it: of a build, a download, a cache. They
// are read for what the rules name, and for what could be what somebody was working on: a person's, of a document's size and kind, and not
// inside a tree of programs. The latest of those are told, and the rest is counted in a note.
const (
	sessionLooks   = 20_000   // entries that are looked at
	sessionOne     = 5_000    // of them in one folder
	sessionFolders = 2_000    // folders that are listed
	sessionDepth   = 6        // how deep they lie
	sessionTold    = 2_000    // nameless leftovers that are told
	sessionLarge   = 64 << 20 // bytes; a document is not larger
)

// isSession tells whether a location is such a folder.
func isSession(at string) bool {
	return slices.ContainsFunc(stray.Sessions(""), func(s string) bool { return place.Under(at, s) })
}

// builds are names of folders that hold trees of programs.
var builds = []string{"node_modules", "__pycache__", "site-packages", "dist-packages", "target", "vendor", "CMakeFiles", "lost+found"}

// program tells whether a folder holds a tree of programs by its name.
func program(name string) bool {
	return slices.Contains(builds, name) || strings.HasPrefix(name, ".git") || strings.HasPrefix(name, "go-build") ||
		strings.HasPrefix(name, "npm-") || strings.HasPrefix(name, "pip-") || strings.HasPrefix(name, "systemd-private-")
}

// session is one reading of such a folder.
type session struct {
	*store
	known   source.Known
	report  source.Reporter
	looks   int
	passed  int // entries that were not looked at, or are not told
	folders int
	found   []leftover
}

// leftover is something to be told.
type leftover struct {
	dir, origin string
	info        reach.Info
	named       bool // by a rule that is not of everything in the folder
}

func (s *session) run(ctx context.Context, top reach.Tree) error {
	level := []string{""}
	for depth := 0; len(level) > 0 && depth <= sessionDepth; depth++ {
		var next []string
		for _, dir := range level {
			inside, err := s.folder(ctx, top, dir)
			if err != nil {
				return err
			}
			next = append(next, inside...)
		}
		level = next
	}
	s.passed += len(level)
	return s.tell(ctx)
}

// folder takes up what a folder holds, and returns the folders in it.
func (s *session) folder(ctx context.Context, top reach.Tree, dir string) (inside []string, err error) {
	if err := ctx.Err(); err != nil {
		return nil, err
	}
	if s.folders++; s.folders > sessionFolders {
		s.passed++
		return nil, nil
	}
	folder := top
	if dir != "" {
		if folder, err = s.Files.Tree(ctx, place.Join(s.At, dir)); err != nil {
			return nil, nil // it went meanwhile, or is nobody's to look into
		}
		defer folder.Close()
	}
	entries, err := s.look(ctx, folder)
	if err != nil {
		if dir == "" {
			return nil, err
		}
		return nil, s.report.Unread(dir, err)
	}
	for _, i := range entries {
		at := place.Join(place.Join(s.At, dir), i.Name)
		switch {
		case exclude.By(s.Exclusions, at) != "":
		case i.Type == entry.Folder:
			if !program(i.Name) && !exclude.Trash(at) && !slices.Contains(s.Stores, at) {
				inside = append(inside, strings.TrimPrefix(place.Join("/"+dir, i.Name), "/"))
			} else {
				s.passed++
			}
		case i.Type == entry.File:
			s.take(dir, at, i)
		}
	}
	return inside, nil
}

// look describes the entries of a folder, as many as may be looked at; of more those whose names promise most.
func (s *session) look(ctx context.Context, folder reach.Tree) ([]reach.Info, error) {
	names, can, err := reach.Names(ctx, folder)
	if err != nil {
		return nil, err
	}
	if !can {
		entries, err := folder.List(ctx)
		return s.some(entries), err
	}
	if left := min(sessionOne, max(0, sessionLooks-s.looks)); len(names) > left {
		s.passed += len(names) - left
		names = mostPromising(names, left)
	}
	s.looks += len(names)
	return reach.LookAll(ctx, folder, names)
}

// mostPromising picks so many names.
func mostPromising(names []string, n int) (picked []string) {
	var by [promises][]string
	for _, name := range names {
		if p := promise(name); len(by[p]) < n {
			by[p] = append(by[p], name)
		}
	}
	for p := promises - 1; p >= 0 && len(picked) < n; p-- {
		picked = append(picked, by[p][:min(len(by[p]), n-len(picked))]...)
	}
	return picked
}

func (s *session) some(entries []reach.Info) []reach.Info {
	if left := min(sessionOne, max(0, sessionLooks-s.looks)); len(entries) > left {
		s.passed += len(entries) - left
		entries = entries[:left]
	}
	s.looks += len(entries)
	return entries
}

// promises is how many degrees of it there are.
const promises = 4

// promise is how much a name says that something may be a leftover.
func promise(name string) int {
	switch {
	case strings.HasSuffix(name, "~"), strings.HasPrefix(name, "~"), strings.HasPrefix(name, "#"), strings.HasSuffix(name, ".swp"),
		strings.HasSuffix(name, ".bak"), strings.HasPrefix(name, ".~"):
		return 3
	case document(name) && path.Ext(name) != "" && !strings.HasSuffix(name, ".tmp"):
		return 2
	case strings.HasSuffix(name, ".tmp"):
		return 1
	}
	return 0
}

// document tells whether a name may be that of a document: it is of no other kind.
func document(name string) bool {
	switch fileclass.Of(name) {
	case fileclass.Programs, fileclass.Archives, fileclass.Sound, fileclass.Video:
		return false
	}
	switch strings.ToLower(path.Ext(name)) {
	case ".o", ".a", ".pyc", ".class", ".jar", ".log", ".lock", ".pid", ".sock", ".socket", ".map", ".d", ".iso", ".img", ".db-wal", ".db-shm":
		return false
	}
	return true
}

// take takes up a file, if it may be a leftover.
func (s *session) take(dir, at string, i reach.Info) {
	l := leftover{dir: dir, info: i}
	m, ok := s.rules.Match(at, "")
	if !ok {
		return
	}
	if l.named = m.Rule.Document != "*"; l.named {
		if origin, exact := m.Exact(); exact {
			l.origin = place.Mapped(s.Maps, origin)
		}
		s.found = append(s.found, l)
		return
	}
	if i.Size <= 0 || i.Size > sessionLarge || !document(i.Name) || !s.persons(i) {
		s.passed++
		return
	}
	s.found = append(s.found, l)
}

// persons tells whether a file may be what a person was working on. Root's may: people work as root too.
func (s *session) persons(i reach.Info) bool {
	return !i.UID.Known || i.UID.Is(0) || i.UID.Is(reach.Self(s.Files.Traits())) || len(s.People) == 0 ||
		slices.ContainsFunc(s.People, func(p source.Person) bool { return i.UID.Is(p.UID) })
}

// choose keeps what the rules name and, of the nameless, what promises most and was written last: of one folder not all.
func (s *session) choose() {
	rank := func(l leftover) int {
		if l.named {
			return 9
		}
		return promise(l.info.Name)
	}
	slices.SortStableFunc(s.found, func(a, b leftover) int {
		return cmp.Or(rank(b)-rank(a), b.info.Written.Compare(a.info.Written))
	})
	told, of := 0, map[string]int{}
	s.found = slices.DeleteFunc(s.found, func(l leftover) bool {
		if l.named {
			return false
		}
		if told == sessionTold || of[l.dir] == sessionTold/4 {
			s.passed++
			return true
		}
		told++
		of[l.dir]++
		return false
	})
}

// tell reports what was found, in the order that surveys have.
func (s *session) tell(ctx context.Context) error {
	s.choose()
	slices.SortFunc(s.found, func(a, b leftover) int {
		return cmp.Or(strings.Compare(a.dir, b.dir), strings.Compare(a.info.Name, b.info.Name))
	})
	dir := "/"
	var marks func(string) entry.Mark
	for _, l := range s.found {
		if l.dir != dir {
			dir = l.dir
			var err error
			if marks, err = s.known.Marks(ctx, dir); err != nil {
				return err
			}
		}
		seen := sighting.Sighting{At: sighting.Locator{Dir: l.dir, Name: l.info.Name}, Mark: treewalk.Mark(l.info), Type: entry.File,
			Size: l.info.Size, UID: l.info.UID, Written: l.info.Written, Number: l.info.Identity().Number, Readable: true, Origin: l.origin}
		if known := marks(l.info.Name); !known.IsZero() && known.Same(seen.Mark, entry.All) {
			seen.Same, seen.Mark = true, known
		}
		if err := s.report.Sight(seen); err != nil {
			return err
		}
	}
	if s.passed > 0 {
		s.report.Note(fmt.Sprintf("%d entries of it are left out: folders of programs, what no person's document can be, and of much only the latest.",
			s.passed))
	}
	return nil
}
