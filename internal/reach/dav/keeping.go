package dav

import (
	"context"
	"encoding/xml"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/multistatus"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/problem"
	"humble-rewind/internal/reach"
)

// Changes asks for what changed by the sync-collection report of RFC 6578, where the server has it, and else walks the folders.
func (s *server) Changes(ctx context.Context, path, since string, see func(reach.Kept) error) (token string, whole bool, err error) {
	report := func(since string) (string, error) {
		body := `<?xml version="1.0" encoding="utf-8"?><D:sync-collection xmlns:D="DAV:"><D:sync-token>` + text(since) +
			`</D:sync-token><D:sync-level>infinite</D:sync-level><D:prop>` + asked + `</D:prop></D:sync-collection>`
		return s.multistatus(ctx, "REPORT", path, true, http.Header{"Depth": {"0"}}, body, func(r resource) error {
			at, ok := s.path(r.Href)
			if !ok || at == path || !place.Under(at, path) {
				return nil
			}
			return see(reach.Kept{Path: at, Info: r.info(place.Name(at)), Tag: r.tag(), Gone: r.Gone})
		})
	}
	if since != "" {
		if token, err = report(since); err == nil && token != "" {
			return token, false, nil
		}
		if err != nil && !forgotten(err) {
			return "", false, err
		}
	}
	token, err = report("")
	if err == nil && token != "" {
		return token, true, nil
	}
	if err != nil && !forgotten(err) {
		return "", true, err
	}
	return "", true, s.walk(ctx, path, 0, see)
}

// forgotten tells whether an error says that the server does not know a token any more, or the report at all.
func forgotten(err error) bool {
	return errors.Is(err, problem.Unsupported) || errors.Is(err, problem.Refused) || errors.Is(err, problem.NotThere) ||
		errors.Is(err, problem.OverQuota) || errors.Is(err, problem.Taken)
}

// text writes text for XML.
func text(s string) string {
	var b strings.Builder
	_ = xml.EscapeText(&b, []byte(s)) // a Builder takes everything
	return b.String()
}

// maxDepth is how deep folders may lie in each other.
const maxDepth = 100

func (s *server) walk(ctx context.Context, path string, depth int, see func(reach.Kept) error) error {
	if depth > maxDepth {
		return fmt.Errorf("%s: folders lie more than %d deep: %w", place.Quote(path), maxDepth, problem.TooLarge)
	}
	all, err := s.list(ctx, path)
	if err != nil {
		return fmt.Errorf("%s: %w", place.Quote(path), err)
	}
	slices.SortFunc(all, func(a, b listed) int { return strings.Compare(a.Name, b.Name) })
	for _, e := range all {
		at := place.Join(path, e.Name)
		if err := see(reach.Kept{Path: at, Info: e.Info, Tag: e.tag}); err != nil {
			return err
		}
		if e.Type == entry.Folder {
			if err := s.walk(ctx, at, depth+1, see); err != nil {
				return err
			}
		}
	}
	return nil
}

// maxVersions is how many versions of one file are taken.
const maxVersions = 10_000

// Versions asks for a file's versions by the version-tree report of RFC 3253.
func (s *server) Versions(ctx context.Context, path string) (all []reach.KeptVersion, err error) {
	current := ""
	if err := s.find(ctx, path, "0", []string{"<D:checked-in/>"}, func(r resource) error {
		current = r.CheckedIn
		return nil
	}); err != nil {
		return nil, err
	}
	const body = `<?xml version="1.0" encoding="utf-8"?><D:version-tree xmlns:D="DAV:"><D:prop><D:version-name/>` +
		`<D:creator-displayname/><D:comment/>` + asked + `</D:prop></D:version-tree>`
	_, err = s.multistatus(ctx, "REPORT", path, false, http.Header{"Depth": {"0"}}, body, func(r resource) error {
		if len(all) == maxVersions {
			return fmt.Errorf("it has more than %d versions: %w", maxVersions, problem.TooLarge)
		}
		href, ok := s.here(r.Href)
		if !ok || r.Gone {
			return nil
		}
		i := r.info("")
		at := readTime(r.Created)
		if at.IsZero() {
			at = i.Written
		}
		name := r.Version
		if name == "" {
			name = place.Name("/" + strings.Trim(href, "/"))
		}
		all = append(all, reach.KeptVersion{Name: name, Address: href, At: at, Written: i.Written, Size: i.Size, Tag: r.tag(),
			Author:  line(r.Author),
			Comment: line(r.Comment), Current: current != "" && sameHref(current, r.Href)})
		return nil
	})
	slices.SortStableFunc(all, func(a, b reach.KeptVersion) int { return a.At.Compare(b.At) })
	if n := len(all); current == "" && n > 0 {
		all[n-1].Current = true
	}
	return all, err
}

