// Package moments shows folders as of a moment as a file system that can only be read: moments, in them machines, in those their files. A moment
// is written as people do: now, 2026-03-04, 2026-03-04T17:00, "yesterday 17:00".
package moments

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"slices"
	"strings"
	"time"

	"golang.org/x/net/webdav"

	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/contents"
	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/typedtime"
	"humble-rewind/internal/past"
	"humble-rewind/internal/reach"
	"humble-rewind/internal/source"
)

// View is what moments are read from.
type View struct {
	Past     *past.Reader // of whoever asks
	Contents *contents.Reader
	Now      func() time.Time
}

// maxEntries is how many entries a folder may have here: WebDAV knows no pages.
const maxEntries = 100_000

// ErrTooMany says that a folder has more entries than are listed.
var ErrTooMany = fmt.Errorf("the folder has more than %d entries", maxEntries)

// Files returns the file system for one request. read says that files are opened to be read, and not only to be described.
func (v *View) Files(ctx context.Context, read bool) *Files {
	return &Files{view: v, ctx: ctx, reads: read, levels: map[string]*level{}}
}

// Files is the file system of one request, a webdav.FileSystem (RFC 4918, class 1). It is not safe for concurrent use.
type Files struct {
	view   *View
	ctx    context.Context
	reads  bool // files are opened to be read, and not only to be described
	levels map[string]*level
}

// level is what is in a folder, by name.
type level struct {
	names []string
	of    map[string]info
}

// info describes something there.
type info struct {
	name    string
	folder  bool
	size    int64
	written time.Time
	copy    copies.ID // of a file
}

func (i info) Name() string { return i.name }
func (i info) Size() int64  { return max(0, i.size) }

// ModTime is the write time, the zero Time where nothing tells.
func (i info) ModTime() time.Time { return i.written }

func (i info) IsDir() bool { return i.folder }
func (i info) Sys() any    { return nil }

func (i info) Mode() fs.FileMode {
	if i.folder {
		return fs.ModeDir | 0o555
	}
	return 0o444
}

// ETag tells one copy from another.
func (i info) ETag(context.Context) (string, error) {
	if i.folder {
		return "", webdav.ErrNotImplemented
	}
	return fmt.Sprintf(`"c%d-%d"`, i.copy, i.size), nil
}

// ContentType is the same for everything: nobody looks into a content to describe it.
func (i info) ContentType(context.Context) (string, error) {
	if i.folder {
		return "httpd/unix-directory", nil
	}
	return "application/octet-stream", nil
}

// split parts a path into moment, machine and the place on it.
func split(name string) (moment, machine, at string) {
	parts := strings.SplitN(strings.Trim(path.Clean("/"+name), "/"), "/", 3)
	for len(parts) < 3 {
		parts = append(parts, "")
	}
	return parts[0], parts[1], "/" + parts[2]
}

// moment reads a moment; zero is now.
func (m *Files) moment(text, zone string) (time.Time, error) {
	if text == "now" {
		return time.Time{}, nil
	}
	in, err := time.LoadLocation(zone)
	if err != nil {
		in = time.UTC
	}
	at, err := typedtime.Parse(strings.ReplaceAll(text, "T", " "), m.view.Now(), in)
	if err != nil {
		at, err = typedtime.Parse(text, m.view.Now(), in)
	}
	if err != nil {
		return at, os.ErrNotExist
	}
	return at, nil
}

// list lists what is in a folder.
func (m *Files) list(name string) (*level, error) {
	name = path.Clean("/" + name)
	if l, ok := m.levels[name]; ok {
		return l, nil
	}
	l := &level{of: map[string]info{}}
	add := func(i info) {
		if _, twice := l.of[i.name]; !twice {
			l.names = append(l.names, i.name)
			l.of[i.name] = i
		}
	}
	text, machine, at := split(name)
	err := error(nil)
	switch {
	case text == "":
		add(info{name: "now", folder: true, written: m.view.Now()})
	case machine == "":
		if _, err = m.moment(text, "UTC"); err == nil {
			err = m.machines(add)
		}
	default:
		err = m.entries(text, place.Place{Machine: machine, Path: at}, add)
	}
	if err != nil {
		return nil, err
	}
	slices.Sort(l.names)
	m.levels[name] = l
	return l, nil
}

