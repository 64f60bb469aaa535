package cloud

import (
	"cmp"
	"container/heap"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/exclude"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/problem"
	"humble-rewind/internal/core/sighting"
	"humble-rewind/internal/reach"
	"humble-rewind/internal/source"
)

// memo is what is remembered of a survey.
type memo struct {
	Token   string              `json:"token,omitempty"`
	Files   map[string]keptFile `json:"files"`             // by path below the store's folder
	Removed map[string]string   `json:"removed,omitempty"` // by their names on the drive, the paths that they came from
	Maps    string              `json:"maps"`
}

// keptFile is a file as it was when its versions were asked for.
type keptFile struct {
	Tag      string   `json:"tag,omitempty"`
	Versions []string `json:"versions,omitempty"` // former ones, by name
}

// What is held of a drive, in bytes: its paths, with what tells contents apart. Versions are asked for some files at a time, and told as
// they come.
const (
	maxHeld  = 80 << 20
	perEntry = 240
	atOnce   = 512 // files whose versions are asked for together
)

// surveying is one survey.
type surveying struct {
	*store
	before, now memo
	all         []told // what is told now
	held        int
	out         telling
	whole       bool // everything is told, and not only what changed
	missed      int  // files whose versions could not be asked for
}

// told is something that the drive tells: of what it has, or of what is in its trash.
type told struct {
	path    string // below the store's folder
	tag     string
	size    int64
	written time.Time
	folder  bool
	gone    bool
	removed *reach.RemovedItem
}

// at is where it is in the order of surveys.
func (t *told) at() sighting.Locator { return locate(t.path) }

// reported is something to be sighted or called gone.
type reported struct {
	sighting.Sighting
	gone bool
}

func (s *store) Survey(ctx context.Context, known source.Known, report source.Reporter) error {
	refuse := func(err error) error { return fmt.Errorf("read the drive at %s: %w", place.Quote(s.At), err) }
	v := &surveying{store: s, out: telling{report: report}}
	if raw := known.Memo(); raw != nil && json.Unmarshal(raw, &v.before) != nil {
		v.before = memo{}
	}
	maps := fmt.Sprintf("%q %q", s.Maps, s.Exclusions)
	complete, err := known.Captures(ctx)
	if err != nil {
		return err
	}
	if v.before.Maps != maps || len(complete) == 0 { // other places now, or records that were made anew
		v.before = memo{}
	}
	v.now = memo{Files: map[string]keptFile{}, Removed: map[string]string{}, Maps: maps}
	token, whole, err := s.keeper.Changes(ctx, s.At, v.before.Token, func(k reach.Kept) error {
		path, ok := place.Below(k.Path, s.At)
		if !ok || path == "" {
			return nil
		}
		return v.hold(told{path: path, tag: k.Tag, size: k.Info.Size, written: k.Info.Written, folder: k.Info.Type == entry.Folder, gone: k.Gone})
	})
	if err != nil {
		return refuse(err)
	}
	v.now.Token, v.whole = token, whole
	if !whole {
		if err := report.Since(); err != nil {
			return err
		}
		for path, f := range v.before.Files {
			v.now.Files[path] = f
		}
	}
	v.out.gone = !whole
	if err := v.removed(ctx); err != nil {
		return refuse(err)
	}
	if err := v.tell(ctx); err != nil {
		return refuse(err)
	}
	if v.missed > 0 {
		report.Note(fmt.Sprintf("The versions of %d files could not be asked for; they are read as they are now.", v.missed))
	}
	encoded, err := json.Marshal(v.now)
	report.Remember(encoded)
	return err
}

// hold takes up something that is told.
func (v *surveying) hold(t told) error {
	if v.held += len(t.path) + len(t.tag) + perEntry; v.held > maxHeld {
		return fmt.Errorf("what it holds takes more than %d MiB to be told: %w", maxHeld>>20, problem.TooLarge)
	}
	v.all = append(v.all, t)
	return nil
}

// tell tells everything in the order that surveys have, and asks for the versions of what has changed.
func (v *surveying) tell(ctx context.Context) error {
	slices.SortFunc(v.all, func(a, b told) int {
		return compare(a.at(), b.at())
	})
	for some := range slices.Chunk(v.all, atOnce) {
		versions := make([][]reach.KeptVersion, len(some))
		failed := make([]error, len(some))
		if err := reach.SideBySide(len(some), func(n int) error {
			if t := &some[n]; v.changed(t) {
				versions[n], failed[n] = v.keeper.Versions(ctx, place.Join(v.At, t.path))
			}
			return ctx.Err()
		}); err != nil {
			return err
		}
		for n := range some {
			if err := failed[n]; err != nil && !errors.Is(err, problem.Unsupported) && !errors.Is(err, problem.NotThere) {
				v.missed++
			}
			if err := v.one(&some[n], versions[n]); err != nil {
				return err
			}
		}
	}
	return v.out.until(nil)
}

