// Package condition examines content and says, as remarks, whether it is whole.
//
// What content says of itself is found once ([Examine]) and is worth keeping by its digest; what that means for a file of
// a certain name is worked out from it ([Findings.For]), because the same bytes are sound under one name and wrongly
// named under another. Formats are examined by their own open standards: ZIP packages (APPNOTE 6.3) with the parts that
// ECMA-376, OpenDocument 1.3 and EPUB 3 require, PDF (ISO 32000), PNG, JPEG, GIF, TIFF, WebP and BMP by decoding,
// SQLite's header (its own check is run elsewhere and handed in), gzip (RFC 1952), bzip2, tar (POSIX), XML, JSON (RFC 8259),
// vCard (RFC 6350), iCalendar (RFC 5545), RIFF and ISO base media by their boxes, text by its encoding, and whatever is
// left by how even its bytes are.
//
// Content is hostile. No size that it states is believed; what is unpacked, decoded or looked through is bounded by the
// constants of this package, and what lay beyond a bound is said.
package condition

import (
	"errors"
	"fmt"
	"io"

	"humble-rewind/internal/core/peek"
	"humble-rewind/internal/core/remark"
)

// State is the result of examining content.
type State string

// The states. The zero State is Unread.
const (
	Sound    State = "sound"    // everything that can be checked is right
	Doubtful State = "doubtful" // something is odd, or nothing in it can be checked
	Broken   State = "broken"
	Unread   State = "unread"
)

// Findings are what content says of itself.
type Findings struct {
	Size    int64           `json:"size"` // bytes
	Media   string          `json:"media"`
	State   State           `json:"state"`
	Reasons []remark.Remark `json:"reasons"`
	Noise   bool            `json:"noise,omitempty"`
	Zero    bool            `json:"zero,omitempty"`   // nothing but zero bytes, or no bytes at all
	Proved  bool            `json:"proved,omitempty"` // the format has checks that it passed, so that it is not just unsuspicious
}

// Empty tells whether there are no bytes at all.
func (f Findings) Empty() bool { return f.Size == 0 }

// Verdict is what findings mean for a file of a certain name.
type Verdict struct {
	State   State
	Reasons []remark.Remark
	Media   string
	// Rename is the name under which it would open, where its own has the wrong extension.
	Rename string
	Empty  bool
	Noise  bool // as even as noise
	Proved bool
}

// What is read and unpacked at most.
const (
	maxUnpacked = 256 << 20 // bytes, of all members of a package or a compressed file
	maxMembers  = 50_000
	maxScanned  = 64 << 20 // bytes of text or XML
	maxPicture  = 64 << 20 // bytes of a picture file that is decoded
	headBytes   = 8 << 10
)

// examination is one content being examined.
type examination struct {
	Findings
	r    io.ReaderAt
	head []byte
	err  error // of reading; the content itself is not to blame
}

// Examine examines size bytes of content. An error is one of reading, and says nothing about the content.
func Examine(r io.ReaderAt, size int64) (Findings, error) {
	e := &examination{Findings: Findings{Size: size, State: Sound, Reasons: []remark.Remark{}}}
	e.r = &faults{r: r, err: &e.err}
	e.head = make([]byte, min(size, headBytes))
	n, err := io.ReadFull(io.NewSectionReader(e.r, 0, size), e.head)
	if err != nil && size > 0 {
		if e.err != nil {
			return e.Findings, e.err
		}
		return e.Findings, fmt.Errorf("%w: it ended after %d of %d bytes", io.ErrUnexpectedEOF, n, size)
	}
	if size == 0 {
		e.Media, e.Zero = "application/x-empty", true
		e.broken("empty")
		return e.Findings, nil
	}
	if e.allZero() {
		e.Media = "application/octet-stream"
		return e.Findings, e.err
	}
	e.Media = peek.Sniff(e.head[:min(len(e.head), 4096)])
	e.content()
	return e.Findings, e.err
}

// faults remembers errors of reading, so that they are not taken for damage.
type faults struct {
	r   io.ReaderAt
	err *error
}

func (f *faults) ReadAt(p []byte, off int64) (int, error) {
	if *f.err != nil {
		return 0, *f.err
	}
	if off < 0 { // content that sends its reader there is to blame itself
		return 0, io.ErrUnexpectedEOF
	}
	n, err := f.r.ReadAt(p, off)
	if err != nil && !errors.Is(err, io.EOF) {
		*f.err = err
	}
	return n, err
}

