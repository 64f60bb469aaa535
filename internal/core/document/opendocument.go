package document

import (
	"encoding/xml"
	"strings"
)

// openDocument reads content.xml: text:p and text:h as paragraphs, table:table as sheets where the document is a
// spreadsheet, else cells as paragraphs too (OpenDocument 1.3 part 3, chapters 5 and 9).
func (p *parcel) openDocument() (Document, error) {
	o := odf{p: p, d: Document{Format: "OpenDocument text"}}
	err := p.tokens("content.xml", o.see)
	return ended(o.d, err)
}

type odf struct {
	p       *parcel
	d       Document
	sheets  bool
	deleted int // within what change tracking keeps of removed text
	note    int // within a comment
	depth   int // of paragraphs
	text    strings.Builder
	cell    strings.Builder // paragraphs of a cell
	paras   int             // in the cell
	inRow   int             // of a table
	row     int
	column  int
	rows    int // how often the row repeats
	columns int // how often the cell does
	line    []string
	cells   int
}

func (o *odf) see(token xml.Token) error {
	switch t := token.(type) {
	case xml.StartElement:
		return o.start(t)
	case xml.CharData:
		if o.depth > 0 && o.deleted == 0 && o.note == 0 {
			o.p.write(&o.text, t)
		}
	case xml.EndElement:
		return o.end(t.Name.Local)
	}
	return nil
}

func (o *odf) start(t xml.StartElement) error {
	switch t.Name.Local {
	case "spreadsheet":
		o.sheets, o.d.Format = true, "OpenDocument spreadsheet"
	case "presentation", "drawing":
		o.d.Format = "OpenDocument " + t.Name.Local
	case "tracked-changes":
		o.deleted++
	case "annotation":
		o.note++
	case "p", "h":
		o.depth++
	case "tab":
		o.text.WriteByte('\t')
	case "line-break":
		o.text.WriteByte(' ')
	case "s":
		o.text.WriteString(strings.Repeat(" ", max(1, min(number(attr(t, "c"), 1), 100))))
	case "table":
		if o.sheets {
			o.d.Sheets = append(o.d.Sheets, Sheet{Name: attr(t, "name")})
			o.row = 0
		}
	case "table-row":
		o.inRow++
		o.column, o.line, o.rows = 0, nil, number(attr(t, "number-rows-repeated"), 1)
	case "table-cell", "covered-table-cell":
		o.columns = number(attr(t, "number-columns-repeated"), 1)
		o.cell.Reset()
		o.paras = 0
	}
	return nil
}

func (o *odf) end(name string) error {
	switch name {
	case "tracked-changes":
		o.deleted--
	case "annotation":
		o.note--
	case "p", "h":
		if o.depth--; o.depth > 0 || o.deleted > 0 || o.note > 0 {
			return nil
		}
		o.depth = max(0, o.depth)
		text := o.text.String()
		o.text.Reset()
		if !o.sheets && o.inRow == 0 {
			return o.d.paragraph(text)
		}
		if o.paras++; o.paras > 1 {
			o.cell.WriteByte('\n')
		}
		o.cell.WriteString(text)
	case "table-cell", "covered-table-cell":
		o.endCell()
	case "table-row":
		o.inRow--
		if !o.sheets { // a table within a text: a line a row
			return o.d.paragraph(strings.TrimRight(strings.Join(o.line, "\t"), "\t"))
		}
		return o.endRow()
	}
	return nil
}

func (o *odf) endCell() {
	value := o.cell.String()
	o.cell.Reset()
	if value != "" {
		for range min(o.columns, maxRepeat) {
			for len(o.line) < min(o.column, maxColumns) {
				o.line = append(o.line, "")
			}
			o.line = append(o.line, value)
			o.column++
		}
		return
	}
	o.column += o.columns
}

func (o *odf) endRow() error {
	if n := len(o.d.Sheets); o.sheets && n > 0 {
		rows := &o.d.Sheets[n-1].Rows
		repeat := o.rows
		if len(o.line) > 0 {
			repeat = min(repeat, maxRepeat)
		}
		for i := range repeat {
			if len(o.line) == 0 {
				break
			}
			for column, value := range o.line {
				if err := put(rows, o.row+i, column, value, &o.cells); err != nil {
					return err
				}
			}
		}
		o.row += repeat
	}
	return nil
}
