package signature

import (
	"bytes"
	"encoding/binary"
	"hash/crc32"
	"io"
)

// Extent is how far a content goes that begins somewhere, by its own structure.
type Extent struct {
	Size int64 // bytes
	// Checked says that checksums in it were right to its end; else its structure holds together, and no more is known.
	Checked bool
}

// mostRead is how much of a content is read to find its end, where its structure does not say how far it is.
const mostRead = 256 << 20

// Length finds where a content of a type ends that begins at an offset; it may have so many bytes at the most. It is false where its structure
// does not hold together, or does not tell.
func Length(t Type, drive io.ReaderAt, at, most int64) (Extent, bool) {
	of, ok := lengths[t.Name]
	if !ok || most <= 0 {
		return Extent{}, false
	}
	c := &content{io.NewSectionReader(drive, at, most), most}
	e, ok := of(c)
	return e, ok && e.Size > 0 && e.Size <= most
}

// content is what is read to find its end.
type content struct {
	*io.SectionReader
	most int64
}

func (c *content) bytes(at int64, size int) []byte {
	b := make([]byte, size)
	if at < 0 || at > c.most-int64(size) {
		return nil
	}
	if n, _ := c.ReadAt(b, at); n < size {
		return nil
	}
	return b
}

var lengths = map[string]func(*content) (Extent, bool){
	"jpg": jpeg, "png": png, "gif": gif, "zip": zip, "pdf": pdf, "webp": riff, "wav": riff, "avi": riff, "mp4": boxes, "heic": boxes,
	"sqlite": sqlite, "7z": sevenZip, "bmp": bmp, "doc": compound, "tif": tiff, "rtf": rtf, "vcf": lines("END:VCARD", "BEGIN:VCARD"), "ics": lines("END:VCALENDAR", "BEGIN:VCALENDAR"),
	"ogg": ogg, "mkv": matroska,
}

// window is how much is read at once where a mark is looked for.
const window = 256 << 10

// find looks for the first of some bytes from an offset on.
func (c *content) find(from int64, mark []byte) (int64, bool) {
	b := make([]byte, window)
	for at := from; at < min(c.most, from+mostRead); at += window - int64(len(mark)) {
		n, _ := c.ReadAt(b, at)
		if i := bytes.Index(b[:n], mark); i >= 0 {
			return at + int64(i), true
		}
		if n < window {
			break
		}
	}
	return 0, false
}

// jpeg follows segments (ITU T.81, annex B), and over coded data to the next that is one.
func jpeg(c *content) (Extent, bool) {
	scans := 0
	for at := int64(2); ; {
		b := c.bytes(at, 4)
		if b == nil || b[0] != 0xff {
			if e := c.bytes(at, 2); e != nil && e[0] == 0xff && e[1] == 0xd9 && scans > 0 {
				return Extent{Size: at + 2}, true
			}
			return Extent{}, false
		}
		switch m := b[1]; {
		case m == 0xff:
			at++
			continue
		case m == 0xd9:
			return Extent{Size: at + 2}, scans > 0
		case m == 0xd8, m == 0 || m >= 0xd0 && m <= 0xd7, m < 0xc0:
			return Extent{}, false
		}
		length := int64(binary.BigEndian.Uint16(b[2:]))
		if length < 2 {
			return Extent{}, false
		}
		at += 2 + length
		if b[1] != 0xda {
			continue
		}
		scans++
		next, ok := c.marker(at)
		if !ok {
			return Extent{}, false
		}
		at = next
	}
}

// marker finds the end of coded data: the next marker that is neither a stuffed byte nor a restart.
func (c *content) marker(from int64) (int64, bool) {
	b := make([]byte, window)
	for at := from; at < min(c.most, from+mostRead); {
		n, _ := c.ReadAt(b, at)
		for i := 0; i+1 < n; {
			k := bytes.IndexByte(b[i:n-1], 0xff)
			if k < 0 {
				break
			}
			i += k
			if m := b[i+1]; m != 0 && m != 0xff && (m < 0xd0 || m > 0xd7) {
				return at + int64(i), true
			}
			i++
		}
		if n < 2 {
			break
		}
		at += int64(n) - 1
		if n < window {
			break
		}
	}
	return 0, false
}

