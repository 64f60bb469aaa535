package cloud

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"

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

// maxFiles is how many entries a drive may have.
const maxFiles = 2_000_000

// surveying is one survey.
type surveying struct {
	*store
	before, now memo
	kept        map[string]reach.Kept // what is told now, by path below the store's folder
	all         []reported
	whole       bool // everything is told, and not only what changed
	missed      int  // files whose versions could not be asked for
}

// reported is something to be sighted or called gone.
type reported struct {
	sighting.Sighting
	gone bool
}

func (s *store) Survey(ctx context.Context, known source.Known, report source.Reporter) error {
	refuse := func(err error) error { return fmt.Errorf("read the drive at %s: %w", place.Quote(s.At), err) }
	v := &surveying{store: s, kept: map[string]reach.Kept{}}
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
		if len(v.kept) >= maxFiles {
			return fmt.Errorf("it has more than %d entries: %w", maxFiles, problem.TooLarge)
		}
		v.kept[path] = k
		return nil
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
	if err := v.files(ctx); err != nil {
		return refuse(err)
	}
	if err := v.removed(ctx); err != nil {
		return refuse(err)
	}
	if v.missed > 0 {
		report.Note(fmt.Sprintf("The versions of %d files could not be asked for; they are read as they are now.", v.missed))
	}
	if err := v.report(report); err != nil {
		return err
	}
	encoded, err := json.Marshal(v.now)
	report.Remember(encoded)
	return err
}

// files takes up what the drive tells of files and folders, and asks for the versions of what has changed.
func (v *surveying) files(ctx context.Context) error {
	var ask []string
	for path, k := range v.kept {
		switch {
		case v.skipped(path):
			delete(v.kept, path)
		case k.Gone:
			v.forget(path)
		case k.Info.Type == entry.Folder:
			v.all = append(v.all, reported{Sighting: v.folder(path)})
		default:
			if was, ok := v.before.Files[path]; ok && was.Tag != "" && was.Tag == k.Tag {
				v.asBefore(path, k, was)
				continue
			}
			ask = append(ask, path)
		}
	}
	slices.Sort(ask)
	versions := make([][]reach.KeptVersion, len(ask))
	failed := make([]error, len(ask))
	for from := 0; from < len(ask); from += 1024 {
		some := ask[from:min(len(ask), from+1024)]
		if err := reach.SideBySide(len(some), func(n int) error {
			versions[from+n], failed[from+n] = v.keeper.Versions(ctx, place.Join(v.At, some[n]))
			return ctx.Err()
		}); err != nil {
			return err
		}
	}
	for n, path := range ask {
		switch {
		case failed[n] == nil, errors.Is(failed[n], problem.Unsupported), errors.Is(failed[n], problem.NotThere):
		default:
			v.missed++
		}
		v.file(path, v.kept[path], versions[n])
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
	v.all = append(v.all, reported{sighting.Sighting{At: locate(path)}, true})
	for _, name := range v.before.Files[path].Versions {
		v.all = append(v.all, reported{sighting.Sighting{At: versionAt(path, name)}, true})
	}
	delete(v.now.Files, path)
}

func (v *surveying) folder(path string) sighting.Sighting {
	return sighting.Sighting{At: locate(path), Ref: sighting.Ref(refNow + place.Join(v.At, path)), Mark: entry.Mark{Type: entry.Folder},
		Origin: v.origin(path), Type: entry.Folder, Size: -1, Readable: true}
}

// asBefore takes up a file that did not change, with the versions that were known of it.
func (v *surveying) asBefore(path string, k reach.Kept, was keptFile) {
	v.now.Files[path] = was
	v.all = append(v.all, reported{Sighting: sighting.Sighting{At: locate(path), Same: true}})
	for _, name := range was.Versions {
		v.all = append(v.all, reported{Sighting: sighting.Sighting{At: versionAt(path, name), Same: true}})
	}
}

// file takes up a file with its versions.
func (v *surveying) file(path string, k reach.Kept, versions []reach.KeptVersion) {
	at := place.Join(v.At, path)
	seen := sighting.Sighting{At: locate(path), Ref: sighting.Ref(refNow + at), Origin: v.origin(path), Type: entry.File, Size: k.Info.Size,
		Written: k.Info.Written, Readable: true, Lies: "the drive, as it is now"}
	keeps := keptFile{Tag: k.Tag}
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
		v.all = append(v.all, reported{Sighting: old})
	}
	seen.Mark = mark(k.Info.Size, seen, k.Tag)
	v.all = append(v.all, reported{Sighting: seen})
	v.now.Files[path] = keeps
	for _, name := range v.before.Files[path].Versions {
		if !slices.Contains(keeps.Versions, name) {
			v.all = append(v.all, reported{sighting.Sighting{At: versionAt(path, name)}, true})
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
		seen := sighting.Sighting{At: removedAt(path, r.Name), Ref: sighting.Ref(refKept + r.Address + " " + r.From), Origin: v.origin(path),
			Type: r.Info.Type, Size: r.Info.Size, Written: r.Info.Written, GoneAt: r.At, Readable: true, Lies: "the drive's own trash"}
		if r.By != "" {
			seen.Notes = append(seen.Notes, fmt.Sprintf("It was removed on the drive by %s.", place.Readable(r.By)))
		}
		if !r.Expires.IsZero() {
			seen.Notes = append(seen.Notes, fmt.Sprintf("The drive keeps it until %s.", r.Expires.UTC().Format("2 January 2006 15:04 MST")))
		}
		seen.Mark = mark(r.Info.Size, seen, r.Tag)
		v.all = append(v.all, reported{Sighting: seen})
	}
	if !v.whole {
		for name, path := range v.before.Removed {
			if _, still := v.now.Removed[name]; !still {
				v.all = append(v.all, reported{sighting.Sighting{At: removedAt(path, name)}, true})
			}
		}
	}
	return nil
}

// report sights everything in the order that surveys have.
func (v *surveying) report(report source.Reporter) error {
	ordered := make([]*reported, len(v.all))
	for i := range v.all {
		ordered[i] = &v.all[i]
	}
	slices.SortFunc(ordered, func(a, b *reported) int {
		return cmp.Or(strings.Compare(a.At.Dir, b.At.Dir), strings.Compare(a.At.Name, b.At.Name))
	})
	for n, x := range ordered {
		if n > 0 && ordered[n-1].At == x.At {
			continue // a server that tells of a name twice
		}
		err := error(nil)
		switch {
		case !x.gone:
			err = report.Sight(x.Sighting)
		case !v.whole:
			err = report.Gone(x.At)
		}
		if err != nil {
			return err
		}
	}
	return nil
}
