// Package table reads how a drive is divided. It reads MBR with logical partitions (the chain of extended boot records), GPT with its
// backup (UEFI Specification 2.10, chapter 5), and none at all; and it recognises file systems by what their first blocks say.
//
//	MBR at 0: at 446 four entries of 16 bytes (1 type at 4, u32 first sector at 8, u32 sectors at 12), 0x55AA at 510
//	GPT header in sector 1 and in the last: "EFI PART", u32 header size at 12, CRC-32 at 16 (of the header, its own field zero),
//	    u64 entries' sector at 72, u32 entries at 80, u32 their size at 84, u32 CRC-32 of them at 88
//	GPT entry: 16 type, 16 unique, u64 first at 32, u64 last at 40, 72 bytes UTF-16 name at 56
package table

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"hash/crc32"
	"io"
	"strings"
	"unicode/utf16"

	"humble-rewind/internal/core/disk"
)

// Partition is a part of a drive.
type Partition struct {
	Number int // from 1, as the drive's own table counts; 0: the whole drive, which is not divided
	At     int64
	Size   int64  // bytes
	Label  string // that the table gives it
	Lost   bool   // no table tells of it
}

// Name is how the partition is called: "p1", or "whole", and "lost" with where it begins in sectors of 512 bytes.
func (p Partition) Name() string {
	switch {
	case p.Lost:
		return fmt.Sprintf("lost%d", p.At/512)
	case p.Number == 0:
		return "whole"
	}
	return fmt.Sprintf("p%d", p.Number)
}

// Layout is how a drive is divided.
type Layout struct {
	Scheme     string // "GPT", "MBR" or ""
	Partitions []Partition
	Notes      []disk.Note // on what was wrong with it
}

const (
	mostEntries  = 256  // of a GPT; 128 are usual
	mostLogical  = 128  // partitions
	largestSize  = 4096 // of a sector, in bytes
	smallestSize = 512
)

// Read reads how a drive of so many bytes is divided. Nothing that it cannot read is an error: what is known without it is returned, with a
// note.
func Read(drive io.ReaderAt, size int64) Layout {
	t := tables{drive: drive, size: size}
	for sector := int64(smallestSize); sector <= largestSize; sector *= 2 {
		if t.gpt(sector) {
			return t.Layout
		}
	}
	t.Partitions = nil
	if t.mbr() {
		return t.Layout
	}
	t.Layout.Partitions = []Partition{{Size: size}}
	return t.Layout
}

type tables struct {
	Layout
	drive io.ReaderAt
	size  int64
}

func (t *tables) note(what disk.Trouble, numbers ...int) {
	if len(t.Notes) >= 20 {
		return
	}
	n := disk.Note{What: what}
	if len(numbers) > 0 {
		n.Number = int64(numbers[0])
	}
	if len(numbers) > 1 {
		n.Other = int64(numbers[1])
	}
	t.Notes = append(t.Notes, n)
}

func (t *tables) read(at int64, size int) []byte {
	if at < 0 || at > t.size-int64(size) {
		return nil
	}
	b := make([]byte, size)
	if n, _ := t.drive.ReadAt(b, at); n < size {
		return nil
	}
	return b
}

// gpt reads a GPT of sectors of so many bytes: by its header, else by the backup in the last sector.
func (t *tables) gpt(sector int64) bool {
	if t.entries(sector, 1) {
		return true
	}
	if last := t.size/sector - 1; t.entries(sector, last) {
		t.note(disk.BackupTable)
		return true
	}
	return false
}

func (t *tables) entries(sector, at int64) bool {
	h := t.read(at*sector, int(sector))
	if h == nil || !bytes.HasPrefix(h, []byte("EFI PART")) {
		return false
	}
	head := binary.LittleEndian.Uint32(h[12:])
	if head < 92 || int64(head) > sector {
		return false
	}
	sum := binary.LittleEndian.Uint32(h[16:])
	binary.LittleEndian.PutUint32(h[16:], 0)
	if crc32.ChecksumIEEE(h[:head]) != sum {
		return false
	}
	first, count, each := binary.LittleEndian.Uint64(h[72:]), binary.LittleEndian.Uint32(h[80:]), binary.LittleEndian.Uint32(h[84:])
	if each < 128 || each > 4096 || count > mostEntries || first > uint64(t.size/sector) {
		return false
	}
	all := t.read(int64(first)*sector, int(count*each))
	if all == nil || crc32.ChecksumIEEE(all) != binary.LittleEndian.Uint32(h[88:]) {
		return false
	}
	t.Scheme = "GPT"
	for n := range int(count) {
		e := all[n*int(each):]
		if bytes.Equal(e[:16], make([]byte, 16)) {
			continue
		}
		from, to := binary.LittleEndian.Uint64(e[32:]), binary.LittleEndian.Uint64(e[40:])
		if to < from || to >= 1<<54 {
			t.note(disk.PartitionEnds, n+1)
			continue
		}
		t.add(Partition{Number: n + 1, At: int64(from) * sector, Size: int64(to-from+1) * sector, Label: label(e[56:128])})
	}
	return true
}

func label(b []byte) string {
	var units []uint16
	for i := 0; i+1 < len(b); i += 2 {
		u := binary.LittleEndian.Uint16(b[i:])
		if u == 0 {
			break
		}
		units = append(units, u)
	}
	return strings.ToValidUTF8(string(utf16.Decode(units)), "?")
}

