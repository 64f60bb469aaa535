package table_test

import (
	"bytes"
	"encoding/binary"
	"hash/crc32"
	"testing"

	"github.com/stretchr/testify/assert"

	"humble-rewind/internal/core/disk"
	"humble-rewind/internal/core/disk/table"
)

const drive = 16 << 20

// record writes a boot record of entries of a type, a first sector and sectors.
func record(b []byte, at int, entries ...[3]uint32) {
	for n, e := range entries {
		s := b[at+446+16*n:]
		s[4] = byte(e[0])
		binary.LittleEndian.PutUint32(s[8:], e[1])
		binary.LittleEndian.PutUint32(s[12:], e[2])
	}
	b[at+510], b[at+511] = 0x55, 0xaa
}

func read(b []byte) (names map[string][2]int64, notes []disk.Trouble) {
	l := table.Read(bytes.NewReader(b), int64(len(b)))
	names = map[string][2]int64{}
	for _, p := range l.Partitions {
		names[p.Name()] = [2]int64{p.At / 512, p.Size / 512}
	}
	for _, n := range l.Notes {
		notes = append(notes, n.What)
	}
	return names, notes
}

func TestPartitionsOfAnMBR(t *testing.T) {
	b := make([]byte, drive)
	record(b, 0, [3]uint32{0x83, 2048, 4096}, [3]uint32{0x05, 8192, 16384})
	record(b, 8192*512, [3]uint32{0x0b, 64, 1000}, [3]uint32{0x05, 2048, 2000})
	record(b, (8192+2048)*512, [3]uint32{0x0b, 64, 1000})
	names, notes := read(b)
	assert.Equal(t, map[string][2]int64{"p1": {2048, 4096}, "p5": {8256, 1000}, "p6": {10304, 1000}}, names)
	assert.Empty(t, notes)

	record(b, (8192+2048)*512, [3]uint32{0x0b, 64, 1000}, [3]uint32{0x05, 2048, 2000})
	names, notes = read(b)
	assert.Len(t, names, 3)
	assert.Equal(t, []disk.Trouble{disk.LogicalLoop}, notes)

	record(b, 0, [3]uint32{0x83, 2048, 4096}, [3]uint32{0x83, 4096, 1 << 20}, [3]uint32{0x83, 1 << 30, 5}, [3]uint32{0x0f, 31, 7})
	names, notes = read(b)
	assert.Equal(t, map[string][2]int64{"p1": {2048, 4096}, "p2": {4096, drive/512 - 4096}}, names)
	assert.Equal(t, []disk.Trouble{disk.PartitionCut, disk.PartitionsOver, disk.PartitionOutside, disk.LogicalBroken}, notes)
}

// gpt writes a table of a partition, at a sector with its entries at another.
func gpt(b []byte, at, entries int, first, last uint64) {
	all := b[entries*512 : entries*512+128*128]
	clear(all)
	copy(all, "not none")
	binary.LittleEndian.PutUint64(all[32:], first)
	binary.LittleEndian.PutUint64(all[40:], last)
	copy(all[56:], "y\x00a\x00r\x00d\x00")
	h := b[at*512 : at*512+92]
	copy(h, "EFI PART")
	binary.LittleEndian.PutUint32(h[12:], 92)
	binary.LittleEndian.PutUint64(h[72:], uint64(entries))
	binary.LittleEndian.PutUint32(h[80:], 128)
	binary.LittleEndian.PutUint32(h[84:], 128)
	binary.LittleEndian.PutUint32(h[88:], crc32.ChecksumIEEE(all))
	binary.LittleEndian.PutUint32(h[16:], 0)
	binary.LittleEndian.PutUint32(h[16:], crc32.ChecksumIEEE(h))
}

func TestPartitionsOfAGPT(t *testing.T) {
	b := make([]byte, drive)
	last := drive/512 - 1
	gpt(b, 1, 2, 2048, 4095)
	gpt(b, last, last-32, 2048, 4095)
	names, notes := read(b)
	assert.Equal(t, map[string][2]int64{"p1": {2048, 2048}}, names)
	assert.Empty(t, notes)
	b[2*512+32] ^= 1 // its checksum is wrong now
	names, notes = read(b)
	assert.Equal(t, map[string][2]int64{"p1": {2048, 2048}}, names)
	assert.Equal(t, []disk.Trouble{disk.BackupTable}, notes)
	gpt(b, 1, 2, 4096, 2048)
	names, notes = read(b)
	assert.Empty(t, names)
	assert.Equal(t, []disk.Trouble{disk.PartitionEnds}, notes)
}

func FuzzTable(f *testing.F) {
	b := make([]byte, 128<<10)
	gpt(b, 1, 2, 64, 127)
	f.Add(b)
	record(b, 0, [3]uint32{0x05, 8, 64})
	f.Add(b[:16<<10])
	f.Fuzz(func(t *testing.T, b []byte) {
		for _, p := range table.Read(bytes.NewReader(b), int64(len(b))).Partitions {
			if p.At < 0 || p.Size < 0 || p.At+p.Size > int64(len(b)) {
				t.Fatalf("%+v lies outside", p)
			}
		}
	})
}
