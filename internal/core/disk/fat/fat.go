// Package fat reads FAT12, FAT16 and FAT32 (Microsoft's "FAT: General Overview of On-Disk Format", 1.03), what stands and what was erased.
//
//	boot sector: u16 bytes of a sector at 11, u8 sectors of a cluster at 13, u16 reserved sectors at 14, u8 tables at 16, u16 root entries
//	    at 17, u16 sectors at 19, u16 of a table at 22, u32 sectors at 32; FAT32: u32 of a table at 36, u32 root cluster at 44, backup in sector 6
//	entry of 32 bytes: 11 short name, u8 attributes at 11, u8 case at 12, u8 hundredths made at 13, u16 time and date made at 14, u16 first
//	    cluster's upper half at 20, u16 time and date written at 22, u16 lower half at 26, u32 size at 28
//	part of a long name (attributes 0x0F): u8 number at 0, 5 units at 1, u8 checksum of the short name at 13, 6 units at 14, 2 at 28
//
// Erasing puts 0xE5 over the first byte of each and frees the chain. So of a short name the first letter is lost, and where the content
// lies is known only as far as its first cluster; that it lies in one piece is assumed.
package fat

import (
	"encoding/binary"
	"fmt"

	"humble-rewind/internal/core/disk"
)

// Volume is a FAT file system.
type Volume struct {
	pages    *disk.Pages
	bits     int   // of an entry of the table: 12, 16 or 32
	table    int64 // where it lies on the drive
	second   int64 // the other table; 0: there is none
	root     disk.Run
	rootAt   uint32 // FAT32: the first cluster of the root
	data     int64
	cluster  int64 // bytes
	clusters uint32
	taken    *disk.Allocation
	label    string
	// Fits tells whether a content may be of the type that a name says; told says whether anything is known of that type.
	Fits   func(name string, head []byte) (fits, told bool)
	probes int
}

// mostProbes is how many contents are looked at in all for one whose first cluster's upper half is lost.
const mostProbes = 100_000

const (
	erased    = 0xe5
	sizeSlot  = 32
	longName  = 0x0f
	isLabel   = 0x08
	isFolder  = 0x10
	mostUnits = 260 // of a long name, in UTF-16
)

// Open opens the file system that begins at an offset of a drive: by its boot sector, else by the backup of that.
func Open(drive *disk.Pages, at int64) (*Volume, error) {
	var errs []error
	for _, sector := range [...]int64{0, 6 * 512} {
		b, err := drive.Bytes(at+sector, 512)
		if err == nil {
			var v *Volume
			if v, err = read(drive, at, b); err == nil {
				return v, nil
			}
		}
		errs = append(errs, err)
	}
	return nil, errs[0]
}

func read(drive *disk.Pages, at int64, b []byte) (*Volume, error) {
	u16 := func(at int) int64 { return int64(binary.LittleEndian.Uint16(b[at:])) }
	u32 := func(at int) int64 { return int64(binary.LittleEndian.Uint32(b[at:])) }
	sector, per, reserved, tables, roots := u16(11), int64(b[13]), u16(14), int64(b[16]), u16(17)
	sectors, ofTable := u16(19), u16(22)
	if sectors == 0 {
		sectors = u32(32)
	}
	v := &Volume{pages: drive}
	wide := ofTable == 0
	if wide {
		ofTable, v.rootAt = u32(36), binary.LittleEndian.Uint32(b[44:])
	}
	if b[510] != 0x55 || b[511] != 0xaa || sector < 512 || sector > 4096 || sector&(sector-1) != 0 || per == 0 || per&(per-1) != 0 || reserved == 0 ||
		tables < 1 || tables > 2 || ofTable == 0 || sectors == 0 {
		return nil, fmt.Errorf("FAT: %w: its boot sector is not one", disk.ErrNone)
	}
	first := reserved + tables*ofTable
	v.table = at + reserved*sector
	if tables == 2 {
		v.second = v.table + ofTable*sector
	}
	ofRoot := (roots*sizeSlot + sector - 1) / sector
	v.root = disk.Run{At: at + first*sector, Size: roots * sizeSlot}
	v.data = at + (first+ofRoot)*sector
	v.cluster = sector * per
	count := (sectors - first - ofRoot) / per
	switch {
	case count <= 0:
		return nil, fmt.Errorf("FAT: %w: it has no room for anything", disk.ErrNone)
	case wide:
		v.bits = 32
	case count < 4085:
		v.bits = 12
	default:
		v.bits = 16
	}
	if held := ofTable * sector * 8 / int64(v.bits); count > held-2 { // the table does not tell of more
		count = held - 2
	}
	if count <= 0 || count >= 1<<28 {
		return nil, fmt.Errorf("FAT: %w: its table does not fit it", disk.ErrNone)
	}
	v.clusters = uint32(count)
	const page = 1 << 14
	v.taken = disk.NewAllocation(count, page, func(n int64, taken []uint64) error {
		for u := n * page; u < min((n+1)*page, count); u++ {
			next, err := v.next(uint32(u) + 2)
			if err != nil {
				return err
			}
			if next != 0 {
				taken[u%page/64] |= 1 << (u % 64)
			}
		}
		return nil
	})
	return v, nil
}

