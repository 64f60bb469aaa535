package service

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"mime"
	"net/http"
	"os"
	"path"
	"slices"
	"strings"
	"time"

	"github.com/labstack/echo/v5"
	"golang.org/x/net/webdav"

	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/typedtime"
	"humble-rewind/internal/reach"
	"humble-rewind/internal/source"
	"humble-rewind/internal/trails"
)

// momentPath is where folders as of a moment are opened with any file manager, by WebDAV (RFC 4918, class 1), to be read alone:
// /as-of/MOMENT/MACHINE/path. A moment is written as people do: now, 2026-03-04, 2026-03-04T17:00, "yesterday 17:00".
const momentPath = "/as-of"

// maxMomentEntries is how many entries a folder may have there: WebDAV knows no pages.
const maxMomentEntries = 100_000

// errTooMany says that a folder has more.
var errTooMany = fmt.Errorf("the folder has more than %d entries", maxMomentEntries)

// serveMoments answers for a technician who signs in with a token as password, whatever the name.
func (s *Service) serveMoments(c *echo.Context) error {
	w, r := c.Response(), c.Request()
	who, err := s.whoseMoment(r)
	if errors.Is(err, catalogue.ErrNotFound) {
		w.Header().Set("WWW-Authenticate", `Basic realm="Humble Rewind: a technician's token is the password", charset="UTF-8"`)
		return errSignedOut
	}
	if err != nil {
		return err
	}
	familiar(r.Context())
	ctx := context.WithValue(r.Context(), signedInKey{}, who)
	switch r.Method {
	case http.MethodOptions:
		w.Header().Set("DAV", "1")
		w.Header().Set("MS-Author-Via", "DAV")
		w.Header().Set("Allow", "OPTIONS, GET, HEAD, PROPFIND")
		w.WriteHeader(http.StatusOK)
		return nil
	case http.MethodGet, http.MethodHead:
	case "PROPFIND":
		if depth := r.Header.Get("Depth"); depth != "0" && depth != "1" {
			w.Header().Set("Content-Type", "application/xml; charset=utf-8")
			w.WriteHeader(http.StatusForbidden)
			_, err := io.WriteString(w, `<?xml version="1.0" encoding="utf-8"?><D:error xmlns:D="DAV:"><D:propfind-finite-depth/></D:error>`)
			return err
		}
	default:
		return &refusal{Status: http.StatusMethodNotAllowed, Title: "A moment can only be read",
			Detail: "What was cannot be changed.", Next: "Bring back what is wanted, with the console or humble-rewind bring-back."}
	}
	// What is in a file must never be taken for a page of ours.
	w.Header().Set("Content-Type", "application/octet-stream")
	w.Header().Set("Cache-Control", "private, no-cache")
	if name := path.Base(r.URL.Path); r.Method != "PROPFIND" {
		w.Header().Set("Content-Disposition", mime.FormatMediaType("attachment", map[string]string{"filename": place.Readable(name)}))
	}
	files := &moments{s: s, ctx: ctx, reads: r.Method != "PROPFIND", levels: map[string]*level{}}
	handler := webdav.Handler{Prefix: momentPath, FileSystem: files, LockSystem: webdav.NewMemLS()}
	if r.Method != "PROPFIND" {
		handler.ServeHTTP(w, r.WithContext(ctx))
		return nil
	}
	w.Header().Del("Content-Type")
	if r.Header.Get("Depth") == "1" {
		if _, err := files.list(strings.TrimPrefix(r.URL.Path, momentPath)); errors.Is(err, errTooMany) {
			w.Header().Del("Content-Disposition")
			return &refusal{Status: http.StatusInsufficientStorage, Title: "The folder is too large to be listed here", Detail: err.Error() + ".",
				Next: "Name a file in it, or look at it with the console or humble-rewind folder, which show it page by page."}
		}
	}
	untimed := &withoutUnknown{ResponseWriter: w}
	handler.ServeHTTP(untimed, r.WithContext(ctx))
	return untimed.end()
}

// unknownTime is how the library tells the write time of what nobody knows one of, which is to be told as none.
var unknownTime = []byte("<D:getlastmodified>" + time.Time{}.Format(http.TimeFormat) + "</D:getlastmodified>")

// withoutUnknown leaves unknown times out of an answer.
type withoutUnknown struct {
	http.ResponseWriter
	held []byte // what may be the beginning of one
}

func (w *withoutUnknown) Write(p []byte) (int, error) {
	text := bytes.ReplaceAll(append(w.held, p...), unknownTime, nil)
	keep := 0
	for n := min(len(text), len(unknownTime)-1); n > 0; n-- {
		if bytes.HasSuffix(text, unknownTime[:n]) {
			keep = n
			break
		}
	}
	_, err := w.ResponseWriter.Write(text[:len(text)-keep])
	w.held = bytes.Clone(text[len(text)-keep:])
	return len(p), err
}