func (m *Files) machines(add func(info)) error {
	all, err := m.view.Past.View.Machines.All(m.ctx)
	for _, machine := range all {
		add(info{name: machine.Name, folder: true, written: m.view.Now()})
	}
	return err
}

// entries lists what stood in a folder, as far as it can be read.
func (m *Files) entries(text string, p place.Place, add func(info)) error {
	machine, err := m.view.Past.View.Machines.Named(m.ctx, p.Machine)
	if errors.Is(err, catalogue.ErrNotFound) {
		return os.ErrNotExist
	}
	if err != nil {
		return err
	}
	asOf, err := m.moment(text, machine.Zone)
	if err != nil {
		return err
	}
	const page = 1000
	count := 0
	for after := ""; ; {
		f, next, err := m.view.Past.FolderPage(m.ctx, p, asOf, asOf, after, page)
		if errors.Is(err, past.ErrNothingThere) {
			return os.ErrNotExist
		}
		if err != nil {
			return err
		}
		for _, e := range f.Level() {
			if i, ok := shownAt(e); ok {
				count++
				add(i)
			}
		}
		if count > maxEntries {
			return ErrTooMany
		}
		if next == "" {
			return nil
		}
		after = next
	}
}

// shownAt describes an entry of a folder as of a moment; false for one that was not there or cannot be read.
func shownAt(e past.Entry) (info, bool) {
	if e.State == past.Added || e.Type == entry.File && e.Copy == 0 || e.Type != entry.File && e.Type != entry.Folder {
		return info{}, false
	}
	return info{name: e.Path, folder: e.Type == entry.Folder, size: e.Size, written: e.Written, copy: e.Copy}, true
}

// one looks one name up in a folder, without listing it.
func (m *Files) one(text string, p place.Place, name string) (info, error) {
	machine, err := m.view.Past.View.Machines.Named(m.ctx, p.Machine)
	if errors.Is(err, catalogue.ErrNotFound) {
		return info{}, os.ErrNotExist
	}
	if err != nil {
		return info{}, err
	}
	asOf, err := m.moment(text, machine.Zone)
	if err != nil {
		return info{}, err
	}
	f, _, err := m.view.Past.FolderPage(m.ctx, p, asOf, asOf, before(name), 1)
	if errors.Is(err, past.ErrNothingThere) {
		return info{}, os.ErrNotExist
	}
	if err != nil {
		return info{}, err
	}
	for _, e := range f.Level() {
		if i, ok := shownAt(e); ok && e.Path == name {
			return i, nil
		}
	}
	return info{}, os.ErrNotExist
}

// before is a name that comes before another in the order of bytes, with none between them that a file system takes.
func before(name string) string {
	last := len(name) - 1
	if name[last] == 0 {
		return name[:last]
	}
	return name[:last] + string([]byte{name[last] - 1}) + strings.Repeat("\xff", 255)
}

// List tells whether a folder can be listed: the error is ErrTooMany, or says that there is none.
func (m *Files) List(name string) error {
	_, err := m.list(name)
	return err
}

// Stat describes what a path leads to.
func (m *Files) Stat(_ context.Context, name string) (os.FileInfo, error) {
	i, err := m.look(name)
	if err != nil {
		return nil, err
	}
	return i, nil
}

