package history

import (
	"bufio"
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/sighting"
	"humble-rewind/internal/source"
)

// whole tells everything anew.
func (r *survey) whole(ctx context.Context, now *memo, report source.Reporter) error {
	clear(r.commits)
	take := func(c *commit) { r.commits[c.id] = c }
	tips := r.heads.tips()
	r.mirror.held, r.mirror.odd = 0, 0
	cut, err := r.mirror.log(ctx, tips, nil, take)
	enough := errors.Is(err, errEnough)
	if enough {
		err = nil
	}
	unnamed, listErr := r.list(ctx, enough)
	if listErr != nil {
		return listErr
	}
	if err == nil && len(unnamed) > 0 && cut == "" && !enough {
		if cut, err = r.mirror.log(ctx, slices.Sorted(maps.Keys(unnamed)), tips, func(c *commit) {
			take(c)
			delete(unnamed, c.id)
		}); errors.Is(err, errEnough) {
			report.Note("There is more in it that no name reaches than is held at once; a part of that is left out.")
			err = nil
		}
	}
	if err != nil || cut != "" {
		if cut, err = r.mend(ctx, slices.Sorted(maps.Keys(unnamed)), take); err != nil && !errors.Is(err, errEnough) {
			return err
		}
		report.Note("The repository is damaged: commits or folders that others build on are missing or cannot be read. What can be read is.")
		if cut != "" {
			report.Note("Git says: " + cut + ".")
		}
	}
	if err := r.leaveOut(ctx, report); err != nil {
		return err
	}
	line, broken := lineOf(r.commits, r.heads.at)
	if len(line) == 0 {
		return fmt.Errorf("the commit that is checked out, %.10s, cannot be read: %w", r.heads.at, errMissing)
	}
	if enough {
		report.Note(fmt.Sprintf("Its history is longer than is held at once, or takes too long to read: what came before %.10s, of %s, is not told, nor what no name reaches.",
			line[0].id, line[0].committed.Format("2006-01-02")))
	} else if broken != "" && !slices.Contains(r.heads.shallow, line[0].id) {
		report.Note(fmt.Sprintf("The line of commits breaks off before %.10s: the one before is not in the repository.", line[0].id))
	}
	times, wrong := timesOf(line, r.now)
	if wrong > 0 {
		report.Note(fmt.Sprintf("%d commits have times that cannot be, as of a clock that was wrong; they are taken to follow right upon the "+
			"commits before them.", wrong))
	}
	r.label()
	staged, err := r.staged(ctx, func(version) bool { return true })
	if err != nil {
		return err
	}
	t := tell(r.commits, line, recorders(r.commits))
	if err := r.readLinks(ctx, t); err != nil {
		return err
	}
	points := make([]sighting.Capture, len(line))
	for i, c := range line {
		points[i] = sighting.Capture{Name: c.id, At: times[i]}
	}
	if err := report.Line(points); err != nil {
		return err
	}
	named := make(map[string]bool, len(r.sizes))
	for _, c := range r.commits {
		for _, ch := range c.changes {
			named[ch.blob], named[ch.was] = true, true
		}
	}
	clear(r.commits) // versions hold those that they need
	var all []pending
	for i := range t.beside {
		all = append(all, pending{version: &t.beside[i], as: aside})
	}
	for i := range t.line {
		if v := &t.line[i]; v.blob != "" || r.origin(v.path) != "" {
			all = append(all, pending{version: v, as: onTheLine})
		}
	}
	for i := range staged {
		named[staged[i].blob] = true
		all = append(all, pending{version: &staged[i], as: inIndex})
		now.Staged = append(now.Staged, staged[i].path)
	}
	if !enough {
		for blob, size := range r.lostSizes {
			if !named[blob] {
				all = append(all, pending{version: &version{blob: blob, from: int(size)}, as: nowhere})
				now.Lost = append(now.Lost, blob)
			}
		}
	}
	if len(now.Lost) > most || len(now.Staged) > most {
		now.Lost, now.Staged, now.Tips = nil, nil, nil // the next survey tells everything anew
	}
	return r.tellAll(all, points, times, report)
}

// maxAsked is through how many folders git is led by questions about them.
const maxAsked = 200_000

// leaveOut leaves out what lies in what is no folder: a tree may have an entry whose name holds a slash, which looks like a path. What was
// left out before is said with it.
func (r *survey) leaveOut(ctx context.Context, report source.Reporter) error {
	shown := map[string]string{} // folders, and a commit that shows something in them
	left := maxAsked
	for _, c := range r.commits {
		for _, ch := range c.changes {
			for dir := folderOf(ch.path); dir != "" && ch.blob != "" && shown[dir] == "" && left > 0; dir = folderOf(dir) {
				shown[dir] = c.id
				left -= 1 + strings.Count(dir, "/")
			}
		}
	}
	var dirs, questions []string
	for dir, commit := range shown {
		if !strings.Contains(dir, "\n") { // which git cannot be asked of
			dirs, questions = append(dirs, dir), append(questions, commit+":"+dir)
		}
	}
	none := map[string]bool{}
	if len(questions) > 0 {
		if err := r.mirror.run(ctx, questions, func(out *bufio.Reader) error {
			for _, dir := range dirs {
				line, err := field(out, '\n')
				if err != nil {
					return errors.Join(errLog, err)
				}
				if _, o, ok := readObject(line); !ok || o.kind != "tree" {
					none[dir] = true
				}
			}
			return nil
		}, "cat-file", "--batch-check"); err != nil {
			return err
		}
	}
	for _, c := range r.commits {
		if len(none) == 0 {
			break
		}
		c.changes = slices.DeleteFunc(c.changes, func(ch change) bool {
			for dir := folderOf(ch.path); dir != ""; dir = folderOf(dir) {
				if none[dir] {
					r.mirror.odd++
					return true
				}
			}
			return false
		})
	}
	if r.mirror.odd > 0 {
		report.Note(fmt.Sprintf("%d changes in it are of names that lead out of its folder, hold a slash, or are such as no file system takes; they are "+
			"left out.", r.mirror.odd))
	}
	return nil
}

