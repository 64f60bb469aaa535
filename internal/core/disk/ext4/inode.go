package ext4

import (
	"encoding/binary"
	"fmt"
	"time"

	"humble-rewind/internal/core/disk"
)

// inode is what is told of a file, but its names.
//
//	u16 mode at 0, u16 owner at 2, u32 size at 4, u32 changed at 12, written at 16, deleted at 20, u16 names at 26, u32 flags at 32, 60 bytes of
//	blocks at 40, u32 generation at 100, u32 size's upper half at 108, u16 owner's at 120, u16 checksum at 124; u16 extra bytes at 128, u16
//	checksum's upper half at 130, u32 written's fraction and epoch at 136, u32 made at 144, its fraction at 148
type inode struct {
	number     int64
	raw        []byte
	at         int64 // where on the drive it was read
	mode       uint16
	uid        int64
	size       int64
	names      uint16
	flags      uint32
	generation uint32
	written    time.Time
	made       time.Time
	deleted    time.Time
	proved     bool
}

const (
	typeMask   = 0xf000
	typeFile   = 0x8000
	typeFolder = 0x4000
	typeLink   = 0xa000

	withExtents = 0x80000
	inlineData  = 0x10000000
)

// place is where the inode table has an inode.
func (v *Volume) place(number int64) (block, within int64, err error) {
	if number < 1 || number > v.inodes {
		return 0, 0, fmt.Errorf("there is no inode %d", number)
	}
	d, err := v.descriptor((number - 1) / v.ofTable)
	if err != nil {
		return 0, 0, err
	}
	off := (number - 1) % v.ofTable * v.inodeSize
	return d.table + off/v.block, off % v.block, nil
}

// inode reads an inode as it is now.
func (v *Volume) inode(number int64) (*inode, error) {
	block, within, err := v.place(number)
	if err != nil {
		return nil, err
	}
	if block < 0 || block >= v.blocks {
		return nil, fmt.Errorf("the table of inode %d lies outside of the file system", number)
	}
	at := v.at + block*v.block + within
	b, err := v.pages.Bytes(at, int(v.inodeSize))
	if err != nil {
		return nil, err
	}
	return v.parse(number, b, at), nil
}

func (v *Volume) parse(number int64, b []byte, at int64) *inode {
	u16 := func(at int) uint16 { return binary.LittleEndian.Uint16(b[at:]) }
	u32 := func(at int) uint32 { return binary.LittleEndian.Uint32(b[at:]) }
	i := &inode{number: number, raw: b, at: at, mode: u16(0), uid: int64(u16(2)) | int64(u16(120))<<16, size: int64(u32(4)) | int64(u32(108))<<32,
		names: u16(26), flags: u32(32), generation: u32(100)}
	extra := 0
	if len(b) > 130 {
		extra = int(u16(128))
	}
	i.written = moment(u32(16), extra, 12, b, 136)
	if extra >= 24 && len(b) >= 152 {
		i.made = moment(u32(144), extra, 24, b, 148)
	}
	if d := u32(20); int64(d) > v.inodes && d > 1e8 { // else it is the next one of a list of orphans
		i.deleted = time.Unix(int64(d), 0).UTC()
	}
	if v.roCompat&checksums != 0 {
		i.proved = v.proves(i, extra)
	}
	return i
}

// moment reads a time; its fraction and epoch are at an offset where the inode has so many extra bytes.
func moment(seconds uint32, extra, needed int, b []byte, at int) time.Time {
	if seconds == 0 {
		return time.Time{}
	}
	more := uint32(0)
	if extra >= needed && len(b) >= at+4 {
		more = binary.LittleEndian.Uint32(b[at:])
	}
	return time.Unix(int64(int32(seconds))+int64(more&3)<<32, int64(min(more>>2, 999_999_999))).UTC()
}

// ofInode is the seed of the checksums of an inode and its blocks.
func (v *Volume) ofInode(i *inode) uint32 {
	var b [8]byte
	binary.LittleEndian.PutUint32(b[:], uint32(i.number))
	binary.LittleEndian.PutUint32(b[4:], i.generation)
	return sum(v.seed, b[:])
}

func (v *Volume) proves(i *inode, extra int) bool {
	b := append([]byte(nil), i.raw...)
	want := uint32(binary.LittleEndian.Uint16(b[124:]))
	b[124], b[125] = 0, 0
	mask := uint32(0xffff)
	if len(b) > 132 && extra >= 4 {
		want |= uint32(binary.LittleEndian.Uint16(b[130:])) << 16
		b[130], b[131] = 0, 0
		mask = ^uint32(0)
	}
	return sum(v.ofInode(i), b)&mask == want
}

// mostRuns is in how many pieces a content may lie; of one in more only the first are told of.
const mostRuns = 20_000

