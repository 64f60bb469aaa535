package dav

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strconv"
	"strings"
	"time"

	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/multistatus"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/problem"
	"humble-rewind/internal/reach"
)

// properties are those asked for. Where a server does not know one, it says so.
const properties = `<?xml version="1.0" encoding="utf-8"?><D:propfind xmlns:D="DAV:" xmlns:T="` + multistatus.TrashSpace + `"><D:prop>` + asked +
	`</D:prop></D:propfind>`

const asked = `<D:resourcetype/><D:getcontentlength/><D:getlastmodified/><D:getetag/><D:creationdate/>`

// resource is what an answer tells of a resource.
type resource struct{ multistatus.Resource }

func (r *resource) info(name string) reach.Info {
	i := reach.Info{Name: name, Type: entry.File, Size: -1, Written: readTime(r.Modified)}
	if n, err := strconv.ParseInt(strings.TrimSpace(r.Length), 10, 64); err == nil && n >= 0 {
		i.Size = n
	}
	if r.Folder {
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

// Answers reads what servers answer, apart from the service: a server may mean harm.
type Answers interface {
	// Multistatus reads a piece of an answer, see multistatus.Read: it calls each with what that tells of each resource, in its order, until it
	// fails. The piece is all there.
	Multistatus(ctx context.Context, piece io.Reader, last bool, each func(multistatus.Resource) error) (multistatus.Slice, error)
}

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
	return s.read(ctx, answer.Body, see)
}

// pieceSize is how much of an answer is read at once, in bytes.
const pieceSize = 256 << 10

// errLong says that an answer is longer than is read.
var errLong = fmt.Errorf("the server's answer is too long: %w", problem.TooLarge)

// read reads an answer of many resources, each piece once it is there: whoever waits for a server that sends ever so little waits here, and
// holds up nobody who reads what others answer.
func (s *server) read(ctx context.Context, body io.Reader, see func(resource) error) (token string, err error) {
	listed := 0
	each := func(r multistatus.Resource) error {
		if listed++; listed > multistatus.MaxListed {
			return fmt.Errorf("it lists more than %d files: %w", multistatus.MaxListed, problem.TooLarge)
		}
		return see(resource{r})
	}
	var root []byte       // that begins the answer
	var held bytes.Buffer // and was not read yet
	for all := int64(0); ; {
		n, err := io.CopyN(&held, body, pieceSize)
		last := errors.Is(err, io.EOF)
		switch all += n; {
		case ctx.Err() != nil:
			return "", context.Cause(ctx)
		case err != nil && !last && errors.Is(err, problem.Lost):
			return "", err
		case err != nil && !last:
			return "", fmt.Errorf("%w (%v)", multistatus.ErrAnswer, err)
		case all > multistatus.MaxAll, len(root) > multistatus.MaxOne, held.Len() > pieceSize+multistatus.MaxOne:
			return "", errLong
		}
		slice, err := s.answers.Multistatus(ctx, io.MultiReader(bytes.NewReader(root), bytes.NewReader(held.Bytes())), last, each)
		if err != nil {
			return "", err
		}
		token = cmp.Or(slice.Token, token)
		read, most := slice.Read-int64(len(root)), int64(held.Len())
		switch {
		case slice.Ended || last:
			return token, nil
		case read == -int64(len(root)): // it has not begun
			continue
		case read < 0 || read > most || slice.Root < 0 || slice.Root > slice.Read:
			return "", multistatus.ErrAnswer
		case root == nil:
			root = bytes.Clone(held.Bytes()[:slice.Root])
		}
		held.Next(int(read))
	}
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
	if err == nil && (!seen || found.Gone) {
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
		if !ok || r.Gone || place.Folder(at) != path || at == path {
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
	if len(r.Tag) > maxTag {
		return ""
	}
	return strings.Clone(r.Tag)
}
