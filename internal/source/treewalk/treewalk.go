// Package treewalk reports a folder tree as sightings, for the sources whose copies lie in the file system as they were
// on the machine.
package treewalk

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/problem"
	"humble-rewind/internal/core/sighting"
	"humble-rewind/internal/reach"
	"humble-rewind/internal/source"
)

// maxDepth is how deep a tree is read; paths end before that on any common system.
const maxDepth = 500

// Walk is one reading of a tree.
type Walk struct {
	Known   source.Known
	Report  source.Reporter
	Capture string                               // of the locators
	Origin  func(path string) (string, bool)     // the place of a path relative to the tree; false leaves it out
	Keeps   entry.Keeps                          // what an unchanged entry keeps of its mark
	Skip    func(path string, i reach.Info) bool // what is left out
	Now     time.Time                            // of the capture: write times far beyond it are noted

	Files, Folders int64
	ahead          int64
	furthest       time.Time
}

// Run reports everything below folder, a folder at a time, from the top.
func (w *Walk) Run(ctx context.Context, folder reach.Tree) error {
	if err := w.dir(ctx, folder, "", 0); err != nil {
		return err
	}
	if w.ahead > 0 {
		w.Report.Note(
			fmt.Sprintf("%d files carry write times later than this reading, up to %s; a clock was wrong, and such times are not believed.",
				w.ahead, w.furthest.Format(time.RFC3339)),
		)
	}
	return nil
}

// slack is how far a write time may be ahead before it is noted.
const slack = 2 * time.Minute

func (w *Walk) dir(ctx context.Context, folder reach.Tree, dir string, depth int) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	entries, err := folder.List(ctx)
	if err != nil {
		if dir == "" {
			return err
		}
		return w.Report.Unread(dir, err)
	}
	slices.SortFunc(entries, func(a, b reach.Info) int { return strings.Compare(a.Name, b.Name) })
	var inside []string
	var all []found
	print := sha256.New()
	print.Write([]byte{byte(w.Keeps)})
	var piece []byte
	for _, e := range entries {
		path := join(dir, e.Name)
		if w.Skip(path, e) {
			continue
		}
		origin, ok := w.Origin(path)
		if e.Type == entry.Folder {
			inside = append(inside, e.Name)
			w.Folders++
		} else {
			w.Files++
		}
		if ok {
			mark := Mark(e)
			all = append(all, found{e, origin, mark})
			piece = mark.AppendKept(append(append(piece[:0], e.Name...), 0), w.Keeps)
			print.Write(piece)
		}
	}
	if err := w.sightAll(ctx, folder, dir, all, print.Sum(nil)); err != nil {
		return err
	}
	if depth == maxDepth && len(inside) > 0 {
		return w.Report.Unread(dir, errors.New("what is in it lies too deep to be read"))
	}
	for _, name := range inside {
		if err := w.enter(ctx, folder, join(dir, name), name, depth); err != nil {
			return err
		}
	}
	return nil
}

// found is something in a folder that is reported.
type found struct {
	reach.Info
	origin string
	mark   entry.Mark
}

func (w *Walk) sightAll(ctx context.Context, folder reach.Tree, dir string, all []found, print []byte) error {
	same, err := w.Known.Unchanged(ctx, dir, print, len(all))
	if err != nil || same {
		return err
	}
	marks, err := w.Known.Marks(ctx, dir)
	if err != nil {
		return err
	}
	for _, e := range all {
		if err := w.sight(ctx, folder, dir, e, marks); err != nil {
			return err
		}
	}
	return nil
}

func (w *Walk) enter(ctx context.Context, folder reach.Tree, path, name string, depth int) error {
	sub, err := folder.Enter(ctx, name)
	if errors.Is(err, problem.Private) {
		return nil
	}
	if err != nil {
		return w.Report.Unread(path, err)
	}
	defer sub.Close()
	return w.dir(ctx, sub, path, depth+1)
}

func (w *Walk) sight(ctx context.Context, folder reach.Tree, dir string, e found, marks func(string) entry.Mark) error {
	s := sighting.Sighting{
		At:       sighting.Locator{Capture: w.Capture, Dir: dir, Name: e.Name},
		Mark:     e.mark,
		Type:     e.Type,
		Size:     -1,
		UID:      e.UID,
		Readable: true,
		Origin:   e.origin,
	}
	if known := marks(e.Name); !known.IsZero() && known.Same(s.Mark, w.Keeps) {
		s.Same, s.Mark = true, known
		return w.Report.Sight(s)
	}
	switch e.Type {
	case entry.File:
		s.Size, s.Written, s.Number = e.Size, e.Written, e.Identity().Number
		if !w.Now.IsZero() && e.Written.After(w.Now.Add(slack)) {
			w.ahead++
			if e.Written.After(w.furthest) {
				w.furthest = e.Written
			}
		}
	case entry.Link:
		s.Size, s.Written = e.Size, e.Written
		target, err := folder.Target(ctx, e.Name)
		if err != nil {
			s.Notes = []string{fmt.Sprintf("Where it points could not be read: %v.", err)}
		}
		s.Target = target
	case entry.Other:
		s.Size = 0
		s.Notes = []string{"It is a device, pipe or socket and has no content."}
	}
	return w.Report.Sight(s)
}

// Mark tells a changed entry from an unchanged one.
func Mark(i reach.Info) entry.Mark {
	m := entry.Mark{Type: i.Type, Mode: i.Mode, UID: i.UID, GID: i.GID}
	if i.Type != entry.Folder {
		m.Size, m.Written, m.File = i.Size, entry.At(i.Written), i.Identity()
	}
	return m
}

func join(dir, name string) string {
	if dir == "" {
		return name
	}
	return dir + "/" + name
}
