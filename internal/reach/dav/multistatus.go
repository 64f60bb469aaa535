package dav

import (
	"context"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strconv"
	"strings"
	"time"

	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/problem"
	"humble-rewind/internal/reach"
)

// TrashSpace is the XML namespace of the extension by which a drive shows its own trash, see docs/drive-trash.md.
const TrashSpace = "urn:humble-rewind:drive-trash"

// Bounds on what a server answers.
const (
	maxOfOne  = 1 << 20 // bytes that tell of one resource
	maxOfAll  = 4 << 30
	maxListed = 2_000_000 // resources in one answer
)

// properties are those asked for. Where a server does not know one, it says so.
const properties = `<?xml version="1.0" encoding="utf-8"?><D:propfind xmlns:D="DAV:" xmlns:T="` + TrashSpace + `"><D:prop>` + asked +
	`</D:prop></D:propfind>`

const asked = `<D:resourcetype/><D:getcontentlength/><D:getlastmodified/><D:getetag/><D:creationdate/>`

// resource is what an answer tells of a resource.
type resource struct {
	Href   string `xml:"DAV: href"`
	Status string `xml:"DAV: status"`
	Found  []struct {
		Status string `xml:"DAV: status"`
		Prop   prop   `xml:"DAV: prop"`
	} `xml:"DAV: propstat"`

	prop prop // what was found
}

type prop struct {
	Type struct {
		Collection *struct{} `xml:"DAV: collection"`
	} `xml:"DAV: resourcetype"`
	Length    string `xml:"DAV: getcontentlength"`
	Modified  string `xml:"DAV: getlastmodified"`
	Tag       string `xml:"DAV: getetag"`
	Created   string `xml:"DAV: creationdate"`
	Version   string `xml:"DAV: version-name"`
	Author    string `xml:"DAV: creator-displayname"`
	Comment   string `xml:"DAV: comment"`
	CheckedIn string `xml:"DAV: checked-in>href"`
	Available string `xml:"DAV: quota-available-bytes"`
	Trash     struct {
		Href string `xml:"DAV: href"`
	} `xml:"urn:humble-rewind:drive-trash removed-items"`
	From      string `xml:"urn:humble-rewind:drive-trash from"`
	RemovedAt string `xml:"urn:humble-rewind:drive-trash removed-at"`
	RemovedBy string `xml:"urn:humble-rewind:drive-trash removed-by"`
	Expires   string `xml:"urn:humble-rewind:drive-trash expires-at"`
}

// status reads "HTTP/1.1 200 OK".
func status(line string) int {
	f := strings.Fields(line)
	if len(f) < 2 {
		return 0
	}
	n, _ := strconv.Atoi(f[1])
	return n
}

func (r *resource) folder() bool { return r.prop.Type.Collection != nil }

// gone tells whether an answer says that it is not there.
func (r *resource) gone() bool { return status(r.Status) == http.StatusNotFound }

func (r *resource) info(name string) reach.Info {
	i := reach.Info{Name: name, Type: entry.File, Size: -1, Written: readTime(r.prop.Modified)}
	if n, err := strconv.ParseInt(strings.TrimSpace(r.prop.Length), 10, 64); err == nil && n >= 0 {
		i.Size = n
	}
	if r.folder() {
		i.Type, i.Size = entry.Folder, -1
	}
	return i
}

// readTime reads a time as RFC 9110 writes it, or as servers do that write it otherwise; zero where it is none.
func readTime(text string) time.Time { return entry.Bounded(parseTime(text)) }

func parseTime(text string) time.Time {
	text = strings.TrimSpace(text)
	if t, err := http.ParseTime(text); err == nil {
		return t.UTC()
	}
	for _, layout := range []string{time.RFC1123Z, time.RFC3339Nano} {
		if t, err := time.Parse(layout, text); err == nil {
			return t.UTC()
		}
	}
	return time.Time{}
}

// errAnswer says that an answer is not what the protocol says.
var errAnswer = fmt.Errorf("the server's answer does not follow WebDAV: %w", problem.Broken)

// multistatus sends a request that is answered by many resources, and tells of each as it comes.
func (s *server) multistatus(ctx context.Context, method, path string, isFolder bool, header http.Header, body string,
	see func(resource) error) (token string, err error) {
	ctx, end := context.WithTimeoutCause(ctx, listTime, errEndless)
	defer end()
	header.Set("Content-Type", "application/xml; charset=utf-8")
	answer, err := s.request(ctx, method, s.url(path, isFolder), header, strings.NewReader(body), int64(len(body)), http.StatusMultiStatus)
	if err != nil {
		return "", err
	}
	defer answer.Body.Close()
	return readMultistatus(ctx, answer.Body, see)
}