func (w *withoutUnknown) end() error {
	if len(w.held) == 0 {
		return nil
	}
	_, err := w.ResponseWriter.Write(w.held)
	return err
}

// whoseMoment tells who asks: by a token, as a bearer or as the password of any name.
func (s *Service) whoseMoment(r *http.Request) (who signedIn, err error) {
	token, bearer := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer ")
	if _, password, basic := r.BasicAuth(); basic {
		token, bearer = password, true
	}
	if !bearer {
		return who, catalogue.ErrNotFound
	}
	who.name, err = s.catalogue.TechnicianByToken(r.Context(), secret(strings.TrimSpace(token)).hash())
	return who, err
}

// moments is the file system of one request: moments, in them machines, in those their files.
type moments struct {
	s      *Service
	ctx    context.Context
	reads  bool // files are opened to be read, and not only to be described
	levels map[string]*level
}

// level is what is in a folder, by name.
type level struct {
	names []string
	of    map[string]momentInfo
}

// momentInfo describes something there.
type momentInfo struct {
	name    string
	folder  bool
	size    int64
	written time.Time
	copy    int64 // of a file
}

func (i momentInfo) Name() string { return i.name }
func (i momentInfo) Size() int64  { return max(0, i.size) }

// ModTime is the write time, the zero Time where nothing tells.
func (i momentInfo) ModTime() time.Time { return i.written }

func (i momentInfo) IsDir() bool { return i.folder }
func (i momentInfo) Sys() any    { return nil }

func (i momentInfo) Mode() fs.FileMode {
	if i.folder {
		return fs.ModeDir | 0o555
	}
	return 0o444
}

// ETag tells one copy from another.
func (i momentInfo) ETag(context.Context) (string, error) {
	if i.folder {
		return "", webdav.ErrNotImplemented
	}
	return fmt.Sprintf(`"c%d-%d"`, i.copy, i.size), nil
}

