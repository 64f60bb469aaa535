package peek

import (
	"bytes"
	"io"
	"strings"
	"unicode/utf8"

	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/encoding/unicode"
)

// textEncoding names the encoding of what looks like text: UTF-8 (which holds ASCII), UTF-16 with its byte order mark,
// or, where only a few bytes say otherwise, Windows-1252.
func textEncoding(b []byte) (string, bool) {
	switch {
	case bytes.HasPrefix(b, []byte{0xff, 0xfe}), bytes.HasPrefix(b, []byte{0xfe, 0xff}):
		return "UTF-16", true
	case bytes.IndexByte(b, 0) >= 0:
		return "", false
	}
	controls := 0
	for _, c := range b {
		if c < 0x20 && c != '\n' && c != '\r' && c != '\t' && c != '\f' && c != 0x1b {
			controls++
		}
	}
	if controls*100 > len(b) {
		return "", false
	}
	if utf8.Valid(trimPartRune(b)) {
		return "UTF-8", true
	}
	high := 0
	for _, c := range b {
		if c >= 0x80 {
			high++
		}
	}
	return "Windows-1252", high*10 < len(b)*3
}

// WholeText decodes size bytes of content as text; false where it is none, or cannot be read.
func WholeText(r io.ReaderAt, size int64) (string, bool) {
	content, err := readHead(r, size, int(size))
	if err != nil {
		return "", false
	}
	encoding, ok := textEncoding(content)
	if !ok {
		return "", false
	}
	return decodeText(content, encoding), true
}

// trimPartRune drops a character that the end of the buffer cuts in two.
func trimPartRune(b []byte) []byte {
	for i := 1; i < utf8.UTFMax && i <= len(b); i++ {
		if c := b[len(b)-i]; utf8.RuneStart(c) {
			if c >= utf8.RuneSelf && !utf8.FullRune(b[len(b)-i:]) {
				return b[:len(b)-i]
			}
			break
		}
	}
	return b
}

func decodeText(b []byte, encoding string) string {
	var text []byte
	switch encoding {
	case "UTF-16":
		text, _ = unicode.UTF16(unicode.LittleEndian, unicode.ExpectBOM).NewDecoder().Bytes(b[:len(b)&^1])
	case "Windows-1252":
		text, _ = charmap.Windows1252.NewDecoder().Bytes(b)
	default:
		text = bytes.TrimPrefix(trimPartRune(b), []byte("\ufeff"))
	}
	return strings.ToValidUTF8(string(text), "\uFFFD")
}

// lines splits text at any line end and keeps at most maxLines of at most maxLineRunes.
func lines(text string) (kept []string, cut bool) {
	text = strings.NewReplacer("\r\n", "\n", "\r", "\n").Replace(text)
	for line := range strings.Lines(text) {
		if len(kept) == maxLines {
			return kept, true
		}
		line = strings.TrimSuffix(line, "\n")
		if r := []rune(line); len(r) > maxLineRunes {
			line, cut = string(r[:maxLineRunes])+" …", true
		}
		kept = append(kept, line)
	}
	return kept, cut
}

// textStrings finds runs of printable ASCII in what is not text.
func textStrings(b []byte) []string {
	const shortest = 5
	var found []string
	start := -1
	for i := 0; i <= len(b); i++ {
		if i < len(b) && b[i] >= 0x20 && b[i] < 0x7f {
			if start < 0 {
				start = i
			}
			continue
		}
		if start >= 0 && i-start >= shortest {
			found = append(found, string(b[start:min(i, start+maxLineRunes)]))
			if len(found) == maxStrings {
				break
			}
		}
		start = -1
	}
	return found
}
