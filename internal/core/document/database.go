package document

import (
	"encoding/binary"
	"fmt"
	"hash/crc32"
	"io"
	"math"
	"strconv"
	"strings"
	"unicode/utf16"
)

// databaseMagic is what every SQLite database begins with.
const databaseMagic = "SQLite format 3\x00"

// What is read of a database at most, beside the bounds of all documents.
const (
	maxPages = 200_000
	maxDepth = 20 // of a tree of pages
	maxValue = 1 << 20
)

// database reads the rows of the tables of an SQLite database, a sheet for each, in the order of their row numbers (SQLite database
// file format, 1.3 to 2.6). What only its write-ahead log holds is not in it, and tables without row numbers are left out.
type database struct {
	r            io.ReaderAt
	size         int64
	page, usable int64 // bytes
	encoding     uint32
	seen         map[uint32]bool // pages
	cells, text  int             // read so far; text in bytes
	cut          bool
	rows         [][]string
	numbered     bool // the first column is the row's number, which is not stored
}

// readDatabase reads a database of size bytes. It fails with ErrUnknown where it is none.
func readDatabase(r io.ReaderAt, size int64) (Document, error) {
	head := make([]byte, 100)
	if n, _ := r.ReadAt(head, 0); n < len(head) || string(head[:16]) != databaseMagic {
		return Document{}, ErrUnknown
	}
	db := &database{r: r, size: size, page: int64(binary.BigEndian.Uint16(head[16:])), encoding: binary.BigEndian.Uint32(head[56:]),
		seen: map[uint32]bool{}}
	if db.page == 1 {
		db.page = 64 << 10
	}
	db.usable = db.page - int64(head[20])
	if db.page < 512 || db.page&(db.page-1) != 0 || db.usable < 480 {
		return Document{}, fmt.Errorf("%w: pages of %d bytes", ErrDamaged, db.page)
	}
	d := Document{Format: "SQLite database"}
	err := db.tree(1, 0)
	schema := db.rows
	for _, row := range schema {
		if len(row) < 5 || row[0] != "table" || strings.HasPrefix(row[1], "sqlite_") {
			continue
		}
		root, numberErr := strconv.ParseUint(row[3], 10, 32)
		if numberErr != nil || root == 0 || db.cut {
			continue
		}
		columns := columnNames(row[4])
		db.numbered = strings.Contains(strings.ToLower(row[4]), "integer primary key")
		db.rows = [][]string{columns}
		if treeErr := db.tree(uint32(root), 0); err == nil {
			err = treeErr
		}
		d.Sheets = append(d.Sheets, Sheet{Name: row[1], Rows: db.rows})
	}
	d.Cut = db.cut
	return ended(d, err)
}

// tree reads the rows of a tree of pages.
func (db *database) tree(number uint32, depth int) error {
	if db.seen[number] || depth > maxDepth || number == 0 || int64(number)*db.page > db.size+db.page-1 {
		return fmt.Errorf("%w: page %d is in no tree", ErrDamaged, number)
	}
	if len(db.seen) >= maxPages {
		db.cut = true
		return nil
	}
	db.seen[number] = true
	page, err := db.read(number)
	if err != nil {
		return err
	}
	head := 0
	if number == 1 {
		head = 100
	}
	kind, cells, first := page[head], int(binary.BigEndian.Uint16(page[head+3:])), head+8
	const interior, leaf = 5, 13
	switch kind {
	case interior:
		first += 4
	case leaf:
	case 2, 10:
		db.cut = true // a table without row numbers
		return nil
	default:
		return fmt.Errorf("%w: page %d is of no kind that a table has", ErrDamaged, number)
	}
	if first+2*cells > len(page) {
		return fmt.Errorf("%w: page %d has more cells than fit", ErrDamaged, number)
	}
	for i := range cells {
		at := int(binary.BigEndian.Uint16(page[first+2*i:]))
		if at+4 > len(page) {
			return fmt.Errorf("%w: a cell of page %d lies outside of it", ErrDamaged, number)
		}
		if kind == interior {
			err = db.tree(binary.BigEndian.Uint32(page[at:]), depth+1)
		} else {
			err = db.row(page, at)
		}
		if err != nil || db.cut {
			return err
		}
	}
	if kind == interior {
		return db.tree(binary.BigEndian.Uint32(page[head+8:]), depth+1)
	}
	return nil
}

func (db *database) read(number uint32) ([]byte, error) {
	page := make([]byte, db.page)
	if _, err := io.ReadFull(io.NewSectionReader(db.r, int64(number-1)*db.page, db.page), page); err != nil {
		return nil, fmt.Errorf("%w: page %d: %w", ErrDamaged, number, err)
	}
	return page, nil
}

// row reads the row that a cell of a leaf holds.
func (db *database) row(page []byte, at int) error {
	size, n := varint(page[at:])
	number, m := varint(page[at+n:])
	at += n + m
	if n == 0 || m == 0 || size < 0 {
		return fmt.Errorf("%w: a row has no size", ErrDamaged)
	}
	if size > maxText {
		db.cut = true
		return nil
	}
	payload, err := db.payload(page, at, size)
	if err != nil {
		return err
	}
	row, err := db.values(payload)
	if err != nil {
		return err
	}
	if db.numbered && len(row) > 0 && row[0] == "" {
		row[0] = strconv.FormatInt(number, 10)
	}
	db.rows = append(db.rows, row)
	db.cells += len(row)
	for _, cell := range row {
		db.text += len(cell)
	}
	db.cut = db.cut || db.cells > maxCells || db.text > maxText
	return nil
}