// ContentType is the same for everything: nobody looks into a content to describe it.
func (i momentInfo) ContentType(context.Context) (string, error) {
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
func (m *moments) moment(text, zone string) (time.Time, error) {
	if text == "now" {
		return time.Time{}, nil
	}
	in, err := time.LoadLocation(zone)
	if err != nil {
		in = time.UTC
	}
	at, err := typedtime.Parse(strings.ReplaceAll(text, "T", " "), m.s.now(), in)
	if err != nil {
		at, err = typedtime.Parse(text, m.s.now(), in)
	}
	if err != nil {
		return at, os.ErrNotExist
	}
	return at, nil
}

// list lists what is in a folder.
func (m *moments) list(name string) (*level, error) {
	name = path.Clean("/" + name)
	if l, ok := m.levels[name]; ok {
		return l, nil
	}
	l := &level{of: map[string]momentInfo{}}
	add := func(i momentInfo) {
		if _, twice := l.of[i.name]; !twice {
			l.names = append(l.names, i.name)
			l.of[i.name] = i
		}
	}
	text, machine, at := split(name)
	err := error(nil)
	switch {
	case text == "":
		add(momentInfo{name: "now", folder: true, written: m.s.now()})
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
	m.levels[name] = l
	return l, nil
}

func (m *moments) machines(add func(momentInfo)) error {
	all, err := m.s.catalogue.Machines(m.ctx)
	for _, machine := range all {
		add(momentInfo{name: machine.Name, folder: true, written: m.s.now()})
	}
	return err
}

// entries lists what stood in a folder, as far as it can be read.
func (m *moments) entries(text string, p place.Place, add func(momentInfo)) error {
	machine, err := m.s.catalogue.Machine(m.ctx, p.Machine)
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
		f, next, err := m.s.trails.FolderPage(m.ctx, p, asOf, asOf, after, page)
		if errors.Is(err, trails.ErrNothingThere) {
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
		if count > maxMomentEntries {
			return errTooMany
		}
		if next == "" {
			return nil
		}
		after = next
	}
}

// shownAt describes an entry of a folder as of a moment; false for one that was not there or cannot be read.
func shownAt(e trails.Entry) (momentInfo, bool) {
	if e.State == trails.Added || e.Type == entry.File && e.Copy == 0 || e.Type != entry.File && e.Type != entry.Folder {
		return momentInfo{}, false
	}
	return momentInfo{name: e.Path, folder: e.Type == entry.Folder, size: e.Size, written: e.Written, copy: e.Copy}, true
}

// one looks one name up in a folder, without listing it.
func (m *moments) one(text string, p place.Place, name string) (momentInfo, error) {
	machine, err := m.s.catalogue.Machine(m.ctx, p.Machine)
	if errors.Is(err, catalogue.ErrNotFound) {
		return momentInfo{}, os.ErrNotExist
	}
	if err != nil {
		return momentInfo{}, err
	}
	asOf, err := m.moment(text, machine.Zone)
	if err != nil {
		return momentInfo{}, err
	}
	f, _, err := m.s.trails.FolderPage(m.ctx, p, asOf, asOf, before(name), 1)
	if errors.Is(err, trails.ErrNothingThere) {
		return momentInfo{}, os.ErrNotExist
	}
	if err != nil {
		return momentInfo{}, err
	}
	for _, e := range f.Level() {
		if i, ok := shownAt(e); ok && e.Path == name {
			return i, nil
		}
	}
	return momentInfo{}, os.ErrNotExist
}

// before is a name that comes before another in the order of bytes, with none between them that a file system takes.
func before(name string) string {
	last := len(name) - 1
	if name[last] == 0 {
		return name[:last]
	}
	return name[:last] + string([]byte{name[last] - 1}) + strings.Repeat("\xff", 255)
}

// Stat describes what a path leads to.
func (m *moments) Stat(_ context.Context, name string) (os.FileInfo, error) {
	i, err := m.look(name)
	if err != nil {
		return nil, err
	}
	return i, nil
}

func (m *moments) look(name string) (momentInfo, error) {
	name = path.Clean("/" + name)
	text, machine, at := split(name)
	if text == "" {
		return momentInfo{name: "/", folder: true, written: m.s.now()}, nil
	}
	if machine == "" || at == "/" { // a moment need not be listed to be there
		if _, err := m.list(name); err != nil {
			return momentInfo{}, err
		}
		return momentInfo{name: path.Base(name), folder: true, written: m.s.now()}, nil
	}
	if l, listed := m.levels[path.Dir(name)]; listed {
		if i, ok := l.of[path.Base(name)]; ok {
			return i, nil
		}
		return momentInfo{}, os.ErrNotExist
	}
	return m.one(text, place.Place{Machine: machine, Path: path.Dir(at)}, path.Base(at))
}

// OpenFile opens a file or folder for reading.
func (m *moments) OpenFile(_ context.Context, name string, flag int, _ os.FileMode) (webdav.File, error) {
	if flag&(os.O_WRONLY|os.O_RDWR|os.O_CREATE|os.O_TRUNC) != 0 {
		return nil, os.ErrPermission
	}
	i, err := m.look(name)
	if err != nil {
		return nil, err
	}
	f := &momentFile{m: m, path: name, info: i}
	if i.folder || !m.reads {
		return f, nil
	}
	if err := f.open(); err != nil {
		return nil, errors.Join(os.ErrNotExist, err)
	}
	return f, nil
}

// Mkdir, RemoveAll and Rename are refused.
func (m *moments) Mkdir(context.Context, string, os.FileMode) error { return os.ErrPermission }

// RemoveAll is refused.
func (m *moments) RemoveAll(context.Context, string) error { return os.ErrPermission }

// Rename is refused.
func (m *moments) Rename(context.Context, string, string) error { return os.ErrPermission }

// momentFile is a file or folder as it was.
type momentFile struct {
	m       *moments
	path    string
	info    momentInfo
	content source.Content
	at      reach.Anywhere
	*io.SectionReader
	read int // entries that Readdir has told
}

func (f *momentFile) open() error {
	c, err := f.m.s.catalogue.Copy(f.m.ctx, f.info.copy)
	if err != nil {
		return err
	}
	if f.content, err = f.m.s.openCopy(f.m.ctx, c); err != nil {
		return err
	}
	if f.content.File == nil {
		return errors.Join(os.ErrNotExist, f.content.Close())
	}
	if f.at, err = f.m.s.contents.At(f.m.ctx, f.content); err != nil {
		return errors.Join(err, f.content.Close())
	}
	f.info.size = f.at.Size
	f.SectionReader = io.NewSectionReader(f.at, 0, f.at.Size)
	return nil
}

// Close lets go of the content.
func (f *momentFile) Close() error {
	if f.SectionReader == nil {
		return nil
	}
	return errors.Join(f.at.Close(), f.content.Close())
}

// Read reads a file.
func (f *momentFile) Read(p []byte) (int, error) {
	if f.SectionReader == nil {
		return 0, os.ErrInvalid
	}
	return f.SectionReader.Read(p)
}

// Seek moves to an offset of a file.
func (f *momentFile) Seek(offset int64, whence int) (int64, error) {
	if f.SectionReader == nil {
		return 0, os.ErrInvalid
	}
	return f.SectionReader.Seek(offset, whence)
}

// Write is refused.
func (f *momentFile) Write([]byte) (int, error) { return 0, os.ErrPermission }

// Stat describes it.
func (f *momentFile) Stat() (os.FileInfo, error) { return f.info, nil }

// Readdir lists a folder.
func (f *momentFile) Readdir(count int) ([]os.FileInfo, error) {
	l, err := f.m.list(f.path)
	if err != nil {
		return nil, err
	}
	names := slices.Sorted(slices.Values(l.names[f.read:]))
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
