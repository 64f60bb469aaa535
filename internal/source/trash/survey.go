package trash

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"

	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/sighting"
	"humble-rewind/internal/core/zonetime"
	"humble-rewind/internal/reach"
	"humble-rewind/internal/source"
)

// maxDepth is how deep a trashed folder is read; paths end before that on any common system.
const maxDepth = 500

// visit is the survey of one trash directory.
type visit struct {
	*store
	can    can
	known  source.Known
	report source.Reporter
	trust  *truster
}

func (v *visit) survey(ctx context.Context) error {
	v.trust = v.truster(ctx)
	filesPath := join(v.can.dir, "files")
	var files, infoDir reach.Tree
	var items, infos []reach.Info
	var both errgroup.Group
	both.Go(func() (err error) { files, items, err = v.list(ctx, filesPath); return err })
	both.Go(func() (err error) { infoDir, infos, err = v.list(ctx, join(v.can.dir, "info")); return err })
	err := both.Wait()
	for _, folder := range []reach.Tree{files, infoDir} {
		if folder != nil {
			defer folder.Close()
		}
	}
	if err != nil {
		// Of one folder alone nothing can be said: every item would seem to lack its record, or the other way round.
		return v.report.Unread(v.can.dir, err)
	}
	records := make(map[string]reach.Info, len(infos))
	for _, i := range infos {
		if name, ok := strings.CutSuffix(i.Name, recordSuffix); ok && name != "" {
			records[name] = i
		}
	}
	marks, err := v.known.Marks(ctx, filesPath)
	if err != nil {
		return err
	}
	// What lies in folders is reported first, each as a group of its own; then all items as they are read, by name.
	slices.SortFunc(items, func(a, b reach.Info) int { return strings.Compare(a.Name, b.Name) })
	folders := map[string]sighting.Sighting{}
	for _, item := range items {
		if item.Type == entry.Folder {
			s, err := v.item(ctx, files, infoDir, item, records, marks)
			if err != nil {
				return err
			}
			folders[item.Name] = s
		}
	}
	for _, item := range items {
		s, isFolder := folders[item.Name]
		if !isFolder {
			if s, err = v.item(ctx, files, infoDir, item, records, marks); err != nil {
				return err
			}
		}
		if err := v.report.Sight(s); err != nil {
			return err
		}
		delete(records, item.Name)
	}
	return v.orphans(ctx, infoDir, records)
}

func sightAll(report source.Reporter, sightings []sighting.Sighting) error {
	for _, s := range sightings {
		if err := report.Sight(s); err != nil {
			return err
		}
	}
	return nil
}

// list opens and lists a folder of the store. A trash may lack one of its folders; then there is nothing in it.
func (v *visit) list(ctx context.Context, path string) (reach.Tree, []reach.Info, error) {
	folder, err := v.Files.Tree(ctx, place.Join(v.At, path))
	if isGone(err) {
		return nil, nil, nil
	}
	if err != nil {
		return nil, nil, err
	}
	list, err := folder.List(ctx)
	return folder, list, err
}

// told is what is known about an item from its record.
type told struct {
	origin  string
	claimed string // what it says of its origin, where that is not believed
	gone    time.Time
	notes   []string
}

func (v *visit) item(ctx context.Context, files, infoDir reach.Tree, item reach.Info, records map[string]reach.Info,
	marks func(string) entry.Mark) (sighting.Sighting, error) {
	rec, recorded := records[item.Name]
	s := sighting.Sighting{
		At: sighting.Locator{Dir: join(v.can.dir, "files"), Name: item.Name}, Type: item.Type, Size: item.Size,
		UID: item.UID, Written: item.Written, Readable: true,
	}
	if v.can.uid >= 0 {
		s.UID = entry.Is(v.can.uid)
	}
	s.Mark = mark(item, rec)
	if item.Type != entry.Folder && marks(item.Name) == s.Mark {
		s.Same = true
		return s, nil
	}
	t := told{notes: []string{"It has no record, so nothing tells where it came from or when it was deleted."}}
	if recorded {
		t = v.trust.judge(ctx, v.read(ctx, infoDir, rec, item), item)
	}
	if item.Type == entry.Folder {
		size, err := v.inside(ctx, files, item.Name, s.At.Path(), t, s.UID, rec, 1)
		if err != nil {
			return s, err
		}
		s.Size = size
		s.Mark.Inside = size
		s.Same = marks(item.Name) == s.Mark
	}
	s.Origin, s.Claimed, s.GoneAt, s.Notes = t.origin, t.claimed, t.gone, t.notes
	if item.Type == entry.Link {
		s.Notes = append(s.Notes, "It is a symbolic link; what it points to was not deleted with it.")
	}
	if item.Type == entry.Other {
		s.Notes = append(s.Notes, "It is a device, pipe or socket and has no content.")
	}
	return s, nil
}

