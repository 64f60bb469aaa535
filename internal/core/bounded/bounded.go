// Package bounded opens packed and marked-up contents with bounds on what the standard library allocates before it can be
// asked to stop: the directory of a ZIP archive, the attributes of one XML element, and how deep elements lie in each other.
package bounded

import (
	"archive/zip"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
)

const (
	// maxDirectory is how many bytes of a ZIP archive are read for its directory: some 50,000 entries of usual names.
	maxDirectory = 6 << 20
	// MaxDepth is how deep the elements of a document may lie in each other.
	MaxDepth = 2000
	// maxToken is how many bytes one tag, with its attributes, or one run of text may have.
	maxToken = 2 << 20
)

// Sentinels that callers branch on.
var (
	ErrTooMany = errors.New("its table of contents is larger than is read here")
	ErrTooDeep = fmt.Errorf("its elements lie more than %d deep in each other", MaxDepth)
	ErrTooLong = fmt.Errorf("a single element or text of it has more than %d MiB", maxToken>>20)
)

// Beyond tells whether an error is one of this package: the content may be whole, but is not read.
func Beyond(err error) bool {
	return errors.Is(err, ErrTooMany) || errors.Is(err, ErrTooDeep) || errors.Is(err, ErrTooLong)
}

// Zip opens an archive as zip.NewReader does, unless its directory is too large: ErrTooMany.
func Zip(r io.ReaderAt, size int64) (*zip.Reader, error) {
	b := &budget{r: r, left: maxDirectory}
	archive, err := zip.NewReader(b, size)
	if b.spent {
		return nil, ErrTooMany
	}
	b.open = true
	return archive, err
}

// budget lets only so much be read until it is open.
type budget struct {
	r     io.ReaderAt
	left  int64
	open  bool
	spent bool
}

func (b *budget) ReadAt(p []byte, off int64) (int, error) {
	if !b.open {
		if b.left -= int64(len(p)); b.left < 0 {
			b.spent = true
			return 0, ErrTooMany
		}
	}
	return b.r.ReadAt(p, off)
}

// XML reads the tokens of a document as encoding/xml does.
type XML struct {
	*xml.Decoder
	input *meter
	depth int
}

// NewXML reads from r.
func NewXML(r io.Reader) *XML {
	m := &meter{r: r}
	return &XML{Decoder: xml.NewDecoder(m), input: m}
}

// Token returns the next token; ErrTooLong and ErrTooDeep where it goes beyond the bounds.
func (x *XML) Token() (xml.Token, error) { return x.next(x.Decoder.Token) }

// RawToken returns the next token without looking whether what ends had begun.
func (x *XML) RawToken() (xml.Token, error) { return x.next(x.Decoder.RawToken) }

func (x *XML) next(read func() (xml.Token, error)) (xml.Token, error) {
	x.input.left = maxToken
	token, err := read()
	if x.input.left < 0 {
		return nil, ErrTooLong
	}
	switch token.(type) {
	case xml.StartElement:
		x.depth++
	case xml.EndElement:
		x.depth--
	}
	if x.depth > MaxDepth {
		return nil, ErrTooDeep
	}
	return token, err
}

// meter ends reading where one token has taken too much. The decoder reads ahead by a buffer, which does not matter here.
type meter struct {
	r    io.Reader
	left int64
}

func (m *meter) Read(p []byte) (int, error) {
	if m.left < 0 {
		return 0, ErrTooLong
	}
	n, err := m.r.Read(p)
	m.left -= int64(n)
	return n, err
}
