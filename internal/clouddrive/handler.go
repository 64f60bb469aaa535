package clouddrive

import (
	"context"
	"encoding/xml"
	"errors"
	"io/fs"
	"net"
	"net/http"
	"net/url"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	"golang.org/x/net/webdav"
)

// Where the parts of the drive are served.
const (
	FilesPath    = "/files"
	trashPath    = "/trash"
	versionsPath = "/versions"
)

// TrashSpace is the XML namespace of the extension, see docs/drive-trash.md.
const TrashSpace = "urn:humble-rewind:drive-trash"

// Handler serves the drive.
func (d *Drive) Handler() http.Handler {
	files := &webdav.Handler{Prefix: FilesPath, FileSystem: fileSystem{d, webdav.Dir(d.file("/"))}, LockSystem: webdav.NewMemLS()}
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		name, secret, basic := r.BasicAuth()
		if token, bearer := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer "); bearer {
			name, secret, basic = "", token, true
		}
		who, ok := "", false
		if basic {
			from, _, _ := net.SplitHostPort(r.RemoteAddr)
			wait := d.guesses.wait(name+"\x00"+from, time.Now())
			if wait > 0 && !d.knows(name, secret) {
				w.Header().Set("Retry-After", strconv.Itoa(int(wait.Seconds())+1))
				http.Error(w, "Too many passwords were tried; wait.", http.StatusTooManyRequests)
				return
			}
			who, ok = d.signedIn(r.Context(), name, secret)
			d.guesses.tried(name+"\x00"+from, ok, time.Now())
		}
		if !ok {
			w.Header().Set("WWW-Authenticate", `Basic realm="drive", charset="UTF-8"`)
			http.Error(w, "Sign in with the drive's name and password, or a token that has not expired.", http.StatusUnauthorized)
			return
		}
		switch {
		case r.URL.Path == FilesPath || strings.HasPrefix(r.URL.Path, FilesPath+"/"):
			d.serveFiles(w, r, who, files)
		case r.URL.Path == trashPath || strings.HasPrefix(r.URL.Path, trashPath+"/"):
			d.serveTrash(w, r, who)
		case strings.HasPrefix(r.URL.Path, versionsPath+"/"):
			d.serveVersion(w, r)
		default:
			http.NotFound(w, r)
		}
	})
}

// statusOf is the status that an error is answered with.
func statusOf(err error) int {
	for status, known := range map[int]error{http.StatusPreconditionFailed: errPrecondition, http.StatusNotFound: errNotFound,
		http.StatusConflict: errNoParent, http.StatusMethodNotAllowed: errTaken, http.StatusInsufficientStorage: errFull} {
		if errors.Is(err, known) {
			return status
		}
	}
	return http.StatusInternalServerError
}

func answer(w http.ResponseWriter, status int, err error) {
	if err != nil {
		status = statusOf(err)
		if status != http.StatusInternalServerError {
			http.Error(w, err.Error(), status)
			return
		}
	}
	w.WriteHeader(status)
}

func (d *Drive) serveFiles(w http.ResponseWriter, r *http.Request, who string, files http.Handler) {
	ctx := r.Context()
	name := clean(strings.TrimPrefix(r.URL.Path, FilesPath))
	match := r.Header.Get("If-Match")
	if to, ok := destination(r); !d.plain(name) || ok && r.Header.Get("Destination") != "" && !d.plain(to) {
		answer(w, 0, errNotFound)
		return
	}
	switch r.Method {
	case http.MethodOptions:
		w.Header().Set("DAV", "1, version-control, version-history")
		w.Header().Set("Allow", "OPTIONS, GET, HEAD, PUT, DELETE, PROPFIND, MKCOL, COPY, MOVE, REPORT")
		w.WriteHeader(http.StatusOK)
	case http.MethodPut:
		if r.Header.Get("If-None-Match") == "*" {
			match = "*"
		}
		if strings.HasSuffix(r.URL.Path, "/") {
			answer(w, 0, errTaken)
			return
		}
		tag, created, err := d.Put(ctx, name, r.Body, who, r.Header.Get("Comment"), match)
		if err == nil {
			w.Header().Set("ETag", tag)
		}
		answer(w, map[bool]int{true: http.StatusCreated, false: http.StatusNoContent}[created], err)
	case http.MethodDelete:
		answer(w, http.StatusNoContent, d.Remove(ctx, name, who, match, r.Header.Get("Trash") == "F"))
	case "MKCOL":
		if r.ContentLength > 0 {
			w.WriteHeader(http.StatusUnsupportedMediaType)
			return
		}
		answer(w, http.StatusCreated, d.Mkdir(ctx, name))
	case "MOVE":
		to, ok := destination(r)
		if !ok {
			w.WriteHeader(http.StatusBadGateway)
			return
		}
		created, err := d.Move(ctx, name, to, who, r.Header.Get("Overwrite") != "F")
		answer(w, map[bool]int{true: http.StatusCreated, false: http.StatusNoContent}[created], err)
	case "REPORT":
		d.report(w, r, name)
	case "COPY":
		d.copy(w, r, name, who)
	case "LOCK", "UNLOCK", "PROPPATCH":
		w.WriteHeader(http.StatusMethodNotAllowed)
	default:
		files.ServeHTTP(w, r)
	}
}

// maxDepth is how deep folders are copied.
const maxDepth = 100

