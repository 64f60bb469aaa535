package archive

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"humble-rewind/internal/core/archived"
	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/problem"
	"humble-rewind/internal/reach"
	"humble-rewind/internal/source"
)

// What is read of any archive, and what is said of one that is more, or not as it was packed.
const (
	maxMembers = archived.MaxMembers
	maxHeld    = archived.MaxHeld
)

var errTooMany, errDamaged = archived.ErrTooMany, archived.ErrDamaged

// member is a file, folder or link of an archive.
type member struct {
	path    string // in the archive, clean, without a slash in front
	typ     entry.Type
	size    int64 // bytes; 0 for folders
	written time.Time
	zoned   bool // its write time is of no wall clock
	content entry.ContentID
	target  string // of a link
	why     string // why its content cannot be read; "" where it can
	at      int64  // of a tar, where its content begins
	number  int    // of a zip, among its members
	says    string // of it, where there is something to say though it can be read
}

func (m member) name() string { return place.Name("/" + m.path) }
func (m member) dir() string  { return strings.TrimPrefix(place.Folder("/"+m.path), "/") }

// opened is an archive whose members are known. It is read by one at a time while they are found out, and then by any number.
type opened struct {
	file     file
	called   string // for people
	format   *format
	secret   []byte
	zone     *time.Location
	page     string // of names
	from     reach.File
	unpacker source.Unpacker
	at       reach.Anywhere // of a zip, and of a tar that can be read at any offset
	members  []member       // by folder and name
	notes    []string
	newest   time.Time
	held     int64           // bytes, about, of what is known of members
	heads    []packed        // of a zip's members, by their numbers; nil of any other
	begun    bool            // they say where contents begin, not their own heads
	cryptic  map[int]cryptic // of a zip's encrypted members, by their numbers
	length   int64           // of a packed tar, unpacked
	kept     keptTar
	close    func() error
	users    int
	gone     bool // it was replaced or is to be closed; mu of the store guards both
}

// anywhere makes the archive readable at any offset, for longer than whoever asked for it waits.
func (o *opened) anywhere(ctx context.Context) (err error) {
	if o.at, err = reach.ReadAnywhere(ctx, o.from); err == nil && !o.at.Kept {
		o.at, err = reach.ReadAnywhere(context.WithoutCancel(ctx), o.from)
	}
	return err
}

// passed counts what is left out, by the reason.
type passed map[string]int

// take takes a member up under the path that the archive gives, and the folders that it lies in.
func (o *opened) take(m member, raw string, left passed) error {
	path, ok := cleanPath(raw)
	switch {
	case !ok:
		left["have names that lead out of the archive"]++
		return nil
	case len(path) > maxPath || len(m.target) > maxPath:
		left["have names longer than any file system takes"]++
		return nil
	case path == "":
		return nil // the folder itself
	}
	if o.held += int64(perMember + len(path) + len(m.target)); o.held > maxHeld || len(o.members) == maxMembers {
		return errTooMany
	}
	m.path, m.written = strings.Clone(path), entry.Bounded(m.written) // without what it was cut out of
	o.members = append(o.members, m)
	return nil
}

// Bounds on what is known of an archive's members, in bytes.
const (
	perMember = 264  // besides its path
	maxPath   = 4096 // PATH_MAX
)

// cleanPath returns a member's path without what says nothing; false for one that climbs, holds a zero byte, or has no names.
func cleanPath(raw string) (string, bool) {
	if strings.ContainsRune(raw, 0) {
		return "", false
	}
	var names []string
	for name := range strings.SplitSeq(raw, "/") {
		switch name {
		case "", ".":
		case "..":
			return "", false
		default:
			names = append(names, name)
		}
	}
	return strings.Join(names, "/"), len(names) > 0 || raw != ""
}

// maxDepth is how deep members may lie; paths end before that on any common system.
const maxDepth = 500

// settle orders the members, adds the folders that none is of, and leaves out what is there twice: the later one is what unpacking
// leaves.
func (o *opened) settle(left passed) {
	byPath := make(map[string]int, len(o.members))
	kept := o.members[:0]
	for _, m := range o.members {
		if strings.Count(m.path, "/") > maxDepth {
			left["lie too deep to be read"]++
			continue
		}
		if n, twice := byPath[m.path]; twice {
			if kept[n].typ != entry.Folder || m.typ != entry.Folder {
				left["are called as others are, which unpacking would put in their place"]++
			}
			kept[n] = m
			continue
		}
		byPath[m.path] = len(kept)
		kept = append(kept, m)
	}
	for _, m := range kept {
		for dir := m.dir(); dir != "" && len(kept) < 2*maxMembers; dir = (member{path: dir}).dir() {
			if _, known := byPath[dir]; known {
				break
			}
			byPath[dir] = len(kept)
			kept = append(kept, member{path: dir, typ: entry.Folder})
		}
	}
	// What lies in what is no folder cannot have been packed so.
	o.members = slices.DeleteFunc(kept, func(m member) bool {
		for dir := m.dir(); dir != ""; dir = (member{path: dir}).dir() {
			if n, known := byPath[dir]; known && kept[n].typ != entry.Folder {
				left["lie in what is no folder"]++
				return true
			}
		}
		return false
	})
	slices.SortFunc(o.members, func(a, b member) int {
		return cmp.Or(strings.Compare(a.dir(), b.dir()), strings.Compare(a.path, b.path))
	})
	zoneless := 0
	for _, m := range o.members {
		if m.written.After(o.newest) {
			o.newest = m.written
		}
		if m.typ == entry.File && !m.zoned && !m.written.IsZero() {
			zoneless++
		}
	}
	if zoneless > 0 {
		o.notes = append(
			o.notes,
			fmt.Sprintf("%s: the write times of %s are kept to two seconds and without a zone; the machine's is assumed.",
				place.Readable(o.called), count(zoneless, "member", "members")),
		)
	}
	if n := len(o.cryptic); n > 0 {
		o.notes = append(o.notes, fmt.Sprintf("%s: %s encrypted; they are read once the source is unlocked with the archive's password.",
			place.Readable(o.called), count(n, "member is", "members are")))
	}
	for _, why := range sortedKeys(left) {
		o.notes = append(o.notes, fmt.Sprintf("%s: %s.", place.Readable(o.called), membersThat(left[why], why)))
	}
}

