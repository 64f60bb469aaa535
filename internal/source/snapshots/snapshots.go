// Package snapshots reads folders of dated folders, each of which holds files as they were at one point in time: full
// copies, trees whose unchanged files are hard links, and read-only snapshots of file systems.
//
// What a point in time is called says when it was; the strftime pattern is given or worked out, see package datedname.
// What the three kinds of tree can tell differs, and is found out by comparing two neighbours:
//
//	tree                    unchanged file                           what a hidden change shows in
//	full copies             another number, same size, times, owner  nothing but the bytes
//	hard links              the same number                          another number
//	file-system snapshots   the same number, same change time        the change time
//
// where the number is that by which a file system knows a file.
package snapshots

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"strings"
	"time"

	"humble-rewind/internal/core/datedname"
	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/exclude"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/sighting"
	"humble-rewind/internal/core/traits"
	"humble-rewind/internal/core/zonetime"
	"humble-rewind/internal/reach"
	"humble-rewind/internal/source"
	"humble-rewind/internal/source/treewalk"
)

// Kind is the kind "snapshots".
var Kind source.Kind = kind{}

type kind struct{}

func (kind) Name() string { return "snapshots" }

func (kind) Traits() traits.Traits {
	return traits.Traits{Shape: traits.Points, Rank: 20, Expires: true, Cost: traits.Little, Usual: true, Tree: true}
}

func (kind) Options() []source.Option { return nil }

func (kind) Open(_ context.Context, setup source.Setup) (source.Store, error) {
	return &store{setup}, nil
}

func (kind) Describe(ctx context.Context, setup source.Setup) (source.Described, error) {
	if err := exclude.Check(setup.Exclusions); err != nil {
		return source.Described{}, err
	}
	points, notes, err := (&store{setup}).points(ctx, nil)
	if err != nil {
		return source.Described{}, fmt.Errorf("look for snapshots at %s: %w", place.Quote(setup.At), err)
	}
	if len(points) > 0 {
		notes = append(
			[]string{
				fmt.Sprintf(
					"%d points in time, from %s to %s.",
					len(points),
					points[0].At.Format(time.RFC3339),
					points[len(points)-1].At.Format(time.RFC3339),
				),
			},
			notes...)
	}
	return source.Described{Notes: notes}, nil
}

// usual are the folders in which snapshots are usually kept, the deeper ones first: none is looked into twice.
var usual = []string{
	"/srv/backup",
	"/srv/backups",
	"/srv/snapshots",
	"/mnt/backup",
	"/mnt/backups",
	"/var/backups",
	"/backup",
	"/backups",
	"/srv",
	"/mnt",
	"/media",
	"/home",
	"/",
}

// Suggest looks for folders with at least two dated folders in them.
func (kind) Suggest(ctx context.Context, setup source.Setup) ([]source.Suggestion, error) {
	var found []source.Suggestion
	seen := map[string]bool{}
	var look func(path string, depth int) error
	look = func(path string, depth int) error {
		if seen[path] || ctx.Err() != nil {
			return ctx.Err()
		}
		seen[path] = true
		folder, err := setup.Files.Tree(ctx, path)
		if err != nil {
			return nil // not there, or a link: nothing to suggest
		}
		entries, err := folder.List(ctx)
		folder.Close()
		if err != nil {
			return nil
		}
		var names []string
		for _, e := range entries {
			if e.Type == entry.Folder {
				names = append(names, e.Name)
			}
		}
		if dated, err := datedname.Infer(names); err == nil && len(dated) >= 2 && 2*len(dated) >= len(names) {
			found = append(found, source.Suggestion{At: path, Why: fmt.Sprintf("%d dated folders, as %s", len(dated), dated[0].Pattern)})
			return nil
		}
		if depth > 0 {
			for _, name := range names {
				if err := look(place.Join(path, name), depth-1); err != nil {
					return err
				}
			}
		}
		return nil
	}
	for _, path := range usual {
		depth := 0
		if path != "/" && path != "/home" {
			depth = 1
		}
		if err := look(path, depth); err != nil {
			return nil, err
		}
		if err := look(place.Join(path, ".snapshots"), 0); err != nil {
			return nil, err
		}
	}
	slices.SortFunc(found, func(a, b source.Suggestion) int { return cmp.Compare(a.At, b.At) })
	return found, nil
}

