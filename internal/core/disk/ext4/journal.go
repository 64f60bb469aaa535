package ext4

import (
	"bytes"
	"encoding/binary"
	"slices"

	"humble-rewind/internal/core/disk"
)

// copied is a block as the journal has it.
type copied struct {
	at       int64 // on the drive
	sequence uint32
	escaped  bool // its first four bytes are the journal's magic
}

// journalMagic begins each block of the journal that is not a copy (big endian).
const journalMagic = 0xc03b3998

// mostCopies is of how many blocks copies are known.
const mostCopies = 1 << 20

// readJournal finds all copies of blocks in the journal, those of transactions that were carried out long ago too.
//
//	its superblock: u32 magic, u32 size of a block at 12, u32 blocks at 16, u32 features at 40
//	a descriptor: u32 magic, u32 type 1, u32 sequence; then for each block u32 number; checksums of version 3: u32 flags at 4, u32 upper half at
//	    8, u32 checksum; else u16 checksum at 4, u16 flags at 6, u32 upper half at 8 where numbers are wide. Flags: 1 escaped, 2 no uuid follows, 8 last
func (v *Volume) readJournal() {
	if v.journal != nil {
		return
	}
	v.journal = map[int64][]copied{}
	i, err := v.inode(v.journalAt)
	if v.compat&hasJournal == 0 || err != nil {
		return
	}
	runs, _ := v.runs(i)
	var at []int64 // of each block
	for _, r := range runs {
		for off := int64(0); off < r.Size && r.At != disk.Hole && len(at) < mostCopies; off += v.block {
			at = append(at, r.At+off)
		}
	}
	read := func(n int) []byte {
		b, err := v.pages.Bytes(at[n], int(v.block))
		if err != nil {
			return nil
		}
		return b
	}
	if len(at) == 0 {
		return
	}
	super := read(0)
	if super == nil || binary.BigEndian.Uint32(super) != journalMagic || int64(binary.BigEndian.Uint32(super[12:])) != v.block {
		return
	}
	features := binary.BigEndian.Uint32(super[40:])
	const wideNumbers, sums3 = 2, 0x10
	known := 0
	for n := 1; n < len(at); n++ {
		b := read(n)
		if b == nil || binary.BigEndian.Uint32(b) != journalMagic || binary.BigEndian.Uint32(b[4:]) != 1 {
			continue
		}
		sequence := binary.BigEndian.Uint32(b[8:])
		next := n
		for off := 12; off+8 <= len(b); {
			number, flags := int64(binary.BigEndian.Uint32(b[off:])), uint32(0)
			switch {
			case features&sums3 != 0 && off+16 <= len(b):
				flags = binary.BigEndian.Uint32(b[off+4:])
				number |= int64(binary.BigEndian.Uint32(b[off+8:])) << 32
				off += 16
			case features&sums3 != 0:
				off = len(b)
				continue
			default:
				flags = uint32(binary.BigEndian.Uint16(b[off+6:]))
				off += 8
				if features&wideNumbers != 0 && off+4 <= len(b) {
					number |= int64(binary.BigEndian.Uint32(b[off:])) << 32
					off += 4
				}
			}
			if flags&2 == 0 {
				off += 16
			}
			if next++; next < len(at) && known < mostCopies {
				v.journal[number] = append(v.journal[number], copied{at[next], sequence, flags&1 != 0})
				known++
			}
			if flags&8 != 0 {
				break
			}
		}
	}
	for _, all := range v.journal {
		slices.SortFunc(all, func(a, b copied) int { return int(int32(b.sequence - a.sequence)) })
	}
}

// old reads a block as the journal has it; nil where it cannot be read.
func (v *Volume) old(c copied) []byte {
	b, err := v.pages.Bytes(c.at, int(v.block))
	if err != nil {
		return nil
	}
	if c.escaped {
		binary.BigEndian.PutUint32(b, journalMagic)
	}
	return b
}

// former finds what an inode was before it was removed: the latest copy that still tells where a content lies, and how many bytes it had.
// Where the file system has checksums only one that is proved by its own counts. now is what the inode is now, which may be somebody else.
func (v *Volume) former(now *inode, is func(*inode) bool) *inode {
	v.readJournal()
	block, within, err := v.place(now.number)
	if err != nil {
		return nil
	}
	for _, c := range v.journal[block] {
		b := v.old(c)
		if b == nil {
			continue
		}
		i := v.parse(now.number, b[within:within+v.inodeSize], c.at+within)
		if i.names == 0 || !i.deleted.IsZero() || v.roCompat&checksums != 0 && !i.proved || !is(i) {
			continue
		}
		return i
	}
	return nil
}

// dirBefore looks in the journal for the number of the inode that a name in a folder's block had, before it became the block's first unused
// one.
func (v *Volume) dirBefore(at int64, within int, name []byte) (inode uint32) {
	v.readJournal()
	for _, c := range v.journal[(at-v.at)/v.block] {
		b := v.old(c)
		if b == nil || within+8+len(name) > len(b) {
			continue
		}
		if n := binary.LittleEndian.Uint32(b[within:]); n != 0 && int(b[within+6]) == len(name) && bytes.Equal(b[within+8:within+8+len(name)], name) {
			return n
		}
	}
	return 0
}