// changed tells whether something is a file that is another than before.
func (v *surveying) changed(t *told) bool {
	if t.removed != nil || t.gone || t.folder || v.skipped(t.path) {
		return false
	}
	was, ok := v.before.Files[t.path]
	return !ok || was.Tag == "" || was.Tag != t.tag
}

// one tells one thing, with its versions.
func (v *surveying) one(t *told, versions []reach.KeptVersion) error {
	at := t.at()
	if err := v.out.until(&at); err != nil {
		return err
	}
	switch {
	case v.skipped(t.path):
	case t.removed != nil && t.gone:
		v.out.put(reported{sighting.Sighting{At: removedAt(t.path, t.removed.Name)}, true})
	case t.removed != nil:
		v.out.put(reported{Sighting: v.inTrash(t)})
	case t.gone:
		v.forget(t.path)
	case t.folder:
		v.out.put(reported{Sighting: v.folder(t.path)})
	case !v.changed(t):
		v.asBefore(t.path, v.before.Files[t.path])
	default:
		v.file(t, versions)
	}
	return nil
}

func (v *surveying) skipped(path string) bool {
	return len(v.Exclusions) > 0 && exclude.By(v.Exclusions, v.mapped(path)) != ""
}

// mapped is the path that something of the drive has where the maps say what has which.
func (v *surveying) mapped(path string) string { return place.Mapped(v.Maps, place.Join(v.At, path)) }

// origin is where on the machine a path of the drive stands; "" where nothing tells.
func (v *surveying) origin(path string) string {
	in := place.Join(v.At, path)
	for _, m := range v.Maps {
		if place.Under(in, m.From) {
			return place.Mapped(v.Maps, in)
		}
	}
	if !v.Elsewhere {
		return in
	}
	return ""
}

func locate(path string) sighting.Locator {
	return sighting.Locator{Dir: strings.TrimPrefix(place.Folder("/"+path), "/"), Name: place.Name("/" + path)}
}

// Former versions and what was removed lie in the file's folder under names that no file has, since they hold a slash.
func versionAt(path, name string) sighting.Locator {
	l := locate(path)
	l.Name += "/version " + name
	return l
}

func removedAt(path, name string) sighting.Locator {
	l := locate(path)
	l.Name += "/removed " + name
	return l
}

// forget says of a file or folder that it is gone from the drive.
func (v *surveying) forget(path string) {
	v.out.put(reported{sighting.Sighting{At: locate(path)}, true})
	for _, name := range v.before.Files[path].Versions {
		v.out.put(reported{sighting.Sighting{At: versionAt(path, name)}, true})
	}
	delete(v.now.Files, path)
}

func (v *surveying) folder(path string) sighting.Sighting {
	return sighting.Sighting{At: locate(path), Ref: sighting.Ref(refNow + place.Join(v.At, path)), Mark: entry.Mark{Type: entry.Folder},
		Origin: v.origin(path), Type: entry.Folder, Size: -1, Readable: true}
}

// asBefore takes up a file that did not change, with the versions that were known of it.
func (v *surveying) asBefore(path string, was keptFile) {
	v.now.Files[path] = was
	v.out.put(reported{Sighting: sighting.Sighting{At: locate(path), Same: true}})
	for _, name := range was.Versions {
		v.out.put(reported{Sighting: sighting.Sighting{At: versionAt(path, name), Same: true}})
	}
}