type store struct{ source.Setup }

func (s *store) Close() error { return nil }

// Vouches names the folder of the point in time. What lies in it shows who could write its like at the time: whoever may write a folder
// there could write the one that it is a copy of.
func (s *store) Vouches(_ context.Context, at sighting.Locator) []string {
	return []string{place.Join(s.At, at.Capture)}
}

// point is one point in time.
type point struct {
	sighting.Capture
}

// unfinished are words that mark a point in time as still being written.
var unfinished = []string{"part", "tmp", "temp", "incomplete", "progress", "unfinished", "writing"}

// points lists the points in time, oldest first, and what is wrong with other entries. known are those read before.
func (s *store) points(ctx context.Context, known map[string]time.Time) ([]point, []string, error) {
	folder, err := s.Files.Tree(ctx, s.At)
	if err != nil {
		return nil, nil, err
	}
	defer folder.Close()
	entries, err := folder.List(ctx)
	if err != nil {
		return nil, nil, err
	}
	infos := map[string]reach.Info{}
	var names []string
	for _, e := range entries {
		if e.Type == entry.Folder {
			infos[e.Name] = e
			names = append(names, e.Name)
		}
	}
	slices.Sort(names)
	notes := []string{}
	dated, err := s.dates(names)
	if err != nil {
		return nil, nil, err
	}
	var points []point
	read := map[string]bool{}
	for _, d := range dated {
		read[d.Name] = true
		around := strings.ToLower(d.Before + " " + d.Behind)
		if slices.ContainsFunc(unfinished, func(word string) bool { return strings.Contains(around, word) }) {
			notes = append(
				notes,
				fmt.Sprintf("%s is still being written, as its name says; it is left alone until it is complete.", place.Readable(d.Name)),
			)
			continue
		}
		at, note := s.moment(ctx, folder, d.Wall, infos[d.Name], known[d.Name])
		if note != "" {
			notes = append(notes, place.Readable(d.Name)+": "+note)
		}
		points = append(points, point{Capture: sighting.Capture{Name: d.Name, At: at}})
	}
	var passed []string
	for _, name := range names {
		if !read[name] {
			passed = append(passed, place.Readable(name))
		}
	}
	if len(passed) > 0 {
		notes = append(
			notes,
			fmt.Sprintf("Passed over, as their names carry no time: %s.", strings.Join(passed[:min(len(passed), 10)], ", ")),
		)
	}
	slices.SortStableFunc(points, func(a, b point) int { return cmp.Or(a.At.Compare(b.At), cmp.Compare(a.Name, b.Name)) })
	kept := points[:0]
	for _, p := range points {
		if n := len(kept); n > 0 && kept[n-1].At.Equal(p.At) {
			notes = append(
				notes,
				fmt.Sprintf("%s and %s are of the same time; only the first is read. Rename one, or give a pattern that tells them apart.",
					place.Readable(kept[n-1].Name), place.Readable(p.Name)),
			)
			continue
		}
		kept = append(kept, p)
	}
	return kept, notes, nil
}

func (s *store) dates(names []string) ([]datedname.Dated, error) {
	if s.Named == "" {
		if len(names) == 0 {
			return nil, fmt.Errorf("there is no folder in it; its drive may not be mounted: %w", datedname.ErrUndated)
		}
		return datedname.Infer(names)
	}
	pattern, err := datedname.Compile(s.Named)
	if err != nil {
		return nil, err
	}
	var dated []datedname.Dated
	for _, name := range names {
		if wall, ok := pattern.Read(name); ok {
			dated = append(dated, datedname.Dated{Name: name, Wall: wall, Pattern: s.Named})
		}
	}
	if len(dated) == 0 {
		return nil, fmt.Errorf("no folder in it is named like %q: %w", s.Named, datedname.ErrUndated)
	}
	return dated, nil
}