// list finds out how large the blobs are that commits name, and what there is that nothing names: commits, and blobs.
func (r *survey) list(ctx context.Context, enough bool) (unnamed map[string]bool, err error) {
	for _, c := range r.commits {
		for _, ch := range c.changes {
			if ch.blob != "" {
				r.sizes[ch.blob] = missing
			}
		}
	}
	unnamed = map[string]bool{}
	err = r.mirror.objects(ctx, func(name string, o object) {
		switch o.kind {
		case "blob":
			if _, named := r.sizes[name]; named {
				r.sizes[name] = o.size
			} else if !enough && len(r.lostSizes) < maxNameless {
				r.lostSizes[name] = o.size
			}
		case "commit":
			if r.commits[name] == nil && !enough && len(unnamed) < maxUnnamed {
				unnamed[name] = true
			}
		}
	})
	return unnamed, err
}

// missing is the size of a blob that is not there.
const missing = -1

// pending is something to be told, as small as it can be: a history has very many.
type pending struct {
	*version
	as pendingAs
}

type pendingAs uint8

// What is told of a version.
const (
	onTheLine pendingAs = iota // it stood on the line
	aside                      // it stood beside it
	inIndex                    // it is staged
	nowhere                    // nothing names it; from is its size
)

func (p pending) at() sighting.Locator {
	switch p.as {
	case aside:
		return besideAt(p.path, p.by.id)
	case inIndex:
		return stagedAt(p.path)
	case nowhere:
		return lostAt(p.blob)
	}
	return locate(p.path)
}

// tellAll sights everything in the order that surveys have, each made when it is told.
func (r *survey) tellAll(all []pending, points []sighting.Capture, times []time.Time, report source.Reporter) error {
	slices.SortFunc(all, func(a, b pending) int {
		x, y := a.at(), b.at()
		return cmp.Or(strings.Compare(x.Dir, y.Dir), strings.Compare(x.Name, y.Name), cmp.Compare(a.from, b.from))
	})
	for _, p := range all {
		var seen sighting.Sighting
		switch p.as {
		case aside:
			seen = r.besideSighting(*p.version)
		case inIndex:
			seen = r.stagedSighting(*p.version)
		case nowhere:
			seen = r.lost(p.blob, int64(p.from))
		default:
			seen = r.sighting(*p.version)
			if seen.Type == entry.Folder { // which is read as of the latest commit that has it
				seen.At.Capture = points[len(points)-1].Name
				if p.until != standing {
					seen.At.Capture = points[p.until].Name
				}
			}
			seen.From = times[p.from]
			if p.until != standing {
				seen.Until = times[p.until]
			}
		}
		if err := r.sight(reported{Sighting: seen}, report); err != nil {
			return err
		}
	}
	return nil
}

// mend reads a repository in which something is missing: commits whose parents are not there are taken for first ones.
func (r *survey) mend(ctx context.Context, missed []string, take func(*commit)) (cut string, err error) {
	ends := slices.Clone(r.heads.shallow)
	all := slices.Concat(missed, slices.Sorted(maps.Keys(r.commits)))
	there := map[string]bool{}
	for _, name := range all {
		there[name] = true
	}
	for _, name := range all {
		_, text, err := r.objects().get(ctx, name, 1<<20)
		if ctx.Err() != nil {
			return "", ctx.Err()
		}
		if err != nil {
			delete(there, name)
			continue
		}
		for line := range strings.Lines(string(text)) {
			parent, ok := strings.CutPrefix(line, "parent ")
			if line == "\n" {
				break
			}
			if ok && !there[strings.TrimSpace(parent)] {
				ends = append(ends, name)
				break
			}
		}
	}
	r.objects().Close() // which has read the old boundary
	if err := r.mirror.cut(ends); err != nil {
		return "", err
	}
	tips := slices.DeleteFunc(all, func(name string) bool { return !there[name] })
	if cut, err = r.mirror.log(ctx, tips, nil, take); cut == "" && err == nil {
		return "", nil
	}
	// Something else is missing: each commit by itself, as far as it can be read.
	for _, name := range tips[:min(len(tips), maxSingly)] {
		if r.commits[name] != nil {
			continue
		}
		if _, err := r.mirror.single(ctx, name, take); ctx.Err() != nil {
			return "", err
		}
	}
	return cut, ctx.Err()
}

// maxSingly is how many commits of a damaged repository are read one by one.
const maxSingly = 2000

// single reads one commit.
func (m *mirror) single(ctx context.Context, name string, see func(*commit)) (string, error) {
	l := logReader{see: see, texts: map[string]string{}, held: &m.held, odd: &m.odd}
	return "", m.run(ctx, []string{name}, l.read, "log", "--stdin", "--no-walk", "--raw", "-z", "--no-renames", "--no-abbrev",
		"--diff-merges=first-parent", "--no-ext-diff", "--no-textconv", "--no-color", logFormat)
}