// readMultistatus reads an answer element by element. Neither one resource nor all of them may take more than is allowed; entities are not
// resolved.
func readMultistatus(ctx context.Context, body io.Reader, see func(resource) error) (token string, err error) {
	m := &meter{r: body, all: maxOfAll}
	x := xml.NewDecoder(m)
	fail := func(err error) (string, error) {
		switch {
		case ctx.Err() != nil:
			return "", context.Cause(ctx)
		case errors.Is(err, problem.TooLarge), errors.Is(err, problem.Lost):
			return "", err
		}
		return "", fmt.Errorf("%w (%v)", errAnswer, err)
	}
	begun, count := false, 0
	for {
		m.one = maxOfOne
		t, err := x.Token()
		if err == io.EOF && begun {
			return token, nil
		}
		if err != nil {
			return fail(err)
		}
		start, ok := t.(xml.StartElement)
		if !ok {
			if end, ok := t.(xml.EndElement); ok && end.Name.Local == "multistatus" {
				return token, nil
			}
			continue
		}
		switch start.Name {
		case xml.Name{Space: "DAV:", Local: "multistatus"}:
			begun = true
		case xml.Name{Space: "DAV:", Local: "response"}:
			if count++; count > maxListed {
				return fail(fmt.Errorf("it lists more than %d files: %w", maxListed, problem.TooLarge))
			}
			var r resource
			if err := x.DecodeElement(&r, &start); err != nil {
				return fail(err)
			}
			for _, f := range r.Found {
				if status(f.Status) == http.StatusOK {
					r.prop = f.Prop
				}
			}
			if err := see(r); err != nil {
				return "", err
			}
		case xml.Name{Space: "DAV:", Local: "sync-token"}:
			if err := x.DecodeElement(&token, &start); err != nil {
				return fail(err)
			}
		default:
			if !begun {
				return fail(fmt.Errorf("it begins with %q", start.Name.Local))
			}
			if err := x.Skip(); err != nil {
				return fail(err)
			}
		}
	}
}

// meter lets only so much be read.
type meter struct {
	r        io.Reader
	one, all int64
}

func (m *meter) Read(p []byte) (int, error) {
	if m.one <= 0 || m.all <= 0 {
		return 0, fmt.Errorf("the server's answer is too long: %w", problem.TooLarge)
	}
	n, err := m.r.Read(p[:min(int64(len(p)), m.one, m.all)])
	m.one, m.all = m.one-int64(n), m.all-int64(n)
	return n, err
}

// find asks for the properties of a resource (depth 0), or of what is in it too (1).
func (s *server) find(ctx context.Context, path, depth string, more []string, see func(resource) error) error {
	body := properties
	if more != nil {
		body = strings.Replace(body, asked, asked+strings.Join(more, ""), 1)
	}
	_, err := s.multistatus(ctx, "PROPFIND", path, depth != "0" || path == "/", http.Header{"Depth": {depth}}, body, see)
	return err
}

// look describes a path.
func (s *server) look(ctx context.Context, path string) (found resource, err error) {
	seen := false
	err = s.find(ctx, path, "0", nil, func(r resource) error {
		if !seen {
			found, seen = r, true
		}
		return nil
	})
	if err == nil && (!seen || found.gone()) {
		err = problem.NotThere
	}
	if errors.Is(err, problem.Unsupported) { // some redirect or refuse a folder without its slash
		err = problem.NotThere
	}
	return found, err
}

// listed is something in a folder.
type listed struct {
	reach.Info
	tag string
}

// maxHeld is how much is held of one listing, in bytes.
const maxHeld, perListed = 64 << 20, 360

// errHeld says that a listing is longer than is held at once.
var errHeld = fmt.Errorf("what it lists takes more than %d MiB: %w", maxHeld>>20, problem.TooLarge)

// list describes what is in a folder.
func (s *server) list(ctx context.Context, path string) (all []listed, err error) {
	met := map[string]bool{}
	held := 0
	err = s.find(ctx, path, "1", nil, func(r resource) error {
		at, ok := s.path(r.Href)
		if !ok || r.gone() || place.Folder(at) != path || at == path {
			return nil // itself, or what is not in it
		}
		name := strings.Clone(place.Name(at))
		if reach.CheckName(name) != nil || met[name] {
			return nil
		}
		met[name] = true
		l := listed{r.info(name), r.tag()}
		if held += len(name) + len(l.tag) + perListed; held > maxHeld {
			return errHeld
		}
		all = append(all, l)
		return nil
	})
	return all, err
}

// maxTag is how long what tells contents apart may be; a longer one tells nothing.
const maxTag = 512

func (r *resource) tag() string {
	if len(r.prop.Tag) > maxTag {
		return ""
	}
	return strings.Clone(r.prop.Tag)
}