// png follows chunks and their checksums (ISO/IEC 15948).
func png(c *content) (Extent, bool) {
	for at := int64(8); ; {
		b := c.bytes(at, 8)
		if b == nil {
			return Extent{}, false
		}
		length := int64(binary.BigEndian.Uint32(b))
		if length > mostRead || at+12+length > c.most {
			return Extent{}, false
		}
		sum := crc32.NewIEEE()
		if _, err := io.Copy(sum, io.NewSectionReader(c, at+4, 4+length)); err != nil {
			return Extent{}, false
		}
		want := c.bytes(at+8+length, 4)
		if want == nil || binary.BigEndian.Uint32(want) != sum.Sum32() {
			return Extent{}, false
		}
		if at += 12 + length; string(b[4:]) == "IEND" {
			return Extent{at, true}, true
		}
	}
}

// gif follows blocks (GIF89a specification).
func gif(c *content) (Extent, bool) {
	b := c.bytes(0, 13)
	if b == nil {
		return Extent{}, false
	}
	at := int64(13)
	if b[10]&0x80 != 0 {
		at += 3 << (b[10]&7 + 1)
	}
	blocks := func() bool {
		for {
			n := c.bytes(at, 1)
			if n == nil {
				return false
			}
			if at += 1 + int64(n[0]); n[0] == 0 {
				return true
			}
		}
	}
	for {
		kind := c.bytes(at, 1)
		if kind == nil {
			return Extent{}, false
		}
		at++
		switch kind[0] {
		case 0x3b:
			return Extent{Size: at}, true
		case 0x21:
			at++
		case 0x2c:
			d := c.bytes(at, 9)
			if d == nil {
				return Extent{}, false
			}
			if at += 9; d[8]&0x80 != 0 {
				at += 3 << (d[8]&7 + 1)
			}
			at++
		default:
			return Extent{}, false
		}
		if !blocks() {
			return Extent{}, false
		}
	}
}

// zip looks for the end of a directory that says itself that it begins, and ends, where it does (APPNOTE 6.3).
func zip(c *content) (Extent, bool) {
	for from := int64(0); ; {
		at, ok := c.find(from, []byte("PK\x05\x06"))
		if !ok {
			return Extent{}, false
		}
		if b := c.bytes(at, 22); b != nil {
			size, begin, comment := int64(binary.LittleEndian.Uint32(b[12:])), int64(binary.LittleEndian.Uint32(b[16:])), int64(binary.LittleEndian.Uint16(b[20:]))
			if head := c.bytes(begin, 4); begin+size == at && at+22+comment <= c.most && (size == 0 || head != nil && bytes.Equal(head, []byte("PK\x01\x02"))) {
				return Extent{Size: at + 22 + comment}, true
			}
		}
		from = at + 4
	}
}

// pdf takes what ends a document, and what was added to it later.
func pdf(c *content) (Extent, bool) {
	end := int64(0)
	for from := int64(0); ; {
		at, ok := c.find(from, []byte("%%EOF"))
		if !ok {
			return Extent{Size: end}, end > 0
		}
		end = at + 5
		rest := make([]byte, 16)
		n, _ := c.ReadAt(rest, end)
		line := 0
		for line < n && (rest[line] == '\r' || rest[line] == '\n') && line < 2 {
			line++
		}
		end += int64(line)
		next := bytes.TrimLeft(rest[line:n], "\r\n ")
		if len(next) == 0 || next[0] < '0' || next[0] > '9' && next[0] != 'x' {
			return Extent{Size: end}, true
		}
		from = end
	}
}

// riff says its size (Multimedia Programming Interface and Data Specifications 1.0).
func riff(c *content) (Extent, bool) {
	b := c.bytes(0, 12)
	if b == nil || string(b[:4]) != "RIFF" {
		return Extent{}, false
	}
	size := int64(binary.LittleEndian.Uint32(b[4:]))
	return Extent{Size: 8 + size + size&1}, size >= 4
}

// boxes of ISO/IEC 14496-12 follow one another.
func boxes(c *content) (Extent, bool) {
	at, seen := int64(0), 0
	data := false
	for {
		b := c.bytes(at, 8)
		if b == nil {
			break
		}
		size := int64(binary.BigEndian.Uint32(b))
		if size == 1 {
			wide := c.bytes(at+8, 8)
			if wide == nil {
				break
			}
			size = int64(binary.BigEndian.Uint64(wide))
		}
		known := bytes.Contains([]byte("ftyp moov mdat free skip wide meta uuid moof mfra sidx styp pdin udta"), b[4:8]) && !bytes.ContainsRune(b[4:8], ' ')
		if !known || size < 8 || size > c.most-at {
			break
		}
		data = data || string(b[4:8]) == "mdat"
		at += size
		seen++
	}
	return Extent{Size: at}, seen > 1 && data
}