// file takes up a file with its versions.
func (v *surveying) file(t *told, versions []reach.KeptVersion) {
	path, at := t.path, place.Join(v.At, t.path)
	seen := sighting.Sighting{At: locate(path), Ref: sighting.Ref(refNow + at), Origin: v.origin(path), Type: entry.File, Size: t.size,
		Written: t.written, Readable: true, Lies: "the drive, as it is now"}
	keeps := keptFile{Tag: t.tag}
	for _, x := range versions {
		if x.Current {
			seen.Told, seen.Author, seen.Message = x.At, x.Author, x.Comment
			seen.Lies = "the drive, version " + place.Readable(x.Name) + ", the present one"
			continue
		}
		if slices.Contains(keeps.Versions, x.Name) {
			continue
		}
		keeps.Versions = append(keeps.Versions, x.Name)
		old := seen
		old.At, old.Ref = versionAt(path, x.Name), sighting.Ref(refKept+x.Address+" "+at)
		old.Size, old.Written, old.Told, old.Author, old.Message = x.Size, x.Written, x.At, x.Author, x.Comment
		old.Lies = "the drive, version " + place.Readable(x.Name)
		old.Mark = mark(x.Size, old, x.Tag)
		v.out.put(reported{Sighting: old})
	}
	seen.Mark = mark(t.size, seen, t.tag)
	v.out.put(reported{Sighting: seen})
	v.now.Files[path] = keeps
	for _, name := range v.before.Files[path].Versions {
		if !slices.Contains(keeps.Versions, name) {
			v.out.put(reported{sighting.Sighting{At: versionAt(path, name)}, true})
		}
	}
}

func mark(size int64, s sighting.Sighting, tag string) entry.Mark {
	m := entry.Mark{Type: s.Type, Size: max(0, size), Written: entry.At(s.Written)}
	if tag != "" {
		m.Content = entry.ContentID{Kind: entry.EntityTag, Value: tag}
	}
	return m
}

// removed takes up the drive's trash.
func (v *surveying) removed(ctx context.Context) error {
	all, err := v.keeper.Removed(ctx, v.At)
	if errors.Is(err, problem.Unsupported) {
		return nil
	}
	if err != nil {
		return err
	}
	for _, r := range all {
		path, ok := place.Below(r.From, v.At)
		if !ok || path == "" || v.skipped(path) {
			continue
		}
		v.now.Removed[r.Name] = path
		if err := v.hold(told{path: path, removed: &r}); err != nil {
			return err
		}
	}
	if !v.whole {
		for name, path := range v.before.Removed {
			if _, still := v.now.Removed[name]; !still {
				if err := v.hold(told{path: path, gone: true, removed: &reach.RemovedItem{Name: name}}); err != nil {
					return err
				}
			}
		}
	}
	return nil
}

// inTrash is something in the drive's trash.
func (v *surveying) inTrash(t *told) sighting.Sighting {
	r := t.removed
	seen := sighting.Sighting{At: removedAt(t.path, r.Name), Ref: sighting.Ref(refKept + r.Address + " " + r.From), Origin: v.origin(t.path),
		Type: r.Info.Type, Size: r.Info.Size, Written: r.Info.Written, GoneAt: r.At, Readable: true, Lies: "the drive's own trash"}
	if r.By != "" {
		seen.Notes = append(seen.Notes, fmt.Sprintf("It was removed on the drive by %s.", place.Readable(r.By)))
	}
	if !r.Expires.IsZero() {
		seen.Notes = append(seen.Notes, fmt.Sprintf("The drive keeps it until %s.", r.Expires.UTC().Format("2 January 2006 15:04 MST")))
	}
	seen.Mark = mark(r.Info.Size, seen, r.Tag)
	return seen
}

// telling puts what is told into the order that surveys have: what belongs to a file is called after it with a slash behind, and other
// names may lie between.
type telling struct {
	report source.Reporter
	gone   bool // what is gone is told too
	heap   pile
	last   sighting.Locator
	any    bool
}

func (t *telling) put(r reported) { heap.Push(&t.heap, r) }

// until tells what comes before something, or all.
func (t *telling) until(before *sighting.Locator) error {
	for len(t.heap) > 0 && (before == nil || compare(t.heap[0].At, *before) < 0) {
		r := heap.Pop(&t.heap).(reported)
		if t.any && r.At == t.last {
			continue // a server that tells of a name twice
		}
		t.last, t.any = r.At, true
		err := error(nil)
		switch {
		case !r.gone:
			err = t.report.Sight(r.Sighting)
		case t.gone:
			err = t.report.Gone(r.At)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

func compare(a, b sighting.Locator) int {
	return cmp.Or(strings.Compare(a.Dir, b.Dir), strings.Compare(a.Name, b.Name))
}

// pile is a heap by the order of surveys.
type pile []reported

func (p pile) Len() int           { return len(p) }
func (p pile) Less(i, j int) bool { return compare(p[i].At, p[j].At) < 0 }
func (p pile) Swap(i, j int)      { p[i], p[j] = p[j], p[i] }
func (p *pile) Push(x any)        { *p = append(*p, x.(reported)) }
func (p *pile) Pop() any {
	last := (*p)[len(*p)-1]
	*p = (*p)[:len(*p)-1]
	return last
}