// moment turns what a name says into a moment; known is what it was taken for before. Where only the day is told, the
// point in time is at least as late as what was written into it on that day.
func (s *store) moment(ctx context.Context, parent reach.Tree, wall datedname.Wall, info reach.Info, known time.Time) (time.Time, string) {
	if wall.Zoned {
		return wall.Time, ""
	}
	at, doubt := zonetime.Resolve(wall.Time, s.Zone, time.Time{})
	switch {
	case doubt == zonetime.Guessed:
		later, _ := zonetime.Resolve(wall.Time, s.Zone, at.Add(24*time.Hour))
		if newest(ctx, parent, info.Name).After(at) {
			return later, "clocks showed its hour twice that night; the write times of its files say that it was the second time."
		}
		return at, "clocks showed its hour twice that night; none of its files was written after the first time, so that is taken."
	case doubt == zonetime.Skipped:
		return at, "clocks skipped its hour that night; the machine's clock or the zone may have been wrong."
	case !wall.Day:
		return at, ""
	}
	onDay := func(t time.Time) bool { return !t.Before(at) && t.Before(at.AddDate(0, 0, 1)) }
	if onDay(known) {
		return known, ""
	}
	if latest := newest(ctx, parent, info.Name); onDay(latest) {
		return latest.Truncate(time.Second).Add(time.Second), ""
	}
	return at, ""
}

// newest returns the latest write time of a file in a folder.
func newest(ctx context.Context, parent reach.Tree, name string) (latest time.Time) {
	folder, err := parent.Enter(ctx, name)
	if err != nil {
		return latest
	}
	defer folder.Close()
	entries, _ := folder.List(ctx)
	for _, e := range entries {
		at := e.Written
		if e.Type == entry.Folder {
			at = newest(ctx, folder, e.Name)
		}
		if at.After(latest) {
			latest = at
		}
	}
	return latest
}

func (s *store) Survey(ctx context.Context, known source.Known, report source.Reporter) error {
	before, err := known.Captures(ctx)
	if err != nil {
		return err
	}
	points, notes, err := s.points(ctx, before)
	if err != nil {
		return fmt.Errorf("read the snapshots at %s: %w", place.Quote(s.At), err)
	}
	for _, note := range notes {
		report.Note(note)
	}
	read := func(p point) bool { at, ok := before[p.Name]; return ok && at.Equal(p.At) }
	keeps := entry.SameFile
	if len(points) > 1 && slices.ContainsFunc(points, func(p point) bool { return !read(p) }) {
		if keeps, err = s.kept(ctx, points); err != nil {
			return err
		}
	}
	for _, p := range points { // first, so that the neighbours of what is read next are known
		if read(p) {
			p.Same = true
			if err := report.Begin(p.Capture); err != nil {
				return err
			}
		}
	}
	for n, p := range points {
		if read(p) {
			continue
		}
		report.Progress(int64(n), int64(len(points)), p.Name)
		if err := report.Begin(p.Capture); err != nil {
			return err
		}
		why, err := s.survey(ctx, p, keeps, known, report)
		if err == nil && why != "" {
			err = report.Discard(why)
		}
		if err != nil {
			return err
		}
		if n < len(points)-1 && report.Due() {
			return report.Again(nil) // the points that were read are known then
		}
	}
	return nil
}

// survey reads one point in time. why says what was wrong with it as a whole.
func (s *store) survey(ctx context.Context, p point, keeps entry.Keeps, known source.Known,
	report source.Reporter) (why string, err error) {
	gone := fmt.Sprintf("%s vanished while it was read; what was known before stays.", place.Readable(p.Name))
	folder, err := s.Files.Tree(ctx, place.Join(s.At, p.Name))
	if errors.Is(err, fs.ErrNotExist) {
		return gone, nil
	}
	if err != nil {
		return fmt.Sprintf("%s cannot be read: %v.", place.Readable(p.Name), err), ctx.Err()
	}
	defer folder.Close()
	first, err := folder.Info(ctx)
	if err != nil {
		return "", err
	}
	w := treewalk.Walk{Known: known, Report: report, Capture: p.Name, Keeps: keeps, Now: p.At, Way: s.Files.Traits(), Origin: s.origin,
		Skip: func(path string, i reach.Info) bool {
			return s.foreign("/"+path) || exclude.By(s.Exclusions, place.Mapped(s.Maps, "/"+path)) != ""
		}}
	if err := w.Run(ctx, folder); err != nil {
		if errors.Is(err, fs.ErrNotExist) {
			return gone, nil
		}
		return "", fmt.Errorf("read snapshot %s: %w", place.Readable(p.Name), err)
	}
	last, err := reach.Look(ctx, s.Files, place.Join(s.At, p.Name))
	switch {
	case err != nil || last.Removed() || last.Seen().SameFile(first.Seen()) == reach.No:
		return gone, ctx.Err()
	case last.Seen().Unchanged(first.Seen()) == reach.No:
		return fmt.Sprintf(
			"%s changed while it was read, as if it were still being written or being removed; it is left until the next survey.",
			place.Readable(p.Name),
		), nil
	}
	return "", nil
}

