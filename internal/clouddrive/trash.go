package clouddrive

import (
	"fmt"
	"io/fs"
	"net/http"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"
)

// serveTrash serves the trash by the extension: a collection whose members are what was removed, and what is in those.
func (d *Drive) serveTrash(w http.ResponseWriter, r *http.Request, who string) {
	all, err := d.trash(r.Context())
	if err != nil {
		answer(w, 0, err)
		return
	}
	number, rest, _ := strings.Cut(strings.Trim(strings.TrimPrefix(r.URL.Path, trashPath), "/"), "/")
	if number == "" {
		if r.Method != "PROPFIND" {
			w.WriteHeader(http.StatusMethodNotAllowed)
			return
		}
		a := answering{w: w}
		a.response(trashPath+"/", "<D:resourcetype><D:collection/></D:resourcetype>")
		if r.Header.Get("Depth") != "0" {
			for _, i := range all {
				d.tellItem(&a, i)
			}
		}
		a.end("")
		return
	}
	id, _ := strconv.ParseInt(number, 10, 64)
	n := slices.IndexFunc(all, func(i item) bool { return i.id == id })
	if n < 0 {
		w.WriteHeader(http.StatusNotFound)
		return
	}
	i := all[n]
	file := filepath.Join(d.binned(id), filepath.FromSlash(path.Clean("/"+rest)))
	switch r.Method {
	case "PROPFIND":
		d.tellInside(w, r, i, rest, file)
	case http.MethodGet, http.MethodHead:
		d.content(w, r, file, "")
	case "MOVE":
		to, ok := destination(r)
		if !ok || rest != "" {
			w.WriteHeader(http.StatusBadGateway)
			return
		}
		answer(w, http.StatusCreated, d.putBack(r.Context(), id, to, who))
	default:
		w.WriteHeader(http.StatusMethodNotAllowed)
	}
}

// tellItem tells of something that was removed.
func (d *Drive) tellItem(a *answering, i item) {
	info, err := os.Stat(d.binned(i.id))
	if err != nil {
		return
	}
	props := fmt.Sprintf("<T:from>%s</T:from><T:removed-at>%s</T:removed-at><T:removed-by>%s</T:removed-by>", escapePath(i.path),
		i.at.Format(time.RFC3339Nano), escape(i.by))
	if at := d.expires(i); !at.IsZero() {
		props += "<T:expires-at>" + at.Format(time.RFC3339Nano) + "</T:expires-at>"
	}
	a.response(fmt.Sprintf("%s/%d", trashPath, i.id)+slash(info), plain(info)+props)
}

func slash(info fs.FileInfo) string {
	if info.IsDir() {
		return "/"
	}
	return ""
}

// plain are the properties that every file and folder has.
func plain(info fs.FileInfo) string {
	at := "<D:getlastmodified>" + info.ModTime().UTC().Format(http.TimeFormat) + "</D:getlastmodified>"
	if info.IsDir() {
		return "<D:resourcetype><D:collection/></D:resourcetype>" + at
	}
	return fmt.Sprintf("<D:resourcetype/><D:getcontentlength>%d</D:getcontentlength>%s", info.Size(), at)
}

// tellInside tells of something in the trash and of what is in that.
func (d *Drive) tellInside(w http.ResponseWriter, r *http.Request, i item, rest, file string) {
	info, err := os.Stat(file)
	if err != nil {
		w.WriteHeader(http.StatusNotFound)
		return
	}
	a := answering{w: w}
	if rest == "" {
		d.tellItem(&a, i)
	} else {
		a.response(strings.TrimSuffix(r.URL.Path, "/")+slash(info), plain(info))
	}
	if info.IsDir() && r.Header.Get("Depth") != "0" {
		list, err := os.ReadDir(file)
		if err == nil {
			for _, e := range list {
				if inside, err := e.Info(); err == nil {
					a.response(strings.TrimSuffix(r.URL.Path, "/")+"/"+e.Name()+slash(inside), plain(inside))
				}
			}
		}
	}
	a.end("")
}
