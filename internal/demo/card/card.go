// Package card writes the card of a made-up camera: a small FAT16 file system, onto which files are put, from which they are erased, and
// which is formatted, as cameras and machines do.
//
// It follows Microsoft's "FAT: General Overview of On-Disk Format", 1.03, and writes no more of it than the sample world needs: one
// partition without a table, clusters of 512 bytes to 4 KiB, names of any length, folders one level deep in the root.
package card

import (
	"encoding/binary"
	"fmt"
	"strings"
	"time"
	"unicode/utf16"
)

const (
	sector   = 512
	reserved = 4
	roots    = 512
	slot     = 32
	erased   = 0xe5
	folder   = 0x10
	end      = 0xffff
)

// Card is a file system in memory.
type Card struct {
	image   []byte
	perFAT  int // sectors
	units   int
	unit    int // bytes of what is given out
	next    int // unit that is looked at first for room, as drivers do
	folders map[string]int
	zone    *time.Location
}

// fewest units make a FAT16: of fewer it would be a FAT12.
const fewest = 4085

// New makes an empty card of so many bytes, 3 MiB at the least, whose clock is of a zone.
func New(size int, label string, zone *time.Location) *Card {
	sectors := size / sector
	c := &Card{image: make([]byte, sectors*sector), zone: zone}
	perUnit := 16
	for c.units < fewest && perUnit > 1 {
		perUnit /= 2
		c.perFAT = (sectors/perUnit*2 + sector - 1) / sector
		c.units = (sectors - reserved - 2*c.perFAT - roots*slot/sector) / perUnit
	}
	c.unit = perUnit * sector
	b := c.image
	copy(b, "\xeb\x3c\x90QUAY    ")
	binary.LittleEndian.PutUint16(b[11:], sector)
	b[13] = byte(perUnit)
	binary.LittleEndian.PutUint16(b[14:], reserved)
	b[16] = 2
	binary.LittleEndian.PutUint16(b[17:], roots)
	b[21] = 0xf8
	binary.LittleEndian.PutUint16(b[22:], uint16(c.perFAT))
	binary.LittleEndian.PutUint32(b[32:], uint32(sectors))
	b[38] = 0x29
	copy(b[43:], fmt.Sprintf("%-11.11s", strings.ToUpper(label)))
	copy(b[54:], "FAT16   ")
	b[510], b[511] = 0x55, 0xaa
	c.Format()
	return c
}

// Format empties the card as a camera does: the tables and the top folder are made anew, all else is left as it is.
func (c *Card) Format() {
	clear(c.image[reserved*sector : c.at(2)])
	c.put(0, 0xfff8)
	c.put(1, end)
	copy(c.image[c.root():], fmt.Sprintf("%-11.11s", string(c.image[43:54])))
	c.image[c.root()+11] = 8
	c.next, c.folders = 2, map[string]int{}
}

// Image is the card's bytes.
func (c *Card) Image() []byte { return c.image }

func (c *Card) root() int { return (reserved + 2*c.perFAT) * sector }

// at is where a unit begins.
func (c *Card) at(n int) int { return c.root() + roots*slot + (n-2)*c.unit }

// put writes what both tables say of a unit.
func (c *Card) put(n, value int) {
	for table := range 2 {
		binary.LittleEndian.PutUint16(c.image[(reserved+table*c.perFAT)*sector+2*n:], uint16(value))
	}
}

func (c *Card) get(n int) int {
	return int(binary.LittleEndian.Uint16(c.image[reserved*sector+2*n:]))
}

// take takes so many units, the next free ones.
func (c *Card) take(count int) ([]int, error) {
	var units []int
	for tried := 0; len(units) < count; tried++ {
		if tried > c.units {
			return nil, fmt.Errorf("the card is full")
		}
		if c.get(c.next) == 0 {
			units = append(units, c.next)
		}
		if c.next++; c.next >= c.units+2 {
			c.next = 2
		}
	}
	for i, n := range units {
		if i < len(units)-1 {
			c.put(n, units[i+1])
		} else {
			c.put(n, end)
		}
	}
	return units, nil
}

// Put writes a file, "NAME" or "FOLDER/NAME"; the folder is made where it is not there.
func (c *Card) Put(path string, content []byte, at time.Time) error {
	dir, name, found := strings.Cut(path, "/")
	in := 0
	if !found {
		name = path
	} else if in = c.folders[dir]; in == 0 {
		units, err := c.take(1)
		if err != nil {
			return err
		}
		in = units[0]
		c.folders[dir] = in
		clear(c.image[c.at(in) : c.at(in)+c.unit])
		if err := c.enter(0, dir, folder, in, 0, at); err != nil {
			return err
		}
		c.entry(c.at(in), ".          ", folder, in, 0, at)
		c.entry(c.at(in)+slot, "..         ", folder, 0, 0, at)
	}
	first := 0
	if len(content) > 0 {
		units, err := c.take((len(content) + c.unit - 1) / c.unit)
		if err != nil {
			return err
		}
		first = units[0]
		for i, n := range units {
			clear(c.image[c.at(n) : c.at(n)+c.unit])
			copy(c.image[c.at(n):c.at(n)+c.unit], content[i*c.unit:])
		}
	}
	return c.enter(in, name, 0x20, first, len(content), at)
}

