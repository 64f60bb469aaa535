package image

import (
	"bytes"
	"context"
	"encoding/binary"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/cespare/xxhash/v2"
	"github.com/dustin/go-humanize"

	"humble-rewind/internal/core/disk"
	"humble-rewind/internal/core/disk/scan"
	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/exclude"
	"humble-rewind/internal/core/intact"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/sighting"
	"humble-rewind/internal/core/zonetime"
	"humble-rewind/internal/source"
)

// mostPieces is in how many pieces a content may lie to be brought back from here.
const mostPieces = 4096

// mostTogether is how many entries of a folder are told of together; what there is more of is told as of another folder.
const mostTogether = 20_000

// sliceBytes is how much of what is free is looked through at once, before others may have their turn.
const sliceBytes = 1 << 30

// step is how far a survey of what was erased came: first the entries of each file system, then what is free on each.
type step struct {
	Volume int
	Swept  bool  // of the volume the entries were told, and from At on what is free is to be looked through
	At     int64 // on the drive
}

// remembered is the image as it was when all of it was read, and how much was known then of reading it.
type remembered struct {
	Reads   int
	Size    int64
	Written entry.Instant
	Changed entry.Instant // which whoever may write it cannot put back
}

// reads is counted up when more is read of an image than before.
const reads = 1

// Survey tells what stood as one point in time, or what was erased, slice by slice.
func (s *store) Survey(ctx context.Context, known source.Known, report source.Reporter) error {
	o, release, err := s.get(ctx)
	if err != nil {
		return fmt.Errorf("read the image at %s: %w", place.Quote(s.At), err)
	}
	defer release()
	for _, n := range o.layout.Notes {
		report.Note(words(n))
	}
	if !s.erased {
		return s.surveyStanding(ctx, o, known, report)
	}
	memo, err := json.Marshal(remembered{reads, o.size, entry.At(o.written), entry.At(o.changed)})
	if err != nil {
		return err
	}
	if bytes.Equal(memo, known.Memo()) && known.Cursor() == nil { // it takes long to read, and nothing of it changed
		if err := report.Since(); err != nil {
			return err
		}
		report.Remember(memo)
		return nil
	}
	var at step
	if known.Cursor() != nil && json.Unmarshal(known.Cursor(), &at) != nil {
		at = step{}
	}
	for more := true; more; {
		if more, err = s.erasedStep(ctx, o, &at, known, report); err != nil {
			return err
		}
		if more && report.Due() {
			cursor, err := json.Marshal(at)
			if err != nil {
				return err
			}
			return report.Again(cursor)
		}
	}
	report.Remember(memo)
	return nil
}

// surveyStanding tells what stands there, of each file system.
func (s *store) surveyStanding(ctx context.Context, o *opened, known source.Known, report source.Reporter) error {
	point := sighting.Capture{Name: o.written.UTC().Format("2006-01-02T150405.000000000Z"), At: o.written.UTC()}
	read, err := known.Captures(ctx)
	if err != nil {
		return err
	}
	at, complete := read[point.Name]
	point.Same = complete && at.Equal(point.At)
	if err := report.Begin(point); err != nil || point.Same {
		return err
	}
	for _, v := range o.layout.Volumes {
		if !v.Read {
			continue
		}
		t := s.telling(ctx, o, v, known, report)
		t.capture = point.Name
		err := s.Unpacker.Walk(ctx, o, o.size, v, false, t.take, t.note)
		if err := t.end(err); err != nil {
			return err
		}
	}
	return nil
}