func membersThat(n int, why string) string {
	return fmt.Sprintf("%d of its members %s; they are left out", n, why)
}

func sortedKeys(p passed) []string {
	var all []string
	for key := range p {
		all = append(all, key)
	}
	slices.Sort(all)
	return all
}

// find returns a member by its path.
func (o *opened) find(path string) (member, bool) {
	dir := member{path: path}.dir()
	n, ok := slices.BinarySearchFunc(o.members, member{path: path}, func(m, want member) int {
		return cmp.Or(strings.Compare(m.dir(), dir), strings.Compare(m.path, want.path))
	})
	if !ok {
		return member{}, false
	}
	return o.members[n], true
}

// in returns the members directly in a folder.
func (o *opened) in(dir string) []member {
	first, _ := slices.BinarySearchFunc(o.members, dir, func(m member, dir string) int {
		return cmp.Or(strings.Compare(m.dir(), dir), 1)
	})
	last := first
	for last < len(o.members) && o.members[last].dir() == dir {
		last++
	}
	return o.members[first:last]
}

// info describes a member; whose it is and who may read it is unknown.
func (m member) info() reach.Info {
	i := reach.Info{Name: m.name(), Type: m.typ, Size: m.size, Written: m.written}
	if m.typ == entry.Link {
		i.Size = int64(len(m.target))
	}
	return i
}

// Mark tells a changed member from an unchanged one.
func (m member) mark() entry.Mark {
	mark := entry.Mark{Type: m.typ, Content: m.content}
	if m.typ != entry.Folder {
		mark.Size, mark.Written = m.size, entry.At(m.written)
	}
	if m.typ == entry.Link {
		mark.Content = entry.ContentID{Kind: entry.EntityTag, Value: m.target}
	}
	return mark
}

// tree is a folder of an archive, to be read.
type tree struct {
	of      *opened
	path    string
	release func()
}

// memberFile is a file of an archive.
type memberFile struct {
	of      *opened
	m       member
	release func()
}

func (f *memberFile) Info(context.Context) (reach.Info, error) { return f.m.info(), nil }

func (f *memberFile) Close() error {
	f.release()
	return nil
}

// Stream reads the member from its beginning. What does not match its checksum in the end is said with errDamaged.
func (f *memberFile) Stream(ctx context.Context) (io.ReadCloser, error) {
	if f.m.why != "" {
		return nil, errors.New(f.m.why)
	}
	s, err := f.of.stream(ctx, f.m)
	if err != nil {
		return nil, fmt.Errorf("read %s: %w", place.Quote(f.m.path), err)
	}
	return s, nil
}

func (t *tree) Info(context.Context) (reach.Info, error) {
	if m, ok := t.of.find(t.path); ok {
		return m.info(), nil
	}
	return reach.Info{Name: place.Name("/" + t.path), Type: entry.Folder}, nil
}

func (t *tree) List(ctx context.Context) ([]reach.Info, error) {
	var all []reach.Info
	for _, m := range t.of.in(t.path) {
		all = append(all, m.info())
	}
	return all, ctx.Err()
}

func (t *tree) member(name string) (member, error) {
	if err := reach.CheckName(name); err != nil {
		return member{}, err
	}
	m, ok := t.of.find(join(t.path, name))
	if !ok {
		return member{}, fmt.Errorf("%s: %w", place.Quote(name), problem.NotThere)
	}
	return m, nil
}

func (t *tree) Look(_ context.Context, name string) (reach.Info, error) {
	m, err := t.member(name)
	return m.info(), err
}

func (t *tree) Open(_ context.Context, name string) (reach.File, error) {
	m, err := t.member(name)
	if err == nil && m.typ != entry.File {
		err = problem.NotFile
	}
	if err != nil {
		return nil, err
	}
	return &memberFile{t.of, m, func() {}}, nil
}

func (t *tree) Target(_ context.Context, name string) (string, error) {
	m, err := t.member(name)
	return m.target, err
}

func (t *tree) Attributes(context.Context, string) (reach.Attributes, error) { return nil, nil }

func (t *tree) Enter(_ context.Context, name string) (reach.Tree, error) {
	m, err := t.member(name)
	if err == nil && m.typ != entry.Folder {
		err = problem.NotFolder
	}
	if err != nil {
		return nil, err
	}
	return &tree{t.of, m.path, func() {}}, nil
}

func (t *tree) Close() error {
	t.release()
	return nil
}

func join(dir, name string) string {
	if dir == "" || name == "" {
		return dir + name
	}
	return dir + "/" + name
}
