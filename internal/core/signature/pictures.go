package signature

import (
	"bytes"
	"encoding/binary"
	"hash/crc32"
	"io"
)

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

func bmp(c *content) (Extent, bool) {
	b := c.bytes(0, 18)
	if b == nil {
		return Extent{}, false
	}
	size, head := int64(binary.LittleEndian.Uint32(b[2:])), binary.LittleEndian.Uint32(b[14:])
	return Extent{Size: size}, b[6]|b[7]|b[8]|b[9] == 0 && (head == 12 || head == 40 || head == 108 || head == 124) && size > 26
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
