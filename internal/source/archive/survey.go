package archive

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"humble-rewind/internal/core/datedname"
	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/exclude"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/problem"
	"humble-rewind/internal/core/sighting"
	"humble-rewind/internal/core/zonetime"
	"humble-rewind/internal/source"
)

// captureName is what a revision of an archive is called as a point in time.
func captureName(name string, revision int) string {
	if revision <= 1 {
		return name
	}
	return fmt.Sprintf("%s;%d", name, revision)
}

// fileName is the archive that a point in time is read from: the one of its name, if it is there, whatever revision it is by now.
// What is read of it is held against what was sighted, as of any copy.
func fileName(capture string) string {
	name, revision, ok := strings.Cut(capture, ";")
	if f, _ := formatOf(name); ok && f != nil {
		if _, err := strconv.Atoi(revision); err == nil {
			return name
		}
	}
	return capture
}

func (s *store) Survey(ctx context.Context, known source.Known, report source.Reporter) error {
	files, err := s.list(ctx)
	if err == nil && len(files) == 0 {
		err = fmt.Errorf("there is no archive in it; its drive may not be mounted: %w", problem.NotThere)
	}
	if err != nil {
		return fmt.Errorf("read the archives at %s: %w", place.Quote(s.At), err)
	}
	points, memo, err := s.points(ctx, files, known, report)
	if err != nil {
		return err
	}
	for _, p := range points { // first, so that the neighbours of what is read next are known
		if p.Same {
			if err := report.Begin(p.Capture); err != nil {
				return err
			}
		}
	}
	encoded, err := json.Marshal(memo)
	if err != nil {
		return err
	}
	for n, p := range points {
		if p.Same {
			continue
		}
		report.Progress(int64(n), int64(len(points)), p.Name)
		if err := report.Begin(p.Capture); err != nil {
			return err
		}
		if err := s.survey(ctx, p, known, report); err != nil {
			return err
		}
		if n < len(points)-1 && report.Due() {
			return report.Again(encoded)
		}
	}
	report.Remember(encoded)
	return nil
}

// points works out which points in time the archives are, oldest first, and what is to be remembered of them.
func (s *store) points(ctx context.Context, files []file, known source.Known, report source.Reporter) ([]point, map[string]revised, error) {
	var before map[string]revised
	remembered := known.Cursor() // by an earlier slice: those that it read are the same as it says
	if remembered == nil {
		remembered = known.Memo()
	}
	if remembered != nil {
		if err := json.Unmarshal(remembered, &before); err != nil {
			before = nil // they are read again
		}
	}
	read, err := known.Captures(ctx)
	if err != nil {
		return nil, nil, err
	}
	memo := map[string]revised{}
	var points []point
	for _, f := range files {
		was, knew := before[f.name]
		same := knew && was.Size == f.size && was.Written == entry.At(f.written)
		now := revised{f.size, entry.At(f.written), was.At, was.Revision}
		if !same {
			now.Revision++
			at, how, err := s.moment(ctx, f)
			if err != nil {
				if ctx.Err() != nil {
					return nil, nil, ctx.Err()
				}
				report.Note(fmt.Sprintf("%s is not read: %v.", place.Readable(f.name), err))
				if knew { // what is known of it stays, as long as it is there
					memo[f.name] = was
					points = append(points, point{sighting.Capture{Name: captureName(f.name, was.Revision), At: was.At, Same: true}, f})
				}
				continue
			}
			if how != "" {
				report.Note(place.Readable(f.name) + ": " + how)
			}
			now.At = at.Add(time.Duration(now.Revision - 1)) // a nanosecond each tells revisions of one name apart
		}
		memo[f.name] = now
		name := captureName(f.name, now.Revision)
		at, complete := read[name]
		points = append(points, point{sighting.Capture{Name: name, At: now.At, Same: same && complete && at.Equal(now.At)}, f})
	}
	slices.SortStableFunc(points, func(a, b point) int { return a.At.Compare(b.At) })
	taken := map[int64]bool{}
	for _, p := range points {
		if p.Same {
			taken[p.At.UnixNano()] = true
		}
	}
	for n := range points { // two of one second follow each other
		p := &points[n]
		for !p.Same && taken[p.At.UnixNano()] {
			p.At = p.At.Add(time.Microsecond)
		}
		taken[p.At.UnixNano()] = true
		m := memo[p.file.name]
		m.At = p.At
		memo[p.file.name] = m
	}
	return points, memo, nil
}

