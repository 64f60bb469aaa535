// Package document reads what a person wrote out of office documents, by their open standards: OpenDocument 1.3 (OASIS;
// part 2 packages, part 3 schema) and Office Open XML (ECMA-376; part 1 WordprocessingML and SpreadsheetML, part 2
// packages), out of SQLite databases, and out of comma-separated values (RFC 4180, also with semicolons or tabs).
//
// Documents are hostile. Nothing is read beyond the bounds of this package, however much a document unpacks to or says
// to repeat; entities other than XML's own five are errors, so none can be expanded.
package document

import (
	"archive/zip"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"path"
	"strings"

	"humble-rewind/internal/core/bounded"
)

// What is read at most.
const (
	maxXML        = 32 << 20 // bytes, unpacked, of all parts of a document
	maxParagraphs = 50_000
	maxCells      = 300_000
	maxText       = 16 << 20 // bytes
	maxColumns    = 16_384
	maxRepeat     = 1000 // of a cell or row with content
)

// Document is what is written in a document. Either Paragraphs or Sheets is set.
type Document struct {
	Format     string // such as "OpenDocument text"
	Paragraphs []string
	Sheets     []Sheet
	Cut        bool // there is more than was read
}

// Text returns all that is written in the document, a line for each paragraph or cell.
func (d Document) Text() string {
	var b strings.Builder
	for _, p := range d.Paragraphs {
		b.WriteString(p + "\n")
	}
	for _, sheet := range d.Sheets {
		for _, row := range sheet.Rows {
			b.WriteString(strings.Join(row, "\n") + "\n")
		}
	}
	return b.String()
}

// Sheet is a table of cells as they are shown, by row and column; rows may be of different lengths.
type Sheet struct {
	Name string
	Rows [][]string
}

// Sentinels that callers branch on.
var (
	ErrUnknown = errors.New("not a document of a known format")
	ErrDamaged = errors.New("the document is damaged")
)

// Damaged tells whether an error says that a document of a known format cannot be read.
func Damaged(err error) bool { return errors.Is(err, ErrDamaged) }

// Read reads a packaged document or a database of size bytes. It fails with ErrUnknown where it is none, with ErrDamaged where it
// cannot be read, even in part.
func Read(r io.ReaderAt, size int64) (Document, error) {
	if d, err := readDatabase(r, size); !errors.Is(err, ErrUnknown) {
		return d, err
	}
	archive, err := bounded.Zip(r, size)
	if err != nil {
		return Document{}, fmt.Errorf("%w: %w", ErrUnknown, err)
	}
	p := &parcel{members: make(map[string]*zip.File, len(archive.File)), left: maxXML}
	for _, f := range archive.File {
		if _, twice := p.members[f.Name]; !twice {
			p.members[f.Name] = f
		}
	}
	switch {
	case p.has("word/document.xml"):
		return p.wordText()
	case p.has("xl/workbook.xml"):
		return p.workbook()
	case p.has("content.xml"):
		return p.openDocument()
	}
	return Document{}, ErrUnknown
}

// parcel is a document's package, with how much of it may still be unpacked.
type parcel struct {
	members map[string]*zip.File
	left    int64
	text    int
}

func (p *parcel) has(name string) bool { return p.members[name] != nil }

var errEnough = errors.New("enough was read")

// tokens calls see with every token of a part. Whatever ends it early is ErrDamaged or, where see says so, errEnough.
func (p *parcel) tokens(name string, see func(xml.Token) error) error {
	f := p.members[name]
	if f == nil {
		return fmt.Errorf("%w: its part %q is missing", ErrDamaged, name)
	}
	content, err := f.Open()
	if err != nil {
		return fmt.Errorf("%w: its part %q: %w", ErrDamaged, name, err)
	}
	defer content.Close()
	limited := &io.LimitedReader{R: content, N: p.left}
	decoder := bounded.NewXML(limited)
	defer func() { p.left = limited.N }()
	for {
		token, err := decoder.Token()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil && limited.N <= 0 || bounded.Beyond(err) {
			return errEnough
		}
		if err != nil {
			return fmt.Errorf("%w: its part %q: %w", ErrDamaged, name, err)
		}
		if err := see(token); err != nil {
			return err
		}
	}
}

// ended turns the end of reading into what a reader of the document gets: what was read still helps.
func ended(d Document, err error) (Document, error) {
	if err != nil && (len(d.Paragraphs) > 0 || len(d.Sheets) > 0 || errors.Is(err, errEnough)) {
		d.Cut = true
		return d, nil
	}
	return d, err
}

// write adds text as far as there is room.
func (p *parcel) write(b *strings.Builder, text []byte) {
	if p.text < maxText {
		p.text += len(text)
		b.Write(text)
	}
}

func (d *Document) paragraph(text string) error {
	if len(d.Paragraphs) == maxParagraphs {
		return errEnough
	}
	d.Paragraphs = append(d.Paragraphs, text)
	return nil
}

func attr(e xml.StartElement, local string) string {
	for _, a := range e.Attr {
		if a.Name.Local == local {
			return a.Value
		}
	}
	return ""
}

// wordText reads w:p in word/document.xml (ECMA-376 part 1, 17.3).
func (p *parcel) wordText() (Document, error) {
	d := Document{Format: "Office Open XML text"}
	var text strings.Builder
	depth := 0
	inText := false
	err := p.tokens("word/document.xml", func(token xml.Token) error {
		switch t := token.(type) {
		case xml.StartElement:
			switch t.Name.Local {
			case "p":
				depth++
			case "t":
				inText = true
			case "tab":
				text.WriteByte('\t')
			case "br", "cr":
				text.WriteByte(' ')
			}
		case xml.CharData:
			if inText && depth > 0 {
				p.write(&text, t)
			}
		case xml.EndElement:
			switch t.Name.Local {
			case "t":
				inText = false
			case "p":
				if depth--; depth <= 0 {
					depth = 0
					line := text.String()
					text.Reset()
					return d.paragraph(line)
				}
			}
		}
		return nil
	})
	return ended(d, err)
}

