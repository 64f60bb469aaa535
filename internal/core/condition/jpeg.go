package condition

import (
	"encoding/binary"
	"errors"

	"humble-rewind/internal/core/remark"
)

// What is followed bit by bit of the compressed data of a JPEG.
const (
	maxEntropy = 24 << 20 // bytes of the file
	maxBlocks  = 4 << 20  // of 64 points, of one component
	maxWork    = 24 << 20 // blocks, of all scans: hostile ones hold many scans of nothing
)

// jpegFault follows the entropy-coded data of a JPEG (ISO/IEC 10918-1, annexes F and G) block by block, as decoders do that put up with
// anything, and says what does not fit: a block has 64 coefficients, every code must be in the table, and the data of a scan ends where its
// last block does. That is the format's only redundancy. No remark where everything fits, or the kind of coding is not known here. proved tells
// whether all of it was followed.
func jpegFault(b []byte) (fault remark.Remark, proved bool) {
	d := &jpegData{b: b}
	err := d.segments()
	if f, ok := errors.AsType[*jpegError](err); ok {
		return f.what, false
	}
	return remark.Remark{}, err == nil && d.followed
}

// jpegError says what does not fit.
type jpegError struct{ what remark.Remark }

func (e *jpegError) Error() string { return e.what.Code }

func jpegWrong(code string, at int) error { return &jpegError{remark.New(code, "at", at)} }

// errJPEGUnknown says that a JPEG is coded in a way that is not followed here.
var errJPEGUnknown = errors.New("coded in another way")

type jpegComponent struct {
	id, h, v   int
	wide, high int // in blocks, as they are coded when several components are mixed
	own, rows  int // in blocks, as they are coded when it is alone
	dc, ac     int // tables of codes
	q          int // the table of what the coefficients are divided by
	last       int // the last DC coefficient
	nonzero    []uint64
}

type jpegTable struct {
	set    bool
	fast   [256]uint16 // by the next eight bits: the length above the symbol; 0 where the code is longer
	most   [17]int     // the greatest code of each length; -1 where there is none
	first  [17]int     // the index of its first symbol, less its first code
	symbol []byte
}

// jpegData is a JPEG being followed.
type jpegData struct {
	b           []byte
	at          int
	bits        uint32
	n           int // bits that are left
	components  []jpegComponent
	tables      [2][4]jpegTable
	divisors    [4][64]int // 0 where they are not stated
	progressive bool
	restart     int
	mcuW, mcuH  int
	eobRun      int
	work        int // blocks followed
	followed    bool
}