// erasedStep does the next step, and tells whether there are more.
func (s *store) erasedStep(ctx context.Context, o *opened, at *step, known source.Known, report source.Reporter) (more bool, err error) {
	volumes := o.layout.Volumes
	for at.Volume < len(volumes) && !volumes[at.Volume].Read {
		at.Volume++
	}
	if at.Volume >= len(volumes) {
		if at.Swept {
			return false, nil
		}
		*at = step{Swept: true}
		return true, nil
	}
	v := volumes[at.Volume]
	t := s.telling(ctx, o, v, known, report)
	report.Progress(min(at.At, o.size), o.size, v.Name)
	if !at.Swept {
		err := s.Unpacker.Walk(ctx, o, o.size, v, true, t.take, t.note)
		at.Volume++
		return true, t.end(err)
	}
	from := max(at.At, v.At)
	next, err := s.Unpacker.Sweep(ctx, o, o.size, v, from, sliceBytes, t.swept, t.note)
	if err == nil {
		err = t.flush()
	}
	if err == nil {
		t.dir, t.some = "/?by content from "+humanize.IBytes(uint64(from-v.At)), t.loose
	}
	if at.At = next; next <= from {
		at.Volume, at.At = at.Volume+1, 0
	}
	return true, t.end(err)
}

// telling makes what tells of a file system.
func (s *store) telling(ctx context.Context, o *opened, v scan.Volume, known source.Known, report source.Reporter) *telling {
	return &telling{store: s, ctx: ctx, known: known, report: report, of: o, volume: v, seen: map[string]int{}}
}

// note passes on what was wrong with a file system.
func (t *telling) note(n disk.Note) { t.report.Note(t.volume.Name + ": " + words(n)) }

// swept takes what a sweep found: contents together, in the end, and folders as they come.
func (t *telling) swept(one scan.Trace) error {
	if one.Entry.Lost == disk.All {
		t.loose = append(t.loose, one)
		return nil
	}
	return t.take(one)
}

// end reports what is left, or that a file system could not be read.
func (t *telling) end(err error) error {
	if err == nil {
		err = t.flush()
	}
	switch {
	case t.failed != nil:
		return t.failed
	case t.ctx.Err() != nil:
		return t.ctx.Err()
	case err != nil:
		return t.report.Unread(t.volume.Name, err)
	}
	return nil
}

// telling gathers what is told of a folder, to report it in the order of names.
type telling struct {
	*store
	ctx     context.Context
	known   source.Known
	report  source.Reporter
	of      *opened
	volume  scan.Volume
	capture string
	dir     string
	some    []scan.Trace
	loose   []scan.Trace   // contents of a sweep
	seen    map[string]int // folders, and how often they were told of: one may have had another's name before
	failed  error          // of the reporter
}

func (t *telling) take(one scan.Trace) error {
	if one.Entry.Dir != t.dir || len(t.some) >= mostTogether {
		if err := t.flush(); err != nil {
			return err
		}
		t.dir = one.Entry.Dir
	}
	if !one.Entry.Folder {
		t.some = append(t.some, one)
	}
	return nil
}

// flush reports what was gathered.
func (t *telling) flush() error {
	if len(t.some) == 0 {
		return nil
	}
	dir := strings.TrimSuffix(t.volume.Name+t.dir, "/")
	if t.seen[dir]++; t.seen[dir] > 1 {
		dir = fmt.Sprintf("%s (%d)", dir, t.seen[dir])
	}
	marks, err := t.known.Marks(t.ctx, dir)
	if err != nil {
		t.failed = err
		return err
	}
	slices.SortStableFunc(t.some, func(a, b scan.Trace) int { return strings.Compare(a.Entry.Name, b.Entry.Name) })
	names := map[string]bool{}
	all := make([]sighting.Sighting, 0, len(t.some))
	for _, one := range t.some {
		name := one.Entry.Name
		for n := 2; names[name]; n++ { // several of one name were erased
			name = fmt.Sprintf("%s ;%d", one.Entry.Name, n)
		}
		names[name] = true
		if seen, ok := t.sighting(dir, name, one); ok {
			all = append(all, seen)
		}
	}
	slices.SortFunc(all, func(a, b sighting.Sighting) int { return strings.Compare(a.At.Name, b.At.Name) })
	for n := range all {
		seen := &all[n]
		if before := marks(seen.At.Name); !before.IsZero() && before == seen.Mark {
			*seen = sighting.Sighting{At: seen.At, Mark: seen.Mark, Same: true}
		}
		if err := t.report.Sight(*seen); err != nil {
			t.failed = err
			return err
		}
	}
	t.some = t.some[:0]
	return nil
}

