package pdf_test

import (
	"bytes"
	"compress/zlib"
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"

	"humble-rewind/internal/core/pdf"
)

func deflated(s string) string {
	var b bytes.Buffer
	z := zlib.NewWriter(&b)
	_, _ = z.Write([]byte(s))
	_ = z.Close()
	return b.String()
}

func document(lengthOff int) []byte {
	page := deflated("(Sheer line) Tj")
	return fmt.Appendf(nil, "%%PDF-1.7\n1 0 obj\n<< /Length %d /Filter /FlateDecode >>\nstream\n%s\nendstream\nendobj\n"+
		"2 0 obj\n<< /Note (a stream\n) >>\nendobj\n3 0 obj\n<< /Length 4 0 R >>\nstream\r\n(Keel) Tj\nendstream\nendobj\n"+
		"5 0 obj\n<< /Subtype /Image /Filter /FlateDecode /Length 3 >>\nstream\nabc\nendstream\nendobj\n", len(page)+lengthOff, page)
}

func TestStreamsAreFoundWithoutACrossReference(t *testing.T) {
	for _, off := range []int{0, 3, -3, 5000} {
		content := document(off)
		var astray, plain, packed int
		for s := range pdf.Streams(content) {
			for is, n := range map[*int]bool{&astray: s.Astray, &plain: s.Plain(), &packed: s.Deflated()} {
				if n {
					*is++
				}
			}
		}
		assert.Equal(t, off != 0, astray == 1, "a length that is %d off", off)
		assert.Equal(t, 1, plain)
		assert.Equal(t, 2, packed)
		assert.Equal(t, "(Sheer line) Tj\n(Keel) Tj\n\n\n", string(pdf.Pages(content, 1<<20)), "pictures are none of the text")
	}
	assert.Len(t, pdf.Pages(document(0), 6), 7, "bounded")
}

// Streams lie within the content, one behind the other, whatever it is.
func FuzzStreams(f *testing.F) {
	f.Add(document(0))
	f.Add(document(-3))
	f.Add([]byte("1 0 obj <</Length 99999999999999999999>>stream\n"))
	f.Fuzz(func(t *testing.T, content []byte) {
		at := 0
		for s := range pdf.Streams(content) {
			if s.Start < at || s.End < s.Start || s.End > len(content) {
				t.Fatalf("a stream from %d to %d after %d of %d", s.Start, s.End, at, len(content))
			}
			at = s.End
		}
		pdf.Pages(content, 1<<16)
	})
}
