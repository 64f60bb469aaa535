// Package multistatus reads what a WebDAV server answers of many resources (RFC 4918, section 13; RFC 6578 for its token), resource by resource.
package multistatus

import (
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"

	"humble-rewind/internal/core/problem"
)

// TrashSpace is the XML namespace of the extension by which a drive shows its own trash, see docs/drive-trash.md.
const TrashSpace = "urn:humble-rewind:drive-trash"

// Bounds on an answer.
const (
	// MaxOne is how much may tell of one resource, in bytes.
	MaxOne = 1 << 20
	// MaxAll is how long an answer may be, in bytes.
	MaxAll = 4 << 30
	// MaxListed is how many resources one answer may tell of.
	MaxListed = 2_000_000
)

// Resource is what an answer tells of a resource. Texts are as the server wrote them; "" is what it did not tell.
type Resource struct {
	Href      string `cbor:"1,keyasint,omitempty"`
	Gone      bool   `cbor:"2,keyasint,omitempty"` // it says that it is not there
	Folder    bool   `cbor:"3,keyasint,omitempty"`
	Length    string `cbor:"4,keyasint,omitempty"`
	Modified  string `cbor:"5,keyasint,omitempty"`
	Tag       string `cbor:"6,keyasint,omitempty"`
	Created   string `cbor:"7,keyasint,omitempty"`
	Version   string `cbor:"8,keyasint,omitempty"`
	Author    string `cbor:"9,keyasint,omitempty"`
	Comment   string `cbor:"10,keyasint,omitempty"`
	CheckedIn string `cbor:"11,keyasint,omitempty"`
	Available string `cbor:"12,keyasint,omitempty"`
	Trash     string `cbor:"13,keyasint,omitempty"` // where its removed items are
	From      string `cbor:"14,keyasint,omitempty"`
	RemovedAt string `cbor:"15,keyasint,omitempty"`
	RemovedBy string `cbor:"16,keyasint,omitempty"`
	Expires   string `cbor:"17,keyasint,omitempty"`
}

// Bytes is about how much it holds.
func (r *Resource) Bytes() int {
	all := 64
	for _, text := range []string{r.Href, r.Length, r.Modified, r.Tag, r.Created, r.Version, r.Author, r.Comment, r.CheckedIn, r.Available,
		r.Trash, r.From, r.RemovedAt, r.RemovedBy, r.Expires} {
		all += len(text)
	}
	return all
}

// response is how it is written.
type response struct {
	Href   string `xml:"DAV: href"`
	Status string `xml:"DAV: status"`
	Found  []struct {
		Status string `xml:"DAV: status"`
		Prop   prop   `xml:"DAV: prop"`
	} `xml:"DAV: propstat"`
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

// resource is what was found of it.
func (r *response) resource() Resource {
	var p prop
	for _, f := range r.Found {
		if status(f.Status) == 200 {
			p = f.Prop
		}
	}
	return Resource{r.Href, status(r.Status) == 404, p.Type.Collection != nil, p.Length, p.Modified, p.Tag, p.Created, p.Version,
		p.Author, p.Comment, p.CheckedIn, p.Available, p.Trash.Href, p.From, p.RemovedAt, p.RemovedBy, p.Expires}
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

// ErrAnswer says that an answer is not what the protocol says.
var ErrAnswer = fmt.Errorf("the server's answer does not follow WebDAV: %w", problem.Broken)

// Slice is how far a piece of an answer was read. Offsets are those of bytes in the piece.
type Slice struct {
	// Root is behind what begins the answer, which has to come before each later piece; 0 where that did not come to its end.
	Root int64 `json:"root"`
	// Read is behind the last element that was read whole: the next piece begins there.
	Read  int64  `json:"read"`
	Token string `json:"token,omitempty"`
	Ended bool   `json:"ended,omitempty"` // the answer did
}

// Read reads a piece of an answer element by element and calls see with each resource; an error of that is returned as it is. Of a piece that is
// not the last one an element that does not come to its end is left for the next. No resource may take more than is allowed (problem.TooLarge);
// entities are not resolved. Anything else that is wrong wraps ErrAnswer.
func Read(piece io.Reader, last bool, see func(Resource) error) (s Slice, err error) {
	m := &meter{r: piece}
	x := xml.NewDecoder(m)
	fail := func(err error) (Slice, error) {
		switch {
		case errors.Is(err, problem.TooLarge), m.failed != nil:
			return s, errors.Join(m.failed, err)
		case m.ended && !last:
			return s, nil
		}
		return s, fmt.Errorf("%w (%v)", ErrAnswer, err)
	}
	for {
		m.left = MaxOne
		t, err := x.Token()
		if err != nil {
			return fail(err)
		}
		start, ok := t.(xml.StartElement)
		if !ok {
			if end, ok := t.(xml.EndElement); ok && end.Name.Local == "multistatus" {
				s.Ended = true
				return s, nil
			}
			continue
		}
		switch start.Name {
		case xml.Name{Space: "DAV:", Local: "multistatus"}:
			s.Root = x.InputOffset()
		case xml.Name{Space: "DAV:", Local: "response"}:
			var r response
			if err := x.DecodeElement(&r, &start); err != nil {
				return fail(err)
			}
			if err := see(r.resource()); err != nil {
				return s, err
			}
		case xml.Name{Space: "DAV:", Local: "sync-token"}:
			token := ""
			if err := x.DecodeElement(&token, &start); err != nil {
				return fail(err)
			}
			s.Token = token
		default:
			if s.Root == 0 {
				return fail(fmt.Errorf("it begins with %q", start.Name.Local))
			}
			if err := x.Skip(); err != nil {
				return fail(err)
			}
		}
		s.Read = x.InputOffset()
	}
}

// meter lets only so much be read, and notes how reading ended.
type meter struct {
	r      io.Reader
	left   int64
	ended  bool
	failed error
}

func (m *meter) Read(p []byte) (int, error) {
	if m.left <= 0 {
		return 0, fmt.Errorf("the server's answer is too long: %w", problem.TooLarge)
	}
	n, err := m.r.Read(p[:min(int64(len(p)), m.left)])
	m.left -= int64(n)
	if err == io.EOF {
		m.ended = true
	} else if err != nil {
		m.failed = err
	}
	return n, err
}