// line is a line of text of what a server says, without what is no letter.
func line(s string) string {
	s = strings.Map(func(r rune) rune {
		if r < ' ' || r == 0x7f {
			return ' '
		}
		return r
	}, strings.ToValidUTF8(s, "?"))
	if len(s) > 200 {
		s = strings.ToValidUTF8(s[:197], "") + "…"
	}
	return strings.TrimSpace(s)
}

// here is an address on the drive's own server, by its path; false of any other.
func (s *server) here(href string) (string, bool) {
	u, err := s.base.Parse(href)
	if err != nil || u.Host != s.base.Host || u.Scheme != s.base.Scheme || len(href) > 8192 {
		return "", false
	}
	return u.EscapedPath(), true
}

func sameHref(a, b string) bool {
	u, err := url.Parse(a)
	v, otherErr := url.Parse(b)
	return err == nil && otherErr == nil && strings.TrimSuffix(u.Path, "/") == strings.TrimSuffix(v.Path, "/")
}

// OpenKept opens a version, or something in the drive's trash.
func (s *server) OpenKept(ctx context.Context, address string) (reach.File, error) {
	href, ok := s.here(address)
	if !ok {
		return nil, fmt.Errorf("%w (it lies on another server)", multistatus.ErrAnswer)
	}
	r, err := s.lookHref(ctx, href)
	if err != nil {
		return nil, err
	}
	if r.Folder {
		return nil, problem.NotFile
	}
	return &file{s: s, href: href, info: r.info("")}, nil
}

// lookHref describes what lies at an address of the drive's server that is not below the drive's own folder.
func (s *server) lookHref(ctx context.Context, href string) (found resource, err error) {
	err = s.findHref(ctx, href, "0", func(r resource) error {
		if found.Href == "" {
			found = r
		}
		return nil
	})
	if err == nil && (found.Href == "" || found.Gone) {
		err = problem.NotThere
	}
	return found, err
}

func (s *server) findHref(ctx context.Context, href, depth string, see func(resource) error) error {
	u, err := s.base.Parse(href)
	if err != nil {
		return multistatus.ErrAnswer
	}
	body := strings.Replace(properties, asked, asked+trashAsked, 1)
	header := http.Header{"Depth": {depth}, "Content-Type": {"application/xml; charset=utf-8"}}
	ctx, end := context.WithTimeoutCause(ctx, listTime, errEndless)
	defer end()
	answer, err := s.request(ctx, "PROPFIND", u, header, strings.NewReader(body), int64(len(body)), http.StatusMultiStatus)
	if err != nil {
		return err
	}
	defer answer.Body.Close()
	_, err = s.read(ctx, answer.Body, see)
	return err
}

const trashAsked = `<T:from/><T:removed-at/><T:removed-by/><T:expires-at/>`

// Removed lists the drive's trash by the extension; problem.Unsupported where the drive shows none.
func (s *server) Removed(ctx context.Context, path string) (all []reach.RemovedItem, err error) {
	trash := ""
	if err := s.find(ctx, "/", "0", []string{"<T:removed-items/>"}, func(r resource) error {
		trash = r.Trash
		return nil
	}); err != nil {
		return nil, err
	}
	top, ok := s.here(trash)
	if trash == "" || !ok {
		return nil, problem.Unsupported
	}
	held := 0
	err = s.findHref(ctx, top, "1", func(r resource) error {
		href, ok := s.here(r.Href)
		if !ok || r.Gone || sameHref(href, top) {
			return nil
		}
		from, err := place.Clean("/" + strings.Trim(r.From, "/"))
		if decoded, e := url.PathUnescape(r.From); e == nil {
			from, err = place.Clean("/" + strings.Trim(decoded, "/"))
		}
		if err != nil || from == "/" || !place.Under(from, path) || len(from) > maxPath {
			return nil
		}
		if held += len(href) + len(from) + perListed; held > maxHeld {
			return errHeld
		}
		all = append(all, reach.RemovedItem{Address: href, Name: place.Name("/" + strings.Trim(href, "/")), From: from,
			At: readTime(r.RemovedAt), Expires: readTime(r.Expires), By: line(r.RemovedBy), Info: r.info(place.Name(from)),
			Tag: r.tag()})
		return nil
	})
	return all, err
}

// EnterKept opens a folder in the drive's trash.
func (s *server) EnterKept(ctx context.Context, address string) (reach.Tree, error) {
	href, ok := s.here(address)
	if !ok {
		return nil, fmt.Errorf("%w (it lies on another server)", multistatus.ErrAnswer)
	}
	inside := *s
	base, err := s.base.Parse(strings.TrimSuffix(href, "/") + "/")
	if err != nil {
		return nil, multistatus.ErrAnswer
	}
	inside.base = base
	return inside.folder(ctx, "/")
}
