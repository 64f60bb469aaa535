package service

import (
	"bytes"
	"crypto/rand"
	"errors"
	"fmt"
	"io/fs"
	"mime"
	"net/http"
	"path"
	"strings"

	"github.com/labstack/echo/v5"
)

// console serves the built console. Its pages all are one document, which gets a fresh nonce for its styles each time.
type console struct {
	files fs.FS
	page  []byte
}

const noncePlace = "__CSP_NONCE__" // as console/index.html has it

func newConsole(files fs.FS) (console, error) {
	page, err := fs.ReadFile(files, "index.html")
	if errors.Is(err, fs.ErrNotExist) {
		page, err = []byte(
			"<!doctype html><title>Humble Rewind</title><p>This binary was built without its console. Build it with: make build",
		), nil
	}
	if err != nil {
		return console{}, fmt.Errorf("read the console: %w", err)
	}
	return console{files, page}, nil
}

// encodings are the forms in which assets stand beside themselves, compressed when the console was built, the smallest first.
var encodings = []struct{ name, end string }{{"br", ".br"}, {"gzip", ".gz"}}

// asset serves a file in a form that the browser takes.
func (k console) asset(c *echo.Context, name string) {
	h := c.Response().Header()
	h.Add("Vary", "Accept-Encoding")
	for _, e := range encodings {
		if _, err := fs.Stat(k.files, name+e.end); err != nil || !accepts(c.Request(), e.name) {
			continue
		}
		h.Set("Content-Encoding", e.name)
		h.Set("Content-Type", mime.TypeByExtension(path.Ext(name)))
		name += e.end
		break
	}
	http.ServeFileFS(c.Response(), c.Request(), k.files, name)
}

// accepts tells whether a request takes an encoding (RFC 9110, section 12.5.3; what is refused with a weight of 0 is not taken).
func accepts(r *http.Request, encoding string) bool {
	for part := range strings.SplitSeq(r.Header.Get("Accept-Encoding"), ",") {
		name, weight, _ := strings.Cut(strings.TrimSpace(part), ";")
		if strings.EqualFold(strings.TrimSpace(name), encoding) {
			w, _ := strings.CutPrefix(strings.ReplaceAll(weight, " ", ""), "q=")
			return w != "0" && w != "0.0" && w != "0.00" && w != "0.000"
		}
	}
	return false
}

func (k console) serve(c *echo.Context) error {
	name := strings.TrimPrefix(path.Clean("/"+c.Request().URL.Path), "/")
	if strings.HasPrefix(name, "assets/") {
		if info, err := fs.Stat(k.files, name); err != nil || info.IsDir() {
			return echo.ErrNotFound
		}
		c.Response().Header().Set("Cache-Control", "public, max-age=31536000, immutable") // their names hold their digests
		k.asset(c, name)
		return nil
	}
	if name == "icon.svg" {
		http.ServeFileFS(c.Response(), c.Request(), k.files, name)
		return nil
	}
	nonce := rand.Text()
	h := c.Response().Header()
	h.Set("Cache-Control", "no-store")
	h.Set(
		"Content-Security-Policy",
		"default-src 'none'; script-src 'self'; style-src 'self' 'nonce-"+nonce+"'; style-src-attr 'none'; img-src 'self'; "+
			"font-src 'self'; connect-src 'self'; base-uri 'none'; form-action 'none'; frame-ancestors 'none'",
	)
	return c.HTMLBlob(http.StatusOK, bytes.ReplaceAll(k.page, []byte(noncePlace), []byte(nonce)))
}