// segments goes through the segments (B.1.1.3).
func (d *jpegData) segments() error {
	d.at = 2
	for d.at+4 <= len(d.b) {
		if d.b[d.at] != 0xff {
			return errJPEGUnknown // what lies between is the decoder's business
		}
		marker := d.b[d.at+1]
		if marker == 0xff {
			d.at++
			continue
		}
		if marker == 0xd9 {
			return nil
		}
		if marker == 0x01 || marker >= 0xd0 && marker <= 0xd7 {
			d.at += 2
			continue
		}
		length := int(binary.BigEndian.Uint16(d.b[d.at+2:]))
		if length < 2 || d.at+2+length > len(d.b) {
			return errJPEGUnknown
		}
		body := d.b[d.at+4 : d.at+2+length]
		d.at += 2 + length
		var err error
		switch marker {
		case 0xc0, 0xc1, 0xc2:
			d.progressive = marker == 0xc2
			err = d.frame(body)
		case 0xc4:
			err = d.huffman(body)
		case 0xdb:
			d.quantization(body)
		case 0xdd:
			if len(body) >= 2 {
				d.restart = int(binary.BigEndian.Uint16(body))
			}
		case 0xda:
			err = d.scan(body)
		case 0xc3, 0xc5, 0xc6, 0xc7, 0xc9, 0xca, 0xcb, 0xcd, 0xce, 0xcf:
			err = errJPEGUnknown
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// frame reads a frame header (B.2.2).
func (d *jpegData) frame(b []byte) error {
	if len(d.components) > 0 || len(b) < 6 || b[0] != 8 || len(b) < 6+3*int(b[5]) || b[5] == 0 || b[5] > 4 {
		return errJPEGUnknown
	}
	high, wide := int(binary.BigEndian.Uint16(b[1:])), int(binary.BigEndian.Uint16(b[3:]))
	if high == 0 || wide == 0 {
		return errJPEGUnknown
	}
	maxH, maxV := 1, 1
	for i := range int(b[5]) {
		c := jpegComponent{id: int(b[6+3*i]), h: int(b[7+3*i] >> 4), v: int(b[7+3*i] & 15), q: int(b[8+3*i] & 3)}
		if c.h == 0 || c.v == 0 || c.h > 4 || c.v > 4 {
			return errJPEGUnknown
		}
		maxH, maxV = max(maxH, c.h), max(maxV, c.v)
		d.components = append(d.components, c)
	}
	d.mcuW, d.mcuH = ceil(wide, 8*maxH), ceil(high, 8*maxV)
	for i := range d.components {
		c := &d.components[i]
		c.wide, c.high = d.mcuW*c.h, d.mcuH*c.v
		c.own, c.rows = ceil(ceil(wide*c.h, maxH), 8), ceil(ceil(high*c.v, maxV), 8)
		if c.wide*c.high > maxBlocks {
			return errJPEGUnknown
		}
		if d.progressive {
			c.nonzero = make([]uint64, c.wide*c.high)
		}
	}
	return nil
}

func ceil(a, b int) int { return (a + b - 1) / b }

// huffman reads tables (B.2.4.2).
func (d *jpegData) huffman(b []byte) error {
	for len(b) >= 17 {
		class, id := int(b[0]>>4), int(b[0]&15)
		if class > 1 || id > 3 {
			return errJPEGUnknown
		}
		n := 0
		for _, k := range b[1:17] {
			n += int(k)
		}
		if n > 256 || len(b) < 17+n {
			return errJPEGUnknown
		}
		t := jpegTable{set: true, symbol: b[17 : 17+n]}
		code, k := 0, 0
		for length := 1; length <= 16; length++ {
			t.first[length] = k - code
			t.most[length] = -1
			for range int(b[length]) {
				if length <= 8 {
					for rest := range 1 << (8 - length) {
						if i := code<<(8-length) | rest; i < 256 {
							t.fast[i] = uint16(length)<<8 | uint16(t.symbol[k])
						}
					}
				}
				t.most[length] = code
				code++
				k++
			}
			code <<= 1
		}
		d.tables[class][id] = t
		b = b[17+n:]
	}
	return nil
}

// quantization reads what coefficients are divided by (B.2.4.1).
func (d *jpegData) quantization(b []byte) {
	for len(b) > 0 {
		wide, id := int(b[0]>>4)+1, int(b[0]&3)
		if wide > 2 || len(b) < 1+64*wide {
			return
		}
		for i := range 64 {
			if d.divisors[id][i] = int(b[1+i*wide]); wide == 2 {
				d.divisors[id][i] = int(binary.BigEndian.Uint16(b[1+i*2:]))
			}
		}
		b = b[1+64*wide:]
	}
}

// maxLight is how large a coefficient of a picture of 8 bits can be: eight times the range from its middle, with room for what is lost by
// rounding and by careless encoders.
const maxLight = 8*128 + 8*128/2

// signed is the number that some bits stand for (F.2.2.1).
func signed(value, size int) int {
	if size > 0 && value < 1<<(size-1) {
		return value - (1<<size - 1)
	}
	return value
}

// light tells whether a coefficient is one that a picture can have.
func (d *jpegData) light(c *jpegComponent, k, value, low int) error {
	q := d.divisors[c.q][k]
	if light := (value << low) * q; q > 1 && (light > maxLight+q<<low || light < -maxLight-q<<low) {
		return jpegWrong("jpeg-block", d.at)
	}
	return nil
}

// errMarker says that the data of a scan ended.
var errMarker = errors.New("marker")

// fill takes up bits until there are some.
func (d *jpegData) fill(n int) error {
	for d.n < n {
		if d.at >= len(d.b) {
			return errMarker
		}
		c := d.b[d.at]
		if c == 0xff {
			if d.at+1 >= len(d.b) || d.b[d.at+1] != 0 {
				return errMarker
			}
			d.at++
		}
		d.at++
		d.bits = d.bits<<8 | uint32(c)
		d.n += 8
	}
	return nil
}

func (d *jpegData) take(n int) (int, error) {
	if n == 0 {
		return 0, nil
	}
	if err := d.fill(n); err != nil {
		return 0, err
	}
	d.n -= n
	return int(d.bits>>d.n) & (1<<n - 1), nil
}

// decode takes one code.
func (d *jpegData) decode(t *jpegTable) (int, error) {
	if d.fill(8) == nil {
		if found := t.fast[byte(d.bits>>(d.n-8))]; found != 0 {
			d.n -= int(found >> 8)
			return int(found & 255), nil
		}
	}
	code := 0
	for length := 1; length <= 16; length++ {
		bit, err := d.take(1)
		if err != nil {
			return 0, err
		}
		if code = code<<1 | bit; t.most[length] >= 0 && code <= t.most[length] {
			if i := code + t.first[length]; i >= 0 && i < len(t.symbol) {
				return int(t.symbol[i]), nil
			}
		}
	}
	return 0, jpegWrong("jpeg-code", d.at)
}