// workbook reads the sheets of xl/workbook.xml in their order (ECMA-376 part 1, 18.2 and 18.3).
func (p *parcel) workbook() (Document, error) {
	d := Document{Format: "Office Open XML spreadsheet"}
	targets := map[string]string{}
	if p.has("xl/_rels/workbook.xml.rels") {
		if err := p.tokens("xl/_rels/workbook.xml.rels", func(token xml.Token) error {
			if e, ok := token.(xml.StartElement); ok && e.Name.Local == "Relationship" {
				target := attr(e, "Target")
				if !strings.HasPrefix(target, "/") {
					target = path.Join("/xl", target)
				}
				targets[attr(e, "Id")] = strings.TrimPrefix(path.Clean(target), "/")
			}
			return nil
		}); err != nil {
			return d, err
		}
	}
	type sheet struct{ name, part string }
	var sheets []sheet
	if err := p.tokens("xl/workbook.xml", func(token xml.Token) error {
		if e, ok := token.(xml.StartElement); ok && e.Name.Local == "sheet" {
			part := targets[attr(e, "id")]
			if part == "" {
				part = fmt.Sprintf("xl/worksheets/sheet%d.xml", len(sheets)+1)
			}
			sheets = append(sheets, sheet{attr(e, "name"), part})
		}
		return nil
	}); err != nil {
		return d, err
	}
	shared, err := p.sharedStrings()
	if err != nil && !errors.Is(err, errEnough) {
		return d, err
	}
	cells := 0
	for _, s := range sheets {
		rows, err := p.worksheet(s.part, shared, &cells)
		if len(rows) > 0 || err == nil {
			d.Sheets = append(d.Sheets, Sheet{s.name, rows})
		}
		if err != nil {
			return ended(d, err)
		}
	}
	return d, nil
}

func (p *parcel) sharedStrings() ([]string, error) {
	if !p.has("xl/sharedStrings.xml") {
		return nil, nil
	}
	var all []string
	var text strings.Builder
	inText, phonetic := false, false
	err := p.tokens("xl/sharedStrings.xml", func(token xml.Token) error {
		switch t := token.(type) {
		case xml.StartElement:
			inText = t.Name.Local == "t"
			phonetic = phonetic || t.Name.Local == "rPh"
		case xml.CharData:
			if inText && !phonetic {
				p.write(&text, t)
			}
		case xml.EndElement:
			switch t.Name.Local {
			case "t":
				inText = false
			case "rPh":
				phonetic = false
			case "si":
				if len(all) == maxCells {
					return errEnough
				}
				all = append(all, text.String())
				text.Reset()
			}
		}
		return nil
	})
	return all, err
}

func (p *parcel) worksheet(part string, shared []string, cells *int) (rows [][]string, err error) {
	var text strings.Builder
	var kind string
	row, column := -1, -1
	inValue := false
	err = p.tokens(part, func(token xml.Token) error {
		switch t := token.(type) {
		case xml.StartElement:
			switch t.Name.Local {
			case "row":
				row, column = max(row+1, number(attr(t, "r"), row+2)-1), -1
			case "c":
				kind = attr(t, "t")
				column++
				if c, r, ok := Address(attr(t, "r")); ok {
					column, row = c, r
				}
				text.Reset()
			case "v", "t":
				inValue = true
			}
		case xml.CharData:
			if inValue {
				p.write(&text, t)
			}
		case xml.EndElement:
			switch t.Name.Local {
			case "v", "t":
				inValue = false
			case "c":
				value := text.String()
				if kind == "s" {
					if n := number(value, -1); n >= 0 && n < len(shared) {
						value = shared[n]
					}
				}
				return put(&rows, row, column, value, cells)
			}
		}
		return nil
	})
	return rows, err
}

// put sets a cell; rows grow only as far as there are cells.
func put(rows *[][]string, row, column int, value string, cells *int) error {
	if value == "" || row < 0 || column < 0 {
		return nil
	}
	if *cells++; *cells > maxCells || row >= maxCells || column >= maxColumns {
		return errEnough
	}
	for len(*rows) <= row {
		*rows = append(*rows, nil)
	}
	r := &(*rows)[row]
	for len(*r) <= column {
		if len(*r) < column { // what a far column leaves open counts as well
			if *cells++; *cells > 4*maxCells {
				return errEnough
			}
		}
		*r = append(*r, "")
	}
	(*r)[column] = value
	return nil
}

func number(text string, otherwise int) int {
	n := 0
	if text == "" || len(text) > 7 {
		return otherwise
	}
	for _, c := range text {
		if c < '0' || c > '9' {
			return otherwise
		}
		n = n*10 + int(c-'0')
	}
	return n
}

// Address reads a cell's address such as B7; both numbers count from 0.
func Address(text string) (column, row int, ok bool) {
	i := 0
	for ; i < len(text) && text[i] >= 'A' && text[i] <= 'Z' && i < 4; i++ {
		column = column*26 + int(text[i]-'A') + 1
	}
	row = number(text[i:], 0)
	return column - 1, row - 1, i > 0 && row > 0
}

// Name writes a cell's address as spreadsheets show it; both numbers count from 0.
func Name(column, row int) string {
	letters := ""
	for c := column + 1; c > 0; c = (c - 1) / 26 {
		letters = string(rune('A'+(c-1)%26)) + letters
	}
	return fmt.Sprintf("%s%d", letters, row+1)
}
