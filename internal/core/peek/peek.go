package peek

import (
	"fmt"
	"io"
	"strings"

	"humble-rewind/internal/core/document"
)

// What a preview holds at the most.
const (
	maxTextBytes = 64 << 10
	maxLines     = 1000
	maxLineRunes = 2000
	maxStrings   = 60
)

// Shows says what kind of look a preview gives.
type Shows string

// The kinds of look at a file.
const (
	Text    Shows = "text"
	Picture Shows = "picture"
	Strings Shows = "strings" // not readable as such: runs of text found in it
	Nothing Shows = "nothing"
)

// Preview is a first look at a file.
type Preview struct {
	Shows         Shows
	MediaType     string // by content
	Encoding      string // of text
	Lines         []string
	Cut           bool // there is more than the lines show
	Width, Height int  // of a picture, in pixels
	Note          string
}

// Look previews size bytes of content. It reads the beginning only, but for documents and pictures that keep what
// matters elsewhere. An error is an error of reading; content that makes no sense is described, not refused.
func Look(r io.ReaderAt, size int64) (Preview, error) {
	head, err := readHead(r, size, maxTextBytes)
	if err != nil {
		return Preview{}, err
	}
	p := Preview{MediaType: Sniff(head[:min(len(head), sniffBytes)])}
	switch {
	case len(head) == 0:
		p.Shows, p.Note = Nothing, "The file is empty."
		return p, nil
	case allZero(head):
		p.Shows, p.Note = Nothing, fmt.Sprintf("The first %d bytes are all zero.", len(head))
		return p, nil
	case isPicture(p.MediaType):
		return lookPicture(r, size, p), nil
	case strings.HasPrefix(p.MediaType, "application/vnd.oasis.opendocument.") || p.MediaType == "application/zip":
		d, err := document.Read(r, size)
		if err == nil {
			p.Shows = Text
			p.Lines, p.Cut = documentLines(d)
			return p, nil
		}
		if p.MediaType != "application/zip" || document.Damaged(err) {
			p.Note = "Its text cannot be read; what follows are the readable runs in its bytes."
		}
	default:
		if encoding, ok := textEncoding(head); ok {
			p.Shows, p.Encoding = Text, encoding
			p.Lines, p.Cut = lines(decodeText(head, encoding))
			p.Cut = p.Cut || size > int64(len(head))
			return p, nil
		}
	}
	p.Shows, p.Lines, p.Cut = Strings, textStrings(head), size > int64(len(head))
	return p, nil
}

// documentLines lists a document's paragraphs, or its rows with cells parted by tabs.
func documentLines(d document.Document) (kept []string, cut bool) {
	all := d.Paragraphs
	for _, sheet := range d.Sheets {
		for _, row := range sheet.Rows {
			if len(all) > maxLines {
				break
			}
			all = append(all, strings.ReplaceAll(strings.Join(row, "\t"), "\n", " "))
		}
	}
	for _, line := range all[:min(len(all), maxLines)] {
		if r := []rune(line); len(r) > maxLineRunes {
			line, cut = string(r[:maxLineRunes])+" …", true
		}
		kept = append(kept, line)
	}
	return kept, cut || d.Cut || len(all) > maxLines
}

func allZero(b []byte) bool {
	for _, c := range b {
		if c != 0 {
			return false
		}
	}
	return true
}