// copy answers a COPY: a file becomes a new version of its destination, a folder comes with what is in it unless its depth is 0.
func (d *Drive) copy(w http.ResponseWriter, r *http.Request, name, who string) {
	to, ok := destination(r)
	if !ok {
		w.WriteHeader(http.StatusBadGateway)
		return
	}
	from, err := os.Stat(d.file(name))
	if err != nil || to == name || strings.HasPrefix(to, strings.TrimSuffix(name, "/")+"/") {
		answer(w, 0, errNotFound)
		return
	}
	there, err := os.Stat(d.file(to))
	stands := err == nil
	switch {
	case stands && r.Header.Get("Overwrite") == "F":
		err = errPrecondition
	case stands && (there.IsDir() || from.IsDir()):
		err = d.Remove(r.Context(), to, who, "", false)
	default:
		err = nil
	}
	if err == nil {
		err = d.copyTo(r.Context(), name, to, who, r.Header.Get("Depth") == "0", 0)
	}
	answer(w, map[bool]int{true: http.StatusNoContent, false: http.StatusCreated}[stands], err)
}

func (d *Drive) copyTo(ctx context.Context, from, to, who string, shallow bool, depth int) error {
	info, err := os.Lstat(d.file(from))
	if err != nil {
		return err
	}
	if depth > maxDepth || info.Mode()&fs.ModeSymlink != 0 {
		return errNotFound
	}
	if !info.IsDir() {
		f, err := os.Open(d.file(from))
		if err != nil {
			return err
		}
		defer f.Close()
		_, _, err = d.Put(ctx, to, f, who, "", "")
		return err
	}
	if err := d.Mkdir(ctx, to); err != nil || shallow {
		return err
	}
	list, err := os.ReadDir(d.file(from))
	for _, e := range list {
		err = errors.Join(err, d.copyTo(ctx, from+"/"+e.Name(), to+"/"+e.Name(), who, false, depth+1))
	}
	return err
}

// destination is the path that a request moves or copies to; false where that is not on this drive.
func destination(r *http.Request) (string, bool) {
	u, err := url.Parse(r.Header.Get("Destination"))
	if err != nil || u.Host != "" && u.Host != r.Host {
		return "", false
	}
	name, ok := strings.CutPrefix(u.Path, FilesPath+"/")
	return clean(name), ok
}

// fileSystem is the drive's files with what the drive knows of them.
type fileSystem struct {
	d *Drive
	webdav.Dir
}

func (s fileSystem) OpenFile(ctx context.Context, name string, flag int, perm os.FileMode) (webdav.File, error) {
	f, err := s.Dir.OpenFile(ctx, name, flag, perm)
	if err != nil {
		return nil, err
	}
	return file{f, s.d, clean(name)}, nil
}

func (s fileSystem) Stat(ctx context.Context, name string) (os.FileInfo, error) {
	i, err := s.Dir.Stat(ctx, name)
	if err != nil {
		return nil, err
	}
	return info{i, s.d, clean(name)}, nil
}

type info struct {
	os.FileInfo
	d    *Drive
	name string
}

// ETag is that of the version that stands.
func (i info) ETag(ctx context.Context) (string, error) {
	if i.IsDir() {
		return "", webdav.ErrNotImplemented
	}
	v, stands, err := i.d.current(ctx, i.name)
	if err == nil && !stands {
		err = webdav.ErrNotImplemented
	}
	return v.tag(), err
}

type file struct {
	webdav.File
	d    *Drive
	name string
}

func (f file) Stat() (os.FileInfo, error) {
	i, err := f.File.Stat()
	if err != nil {
		return nil, err
	}
	return info{i, f.d, f.name}, nil
}

func (f file) Readdir(count int) ([]os.FileInfo, error) {
	all, err := f.File.Readdir(count)
	all = slices.DeleteFunc(all, func(i os.FileInfo) bool { return i.Mode()&fs.ModeSymlink != 0 })
	for i := range all {
		all[i] = info{all[i], f.d, clean(f.name + "/" + all[i].Name())}
	}
	return all, err
}

// DeadProps are what the drive tells of a resource besides what package webdav does.
func (f file) DeadProps() (map[xml.Name]webdav.Property, error) {
	ctx := context.Background()
	all := map[xml.Name]webdav.Property{}
	add := func(space, name, inner string) {
		n := xml.Name{Space: space, Local: name}
		all[n] = webdav.Property{XMLName: n, InnerXML: []byte(inner)}
	}
	i, err := f.File.Stat()
	if err != nil {
		return nil, err
	}
	if !i.IsDir() {
		if v, stands, err := f.d.current(ctx, f.name); err == nil && stands {
			add("DAV:", "checked-in", href(versionsPath+"/"+strconv.FormatInt(v.id, 10)))
			add("DAV:", "version-name", strconv.FormatInt(v.n, 10))
			add("DAV:", "creator-displayname", escape(v.author))
		}
		return all, nil
	}
	if f.d.Quota > 0 {
		used, err := f.d.used(ctx)
		if err != nil {
			return nil, err
		}
		add("DAV:", "quota-used-bytes", strconv.FormatInt(used, 10))
		add("DAV:", "quota-available-bytes", strconv.FormatInt(max(0, f.d.Quota-used), 10))
	}
	if f.name == "/" {
		add(TrashSpace, "removed-items", href(trashPath+"/"))
	}
	return all, nil
}

// Patch refuses everything.
func (f file) Patch(patches []webdav.Proppatch) ([]webdav.Propstat, error) {
	refused := webdav.Propstat{Status: http.StatusForbidden}
	for _, p := range patches {
		refused.Props = append(refused.Props, p.Props...)
	}
	return []webdav.Propstat{refused}, nil
}

func href(path string) string { return "<D:href xmlns:D=\"DAV:\">" + path + "</D:href>" }

func escape(s string) string {
	var b strings.Builder
	_ = xml.EscapeText(&b, []byte(s)) // a Builder takes everything
	return b.String()
}

// escapePath writes a path as it stands in an address.
func escapePath(path string) string { return (&url.URL{Path: path}).EscapedPath() }
