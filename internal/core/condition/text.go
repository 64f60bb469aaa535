package condition

import (
	"bufio"
	"bytes"
	"encoding/json"
	"errors"
	"io"
	"strings"
	"unicode/utf8"

	"humble-rewind/internal/core/bounded"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/remark"
)

func isText(media string) bool {
	return strings.HasPrefix(media, "text/") || media == "image/svg+xml" || media == "application/xml"
}

// text looks through text: its encoding all the way, and what its kind must have.
func (e *examination) text() {
	s := scan{section: e.section(), size: e.Size}
	s.through()
	if e.err != nil {
		return
	}
	switch {
	case s.zeros > 0:
		e.broken("text-zeros", "n", s.zeros, "at", atLine(s.firstZero, s.zeroLine))
		return
	case s.foreign > 0 && (s.multi > 0 || s.run > 8 || s.foreign*10 > s.bytes*3):
		e.broken("text-foreign", "at", atLine(s.firstForeign, s.foreignLine), "n", s.foreign)
		return
	case s.stripe > 0:
		e.broken("text-stripe", "at", atLine(s.stripe-1, s.stripeLine))
		return
	case s.controls*100 > s.bytes:
		e.broken("text-controls", "n", s.controls)
		return
	}
	if e.Size > maxScanned {
		e.doubt("text-beyond", "most", maxScanned>>20)
	}
	switch e.Media {
	case "image/svg+xml", "application/xml":
		e.xml()
	case "text/vcard", "text/calendar":
		e.balanced()
	default:
		e.plain(&s)
	}
}

func (e *examination) plain(s *scan) {
	if first := bytes.TrimLeft(e.head, " \t\r\n\ufeff"); len(first) > 0 && (first[0] == '{' || first[0] == '[') && e.Size <= 16<<20 {
		content := make([]byte, e.Size)
		if _, err := e.r.ReadAt(content, 0); err == nil || errors.Is(err, io.EOF) {
			content = bytes.TrimPrefix(content, []byte("\ufeff"))
			if json.Valid(content) {
				e.proved("json-whole")
				return
			}
			if looksJSON(content) {
				e.doubt("json-cut")
				return
			}
		}
	}
	if s.bytes > 512 && s.blanks*200 < s.bytes && s.longest > 2000 {
		e.doubt("text-run")
		return
	}
	e.Reasons = append(e.Reasons, remark.New("text-readable"))
}

// looksJSON asks for a name and a colon, or a first value, so that notes in brackets are not held to be JSON.
func looksJSON(b []byte) bool {
	b = bytes.TrimLeft(b, " \t\r\n")
	rest := bytes.TrimLeft(b[1:], " \t\r\n")
	if len(rest) == 0 {
		return false
	}
	if b[0] == '{' {
		return rest[0] == '"' && bytes.Contains(rest[:min(len(rest), 200)], []byte(`":`))
	}
	return rest[0] == '{' || rest[0] == '['
}

func (e *examination) xml() {
	limited := &io.LimitedReader{R: e.section(), N: maxScanned}
	err := readXML(bufio.NewReader(&squeezed{r: limited}))
	if err != nil {
		limited = &io.LimitedReader{R: e.section(), N: maxScanned}
		err = readXML(bufio.NewReader(limited))
	}
	if bounded.Beyond(err) && e.err == nil {
		e.doubt("xml-beyond", "why", err)
		return
	}
	if err != nil && limited.N > 0 && e.err == nil {
		e.broken("xml-not", "why", place.Readable(err.Error()))
		return
	}
	e.proved("xml-whole")
}

// balanced counts what begins and ends (RFC 5545, 3.4 and RFC 6350, 3.3).
func (e *examination) balanced() {
	lines := bufio.NewScanner(io.LimitReader(e.section(), maxScanned))
	lines.Buffer(nil, 1<<20)
	var open []string
	entries := 0
	for lines.Scan() {
		line := strings.ToUpper(strings.TrimSpace(lines.Text()))
		if name, ok := strings.CutPrefix(line, "BEGIN:"); ok {
			open = append(open, name)
			entries++
		} else if name, ok := strings.CutPrefix(line, "END:"); ok {
			if len(open) == 0 || open[len(open)-1] != name {
				e.broken("entries-lost")
				return
			}
			open = open[:len(open)-1]
		}
	}
	if len(open) > 0 {
		e.broken("entry-cut", "entry", strings.ToLower(place.Readable(open[len(open)-1])))
		return
	}
	e.proved("entries-whole", "n", entries)
}

