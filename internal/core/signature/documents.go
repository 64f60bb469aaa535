package signature

import (
	"bytes"
	"encoding/binary"
	"hash/crc32"
)

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