// runs tells where a content lies, as far as that can be read; whole says that it can. Of an erased one the blocks that tell it may be
// somebody else's by now.
func (v *Volume) runs(i *inode) (runs []disk.Run, whole bool) {
	switch {
	case i.size == 0:
		return nil, true
	case i.flags&inlineData != 0:
		return []disk.Run{{At: i.at + 40, Size: min(60, i.size)}}, i.size <= 60
	case i.flags&withExtents != 0:
		w := extents{Volume: v, of: i, whole: true}
		w.node(i.raw[40:100], 5)
		runs, whole = w.runs, w.whole && len(w.runs) > 0
		if told := disk.Sum(runs); told < i.size && whole { // the rest was never written
			runs = disk.Append(runs, disk.Run{At: disk.Hole, Size: i.size - told})
		}
	default:
		w := pointers{Volume: v, whole: true, left: (i.size + v.block - 1) / v.block}
		w.list(i.raw[40:88], 0)
		for depth := 1; depth <= 3 && w.left > 0; depth++ {
			w.list(i.raw[84+4*depth:88+4*depth], depth)
		}
		runs, whole = w.runs, w.whole && w.left == 0 && w.found
	}
	return disk.Cut(runs, i.size), whole
}

// extents follows a tree of extents.
//
//	u16 magic 0xF30A, u16 entries at 2, u16 depth at 6; entries of 12 bytes from 12 on: u32 block, then of a leaf u16 blocks at 4 (over 32,768:
//	not written yet), u16 upper half at 6, u32 lower half at 8, else u32 lower half at 4, u16 upper half at 8
type extents struct {
	*Volume
	of    *inode
	runs  []disk.Run
	whole bool
	next  int64 // the block of the content that comes next
	read  int   // blocks of the tree
}

func (w *extents) node(b []byte, depth int) {
	if len(b) < 12 || binary.LittleEndian.Uint16(b) != 0xf30a || int(binary.LittleEndian.Uint16(b[6:])) >= depth {
		w.whole = false
		return
	}
	count, level := int(binary.LittleEndian.Uint16(b[2:])), int(binary.LittleEndian.Uint16(b[6:]))
	if count > len(b)/12-1 {
		w.whole = false
		return
	}
	for n := range count {
		if len(w.runs) > mostRuns {
			w.whole = false
			return
		}
		e := b[12+12*n:]
		logical := int64(binary.LittleEndian.Uint32(e))
		if level > 0 {
			child, err := w.bytes(int64(binary.LittleEndian.Uint32(e[4:])) | int64(binary.LittleEndian.Uint16(e[8:]))<<32)
			if w.read++; err != nil || w.read > mostRuns || !w.proved(child) {
				w.whole = false
				continue
			}
			w.node(child, level)
			continue
		}
		blocks := int64(binary.LittleEndian.Uint16(e[4:]))
		start := int64(binary.LittleEndian.Uint16(e[6:]))<<32 | int64(binary.LittleEndian.Uint32(e[8:]))
		unwritten := blocks > 1<<15
		if unwritten {
			blocks -= 1 << 15
		}
		if logical < w.next || blocks == 0 || start+blocks > w.blocks {
			w.whole = false
			return
		}
		w.runs = disk.Append(w.runs, disk.Run{At: disk.Hole, Size: (logical - w.next) * w.block})
		r := disk.Run{At: w.at + start*w.block, Size: blocks * w.block}
		if unwritten {
			r.At = disk.Hole
		}
		w.runs = disk.Append(w.runs, r)
		w.next = logical + blocks
	}
}

// proved tells whether a block of a tree is one of this inode's, where the file system has checksums.
func (w *extents) proved(b []byte) bool {
	if w.roCompat&checksums == 0 {
		return true
	}
	at := 12 + 12*int(binary.LittleEndian.Uint16(b[4:]))
	return at+4 <= len(b) && sum(w.ofInode(w.of), b[:at]) == binary.LittleEndian.Uint32(b[at:])
}

// pointers follows blocks of block numbers.
type pointers struct {
	*Volume
	runs  []disk.Run
	whole bool
	found bool  // a block that is not a hole
	left  int64 // blocks
	read  int
}

func (w *pointers) list(b []byte, depth int) {
	each := int64(1) // blocks that a number stands for
	for range depth {
		each *= w.block / 4
	}
	for ; len(b) >= 4 && w.left > 0; b = b[4:] {
		number := int64(binary.LittleEndian.Uint32(b))
		switch {
		case len(w.runs) > mostRuns || number >= w.blocks:
			w.whole, w.left = false, 0
		case number == 0:
			n := min(each, w.left)
			w.runs, w.left = disk.Append(w.runs, disk.Run{At: disk.Hole, Size: n * w.block}), w.left-n
		case depth == 0:
			w.runs, w.left, w.found = disk.Append(w.runs, disk.Run{At: w.at + number*w.block, Size: w.block}), w.left-1, true
		default:
			child, err := w.bytes(number)
			if w.read++; err != nil || w.read > 1<<20 {
				w.whole, w.left = false, 0
				return
			}
			w.list(child, depth-1)
		}
	}
}