// add takes a partition, of which what lies outside of the drive or in one before is noted: both may be read.
func (t *tables) add(p Partition) {
	switch {
	case p.At < 0 || p.At >= t.size:
		t.note(disk.PartitionOutside, p.Number)
		return
	case p.Size > t.size-p.At:
		t.note(disk.PartitionCut, p.Number)
		p.Size = t.size - p.At
	}
	for _, other := range t.Partitions {
		if p.At < other.At+other.Size && other.At < p.At+p.Size {
			t.note(disk.PartitionsOver, other.Number, p.Number)
		}
	}
	t.Partitions = append(t.Partitions, p)
}

// The types of MBR entries that hold logical partitions, and that of a drive with a GPT.
const (
	extended    = 0x05
	extendedLBA = 0x0f
	extendedOld = 0x85
	protective  = 0xee
)

type slot struct{ kind, first, sectors int64 }

// slots reads the four entries of a boot record; nil where it is none.
func (t *tables) slots(at int64) []slot {
	b := t.read(at, smallestSize)
	if b == nil || b[510] != 0x55 || b[511] != 0xaa {
		return nil
	}
	all := make([]slot, 4)
	for n := range all {
		e := b[446+16*n:]
		if e[0]&0x7f != 0 {
			return nil // no status of a partition: this is code, or the boot sector of a file system
		}
		all[n] = slot{int64(e[4]), int64(binary.LittleEndian.Uint32(e[8:])), int64(binary.LittleEndian.Uint32(e[12:]))}
	}
	return all
}

func (t *tables) mbr() bool {
	if Recognise(t.drive, 0, t.size) != "" {
		return false // what looks like entries is a boot sector's code
	}
	found := false
	next := 5
	for n, s := range t.slots(0) {
		switch {
		case s.kind == 0 || s.sectors == 0 || s.kind == protective:
			continue
		case s.kind == extended || s.kind == extendedLBA || s.kind == extendedOld:
			found = true
			next = t.logical(s.first*512, next)
			continue
		}
		found = true
		t.add(Partition{Number: n + 1, At: s.first * 512, Size: s.sectors * 512})
	}
	if found {
		t.Scheme = "MBR"
	}
	return found
}

// logical follows the chain of extended boot records. Each must lie behind the one before, so that a loop ends.
func (t *tables) logical(base int64, next int) int {
	for at := base; ; {
		slots := t.slots(at)
		if slots == nil {
			t.note(disk.LogicalBroken)
			return next
		}
		if next >= 5+mostLogical {
			t.note(disk.LogicalMany, mostLogical)
			return next
		}
		if s := slots[0]; s.kind != 0 && s.sectors > 0 {
			t.add(Partition{Number: next, At: at + s.first*512, Size: s.sectors * 512})
			next++
		}
		s := slots[1]
		if s.kind == 0 || s.first == 0 {
			return next
		}
		to := base + s.first*512
		if to <= at {
			t.note(disk.LogicalLoop)
			return next
		}
		at = to
	}
}

// Recognise tells which file system begins at an offset, by its first blocks: "FAT", "exFAT", "ext", and those that are known but not read:
// "NTFS", "btrfs", "XFS", "LUKS", "swap". It is "" where nothing is recognised.
func Recognise(drive io.ReaderAt, at, size int64) string {
	t := tables{drive: drive, size: size}
	if b := t.read(at, 512); b != nil {
		switch {
		case bytes.Equal(b[3:11], []byte("NTFS    ")):
			return "NTFS"
		case bytes.Equal(b[3:11], []byte("EXFAT   ")):
			return "exFAT"
		case bytes.HasPrefix(b, []byte("XFSB")):
			return "XFS"
		case bytes.HasPrefix(b, []byte("LUKS\xba\xbe")):
			return "LUKS"
		case looksFAT(b):
			return "FAT"
		}
	}
	if b := t.read(at+1024, 1024); b != nil && binary.LittleEndian.Uint16(b[0x38:]) == 0xef53 && binary.LittleEndian.Uint32(b[0x18:]) <= 6 {
		return "ext"
	}
	if b := t.read(at+0x10040, 8); bytes.Equal(b, []byte("_BHRfS_M")) {
		return "btrfs"
	}
	if b := t.read(at+4086, 10); bytes.Equal(b, []byte("SWAPSPACE2")) {
		return "swap"
	}
	return ""
}

// looksFAT tells whether a sector is a FAT's boot sector by its own fields: what it says of itself in words is not to be relied on.
func looksFAT(b []byte) bool {
	sector, per, reserved, fats := binary.LittleEndian.Uint16(b[11:]), b[13], binary.LittleEndian.Uint16(b[14:]), b[16]
	total := uint32(binary.LittleEndian.Uint16(b[19:])) + binary.LittleEndian.Uint32(b[32:])
	return b[510] == 0x55 && b[511] == 0xaa && (b[0] == 0xeb || b[0] == 0xe9) && sector >= 512 && sector <= 4096 && sector&(sector-1) == 0 &&
		per > 0 && per&(per-1) == 0 && reserved > 0 && (fats == 1 || fats == 2) && (b[21] == 0xf0 || b[21] >= 0xf8) && total > 0
}
