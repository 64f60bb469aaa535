package history

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"golang.org/x/sync/errgroup"

	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/sighting"
	"humble-rewind/internal/source"
)

// whole tells everything anew.
func (r *reading) whole(ctx context.Context, now *memo, report source.Reporter) error {
	clear(r.commits)
	unnamed := map[string]bool{} // commits, then those that nothing names
	side, sideBySide := errgroup.WithContext(ctx)
	side.Go(func() error {
		return r.mirror.objects(sideBySide, func(name string, o object) {
			switch o.kind {
			case "blob":
				r.sizes[name] = o.size
			case "commit":
				unnamed[name] = true
			}
		})
	})
	tips := r.heads.tips()
	cut, err := r.mirror.log(ctx, tips, nil, func(c *commit) { r.commits[c.id] = c })
	if listed := side.Wait(); listed != nil {
		return listed
	}
	for id := range r.commits {
		delete(unnamed, id)
	}
	take := func(c *commit) {
		r.commits[c.id] = c
		delete(unnamed, c.id)
	}
	if err == nil && len(unnamed) > 0 && cut == "" {
		cut, err = r.mirror.log(ctx, slices.Sorted(maps.Keys(unnamed)), tips, take)
	}
	if err != nil || cut != "" {
		if cut, err = r.mend(ctx, slices.Sorted(maps.Keys(unnamed)), take); err != nil {
			return err
		}
		report.Note("The repository is damaged: commits or folders that others build on are missing or cannot be read. What can be read is.")
		if cut != "" {
			report.Note("Git says: " + cut + ".")
		}
	}
	line, broken := lineOf(r.commits, r.heads.at)
	if len(line) == 0 {
		return fmt.Errorf("the commit that is checked out, %.10s, cannot be read: %w", r.heads.at, errMissing)
	}
	if broken != "" && !slices.Contains(r.heads.shallow, line[0].id) {
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
	all := slices.Grow(r.beside(t), len(t.line))
	named := make(map[string]bool, len(r.sizes))
	for _, v := range t.line {
		seen := r.sighting(v)
		if seen.Type == entry.Folder { // which is read as of the latest commit that has it
			if seen.Origin == "" {
				continue
			}
			seen.At.Capture = points[len(points)-1].Name
			if v.until != standing {
				seen.At.Capture = points[v.until].Name
			}
		}
		seen.From = times[v.from]
		if v.until != standing {
			seen.Until = times[v.until]
		}
		all = append(all, reported{Sighting: seen})
	}
	for _, c := range r.commits {
		for _, ch := range c.changes {
			named[ch.blob], named[ch.was] = true, true
		}
	}
	for _, v := range staged {
		named[v.blob] = true
		all = append(all, reported{Sighting: r.stagedSighting(v)})
		now.Staged = append(now.Staged, v.path)
	}
	for blob, size := range r.sizes {
		if !named[blob] {
			all = append(all, reported{Sighting: r.lost(blob, size)})
			now.Lost = append(now.Lost, blob)
		}
	}
	if len(now.Lost) > most || len(now.Staged) > most {
		now.Lost, now.Staged, now.Tips = nil, nil, nil // the next survey tells everything anew
	}
	return r.report(all, report)
}

// mend reads a repository in which something is missing: commits whose parents are not there are taken for first ones.
func (r *reading) mend(ctx context.Context, missed []string, take func(*commit)) (cut string, err error) {
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
	l := logReader{see: see, texts: map[string]string{}}
	return "", m.run(ctx, []string{name}, l.read, "log", "--stdin", "--no-walk", "--raw", "-z", "--no-renames", "--no-abbrev",
		"--diff-merges=first-parent", "--no-ext-diff", "--no-textconv", "--no-color", logFormat)
}
