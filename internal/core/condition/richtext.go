package condition

import (
	"bufio"
	"io"
	"strings"
)

// foreignRun is how many bytes in a row that are not ASCII a rich text may have: its letters beyond ASCII are written out, or few.
const foreignRun = 32

// richText follows the groups of a rich text to its end (Rich Text Format 1.9.1, "Conventions of an RTF Reader"): each brace that
// opens one is closed, unless a backslash stands before it, and nothing comes after the last. What is between is ASCII, but for
// data of a stated length.
func (e *examination) richText() {
	in := bufio.NewReader(io.LimitReader(e.section(), maxScanned))
	depth, ended, foreign := 0, false, 0
	for {
		c, err := in.ReadByte()
		if c < 0x80 {
			foreign = 0
		} else {
			foreign++
		}
		switch {
		case e.err != nil || err != nil && e.Size > maxScanned:
			return
		case err != nil && !ended:
			e.broken("richtext-cut")
			return
		case err != nil:
			e.proved("richtext-whole")
			return
		case ended && !strings.ContainsRune("\r\n\t \x00", rune(c)):
			e.doubt("richtext-more")
			return
		case !ended && (c < ' ' && c != '\r' && c != '\n' && c != '\t' || foreign > foreignRun):
			e.broken("richtext-foreign")
			return
		case c == '\\':
			skipControl(in)
		case c == '{':
			depth++
		case c == '}':
			depth--
			ended = depth <= 0
		}
	}
}

// skipControl reads what a backslash begins where that may hide a brace: one character, or \bin with its length, its space and its bytes.
func skipControl(in *bufio.Reader) {
	if next, _ := in.Peek(3); string(next) != "bin" {
		_, _ = in.Discard(1)
		return
	}
	_, _ = in.Discard(len("bin"))
	length := 0
	for {
		c, err := in.ReadByte()
		switch {
		case err != nil || c == ' ':
			_, _ = in.Discard(length)
			return
		case c < '0' || c > '9' || length > maxScanned:
			_ = in.UnreadByte()
			return
		}
		length = 10*length + int(c-'0')
	}
}