// sqlite says how many pages it has (SQLite's file format, 1.3).
func sqlite(c *content) (Extent, bool) {
	b := c.bytes(0, 100)
	if b == nil {
		return Extent{}, false
	}
	page := int64(binary.BigEndian.Uint16(b[16:]))
	if page == 1 {
		page = 65536
	}
	pages := int64(binary.BigEndian.Uint32(b[28:]))
	return Extent{Size: page * pages}, page >= 512 && page&(page-1) == 0 && pages > 0 && bytes.Equal(b[24:28], b[92:96])
}

// sevenZip says where its last header is (7-Zip's format description).
func sevenZip(c *content) (Extent, bool) {
	b := c.bytes(0, 32)
	if b == nil || crc32.ChecksumIEEE(b[12:32]) != binary.LittleEndian.Uint32(b[8:]) {
		return Extent{}, false
	}
	off, size := int64(binary.LittleEndian.Uint64(b[12:])), int64(binary.LittleEndian.Uint64(b[20:]))
	if off < 0 || size <= 0 || size > mostRead || off > c.most-32-size {
		return Extent{}, false
	}
	head := c.bytes(32+off, int(size))
	return Extent{32 + off + size, true}, head != nil && crc32.ChecksumIEEE(head) == binary.LittleEndian.Uint32(b[28:])
}

func bmp(c *content) (Extent, bool) {
	b := c.bytes(0, 18)
	if b == nil {
		return Extent{}, false
	}
	size, head := int64(binary.LittleEndian.Uint32(b[2:])), binary.LittleEndian.Uint32(b[14:])
	return Extent{Size: size}, b[6]|b[7]|b[8]|b[9] == 0 && (head == 12 || head == 40 || head == 108 || head == 124) && size > 26
}

// compound files say in their table which sectors they use ([MS-CFB] 9.0).
func compound(c *content) (Extent, bool) {
	h := c.bytes(0, 512)
	if h == nil || binary.LittleEndian.Uint16(h[28:]) != 0xfffe {
		return Extent{}, false
	}
	shift := binary.LittleEndian.Uint16(h[30:])
	if shift != 9 && shift != 12 {
		return Extent{}, false
	}
	sector := int64(1) << shift
	tables := min(int64(binary.LittleEndian.Uint32(h[44:])), 109)
	last := int64(-1)
	for n := range tables {
		b := c.bytes((int64(binary.LittleEndian.Uint32(h[76+4*n:]))+1)*sector, int(sector))
		if b == nil {
			return Extent{}, false
		}
		for i := int64(0); i < sector/4; i++ {
			if binary.LittleEndian.Uint32(b[4*i:]) != 0xffffffff {
				last = n*sector/4 + i
			}
		}
	}
	return Extent{Size: (last + 2) * sector}, last >= 0
}