func (e *examination) note(state State, code string, pairs ...any) {
	if e.State == Sound || state == Broken {
		e.State = state
	}
	e.Reasons = append(e.Reasons, remark.New(code, pairs...))
}

func (e *examination) broken(code string, pairs ...any) { e.note(Broken, code, pairs...) }
func (e *examination) doubt(code string, pairs ...any)  { e.note(Doubtful, code, pairs...) }
func (e *examination) section() *io.SectionReader       { return io.NewSectionReader(e.r, 0, e.Size) }
func (e *examination) proved(code string, pairs ...any) {
	if e.State == Sound {
		e.Proved = true
		e.Reasons = append(e.Reasons, remark.New(code, pairs...))
	}
}

// content examines by what it begins with.
func (e *examination) content() {
	if check, ok := checks[e.Media]; ok {
		check(e)
		return
	}
	switch {
	case len(e.head) >= 12 && string(e.head[:4]) == "RIFF":
		e.riff()
	case isPackage(e.Media):
		e.packaged()
	case isText(e.Media):
		e.text()
	default:
		e.unknown()
	}
}

// checks are the examinations by media type; packages and texts have theirs besides.
var checks = map[string]func(*examination){
	"image/png": (*examination).picture, "image/jpeg": (*examination).picture, "image/gif": (*examination).picture,
	"image/tiff": (*examination).picture, "image/webp": (*examination).picture, "image/bmp": (*examination).picture,
	"text/rtf":                        (*examination).richText,
	"application/pdf":                 (*examination).pdf,
	"application/vnd.sqlite3":         (*examination).sqlite,
	"application/gzip":                (*examination).gzip,
	"application/x-bzip2":             (*examination).bzip2,
	"application/x-tar":               (*examination).tar,
	"application/x-xz":                (*examination).xz,
	"video/mp4":                       (*examination).boxes,
	"audio/ogg":                       (*examination).unchecked,
	"audio/flac":                      (*examination).unchecked,
	"audio/mpeg":                      (*examination).unchecked,
	"application/zstd":                (*examination).unchecked,
	"application/x-elf":               (*examination).unchecked,
	"application/x-compound-document": (*examination).unchecked,
}

// allZero finds content of nothing but zero bytes, as a crash leaves it.
func (e *examination) allZero() bool {
	for _, c := range e.head {
		if c != 0 {
			return false
		}
	}
	buffer := make([]byte, 64<<10)
	for off := int64(len(e.head)); off < e.Size; {
		n, err := e.r.ReadAt(buffer[:min(int64(len(buffer)), e.Size-off)], off)
		for _, c := range buffer[:n] {
			if c != 0 {
				return false
			}
		}
		if off += int64(n); err != nil || n == 0 {
			break
		}
	}
	if e.err != nil {
		return false
	}
	e.Zero = true
	e.broken("all-zero", "size", e.Size)
	return true
}

// unchecked is a format in which nothing tells whether it is whole, or nothing that is looked at here.
func (e *examination) unchecked() {
	if zeros := e.zeroTail(); zeros > 0 {
		e.broken("zero-tail", "size", zeros)
		return
	}
	e.doubt("unchecked")
}

// unknown is content of no known format.
func (e *examination) unknown() {
	e.Noise = e.noise()
	if zeros := e.zeroTail(); zeros > 0 {
		e.broken("zero-tail", "size", zeros)
		return
	}
	if e.Noise {
		e.doubt("even")
		return
	}
	e.doubt("no-format")
}

// block is what file systems write at once.
const block = 4096

// zeroTail returns how many bytes at the end are zero where that is a whole block and more; 0 otherwise.
func (e *examination) zeroTail() int64 {
	const most = 1 << 20
	tail := make([]byte, min(e.Size, most))
	if _, err := e.r.ReadAt(tail, e.Size-int64(len(tail))); err != nil && !errors.Is(err, io.EOF) {
		return 0
	}
	zeros := 0
	for zeros < len(tail) && tail[len(tail)-1-zeros] == 0 {
		zeros++
	}
	if zeros < block {
		return 0
	}
	return int64(zeros)
}

// WithDatabase takes over the verdict of SQLite's own integrity check on the content: "ok", or what is wrong.
func (f Findings) WithDatabase(verdict string) Findings {
	if f.State == Broken {
		return f
	}
	if verdict == "ok" {
		f.State, f.Proved, f.Reasons = Sound, true, []remark.Remark{remark.New("database-passes")}
		return f
	}
	f.State, f.Reasons = Broken, []remark.Remark{remark.New("database-fails", "why", verdict)}
	return f
}
