// Package pdf finds the streams of a PDF (ISO 32000-1, 7.3.8) without its cross-reference, so that those of a damaged file
// are found as well. It reads nothing else of a PDF: no objects, no fonts, no pages.
package pdf

import (
	"bytes"
	"compress/zlib"
	"io"
	"iter"
	"regexp"
	"strconv"
)

// What is looked at.
const (
	maxDictionary = 2 << 10 // bytes before a stream that say what it is
	maxStreams    = 20_000
)

// Stream is one stream: the bytes from Start to End of the content in which it was found.
type Stream struct {
	Start, End int
	Astray     bool   // it does not end where its dictionary says
	dictionary []byte // the end of it, from the mark of its object on
}

var (
	streamBegin = []byte("stream")
	streamEnd   = []byte("endstream")
	lengthKey   = regexp.MustCompile(`/Length\s+(\d+)(\s+\d+\s+R)?`)
)

// Is tells whether content begins as a PDF does.
func Is(content []byte) bool { return bytes.HasPrefix(content, []byte("%PDF-")) }

// Encrypted tells whether the streams are encrypted (7.6), so that nothing can be said of what is in them.
func Encrypted(content []byte) bool { return bytes.Contains(content, []byte("/Encrypt")) }

// Streams yields the streams in the order in which they lie.
func Streams(content []byte) iter.Seq[Stream] {
	return func(yield func(Stream) bool) {
		for at, n := 0, 0; n < maxStreams; n++ {
			s, ok := next(content, at)
			if !ok || !yield(s) {
				return
			}
			at = s.End
		}
	}
}

// next finds the first stream that begins at or after an offset.
func next(content []byte, at int) (s Stream, ok bool) {
	for {
		i := bytes.Index(content[at:], streamBegin)
		if i < 0 {
			return s, false
		}
		begin := at + i
		at = begin + len(streamBegin)
		before := bytes.TrimRight(content[max(0, begin-maxDictionary):begin], " \t\r\n")
		start := at
		if start < len(content) && content[start] == '\r' {
			start++
		}
		if start >= len(content) || content[start] != '\n' || !bytes.HasSuffix(before, []byte(">>")) {
			continue // the word stands in something else
		}
		s = Stream{Start: start + 1, dictionary: before}
		if i := bytes.LastIndex(before, []byte(" obj")); i >= 0 {
			s.dictionary = before[i:]
		}
		s.findEnd(content)
		return s, true
	}
}

// findEnd takes the end that the dictionary states, where the stream does end there, else the next mark of an end.
func (s *Stream) findEnd(content []byte) {
	if m := lengthKey.FindSubmatch(s.dictionary); m != nil && m[2] == nil {
		n, err := strconv.Atoi(string(m[1]))
		if err == nil && n <= len(content)-s.Start && bytes.HasPrefix(bytes.TrimLeft(content[s.Start+n:], "\r\n \t"), streamEnd) {
			s.End = s.Start + n
			return
		}
		s.Astray = true
	}
	s.End = len(content)
	if i := bytes.Index(content[s.Start:], streamEnd); i >= 0 {
		s.End = s.Start + i
	}
}

func (s Stream) has(key string) bool { return bytes.Contains(s.dictionary, []byte(key)) }

// Deflated tells whether the stream is deflated, and nothing else besides.
func (s Stream) Deflated() bool {
	return s.has("/FlateDecode") && !s.has("/Filter [") && !s.has("/Filter[")
}

// JPEG tells whether the stream is a picture that is a JPEG as it is, and nothing else besides.
func (s Stream) JPEG() bool {
	return s.has("/DCTDecode") && !s.has("/FlateDecode") && !s.has("/ASCII") && !s.has("/LZW") && !s.has("/RunLength") && !s.has("/Crypt")
}

// Plain tells whether the stream is neither packed nor of a kind of its own, such as a picture: it says what is on a page.
func (s Stream) Plain() bool {
	return !s.has("/Filter") && !s.has("/Type") && !s.has("/Subtype") && !s.has("/Length1") && !s.has("/Alternate")
}

// Inflate returns a deflated stream unpacked (RFC 1950). Damage is an error of reading.
func (s Stream) Inflate(content []byte) io.Reader {
	z, err := zlib.NewReader(bytes.NewReader(content[s.Start:s.End]))
	if err != nil {
		return failing{err}
	}
	return z
}

type failing struct{ err error }

func (f failing) Read([]byte) (int, error) { return 0, f.err }

// Pages writes out what is on the pages, as far as the streams are deflated or plain, at most limit bytes: operators and
// the text between them. What is damaged is passed over.
func Pages(content []byte, limit int64) []byte {
	var all bytes.Buffer
	for s := range Streams(content) {
		left := limit - int64(all.Len())
		switch {
		case left <= 0:
			return all.Bytes()
		case s.Deflated() && !s.has("/Subtype") && !s.has("/Type"):
			_, _ = io.Copy(&all, io.LimitReader(s.Inflate(content), left)) // what is damaged ends there
		case s.Plain():
			all.Write(content[s.Start:min(s.End, s.Start+int(left))])
		}
		all.WriteByte('\n')
	}
	return all.Bytes()
}

// Split parts the strings of page descriptions and objects (7.3.4) from what is around them, with a blank behind each; comments are left out.
func Split(b []byte) (outside, inside []byte) {
	depth := 0
	for i := 0; i < len(b); i++ {
		c := b[i]
		switch {
		case depth > 0 && c == '\\':
			i++
		case c == '(':
			depth++
		case depth > 0 && c == ')':
			if depth--; depth == 0 {
				inside = append(inside, ' ')
			}
		case depth > 0:
			inside = append(inside, c)
		case c == '%':
			for i+1 < len(b) && b[i+1] != '\n' && b[i+1] != '\r' {
				i++
			}
		default:
			outside = append(outside, c)
		}
	}
	return outside, inside
}
