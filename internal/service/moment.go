package service

import (
	"bytes"
	"context"
	"errors"
	"io"
	"mime"
	"net/http"
	"path"
	"strings"
	"time"

	"github.com/labstack/echo/v5"
	"golang.org/x/net/webdav"

	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/moments"
)

// momentPath is where folders as of a moment are opened with any file manager, by WebDAV (RFC 4918, class 1), to be read alone:
// /as-of/MOMENT/MACHINE/path. A moment is written as people do: now, 2026-03-04, 2026-03-04T17:00, "yesterday 17:00".
const momentPath = "/as-of"

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
			Detail: "It shows what there was, which stays as it was.", Next: "Bring back what is wanted."}
	}
	// What is in a file must never be taken for a page of ours.
	w.Header().Set("Content-Type", "application/octet-stream")
	w.Header().Set("Cache-Control", "private, no-cache")
	if name := path.Base(r.URL.Path); r.Method != "PROPFIND" {
		w.Header().Set("Content-Disposition", mime.FormatMediaType("attachment", map[string]string{"filename": place.Readable(name)}))
	}
	view := moments.View{Catalogue: s.catalogue, Trails: s.trails, Contents: s.contents, Now: s.now}
	files := view.Files(ctx, r.Method != "PROPFIND")
	handler := webdav.Handler{Prefix: momentPath, FileSystem: files, LockSystem: webdav.NewMemLS()}
	if r.Method != "PROPFIND" {
		handler.ServeHTTP(w, r.WithContext(ctx))
		return nil
	}
	w.Header().Del("Content-Type")
	if r.Header.Get("Depth") == "1" {
		if err := files.List(strings.TrimPrefix(r.URL.Path, momentPath)); errors.Is(err, moments.ErrTooMany) {
			w.Header().Del("Content-Disposition")
			return &refusal{Status: http.StatusInsufficientStorage, Title: "The folder is too large to be listed here", Detail: err.Error() + ".",
				Next: "Name a file in it, or look at it in the console, which shows it page by page."}
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
	who.name, err = s.catalogue.Technicians.ByToken(r.Context(), secret(strings.TrimSpace(token)).hash())
	return who, err
}