// sighting is what is reported of one entry; not ok where it is left out.
func (t *telling) sighting(dir, name string, one scan.Trace) (sighting.Sighting, bool) {
	e := &one.Entry
	path := disk.Join(e.Dir, e.Name)
	if exclude.Within(t.Exclusions, place.Mapped(t.Maps, "/"+t.volume.Name+path), "/") != "" {
		return sighting.Sighting{}, false
	}
	seen := sighting.Sighting{At: sighting.Locator{Capture: t.capture, Dir: dir, Name: name}, Type: entry.File, Size: e.Size, Written: t.moment(e.Written, e.Wall),
		GoneAt: t.moment(e.Removed, false), Nameless: e.Lost == disk.All, Intact: intact.Intact{State: one.State, Share: one.Share}}
	if e.Target != "" {
		seen.Type, seen.Size, seen.Target = entry.Link, int64(len(e.Target)), e.Target
	}
	if e.UID >= 0 {
		seen.UID = entry.Maybe[int64]{Known: true, Value: e.UID}
	}
	if !seen.Nameless && e.Lost == disk.Nothing {
		seen.Origin = t.origin(path)
	}
	if e.Lost == disk.FirstLetter {
		seen.Notes = append(seen.Notes, "The first letter of its name is lost; it is shown as _.")
	}
	whole := disk.Sum(e.Runs) == e.Size
	seen.Readable = seen.Type == entry.Link || e.Size == 0 || whole && len(e.Runs) <= mostPieces && (!seen.Intact.Known() || seen.Intact.Readable())
	switch {
	case seen.Readable || seen.Intact.Known() && !seen.Intact.Readable():
	case len(e.Runs) > mostPieces:
		seen.Notes = append(seen.Notes, fmt.Sprintf("It lies in more than %d pieces, which are not put together.", mostPieces))
	default:
		seen.Notes = append(seen.Notes, "Nothing tells where all of it lies.")
	}
	if seen.Readable {
		r, err := ref{Kind: refKind, Drive: t.of.size, Size: seen.Size, Runs: e.Runs, Link: e.Target, Written: entry.At(seen.Written), UID: e.UID,
			Mode: e.Mode}.encoded()
		if err != nil {
			return seen, false
		}
		seen.Ref = r
	}
	var print []byte
	for _, v := range [...]int64{e.At, int64(one.State), int64(one.Share), int64(len(e.Runs))} {
		print = binary.AppendVarint(print, v)
	}
	for _, r := range e.Runs {
		print = binary.AppendVarint(binary.AppendVarint(print, r.At), r.Size)
	}
	seen.Mark = entry.Mark{Type: seen.Type, Size: max(seen.Size, 0), Written: entry.At(seen.Written), Record: entry.Identity{Number: xxhash.Sum64(print) | 1}}
	return seen, true
}

// moment is a time as the file system tells it, of a wall clock where that is all that is known.
func (t *telling) moment(at time.Time, wall bool) time.Time {
	if at.IsZero() || !wall {
		return entry.Bounded(at)
	}
	at, _ = zonetime.Resolve(at, t.Zone, time.Time{})
	return entry.Bounded(at.UTC())
}

// origin is where on the machine a file came from: where a map says, or where its own path leads if that is in a home; "" where nothing
// tells.
func (t *telling) origin(path string) string {
	in := "/" + t.volume.Name + path
	for _, m := range t.Maps {
		if place.Under(in, m.From) {
			if at := place.Mapped(t.Maps, in); at != "/" {
				return at
			}
			return ""
		}
	}
	for _, home := range t.Homes {
		if place.Under(path, home) {
			return path
		}
	}
	return ""
}
