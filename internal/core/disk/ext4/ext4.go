// Package ext4 reads ext2, ext3 and ext4 (Linux kernel documentation, "ext4 Data Structures and Algorithms"), what stands and what was
// erased.
//
//	superblock at 1024: u32 inodes at 0, u32 blocks at 4, u32 first block at 20, u32 log2 of a block in KiB at 24, u32 blocks of a group at 32,
//	    u32 inodes of a group at 40, u16 magic 0xEF53 at 56, u32 first inode of its own at 84, u16 inode's size at 88, u32 features at 92, 96
//	    and 100, 16 uuid at 104, 16 label at 120, u32 journal's inode at 224, u16 descriptor's size at 254
//	group descriptor: u32 block bitmap at 0, u32 inode table at 8, u16 flags at 18; upper halves at 32 and 40
//	inode, extent, directory entry, journal: at their readers
//
// Removing a file unlinks its name and leaves it in the slack of its folder's block, with the number of its inode. Of the inode ext2 leaves
// the blocks, ext3 and ext4 do not; but older copies of it lie in the journal, which their checksum proves.
package ext4

import (
	"encoding/binary"
	"fmt"
	"hash/crc32"
	"strings"

	"humble-rewind/internal/core/disk"
)

// Volume is an ext2, ext3 or ext4 file system.
type Volume struct {
	pages     *disk.Pages
	at        int64
	block     int64 // bytes
	blocks    int64
	firstAt   int64 // the first block that is in a group
	ofGroup   int64 // blocks
	inodes    int64
	ofTable   int64 // inodes of a group
	inodeSize int64
	firstOwn  int64 // inodes before it are the file system's
	compat    uint32
	incompat  uint32
	roCompat  uint32
	seed      uint32 // of checksums
	descSize  int64
	metaFirst int64 // the first group of descriptors that lie in their own groups
	journalAt int64 // its inode
	label     string
	taken     *disk.Allocation
	groups    int64
	journal   map[int64][]copied // blocks of which the journal has copies, latest first
}

// Features that are looked at.
const (
	hasJournal   = 0x4 // compatible
	needsReplay  = 0x4 // incompatible
	metaGroups   = 0x10
	wide         = 0x80
	ownSeed      = 0x2000
	sparseSupers = 0x1 // read-only
	clustered    = 0x200
	checksums    = 0x400
)

// Open opens the file system that begins at an offset of a drive: by its superblock, else by a backup of that.
func Open(drive *disk.Pages, at int64) (*Volume, error) {
	v, err := open(drive, at, 1024, 0)
	for kib := int64(0); err != nil && kib < 3; kib++ {
		block := int64(1024) << kib
		for _, group := range [...]int64{1, 3, 5, 7, 9} {
			first := int64(0)
			if kib == 0 {
				first = 1
			}
			if backup, failed := open(drive, at, (first+group*8*block)*block, group); failed == nil && backup.block == block {
				return backup, nil
			}
		}
	}
	return v, err
}

var castagnoli = crc32.MakeTable(crc32.Castagnoli)

// sum goes on with a checksum as ext4 has them: without the last inversion.
func sum(seed uint32, b []byte) uint32 { return ^crc32.Update(^seed, castagnoli, b) }

func open(drive *disk.Pages, at, super, group int64) (*Volume, error) {
	b, err := drive.Bytes(at+super, 1024)
	if err != nil {
		return nil, err
	}
	u32 := func(at int) int64 { return int64(binary.LittleEndian.Uint32(b[at:])) }
	none := func(why string) (*Volume, error) { return nil, fmt.Errorf("ext: %w: %s", disk.ErrNone, why) }
	if binary.LittleEndian.Uint16(b[56:]) != 0xef53 || u32(24) > 6 || int64(binary.LittleEndian.Uint16(b[90:])) != group {
		return none("its superblock is not one")
	}
	v := &Volume{pages: drive, at: at, block: 1024 << u32(24), blocks: u32(4), firstAt: u32(20), ofGroup: u32(32), inodes: u32(0), ofTable: u32(40),
		inodeSize: 128, firstOwn: 11, descSize: 32, journalAt: u32(224), label: strings.TrimRight(string(b[120:136]), "\x00")}
	if u32(76) > 0 {
		v.firstOwn, v.inodeSize = u32(84), int64(binary.LittleEndian.Uint16(b[88:]))
		v.compat, v.incompat, v.roCompat = uint32(u32(92)), uint32(u32(96)), uint32(u32(100))
	}
	if v.incompat&wide != 0 {
		v.descSize = int64(binary.LittleEndian.Uint16(b[254:]))
		v.blocks |= u32(0x150) << 32
	}
	if v.incompat&metaGroups != 0 {
		v.metaFirst = u32(0x104)
	} else {
		v.metaFirst = 1 << 40
	}
	switch {
	case v.roCompat&clustered != 0:
		return none("it gives out clusters of blocks, which are not read")
	case v.inodeSize < 128 || v.inodeSize > v.block || v.inodeSize&(v.inodeSize-1) != 0 || v.descSize < 32 || v.descSize > v.block || v.descSize&(v.descSize-1) != 0:
		return none("sizes that cannot be")
	case v.ofGroup < 64 || v.ofGroup > 8*v.block || v.ofGroup%8 != 0 || v.ofTable <= 0 || v.ofTable > 8*v.block || v.blocks <= v.firstAt || v.firstAt > 1 || v.blocks > 1<<48:
		return none("groups that cannot be")
	}
	v.groups = (v.blocks - v.firstAt + v.ofGroup - 1) / v.ofGroup
	if v.groups > 1<<32 || v.inodes > v.groups*v.ofTable {
		return none("inodes that cannot be")
	}
	v.seed = sum(^uint32(0), b[104:120])
	if v.incompat&ownSeed != 0 {
		v.seed = uint32(u32(0x270))
	}
	per := (v.ofGroup + 63) &^ 63
	if per == v.ofGroup {
		v.taken = disk.NewAllocation(v.blocks-v.firstAt, per, v.bitmap)
	} else { // unusual groups: a block at a time
		v.taken = disk.NewAllocation(v.blocks-v.firstAt, 64, func(page int64, taken []uint64) error {
			whole := make([]uint64, per/64)
			for n := range int64(64) {
				unit := page*64 + n
				if n == 0 || unit%v.ofGroup == 0 {
					clear(whole)
					if err := v.bitmap(unit/v.ofGroup, whole); err != nil {
						return err
					}
				}
				taken[0] |= whole[unit%v.ofGroup/64] >> (unit % v.ofGroup % 64) & 1 << n
			}
			return nil
		})
	}
	return v, nil
}

