package moments

import (
	"bytes"
	"errors"
	"io"
	"mime"
	"net/http"
	"path"
	"strings"
	"time"

	"golang.org/x/net/webdav"

	"humble-rewind/internal/core/place"
)

// ErrReadOnly says that a request would have changed what a moment shows.
var ErrReadOnly = errors.New("a moment can only be read")

// Serve answers a request below prefix as a WebDAV server (RFC 4918, class 1) whose files can only be read. Nothing was answered where it
// returns ErrReadOnly, or ErrTooMany for a folder that is too large to be listed.
func (v View) Serve(w http.ResponseWriter, r *http.Request, prefix string) error {
	switch r.Method {
	case http.MethodOptions:
		w.Header().Set("DAV", "1")
		w.Header().Set("MS-Author-Via", "DAV")
		w.Header().Set("Allow", "OPTIONS, GET, HEAD, PROPFIND")
		w.WriteHeader(http.StatusOK)
		return nil
	case http.MethodGet, http.MethodHead:
		// What is in a file must never be taken for a page of ours.
		w.Header().Set("Content-Type", "application/octet-stream")
		w.Header().Set("Content-Disposition",
			mime.FormatMediaType("attachment", map[string]string{"filename": place.Readable(path.Base(r.URL.Path))}))
		uncached(w)
		handler(prefix, v.Files(r.Context(), true)).ServeHTTP(w, r)
		return nil
	case "PROPFIND":
		return v.list(w, r, prefix)
	}
	return ErrReadOnly
}

// list answers what a folder holds, one level deep at most.
func (v View) list(w http.ResponseWriter, r *http.Request, prefix string) error {
	depth := r.Header.Get("Depth")
	if depth != "0" && depth != "1" {
		w.Header().Set("Content-Type", "application/xml; charset=utf-8")
		w.WriteHeader(http.StatusForbidden)
		_, err := io.WriteString(w, `<?xml version="1.0" encoding="utf-8"?><D:error xmlns:D="DAV:"><D:propfind-finite-depth/></D:error>`)
		return err
	}
	uncached(w)
	files := v.Files(r.Context(), false)
	if depth == "1" {
		if err := files.List(strings.TrimPrefix(r.URL.Path, prefix)); errors.Is(err, ErrTooMany) {
			return err
		}
	}
	untimed := &withoutUnknown{ResponseWriter: w}
	handler(prefix, files).ServeHTTP(untimed, r)
	return untimed.end()
}

func uncached(w http.ResponseWriter) { w.Header().Set("Cache-Control", "private, no-cache") }

func handler(prefix string, files webdav.FileSystem) http.Handler {
	return &webdav.Handler{Prefix: prefix, FileSystem: files, LockSystem: webdav.NewMemLS()}
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