// scan looks through text byte by byte.
type scan struct {
	section io.Reader
	size    int64 // bytes; 0: unknown

	bytes, zeros, controls, blanks int64
	foreign, multi                 int64 // bytes that are not UTF-8, and characters of several bytes that are
	run, streak                    int64 // the longest run of bytes that are not, and the one at hand
	firstZero, firstForeign        int64
	lines, zeroLine, foreignLine   int
	longest, line                  int64
	wide                           bool // UTF-16

	strange    [noiseSome]int64 // where the last bytes were that no text has, or few do
	control    [noiseSome]bool  // whether each was a control character
	met        int
	stripe     int64 // where such bytes came close to each other, counted from 1; 0 where they nowhere do
	stripeLine int
}

// What makes a stripe of noise in text: so many bytes that are no characters of it within so many, control characters among them. A text
// in another encoding has no control characters.
const (
	noiseSome   = 6
	noiseWithin = 32
)

// odd takes up a byte that no text has, or few do.
func (s *scan) odd(control bool) {
	if s.wide || s.stripe > 0 {
		return
	}
	i := s.met % noiseSome
	s.strange[i], s.control[i] = s.bytes, control
	s.met++
	if s.met < noiseSome || s.bytes-s.strange[s.met%noiseSome] >= noiseWithin {
		return
	}
	controls := 0
	for _, c := range s.control {
		if c {
			controls++
		}
	}
	if controls > 0 {
		s.stripe, s.stripeLine = s.strange[s.met%noiseSome]+1, s.lines
	}
}

// pieceOf is how much of a text is looked through at once: all of a small one.
func pieceOf(size int64) int64 {
	const most = 64 << 10
	if size <= 0 || size >= most {
		return most
	}
	return size + 1
}

func (s *scan) through() {
	r := io.LimitReader(s.section, maxScanned)
	buffer := make([]byte, pieceOf(s.size))
	for kept, first := 0, true; ; first = false {
		n, err := io.ReadFull(r, buffer[kept:])
		b := buffer[:kept+n]
		if first && (bytes.HasPrefix(b, []byte{0xff, 0xfe}) || bytes.HasPrefix(b, []byte{0xfe, 0xff})) {
			s.wide = true
		}
		rest := s.take(b, err != nil)
		if err != nil {
			break
		}
		kept = copy(buffer, rest)
	}
	s.longest = max(s.longest, s.line)
}

// take goes through some bytes. It returns the beginning of a character whose end is not among them, where they are not the last.
func (s *scan) take(b []byte, last bool) []byte {
	for len(b) > 0 {
		if n := s.common(b); n > 0 {
			b = b[n:]
			continue
		}
		n := 1
		switch {
		case b[0] < utf8.RuneSelf || s.wide:
			s.streak = 0
		case !last && !utf8.FullRune(b):
			return b
		default:
			if r, size := utf8.DecodeRune(b); r != utf8.RuneError || size > 1 {
				n = size
				s.multi++
				s.streak = 0
				break
			}
			if s.foreign == 0 {
				s.firstForeign, s.foreignLine = s.bytes, s.lines
			}
			s.odd(false)
			s.foreign++
			s.streak++
			s.run = max(s.run, s.streak)
		}
		s.see(b[0])
		s.bytes += int64(n)
		b = b[n:]
	}
	return nil
}

// common goes through the bytes that most texts are made of, up to the first that is none, and returns how many they are.
func (s *scan) common(b []byte) int {
	line, blanks := s.line, int64(0)
	n := 0
	for ; n < len(b); n++ {
		switch kinds[b[n]] {
		case plain:
			line++
			continue
		case blank:
			line++
			blanks++
			continue
		case lineEnd:
			s.longest = max(s.longest, line+1)
			s.lines++
			line = 0
			blanks++
			continue
		}
		break
	}
	if n > 0 {
		s.line, s.bytes, s.blanks, s.streak = line, s.bytes+int64(n), s.blanks+blanks, 0
	}
	return n
}

// The kinds of bytes that most texts are made of; other ones are looked at one by one.
const (
	other = iota
	plain
	blank
	lineEnd
)

var kinds = func() (all [256]byte) {
	for c := byte(' ') + 1; c < utf8.RuneSelf; c++ {
		all[c] = plain
	}
	for _, c := range " \t,;\r" {
		all[c] = blank
	}
	all['\n'] = lineEnd
	return all
}()

// see takes up a byte that is none of those, or the first of a character.
func (s *scan) see(c byte) {
	s.line++
	switch {
	case s.wide:
	case c == 0:
		if s.zeros == 0 {
			s.firstZero, s.zeroLine = s.bytes, s.lines
		}
		s.zeros++
	case c < ' ' && c != '\f' && c != 0x1b:
		s.controls++
		s.odd(true)
	}
}
