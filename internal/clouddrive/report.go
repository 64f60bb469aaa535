package clouddrive

import (
	"context"
	"encoding/xml"
	"fmt"
	"io"
	"net/http"
	"os"
	"strconv"
	"strings"
	"time"
)

// answering writes a multistatus.
type answering struct {
	w     http.ResponseWriter
	begun bool
}

func (a *answering) begin() {
	if a.begun {
		return
	}
	a.begun = true
	a.w.Header().Set("Content-Type", "application/xml; charset=utf-8")
	a.w.WriteHeader(http.StatusMultiStatus)
	io.WriteString(a.w, xml.Header+`<D:multistatus xmlns:D="DAV:" xmlns:T="`+TrashSpace+`">`)
}

// response tells of one resource; props are written as they are.
func (a *answering) response(path, props string) {
	a.begin()
	fmt.Fprintf(a.w, "<D:response><D:href>%s</D:href><D:propstat><D:prop>%s</D:prop><D:status>HTTP/1.1 200 OK</D:status></D:propstat>"+
		"</D:response>", escapePath(path), props)
}

func (a *answering) gone(path string) {
	a.begin()
	fmt.Fprintf(a.w, "<D:response><D:href>%s</D:href><D:status>HTTP/1.1 404 Not Found</D:status></D:response>", escapePath(path))
}

func (a *answering) end(more string) {
	a.begin()
	io.WriteString(a.w, more+"</D:multistatus>")
}

func (v version) props() string {
	return fmt.Sprintf("<D:resourcetype/><D:version-name>%d</D:version-name><D:getcontentlength>%d</D:getcontentlength>"+
		"<D:getlastmodified>%s</D:getlastmodified><D:creationdate>%s</D:creationdate><D:getetag>%s</D:getetag>"+
		"<D:creator-displayname>%s</D:creator-displayname><D:comment>%s</D:comment>", v.n, v.size,
		v.at.UTC().Format(http.TimeFormat), v.at.UTC().Format(time.RFC3339Nano), escape(v.tag()), escape(v.author), escape(v.comment))
}

// report answers the reports: which one is told by the name of the body's first element.
func (d *Drive) report(w http.ResponseWriter, r *http.Request, name string) {
	var asked struct {
		XMLName xml.Name
		Token   string `xml:"DAV: sync-token"`
	}
	if err := xml.NewDecoder(io.LimitReader(r.Body, 1<<20)).Decode(&asked); err != nil {
		http.Error(w, "the body is not a report", http.StatusBadRequest)
		return
	}
	switch asked.XMLName {
	case xml.Name{Space: "DAV:", Local: "version-tree"}:
		all, err := d.versions(r.Context(), name)
		if err != nil || len(all) == 0 {
			answer(w, http.StatusNotFound, err)
			return
		}
		a := answering{w: w}
		for _, v := range all {
			a.response(versionsPath+"/"+strconv.FormatInt(v.id, 10), v.props())
		}
		a.end("")
	case xml.Name{Space: "DAV:", Local: "sync-collection"}:
		d.sync(w, r, name, asked.Token)
	default:
		w.WriteHeader(http.StatusForbidden)
		io.WriteString(w, xml.Header+`<D:error xmlns:D="DAV:"><D:supported-report/></D:error>`)
	}
}

// sync tells what changed below a folder since a token, all of it without one.
func (d *Drive) sync(w http.ResponseWriter, r *http.Request, name, token string) {
	ctx := r.Context()
	var identity string
	var latest int64
	if err := d.db.QueryRowContext(ctx, "SELECT token, (SELECT coalesce(max(seq), 0) FROM changes) FROM identity").
		Scan(&identity, &latest); err != nil {
		answer(w, 0, err)
		return
	}
	since := int64(0)
	if token != "" {
		mine, n, ok := strings.Cut(strings.TrimPrefix(token, "urn:drive:"), ":")
		var err error
		if since, err = strconv.ParseInt(n, 10, 64); !ok || err != nil || mine != identity || since > latest {
			w.WriteHeader(http.StatusForbidden)
			io.WriteString(w, xml.Header+`<D:error xmlns:D="DAV:"><D:valid-sync-token/></D:error>`)
			return
		}
	}
	changes, err := d.changesSince(ctx, since)
	if err != nil {
		answer(w, 0, err)
		return
	}
	a := answering{w: w}
	for _, c := range changes {
		if name != "/" && !strings.HasPrefix(c.path, name+"/") || c.path == "/" {
			continue
		}
		info, err := os.Stat(d.file(c.path))
		switch {
		case err != nil && token == "":
		case err != nil:
			a.gone(FilesPath + c.path)
		case info.IsDir():
			a.response(FilesPath+c.path+"/", "<D:resourcetype><D:collection/></D:resourcetype><D:getlastmodified>"+
				info.ModTime().UTC().Format(http.TimeFormat)+"</D:getlastmodified>")
		default:
			v, stands, err := d.current(ctx, c.path)
			if err == nil && stands {
				a.response(FilesPath+c.path, v.props())
			}
		}
	}
	a.end(fmt.Sprintf("<D:sync-token>urn:drive:%s:%d</D:sync-token>", identity, latest))
}

type change struct{ path string }

func (d *Drive) changesSince(ctx context.Context, since int64) (all []change, err error) {
	rows, err := d.db.QueryContext(ctx, "SELECT path FROM changes WHERE seq > ? ORDER BY seq", since)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var c change
		if err := rows.Scan(&c.path); err != nil {
			return nil, err
		}
		all = append(all, c)
	}
	return all, rows.Err()
}

// serveVersion serves a former version, or the one that stands, by its number.
func (d *Drive) serveVersion(w http.ResponseWriter, r *http.Request) {
	var v version
	var name string
	var at int64
	id, _ := strconv.ParseInt(strings.TrimPrefix(r.URL.Path, versionsPath+"/"), 10, 64)
	err := d.db.QueryRowContext(r.Context(), "SELECT id, path, n, at, size, author, comment, coalesce(kept, 0) FROM versions WHERE id = ?", id).
		Scan(&v.id, &name, &v.n, &at, &v.size, &v.author, &v.comment, &v.kept)
	if err != nil {
		w.WriteHeader(http.StatusNotFound)
		return
	}
	v.at = time.Unix(0, at)
	switch r.Method {
	case "PROPFIND":
		a := answering{w: w}
		a.response(r.URL.Path, v.props())
		a.end("")
	case http.MethodGet, http.MethodHead:
		file := d.file(name)
		if v.kept != 0 {
			file = d.kept(v.kept)
		}
		d.content(w, r, file, v.tag())
	default:
		w.WriteHeader(http.StatusMethodNotAllowed)
	}
}

func (d *Drive) content(w http.ResponseWriter, r *http.Request, file, tag string) {
	f, err := os.Open(file)
	if err != nil {
		w.WriteHeader(http.StatusNotFound)
		return
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil || info.IsDir() {
		w.WriteHeader(http.StatusNotFound)
		return
	}
	if tag != "" {
		w.Header().Set("ETag", tag)
	}
	w.Header().Set("Content-Type", "application/octet-stream")
	http.ServeContent(w, r, "", info.ModTime(), f)
}