// moment tells when an archive is of, and how that is known where its name does not say it.
func (s *store) moment(ctx context.Context, f file) (time.Time, string, error) {
	o, release, err := s.get(ctx, f.name)
	if err != nil {
		return time.Time{}, "", err
	}
	defer release()
	_, stem := formatOf(f.name)
	if dated, ok := s.dated(stem); ok {
		at := dated.Time
		if !dated.Zoned {
			at, _ = zonetime.Resolve(dated.Time, s.Zone, o.newest)
		}
		if dated.Day && o.newest.After(at) && o.newest.Before(at.AddDate(0, 0, 1)) { // it holds what was written that day
			at = o.newest.Truncate(time.Second).Add(time.Second)
		}
		return at.UTC(), "", nil
	}
	if !o.newest.IsZero() {
		return o.newest.Truncate(time.Second).
				Add(time.Second).
				UTC(),
			"its name does not say when it is of; the latest write time in it is taken.", nil
	}
	return f.written.UTC(), "neither its name nor anything in it says when it is of; its own write time is taken.", nil
}

func (s *store) dated(stem string) (datedname.Wall, bool) {
	if s.Named != "" {
		pattern, err := datedname.Compile(s.Named)
		if err != nil {
			return datedname.Wall{}, false
		}
		return pattern.Read(stem)
	}
	all, err := datedname.Infer([]string{stem})
	if err != nil || len(all) != 1 {
		return datedname.Wall{}, false
	}
	return all[0].Wall, true
}

// survey reports everything in an archive, folder by folder.
func (s *store) survey(ctx context.Context, p point, known source.Known, report source.Reporter) error {
	o, release, err := s.get(ctx, p.file.name)
	if err != nil {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		return report.Discard(fmt.Sprintf("%s cannot be read: %v.", place.Readable(p.file.name), err))
	}
	defer release()
	if o.file != p.file {
		return report.Discard(fmt.Sprintf("%s changed while it was read; it is left until the next survey.", place.Readable(p.file.name)))
	}
	if err := s.report(ctx, p, o, "", known, report); err != nil {
		return err
	}
	return s.surveyNested(ctx, p, o, known, report)
}

// report reports the members of an archive that lies in another one at a path; "" is the archive itself.
func (s *store) report(ctx context.Context, p point, o *opened, in string, known source.Known, report source.Reporter) (err error) {
	for _, note := range o.notes {
		report.Note(note)
	}
	dir := "/" // which no folder of an archive is called
	var marks func(string) entry.Mark
	for n, m := range o.members {
		if n%500 == 0 && ctx.Err() != nil {
			return ctx.Err()
		}
		if exclude.Within(s.Exclusions, place.Mapped(s.Maps, "/"+m.path), "/") != "" {
			continue
		}
		if m.dir() != dir {
			dir = m.dir()
			if marks, err = known.Marks(ctx, join(in, dir)); err != nil {
				return err
			}
		}
		seen := s.sighting(p, m, marks)
		seen.At.Dir = join(in, seen.At.Dir)
		if err := report.Sight(seen); err != nil {
			return err
		}
	}
	return nil
}

func (s *store) sighting(p point, m member, marks func(string) entry.Mark) sighting.Sighting {
	seen := sighting.Sighting{
		At:       sighting.Locator{Capture: p.Name, Dir: m.dir(), Name: m.name()},
		Mark:     m.mark(),
		Type:     m.typ,
		Size:     m.size,
		Written:  m.written,
		Readable: m.why == "",
		Target:   m.target,
	}
	if m.typ == entry.Folder {
		seen.Size, seen.Written = -1, time.Time{}
	}
	if before := marks(m.name()); !before.IsZero() && before == seen.Mark {
		seen.Same = true
		return seen
	}
	if origin, known := s.origin(m.path); known {
		seen.Origin = origin
	}
	for _, note := range []string{m.why, m.says} {
		if note != "" {
			seen.Notes = append(seen.Notes, note)
		}
	}
	return seen
}

// origin is where on the machine a member came from: where a map says, or, since archives are packed without the slash in front, where
// its own path leads if that is in a home.
func (s *store) origin(path string) (string, bool) {
	in := "/" + path
	for _, m := range s.Maps {
		if place.Under(in, m.From) {
			at := place.Mapped(s.Maps, in)
			return at, at != "/"
		}
	}
	for _, home := range s.Homes {
		if place.Under(in, home) {
			return in, true
		}
	}
	return "", false
}