// room is where the slots of a folder begin and how many there are; 0 is the top one.
func (c *Card) room(in int) (at, slots int) {
	if in == 0 {
		return c.root(), roots
	}
	return c.at(in), c.unit / slot
}

// enter puts an entry into a folder, behind the parts of its long name.
func (c *Card) enter(in int, name string, attributes byte, first, size int, when time.Time) error {
	begin, slots := c.room(in)
	units := utf16.Encode([]rune(name))
	parts := (len(units) + 12) / 13
	n := 0
	for n < slots && c.image[begin+n*slot] != 0 {
		n++
	}
	if n+parts+1 > slots {
		return fmt.Errorf("the folder is full")
	}
	short := c.short(begin, slots, name)
	check := byte(0)
	for _, b := range []byte(short) {
		check = check>>1 | check<<7
		check += b
	}
	for part := parts; part > 0; part-- {
		b := c.image[begin+n*slot : begin+(n+1)*slot]
		b[0] = byte(part)
		if part == parts {
			b[0] |= 0x40
		}
		b[11], b[13] = 0x0f, check
		for i, off := range [...]int{1, 3, 5, 7, 9, 14, 16, 18, 20, 22, 24, 28, 30} {
			u := uint16(0xffff)
			switch at := (part-1)*13 + i; {
			case at < len(units):
				u = units[at]
			case at == len(units):
				u = 0
			}
			binary.LittleEndian.PutUint16(b[off:], u)
		}
		n++
	}
	c.entry(begin+n*slot, short, attributes, first, size, when)
	return nil
}

// short makes a short name that the folder does not have yet.
func (c *Card) short(begin, slots int, name string) string {
	stem, ext := strings.ToUpper(name), ""
	if dot := strings.LastIndexByte(stem, '.'); dot > 0 {
		stem, ext = stem[:dot], stem[dot+1:]
	}
	plain := func(s string) string {
		return strings.Map(func(r rune) rune {
			if r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' || r == '_' || r == '-' {
				return r
			}
			return -1
		}, s)
	}
	stem = plain(stem)
	for n := 1; ; n++ {
		tail := fmt.Sprintf("~%d", n)
		made := fmt.Sprintf("%-8.8s%-3.3s", stem[:min(len(stem), 8-len(tail))]+tail, plain(ext))
		taken := false
		for i := range slots {
			taken = taken || string(c.image[begin+i*slot:begin+i*slot+11]) == made
		}
		if !taken {
			return made
		}
	}
}

func (c *Card) entry(at int, short string, attributes byte, first, size int, when time.Time) {
	when = when.In(c.zone)
	date := (when.Year()-1980)<<9 | int(when.Month())<<5 | when.Day()
	clock := when.Hour()<<11 | when.Minute()<<5 | when.Second()/2
	b := c.image[at : at+slot]
	copy(b, short)
	b[11] = attributes
	for _, off := range [...]int{14, 22} {
		binary.LittleEndian.PutUint16(b[off:], uint16(clock))
		binary.LittleEndian.PutUint16(b[off+2:], uint16(date))
	}
	binary.LittleEndian.PutUint16(b[26:], uint16(first))
	binary.LittleEndian.PutUint32(b[28:], uint32(size))
}

// Erase removes a file, "NAME" or "FOLDER/NAME": the first byte of its entry and of the parts of its name is overwritten, its chain is
// freed.
func (c *Card) Erase(path string) error {
	dir, name, found := strings.Cut(path, "/")
	in := 0
	if !found {
		name = path
	} else if in = c.folders[dir]; in == 0 {
		return fmt.Errorf("there is no folder %s on the card", dir)
	}
	begin, slots := c.room(in)
	long := ""
	from := 0
	for n := range slots {
		b := c.image[begin+n*slot : begin+(n+1)*slot]
		switch {
		case b[0] == 0:
			return fmt.Errorf("there is no %s on the card", path)
		case b[11] == 0x0f && b[0] != erased:
			if b[0]&0x40 != 0 {
				long, from = "", n
			}
			long = part(b) + long
		case b[0] != erased && long == name:
			for first := int(binary.LittleEndian.Uint16(b[26:])); first >= 2 && first < c.units+2; {
				next := c.get(first)
				c.put(first, 0)
				first = next
			}
			for i := from; i <= n; i++ {
				c.image[begin+i*slot] = erased
			}
			return nil
		default:
			long = ""
		}
	}
	return fmt.Errorf("there is no %s on the card", path)
}

func part(b []byte) string {
	var units []uint16
	for _, off := range [...]int{1, 3, 5, 7, 9, 14, 16, 18, 20, 22, 24, 28, 30} {
		u := binary.LittleEndian.Uint16(b[off:])
		if u == 0 {
			break
		}
		units = append(units, u)
	}
	return string(utf16.Decode(units))
}