// tiff follows directories and takes the end of what lies furthest behind (TIFF 6.0).
func tiff(c *content) (Extent, bool) {
	h := c.bytes(0, 8)
	if h == nil {
		return Extent{}, false
	}
	var order binary.ByteOrder = binary.LittleEndian
	if h[0] == 'M' {
		order = binary.BigEndian
	}
	end := int64(8)
	sizes := [...]int64{0, 1, 1, 2, 4, 8, 1, 1, 2, 4, 8, 4, 8, 4}
	todo, seen := []int64{int64(order.Uint32(h[4:]))}, map[int64]bool{}
	directories := 0
	for len(todo) > 0 && directories < 64 {
		at := todo[0]
		todo = todo[1:]
		if at == 0 || seen[at] {
			continue
		}
		seen[at] = true
		directories++
		n := c.bytes(at, 2)
		if n == nil {
			return Extent{}, false
		}
		count := int64(order.Uint16(n))
		all := c.bytes(at+2, int(12*count+4))
		if all == nil || count == 0 {
			return Extent{}, false
		}
		end = max(end, at+2+12*count+4)
		var offsets, lengths []int64
		for i := range count {
			e := all[12*i:]
			tag, kind, values := order.Uint16(e), order.Uint16(e[2:]), int64(order.Uint32(e[4:]))
			if int(kind) >= len(sizes) || kind == 0 {
				continue
			}
			size := sizes[kind] * values
			value := e[8:12]
			if size > 4 {
				off := int64(order.Uint32(e[8:]))
				end = max(end, off+size)
				if size <= 1<<20 {
					value = c.bytes(off, int(size))
				} else {
					value = nil
				}
			}
			list := func() (all []int64) {
				for k := int64(0); k < values && value != nil; k++ {
					switch {
					case sizes[kind] == 4 && int(4*k+4) <= len(value):
						all = append(all, int64(order.Uint32(value[4*k:])))
					case sizes[kind] == 2 && int(2*k+2) <= len(value):
						all = append(all, int64(order.Uint16(value[2*k:])))
					}
				}
				return all
			}
			switch tag {
			case 0x111, 0x144, 0x201:
				offsets = append(offsets, list()...)
			case 0x117, 0x145, 0x202:
				lengths = append(lengths, list()...)
			case 0x14a, 0x8769:
				todo = append(todo, list()...)
			}
		}
		for i := range min(len(offsets), len(lengths)) {
			end = max(end, offsets[i]+lengths[i])
		}
		todo = append(todo, int64(order.Uint32(all[12*count:])))
	}
	return Extent{Size: end}, directories > 0 && end > 64
}

// rtf ends with the brace that closes the first.
func rtf(c *content) (Extent, bool) {
	depth := 0
	escaped := false
	b := make([]byte, window)
	for at := int64(0); at < min(c.most, mostRead); at += window {
		n, _ := c.ReadAt(b, at)
		for i, x := range b[:n] {
			switch {
			case x == 0:
				return Extent{}, false
			case escaped:
				escaped = false
			case x == '\\':
				escaped = true
			case x == '{':
				depth++
			case x == '}':
				if depth--; depth == 0 {
					return Extent{Size: at + int64(i) + 1}, true
				}
			}
		}
		if n < window {
			break
		}
	}
	return Extent{}, false
}

// lines end with the last of a mark that another beginning follows.
func lines(end, again string) func(*content) (Extent, bool) {
	return func(c *content) (Extent, bool) {
		size := int64(0)
		for {
			at, ok := c.find(size, []byte(end))
			if !ok || at-size > 1<<20 {
				return Extent{Size: size}, size > 0
			}
			size = at + int64(len(end))
			rest := make([]byte, 4+len(again))
			n, _ := c.ReadAt(rest, size)
			rest = rest[:n]
			line := len(rest) - len(bytes.TrimLeft(rest, "\r\n"))
			if size += int64(min(line, 2)); !bytes.HasPrefix(rest[line:], []byte(again)) {
				return Extent{Size: size}, true
			}
		}
	}
}

// ogg follows pages to the last of the stream (RFC 3533).
func ogg(c *content) (Extent, bool) {
	at := int64(0)
	ended := false
	for {
		h := c.bytes(at, 27)
		if h == nil || string(h[:4]) != "OggS" || h[4] != 0 {
			break
		}
		table := c.bytes(at+27, int(h[26]))
		if table == nil {
			break
		}
		size := int64(27 + len(table))
		for _, n := range table {
			size += int64(n)
		}
		ended = h[5]&4 != 0
		at += size
	}
	return Extent{Size: at}, ended && at <= c.most
}

// matroska says the sizes of its two elements (RFC 8794).
func matroska(c *content) (Extent, bool) {
	at := int64(0)
	for _, id := range [...]uint32{0x1a45dfa3, 0x18538067} {
		b := c.bytes(at, 12)
		if b == nil || binary.BigEndian.Uint32(b) != id || b[4] == 0 {
			return Extent{}, false
		}
		width := 1
		for b[4]&(0x80>>(width-1)) == 0 {
			width++
		}
		size := int64(b[4]) & (0x7f >> (width - 1))
		for _, x := range b[5 : 4+width] {
			size = size<<8 | int64(x)
		}
		if size < 0 || size > c.most {
			return Extent{}, false
		}
		at += 4 + int64(width) + size
	}
	return Extent{Size: at}, true
}