// foreign tells whether a path is of another machine: where a map says which folder of the store is the whole of this
// one, that is everything neither in that nor above it.
func (s *store) foreign(in string) bool {
	for _, m := range s.Maps {
		if m.To == "/" && !place.Under(in, m.From) && !place.Under(m.From, in) {
			return true
		}
	}
	return false
}

// origin applies the maps; false for what is only on the way to them.
func (s *store) origin(path string, _ reach.Info) (string, bool) {
	in := "/" + path
	for _, m := range s.Maps {
		if m.From != in && place.Under(m.From, in) {
			return "", false
		}
	}
	at := place.Mapped(s.Maps, in)
	return at, at != "/"
}

// samples is how many files of two neighbours are compared to tell what kind of tree they are.
const samples = 64

// kept finds out which part of its mark an unchanged file keeps by comparing the two newest points in time.
func (s *store) kept(ctx context.Context, points []point) (entry.Keeps, error) {
	var pair [2]reach.Tree
	for i := range pair {
		folder, err := s.Files.Tree(ctx, place.Join(s.At, points[len(points)-2+i].Name))
		if err != nil {
			return entry.Likeness, ctx.Err() // it says so itself when it is read
		}
		defer folder.Close()
		pair[i] = folder
	}
	c := comparison{left: samples}
	c.compare(ctx, pair[0], pair[1], 0)
	switch {
	case c.same == 0 || c.same < c.other:
		return entry.Likeness, ctx.Err()
	case c.apart >= c.same/2 && c.apart > 0:
		return entry.All, ctx.Err()
	}
	return entry.SameFile, ctx.Err()
}

type comparison struct {
	left               int
	same, other, apart int // unchanged files that are one by their number, that are two; of the former those on two file systems
}

func (c *comparison) compare(ctx context.Context, a, b reach.Tree, depth int) {
	list, err := a.List(ctx)
	if err != nil || depth > 20 {
		return
	}
	for _, i := range list {
		if c.left <= 0 || ctx.Err() != nil {
			return
		}
		j, err := b.Look(ctx, i.Name)
		if err != nil || j.Type != i.Type {
			continue
		}
		switch {
		case i.Type == entry.Folder:
			inA, errA := a.Enter(ctx, i.Name)
			inB, errB := b.Enter(ctx, i.Name)
			if errA == nil && errB == nil {
				c.compare(ctx, inA, inB, depth+1)
			}
			if errA == nil {
				inA.Close()
			}
			if errB == nil {
				inB.Close()
			}
		case i.Type == entry.File && i.Size == j.Size && i.Written.Equal(j.Written):
			c.left--
			if i.Seen().SameFileLater(j.Seen()) != reach.Yes { // where that cannot be told, all that counts is what it is like
				c.other++
				continue
			}
			c.same++
			if reach.SameVolume(i.Volume(), j.Volume()) == reach.No {
				c.apart++
			}
		}
	}
}

func (s *store) Open(ctx context.Context, ref sighting.Ref) (source.Opened, error) {
	c, err := source.OpenBelow(ctx, s.Files, s.At, ref)
	if err != nil {
		return source.Opened{}, fmt.Errorf("open in a snapshot: %w", err)
	}
	return c, nil
}
