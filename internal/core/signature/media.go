package signature

import (
	"bytes"
	"encoding/binary"
)

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
