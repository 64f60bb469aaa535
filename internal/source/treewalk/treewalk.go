// Package treewalk reports a folder tree as sightings, for the sources whose copies lie in the file system as they were
// on the machine.
package treewalk

import (
	"context"
	"errors"
	"fmt"
	"hash"
	"slices"
	"time"

	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/problem"
	"humble-rewind/internal/core/sighting"
	"humble-rewind/internal/core/traits"
	"humble-rewind/internal/reach"
	"humble-rewind/internal/source"
)

// maxDepth is how deep a tree is read; paths end before that on any common system.
const maxDepth = 500

// Walk is one reading of a tree. Folders are listed by several workers ahead of what is reported, which comes in the order of paths.
type Walk struct {
	Known   source.Known
	Report  source.Reporter
	Capture string // of the locators
	// Origin is the place of an entry, by its path relative to the tree; false leaves it out. Origin and Skip are asked by several at once.
	Origin func(path string, i reach.Info) (string, bool)
	Keeps  entry.Keeps                          // what an unchanged entry keeps of its mark
	Skip   func(path string, i reach.Info) bool // what is left out
	Now    time.Time                            // of the capture: write times far beyond it are noted
	Way    traits.Way                           // to the machine that the tree is on

	Files, Folders int64
	ahead          int64
	furthest       time.Time
}

// Run reports everything below folder, a folder at a time, from the top.
func (w *Walk) Run(ctx context.Context, folder reach.Tree) error {
	if err := w.run(ctx, folder); err != nil {
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

func (w *Walk) run(ctx context.Context, folder reach.Tree) error {
	l := newLister(w, folder)
	defer l.stop()
	for n := l.head; n != nil; n = l.behind(n) {
		if err := ctx.Err(); err != nil {
			return err
		}
		l.ready(ctx, n)
		if err := w.take(ctx, l, n); err != nil {
			return err
		}
	}
	return nil
}

// take reports what is in a folder.
func (w *Walk) take(ctx context.Context, l *lister, n *node) error {
	switch {
	case errors.Is(n.err, problem.Private):
		return nil
	case n.err != nil && n.dir == "":
		return n.err
	case n.err != nil:
		return w.Report.Unread(n.dir, n.err)
	case n.names != nil:
		if err := w.takeMany(ctx, n); err != nil {
			return err
		}
	default:
		if err := w.sightAll(ctx, n.tree, n.dir, n.all, n.print); err != nil {
			return err
		}
	}
	w.Files += n.files
	w.Folders += n.folders
	if n.depth == maxDepth && len(n.inside) > 0 {
		return w.Report.Unread(n.dir, errors.New("what is in it lies too deep to be read"))
	}
	if n.names != nil {
		l.add(n)
	}
	return nil
}

// takeMany reports what is in a folder of very many entries, some at a time.
func (w *Walk) takeMany(ctx context.Context, n *node) error {
	marks, err := w.Known.Marks(ctx, n.dir)
	if err != nil {
		return err
	}
	for names := range slices.Chunk(n.names, many) {
		some, err := reach.LookAll(ctx, n.tree, names)
		if err != nil {
			return w.Report.Unread(n.dir, err)
		}
		n.all = n.all[:0]
		w.sort(n, some, nil)
		for _, e := range n.all {
			if err := w.sight(ctx, n.tree, n.dir, e, marks); err != nil {
				return err
			}
		}
	}
	return nil
}

// sort takes up the entries of a folder that are reported and entered; print takes what tells whether they are as they were.
func (w *Walk) sort(n *node, entries []reach.Info, print hash.Hash) {
	var piece []byte
	for _, e := range entries {
		path := join(n.dir, e.Name)
		if w.Skip(path, e) {
			continue
		}
		if e.Type == entry.Folder {
			n.inside = append(n.inside, e.Name)
			n.folders++
		} else {
			n.files++
		}
		origin, ok := w.Origin(path, e)
		if !ok {
			continue
		}
		mark := Mark(e)
		n.all = append(n.all, found{e, origin, mark})
		if print != nil {
			piece = mark.AppendKept(append(append(piece[:0], e.Name...), 0), w.Keeps)
			print.Write(piece)
		}
	}
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
