package peek

import (
	"archive/zip"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"strings"
)

// maxDocumentXML is how much of a document's content is read, unpacked.
const maxDocumentXML = 8 << 20

func isOpenDocument(mediaType string) bool {
	return strings.HasPrefix(mediaType, "application/vnd.oasis.opendocument.")
}

// openDocumentText returns the paragraphs of an OpenDocument file (OASIS OpenDocument 1.3, part 3: content.xml with
// text:p and text:h), cells of a row (table:table-cell) parted by tabs.
func openDocumentText(r io.ReaderAt, size int64) (paragraphs []string, more bool, err error) {
	archive, err := zip.NewReader(r, size)
	if err != nil {
		return nil, false, fmt.Errorf("read document: %w", err)
	}
	content, err := archive.Open("content.xml")
	if err != nil {
		return nil, false, fmt.Errorf("read document: %w", err)
	}
	defer content.Close()
	decoder := xml.NewDecoder(io.LimitReader(content, maxDocumentXML))
	var text, row strings.Builder
	inRow, depth := false, 0
	add := func(line string) {
		if len(paragraphs) < maxLines {
			paragraphs = append(paragraphs, line)
		} else {
			more = true
		}
	}
	for !more {
		token, err := decoder.Token()
		if errors.Is(err, io.EOF) && len(paragraphs) > 0 {
			return paragraphs, more, nil
		}
		if err != nil {
			if len(paragraphs) > 0 { // damaged further on: what was read still helps
				return paragraphs, true, nil
			}
			return nil, false, fmt.Errorf("read document: %w", err)
		}
		switch t := token.(type) {
		case xml.StartElement:
			switch t.Name.Local {
			case "p", "h":
				depth++
			case "table-row":
				inRow = true
			case "tab":
				text.WriteByte('\t')
			case "line-break", "s":
				text.WriteByte(' ')
			}
		case xml.CharData:
			if depth > 0 && text.Len() < maxLineRunes*4 {
				text.Write(t)
			}
		case xml.EndElement:
			switch t.Name.Local {
			case "p", "h":
				depth = max(0, depth-1)
				if inRow {
					row.WriteString(text.String())
				} else {
					add(text.String())
				}
				text.Reset()
			case "table-cell":
				if row.Len() < maxTextBytes {
					row.WriteByte('\t')
				}
			case "table-row":
				add(strings.TrimRight(row.String(), "\t"))
				row.Reset()
				inRow = false
			}
		}
	}
	return paragraphs, more, nil
}