// Name of the file system.
func (v *Volume) Name() string { return fmt.Sprintf("FAT%d", v.bits) }

// Label that it was given; "" before it was walked, and where there is none.
func (v *Volume) Label() string { return v.label }

// Unit is the size of a cluster.
func (v *Volume) Unit() int64 { return v.cluster }

// Base is where the first cluster begins.
func (v *Volume) Base() int64 { return v.data }

// Taken tells how many bytes of a piece belong to something.
func (v *Volume) Taken(r disk.Run) int64 {
	return disk.TakenOf(v.taken, r, v.data, v.cluster)
}

// Free calls each with the pieces that belong to nothing.
func (v *Volume) Free(each func(disk.Run) error) error {
	return v.taken.Free(func(from, units int64) error {
		return each(disk.Run{At: v.data + from*v.cluster, Size: units * v.cluster})
	})
}

// next is what the table says of a cluster: 0 where it is free.
func (v *Volume) next(c uint32) (uint32, error) {
	var b [4]byte
	width, off := 4, int64(c)*4
	switch v.bits {
	case 12:
		width, off = 2, int64(c)+int64(c)/2
	case 16:
		width, off = 2, int64(c)*2
	}
	if n, err := v.pages.ReadAt(b[:width], v.table+off); n < width {
		if v.second == 0 {
			return 0, err
		}
		if n, err := v.pages.ReadAt(b[:width], v.second+off); n < width {
			return 0, err
		}
	}
	switch v.bits {
	case 12:
		e := uint32(binary.LittleEndian.Uint16(b[:]))
		if c%2 == 1 {
			return e >> 4, nil
		}
		return e & 0xfff, nil
	case 16:
		return uint32(binary.LittleEndian.Uint16(b[:])), nil
	}
	return binary.LittleEndian.Uint32(b[:]) & 0x0fffffff, nil
}

func (v *Volume) has(c uint32) bool { return c >= 2 && c-2 < v.clusters }

func (v *Volume) of(c uint32) int64 { return v.data + int64(c-2)*v.cluster }

// chain follows a chain of clusters for at most so many, to its end or to where it leads nowhere.
func (v *Volume) chain(c uint32, most int64) (runs []disk.Run, whole bool) {
	for n := int64(0); n < most; n++ {
		if !v.has(c) {
			return runs, false
		}
		runs = disk.Append(runs, disk.Run{At: v.of(c), Size: v.cluster})
		next, err := v.next(c)
		if err != nil {
			return runs, false
		}
		if next>>3 == 1<<(min(v.bits, 28)-3)-1 { // the end mark: all bits but the last three
			return runs, true
		}
		c = next
	}
	return runs, true
}

var _ disk.Volume = (*Volume)(nil)