// read reads the record of an item; item is zero for a record without one.
func (v *visit) read(ctx context.Context, infoDir reach.Tree, rec, item reach.Info) told {
	var t told
	data, err := reach.ReadFile(ctx, infoDir, rec.Name, maxRecord)
	if err != nil {
		return told{gone: rec.Written, notes: []string{
			fmt.Sprintf("Its record cannot be read: %v.", err),
			"When it was deleted is taken from the record's own write time."}}
	}
	r := parseRecord(data)
	t.notes = r.Problems
	path, problem := origin(r.Path, v.can.base, v.can.absolute)
	if problem != "" {
		t.notes = append(t.notes, problem)
	}
	if path != "" {
		t.origin = place.Mapped(v.Maps, path)
	}
	t.gone = rec.Written
	if r.Wall.IsZero() {
		t.notes = append(t.notes, "When it was deleted is taken from the record's own write time.")
		return t
	}
	var doubt zonetime.Doubt
	t.gone, doubt = zonetime.Resolve(r.Wall, v.Zone, rec.Written)
	switch doubt {
	case zonetime.Repeated:
		t.notes = append(
			t.notes,
			"Clocks showed the hour of its deletion twice that night; the record's own write time tells which it was.",
		)
	case zonetime.Skipped:
		t.notes = append(
			t.notes,
			fmt.Sprintf(
				"Clocks skipped the hour of its recorded deletion, %s; the machine's clock or zone may have been wrong.",
				r.Wall.Format("15:04"),
			),
		)
	}
	return t
}

// inside reports what lies in a trashed folder, deepest first, and returns the size of all its files.
func (v *visit) inside(ctx context.Context, parent reach.Tree, name, dir string, t told, uid entry.Maybe[int64],
	rec reach.Info, depth int) (int64, error) {
	if err := ctx.Err(); err != nil {
		return 0, err
	}
	if depth > maxDepth {
		return 0, v.report.Unread(dir, errors.New("it lies too deep to be read"))
	}
	folder, err := parent.Enter(ctx, name)
	if err != nil {
		return 0, v.report.Unread(dir, err)
	}
	defer folder.Close()
	entries, err := folder.List(ctx)
	if err != nil {
		return 0, v.report.Unread(dir, err)
	}
	slices.SortFunc(entries, func(a, b reach.Info) int { return strings.Compare(a.Name, b.Name) })
	marks, err := v.known.Marks(ctx, dir)
	if err != nil {
		return 0, err
	}
	var total int64
	sightings := make([]sighting.Sighting, 0, len(entries))
	for _, e := range entries {
		s := sighting.Sighting{
			At:       sighting.Locator{Dir: dir, Name: e.Name},
			Type:     e.Type,
			Size:     e.Size,
			UID:      uid,
			Written:  e.Written,
			GoneAt:   t.gone,
			Within:   true,
			Readable: true,
		}
		s.Mark = mark(e, rec)
		if t.origin != "" {
			s.Origin = place.Mapped(v.Maps, place.Join(t.origin, e.Name))
		} else {
			s.Notes = []string{"The folder that it lies in has no known origin."}
		}
		if t.claimed != "" {
			s.Claimed = place.Join(t.claimed, e.Name)
			s.Notes = []string{"The record of the folder that it lies in may be forged; it is not trusted."}
		}
		if e.Type == entry.Folder {
			inner := told{origin: s.Origin, claimed: s.Claimed, gone: t.gone}
			if s.Size, err = v.inside(ctx, folder, e.Name, s.At.Path(), inner, uid, rec, depth+1); err != nil {
				return 0, err
			}
			s.Mark.Inside = s.Size
		}
		s.Same = marks(e.Name) == s.Mark
		if e.Type == entry.File || e.Type == entry.Folder {
			total += s.Size
		}
		sightings = append(sightings, s)
	}
	return total, sightAll(v.report, sightings)
}

// orphans reports records whose item is not there.
func (v *visit) orphans(ctx context.Context, infoDir reach.Tree, records map[string]reach.Info) error {
	if len(records) == 0 {
		return nil
	}
	dir := join(v.can.dir, "info")
	marks, err := v.known.Marks(ctx, dir)
	if err != nil {
		return err
	}
	for _, name := range slices.Sorted(maps.Keys(records)) {
		rec := records[name]
		s := sighting.Sighting{
			At:   sighting.Locator{Dir: dir, Name: rec.Name},
			Type: entry.Other,
			UID:  rec.UID,
			Mark: mark(reach.Info{}, rec),
		}
		if v.can.uid >= 0 {
			s.UID = entry.Is(v.can.uid)
		}
		if s.Same = marks(rec.Name) == s.Mark; !s.Same {
			t := v.trust.judge(ctx, v.read(ctx, infoDir, rec, reach.Info{}), rec)
			s.Origin, s.Claimed, s.GoneAt = t.origin, t.claimed, t.gone
			s.Notes = append(
				[]string{fmt.Sprintf("Only the record is left: the trash no longer holds the item %s.", place.Quote(name))},
				t.notes...)
		}
		if err := v.report.Sight(s); err != nil {
			return err
		}
	}
	return nil
}

// mark changes whenever an item or its record does: both by their number and change time, which nothing can set back. The
// type is left out, because of a record without an item there is none. Where the way cannot tell those, type, size and write times
// have to do.
func mark(item, rec reach.Info) entry.Mark {
	m := entry.Mark{File: item.Identity(), Record: rec.Identity()}
	if item.Name != "" && !item.Recognisable() {
		m.Type, m.Size, m.Written = item.Type, item.Size, entry.At(item.Written)
	}
	if rec.Name != "" && !rec.Recognisable() {
		m.Record.Changed = entry.At(rec.Written)
	}
	return m
}

func join(dir, name string) string {
	if dir == "" {
		return name
	}
	return dir + "/" + name
}