// Name of the file system.
func (v *Volume) Name() string {
	switch {
	case v.incompat&0x40 != 0:
		return "ext4"
	case v.compat&hasJournal != 0:
		return "ext3"
	}
	return "ext2"
}

// Label that it was given; "" where there is none.
func (v *Volume) Label() string { return strings.ToValidUTF8(v.label, "?") }

// Unit is the size of a block.
func (v *Volume) Unit() int64 { return v.block }

// Base is where the first block of a group begins.
func (v *Volume) Base() int64 { return v.at + v.firstAt*v.block }

// Taken tells how many bytes of a piece belong to something.
func (v *Volume) Taken(r disk.Run) int64 {
	return disk.TakenOf(v.taken, r, v.Base(), v.block)
}

// Free calls each with the pieces that belong to nothing.
func (v *Volume) Free(each func(disk.Run) error) error {
	return v.taken.Free(func(from, units int64) error {
		return each(disk.Run{At: v.Base() + from*v.block, Size: units * v.block})
	})
}

// bytes reads a block.
func (v *Volume) bytes(block int64) ([]byte, error) {
	if block < 0 || block >= v.blocks {
		return nil, fmt.Errorf("block %d lies outside of the file system", block)
	}
	return v.pages.Bytes(v.at+block*v.block, int(v.block))
}

// descriptor of a group.
type descriptor struct {
	bitmap, inodeBitmap, table int64
	flags                      uint16
}

func (v *Volume) descriptor(group int64) (descriptor, error) {
	of := v.block / v.descSize // in a block
	at := (v.firstAt+1+group/of)*v.block + group%of*v.descSize
	if group/of >= v.metaFirst {
		first := group / of * of
		at = (v.firstAt + first*v.ofGroup) * v.block
		if v.hasSuper(first) {
			at += v.block
		}
		at += group % of * v.descSize
	}
	b, err := v.pages.Bytes(v.at+at, int(v.descSize))
	if err != nil {
		return descriptor{}, err
	}
	d := descriptor{int64(binary.LittleEndian.Uint32(b)), int64(binary.LittleEndian.Uint32(b[4:])), int64(binary.LittleEndian.Uint32(b[8:])),
		binary.LittleEndian.Uint16(b[18:])}
	if v.descSize >= 64 {
		d.bitmap |= int64(binary.LittleEndian.Uint32(b[32:])) << 32
		d.inodeBitmap |= int64(binary.LittleEndian.Uint32(b[36:])) << 32
		d.table |= int64(binary.LittleEndian.Uint32(b[40:])) << 32
	}
	return d, nil
}

// hasSuper tells whether a group has a copy of the superblock.
func (v *Volume) hasSuper(group int64) bool {
	if group <= 1 || v.roCompat&sparseSupers == 0 {
		return true
	}
	for _, base := range [...]int64{3, 5, 7} {
		n := base
		for n < group {
			n *= base
		}
		if n == group {
			return true
		}
	}
	return false
}

// bitmap reads which blocks of a group are taken. Of one that was never written to there is none: all is free in it but what describes
// groups.
func (v *Volume) bitmap(group int64, taken []uint64) error {
	d, err := v.descriptor(group)
	if err != nil {
		return err
	}
	const unwritten = 2
	if d.flags&unwritten == 0 || v.roCompat&(checksums|0x10) == 0 {
		b, err := v.bytes(d.bitmap)
		if err != nil {
			return err
		}
		for i := range min(int64(len(taken)), v.block/8) {
			taken[i] = binary.LittleEndian.Uint64(b[8*i:])
		}
		return nil
	}
	first := v.firstAt + group*v.ofGroup
	mark := func(from, count int64) {
		for n := max(0, from-first); n < min(v.ofGroup, from-first+count); n++ {
			taken[n/64] |= 1 << (n % 64)
		}
	}
	if v.hasSuper(group) { // with what follows it: descriptors, and room for more of them, at the most all of 1,024 blocks
		mark(first, 1+(v.groups*v.descSize+v.block-1)/v.block+1024)
	}
	mark(d.bitmap, 1)
	mark(d.inodeBitmap, 1)
	mark(d.table, (v.ofTable*v.inodeSize+v.block-1)/v.block)
	return nil
}