// payload puts a row together from its page and those that it runs over to.
func (db *database) payload(page []byte, at int, size int64) ([]byte, error) {
	local := size
	if most := db.usable - 35; size > most {
		least := (db.usable-12)*32/255 - 23
		if local = least + (size-least)%(db.usable-4); local > most {
			local = least
		}
	}
	if at+int(local) > len(page) {
		return nil, fmt.Errorf("%w: a row runs out of its page", ErrDamaged)
	}
	payload := append(make([]byte, 0, size), page[at:at+int(local)]...)
	if local == size {
		return payload, nil
	}
	if at+int(local)+4 > len(page) {
		return nil, fmt.Errorf("%w: a row runs out of its page", ErrDamaged)
	}
	next := binary.BigEndian.Uint32(page[at+int(local):])
	for int64(len(payload)) < size {
		if next == 0 || db.seen[next] {
			return nil, fmt.Errorf("%w: a row does not end", ErrDamaged)
		}
		db.seen[next] = true
		more, err := db.read(next)
		if err != nil {
			return nil, err
		}
		next = binary.BigEndian.Uint32(more)
		payload = append(payload, more[4:4+min(db.usable-4, size-int64(len(payload)))]...)
	}
	return payload, nil
}

// values reads the values of a record.
func (db *database) values(record []byte) ([]string, error) {
	headSize, n := varint(record)
	if n == 0 || headSize < int64(n) || headSize > int64(len(record)) {
		return nil, fmt.Errorf("%w: a row's head is larger than the row", ErrDamaged)
	}
	head, body := record[n:headSize], record[headSize:]
	var row []string
	for len(head) > 0 {
		serial, n := varint(head)
		if n == 0 || serial < 0 || len(row) >= maxColumns {
			return row, fmt.Errorf("%w: a row has a value of no type", ErrDamaged)
		}
		head = head[n:]
		size := valueSize(serial)
		if size > int64(len(body)) {
			return row, fmt.Errorf("%w: a row ends within a value", ErrDamaged)
		}
		row = append(row, db.value(serial, body[:size]))
		body = body[size:]
	}
	return row, nil
}

func valueSize(serial int64) int64 {
	switch {
	case serial >= 12:
		return (serial - 12) / 2
	case serial == 5:
		return 6
	case serial == 6 || serial == 7:
		return 8
	case serial <= 4:
		return serial
	}
	return 0
}

// value says one value as a person reads it. Of what is no text, its size and its checksum.
func (db *database) value(serial int64, b []byte) string {
	switch {
	case serial == 7:
		return strconv.FormatFloat(math.Float64frombits(binary.BigEndian.Uint64(b)), 'g', -1, 64)
	case serial >= 1 && serial <= 6:
		n := int64(int8(b[0]))
		for _, c := range b[1:] {
			n = n<<8 | int64(c)
		}
		return strconv.FormatInt(n, 10)
	case serial == 8:
		return "0"
	case serial == 9:
		return "1"
	case serial < 12:
		return ""
	case serial%2 == 0:
		return fmt.Sprintf("%d bytes, checksum %08x", len(b), crc32.ChecksumIEEE(b))
	}
	if len(b) > maxValue {
		b, db.cut = b[:maxValue], true
	}
	switch db.encoding {
	case 2:
		return wide(b, binary.LittleEndian)
	case 3:
		return wide(b, binary.BigEndian)
	}
	return strings.ToValidUTF8(string(b), "\ufffd")
}

func wide(b []byte, order binary.ByteOrder) string {
	units := make([]uint16, len(b)/2)
	for i := range units {
		units[i] = order.Uint16(b[2*i:])
	}
	return string(utf16.Decode(units))
}

// varint reads a number of one to nine bytes; n is 0 where it does not end.
func varint(b []byte) (v int64, n int) {
	for i := range min(len(b), 9) {
		if i == 8 {
			return v<<8 | int64(b[i]), 9
		}
		v = v<<7 | int64(b[i]&0x7f)
		if b[i] < 0x80 {
			return v, i + 1
		}
	}
	return 0, 0
}

// columnNames reads the names of the columns out of the statement that made a table, as far as they are plain.
func columnNames(statement string) (names []string) {
	_, body, ok := strings.Cut(statement, "(")
	if !ok {
		return nil
	}
	depth, start := 0, 0
	take := func(part string) {
		fields := strings.Fields(part)
		if len(fields) == 0 {
			return
		}
		switch strings.ToLower(fields[0]) {
		case "primary", "unique", "check", "foreign", "constraint":
			return
		}
		names = append(names, strings.Trim(fields[0], "\"`[]'"))
	}
	for i, c := range body {
		switch {
		case c == '(':
			depth++
		case c == ')' && depth == 0:
			take(body[start:i])
			return names
		case c == ')':
			depth--
		case c == ',' && depth == 0:
			take(body[start:i])
			start = i + 1
		}
		if len(names) > maxColumns {
			return names
		}
	}
	return names
}
