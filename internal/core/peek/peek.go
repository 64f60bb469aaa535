package peek

import (
	"io"
	"strings"

	"humble-rewind/internal/core/document"
	"humble-rewind/internal/core/remark"
)

// What a preview holds at the most.
const (
	maxTextBytes = 64 << 10
	maxLines     = 1000
	maxLineRunes = 2000
	maxStrings   = 60
	maxColumns   = 100
	maxCellRunes = 200
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
	Sheets        []document.Sheet // of a spreadsheet or separated values, beside the lines
	Cut           bool             // there is more than is shown
	Width, Height int              // of a picture, in pixels
	Note          remark.Remark
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
		p.Shows, p.Note = Nothing, remark.New("empty-file")
		return p, nil
	case allZero(head):
		p.Shows, p.Note = Nothing, remark.New("zeros", "n", len(head))
		return p, nil
	case isPicture(p.MediaType):
		return lookPicture(r, size, p), nil
	case strings.HasPrefix(p.MediaType, "application/vnd.oasis.opendocument.") || p.MediaType == "application/zip" ||
		p.MediaType == "application/vnd.sqlite3":
		d, err := document.Read(r, size)
		if err == nil {
			p.Shows = Text
			p.Lines, p.Cut = documentLines(d)
			p.sheets(d)
			return p, nil
		}
		if p.MediaType != "application/zip" || document.Damaged(err) {
			p.Note = remark.New("runs")
		}
	default:
		if encoding, ok := textEncoding(head); ok {
			p.Shows, p.Encoding = Text, encoding
			p.Lines, p.Cut = lines(decodeText(head, encoding))
			p.Cut = p.Cut || size > int64(len(head))
			if d, ok := separated(p.Lines); ok {
				p.sheets(d)
			}
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

// sheets keeps the cells of a document's sheets, as far as a first look goes.
func (p *Preview) sheets(d document.Document) {
	rows := 0
	for _, sheet := range d.Sheets {
		kept := document.Sheet{Name: sheet.Name}
		for _, row := range sheet.Rows {
			if rows++; rows > maxLines {
				p.Cut = true
				break
			}
			cells := make([]string, min(len(row), maxColumns))
			for i := range cells {
				cells[i] = row[i]
				if r := []rune(row[i]); len(r) > maxCellRunes {
					cells[i] = string(r[:maxCellRunes]) + " …"
				}
			}
			p.Cut = p.Cut || len(row) > maxColumns
			kept.Rows = append(kept.Rows, cells)
		}
		if len(kept.Rows) > 0 {
			p.Sheets = append(p.Sheets, kept)
		}
	}
}

// separated reads lines of text as a table, where each of them has the same number of cells.
func separated(lines []string) (document.Document, bool) {
	const few = 2
	d, err := document.ReadCSV(strings.Join(lines, "\n"))
	if err != nil || len(d.Sheets) != 1 || len(d.Sheets[0].Rows) < few || len(d.Sheets[0].Rows[0]) < few {
		return d, false
	}
	for _, row := range d.Sheets[0].Rows {
		if len(row) != len(d.Sheets[0].Rows[0]) {
			return d, false
		}
	}
	return d, true
}

func allZero(b []byte) bool {
	for _, c := range b {
		if c != 0 {
			return false
		}
	}
	return true
}
