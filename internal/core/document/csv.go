package document

import (
	"encoding/csv"
	"errors"
	"io"
	"strings"
)

// ReadCSV reads separated values: by commas or, where the first line has more of them, by semicolons or tabs. Rows of
// different lengths and stray quotes are taken as they are.
func ReadCSV(text string) (Document, error) {
	d := Document{Format: "separated values", Sheets: []Sheet{{}}}
	first, _, _ := strings.Cut(text, "\n")
	r := csv.NewReader(strings.NewReader(strings.TrimPrefix(text, "\ufeff")))
	r.FieldsPerRecord, r.LazyQuotes = -1, true
	most := strings.Count(first, ",")
	for _, separator := range ";\t" {
		if n := strings.Count(first, string(separator)); n > most {
			most, r.Comma = n, separator
		}
	}
	cells := 0
	for {
		row, err := r.Read()
		if errors.Is(err, io.EOF) {
			return d, nil
		}
		if err != nil {
			return ended(d, errors.Join(ErrDamaged, err))
		}
		if cells += len(row); cells > maxCells {
			d.Cut = true
			return d, nil
		}
		d.Sheets[0].Rows = append(d.Sheets[0].Rows, row)
	}
}