func (m *Files) look(name string) (info, error) {
	name = path.Clean("/" + name)
	text, machine, at := split(name)
	if text == "" {
		return info{name: "/", folder: true, written: m.view.Now()}, nil
	}
	if machine == "" || at == "/" { // a moment need not be listed to be there
		if _, err := m.list(name); err != nil {
			return info{}, err
		}
		return info{name: path.Base(name), folder: true, written: m.view.Now()}, nil
	}
	if l, listed := m.levels[path.Dir(name)]; listed {
		if i, ok := l.of[path.Base(name)]; ok {
			return i, nil
		}
		return info{}, os.ErrNotExist
	}
	return m.one(text, place.Place{Machine: machine, Path: path.Dir(at)}, path.Base(at))
}

// OpenFile opens a file or folder for reading.
func (m *Files) OpenFile(_ context.Context, name string, flag int, _ os.FileMode) (webdav.File, error) {
	if flag&(os.O_WRONLY|os.O_RDWR|os.O_CREATE|os.O_TRUNC) != 0 {
		return nil, os.ErrPermission
	}
	i, err := m.look(name)
	if err != nil {
		return nil, err
	}
	f := &file{m: m, path: name, info: i}
	if i.folder || !m.reads {
		return f, nil
	}
	if err := f.open(); err != nil {
		return nil, errors.Join(os.ErrNotExist, err)
	}
	return f, nil
}

// Mkdir, RemoveAll and Rename are refused.
func (m *Files) Mkdir(context.Context, string, os.FileMode) error { return os.ErrPermission }

// RemoveAll is refused.
func (m *Files) RemoveAll(context.Context, string) error { return os.ErrPermission }

// Rename is refused.
func (m *Files) Rename(context.Context, string, string) error { return os.ErrPermission }

// file is a file or folder as it was.
type file struct {
	m       *Files
	path    string
	info    info
	content source.Opened
	at      reach.Anywhere
	*io.SectionReader
	read int // entries that Readdir has told
}

func (f *file) open() error {
	c, err := f.m.view.Past.View.Copies.ByID(f.m.ctx, f.info.copy)
	if err != nil {
		return err
	}
	if !c.Readable {
		return os.ErrNotExist
	}
	if f.content, err = f.m.view.Contents.Open(f.m.ctx, c); err != nil {
		return err
	}
	if f.content.File == nil {
		return errors.Join(os.ErrNotExist, f.content.Close())
	}
	if f.at, err = f.m.view.Contents.At(f.m.ctx, f.content); err != nil {
		return errors.Join(err, f.content.Close())
	}
	f.info.size = f.at.Size
	f.SectionReader = io.NewSectionReader(f.at, 0, f.at.Size)
	return nil
}

// Close lets go of the content.
func (f *file) Close() error {
	if f.SectionReader == nil {
		return nil
	}
	return errors.Join(f.at.Close(), f.content.Close())
}

// Read reads a file.
func (f *file) Read(p []byte) (int, error) {
	if f.SectionReader == nil {
		return 0, os.ErrInvalid
	}
	return f.SectionReader.Read(p)
}

// Seek moves to an offset of a file.
func (f *file) Seek(offset int64, whence int) (int64, error) {
	if f.SectionReader == nil {
		return 0, os.ErrInvalid
	}
	return f.SectionReader.Seek(offset, whence)
}

// Write is refused.
func (f *file) Write([]byte) (int, error) { return 0, os.ErrPermission }

// Stat describes it.
func (f *file) Stat() (os.FileInfo, error) { return f.info, nil }

// Readdir lists a folder.
func (f *file) Readdir(count int) ([]os.FileInfo, error) {
	l, err := f.m.list(f.path)
	if err != nil {
		return nil, err
	}
	names := l.names[f.read:]
	if count > 0 && len(names) > count {
		names = names[:count]
	}
	f.read += len(names)
	all := make([]os.FileInfo, len(names))
	for i, name := range names {
		all[i] = l.of[name]
	}
	if count > 0 && len(all) == 0 {
		return nil, io.EOF
	}
	return all, nil
}
