// Package exfat reads exFAT (Microsoft's "exFAT file system specification", 1.00), what stands and what was erased.
//
//	boot sector: "EXFAT   " at 3, u64 sectors at 72, u32 table's sector at 80, u32 its sectors at 84, u32 heap's sector at 88, u32 clusters
//	    at 92, u32 root cluster at 96, u8 log2 of a sector at 108, u8 log2 of a cluster in sectors at 109; backup in sector 12
//	0x85 file: u8 entries that follow at 1, u16 checksum at 2, u16 attributes at 4, u32 made at 8, u32 written at 12, u8 10 ms of made at 20, of
//	    written at 21, u8 zone of made at 22, of written at 23
//	0xC0 stream: u8 flags at 1 (2: in one piece, the table does not tell of it), u8 units of the name at 3, u64 valid bytes at 8, u32 first
//	    cluster at 20, u64 size at 24
//	0xC1 name: 15 units at 2; 0x81 allocation bitmap and 0x83 label: as the specification says
//
// Erasing clears the highest bit of each entry's type. With it put back, the checksum proves that a set of entries belongs together; the
// flag for one piece, which most files have, says where the content lies.
package exfat

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"time"
	"unicode/utf16"

	"humble-rewind/internal/core/disk"
)

// Volume is an exFAT file system.
type Volume struct {
	pages    *disk.Pages
	table    int64
	heap     int64
	cluster  int64
	clusters uint32
	root     uint32
	taken    *disk.Allocation
	bitmap   []disk.Run
	label    string
}

const (
	sizeSlot = 32
	inUse    = 0x80
	file     = 0x05
	stream   = 0x40
	name     = 0x41
	onePiece = 2
	isFolder = 0x10
)

// Open opens the file system that begins at an offset of a drive: by its boot sector, else by the backup of that.
func Open(drive *disk.Pages, at int64) (*Volume, error) {
	v, err := open(drive, at, 0)
	for sector := int64(512); err != nil && sector <= 4096; sector *= 2 {
		if backup, failed := open(drive, at, 12*sector); failed == nil {
			return backup, nil
		}
	}
	return v, err
}

func open(drive *disk.Pages, at, from int64) (*Volume, error) {
	b, err := drive.Bytes(at+from, 512)
	if err != nil {
		return nil, err
	}
	u32 := func(at int) int64 { return int64(binary.LittleEndian.Uint32(b[at:])) }
	sector, per := b[108], b[109]
	if !bytes.Equal(b[3:11], []byte("EXFAT   ")) || b[510] != 0x55 || b[511] != 0xaa || sector < 9 || sector > 12 || int(sector)+int(per) > 25 {
		return nil, fmt.Errorf("exFAT: %w: its boot sector is not one", disk.ErrNone)
	}
	v := &Volume{pages: drive, table: at + u32(80)<<sector, heap: at + u32(88)<<sector, cluster: 1 << (sector + per), root: uint32(u32(96))}
	count := min(u32(92), (u32(84)<<sector)/4-2)
	if count <= 0 || count > 1<<32-11 {
		return nil, fmt.Errorf("exFAT: %w: its table does not fit it", disk.ErrNone)
	}
	v.clusters = uint32(count)
	v.findBitmap()
	const page = 1 << 15
	v.taken = disk.NewAllocation(count, page, func(n int64, taken []uint64) error {
		b := make([]byte, page/8)
		if err := readRuns(v.pages, v.bitmap, n*page/8, b[:min(page, count-n*page+7)/8]); err != nil {
			return err
		}
		for i := range taken {
			taken[i] = binary.LittleEndian.Uint64(b[8*i:])
		}
		return nil
	})
	return v, nil
}

// readRuns reads at an offset of what lies in pieces.
func readRuns(p *disk.Pages, runs []disk.Run, at int64, b []byte) error {
	for _, r := range runs {
		if at >= r.Size {
			at -= r.Size
			continue
		}
		n := min(int64(len(b)), r.Size-at)
		if read, err := p.ReadAt(b[:n], r.At+at); int64(read) < n {
			return err
		}
		if b, at = b[n:], 0; len(b) == 0 {
			return nil
		}
	}
	return fmt.Errorf("exFAT: what says which clusters are free is shorter than it should be")
}

// findBitmap looks in the root for what says which clusters are free. Without it none counts as free.
func (v *Volume) findBitmap() {
	root, _ := v.chain(v.root, mostOfFolder/v.cluster)
	for _, r := range root {
		for at := r.At; at < r.At+r.Size; at += sizeSlot {
			b, err := v.pages.Bytes(at, sizeSlot)
			if err != nil || b[0] == 0 {
				return
			}
			if b[0] == 0x81 && b[1]&1 == 0 {
				size := int64(binary.LittleEndian.Uint64(b[24:]))
				if size > 0 && size <= 1<<29 {
					runs, _ := v.chain(binary.LittleEndian.Uint32(b[20:]), (size+v.cluster-1)/v.cluster)
					v.bitmap = disk.Cut(runs, size)
				}
				return
			}
		}
	}
}

// Name of the file system.
func (v *Volume) Name() string { return "exFAT" }

// Label that it was given; "" before it was walked, and where there is none.
func (v *Volume) Label() string { return v.label }

// Unit is the size of a cluster.
func (v *Volume) Unit() int64 { return v.cluster }

// Base is where the first cluster begins.
func (v *Volume) Base() int64 { return v.heap }

// Taken tells how many bytes of a piece belong to something.
func (v *Volume) Taken(r disk.Run) int64 {
	return disk.TakenOf(v.taken, r, v.heap, v.cluster)
}

// Free calls each with the pieces that belong to nothing.
func (v *Volume) Free(each func(disk.Run) error) error {
	return v.taken.Free(func(from, units int64) error {
		return each(disk.Run{At: v.heap + from*v.cluster, Size: units * v.cluster})
	})
}

func (v *Volume) has(c uint32) bool { return c >= 2 && c-2 < v.clusters }

func (v *Volume) of(c uint32) int64 { return v.heap + int64(c-2)*v.cluster }

// chain follows a chain for at most so many clusters, as far as it leads; ended says that it ends there.
func (v *Volume) chain(c uint32, most int64) (runs []disk.Run, ended bool) {
	for n := int64(0); n < most && v.has(c); n++ {
		runs = disk.Append(runs, disk.Run{At: v.of(c), Size: v.cluster})
		var b [4]byte
		if n, _ := v.pages.ReadAt(b[:], v.table+int64(c)*4); n < 4 {
			break
		}
		c = binary.LittleEndian.Uint32(b[:])
	}
	return runs, c == 1<<32-1
}

// piece is so many bytes from a cluster on, in one piece.
func (v *Volume) piece(c uint32, size int64) []disk.Run {
	if !v.has(c) || size <= 0 {
		return nil
	}
	return []disk.Run{{At: v.of(c), Size: min(size, int64(v.clusters)*v.cluster-(v.of(c)-v.heap))}}
}

type folder struct {
	path   string
	runs   []disk.Run
	erased bool
}

const mostOfFolder = 256 << 20 // bytes, as the specification has it

// Walk calls each with what the file system tells of: first what stands, then what erased folders held.
func (v *Volume) Walk(each func(disk.Entry) error, note func(disk.Note)) error {
	w := walk{v, each, note, map[int64]bool{}}
	root, _ := v.chain(v.root, mostOfFolder/v.cluster)
	return w.from(folder{path: "/", runs: root})
}

// Lost reads a folder whose own place nothing tells, by where it begins; those in it are found by themselves.
func (v *Volume) Lost(at int64, each func(disk.Entry) error, note func(disk.Note)) error {
	w := walk{v, each, note, map[int64]bool{}}
	_, err := w.folder(folder{fmt.Sprintf("/?%d", (at-v.heap)/v.cluster+2), []disk.Run{{At: at, Size: v.cluster}}, true})
	return err
}

// IsFolder tells whether a cluster begins as a folder does that holds something: with a set of entries that its checksum proves.
func (v *Volume) IsFolder(_ int64, head []byte) bool {
	if len(head) < 3*sizeSlot || head[0]&^inUse != file {
		return false
	}
	n := int(head[1]) + 1
	return n >= 3 && n <= 19 && len(head) >= n*sizeSlot && proves(head[:n*sizeSlot])
}

type walk struct {
	*Volume
	each    func(disk.Entry) error
	note    func(disk.Note)
	visited map[int64]bool
}

func (w *walk) from(begin folder) error {
	return disk.Breadth(begin, func(f folder) bool { return f.erased }, w.folder, w.note)
}

// folder reads a folder set by set.
func (w *walk) folder(f folder) (found []folder, err error) {
	if len(f.runs) == 0 || w.visited[f.runs[0].At] {
		return nil, nil
	}
	w.visited[f.runs[0].At] = true
	var set []byte
	var begun int64
	want := 0
	for _, run := range f.runs {
		if f.erased {
			if taken := w.Taken(run); taken > 0 {
				return found, nil // somebody else has it
			}
		}
		for at := run.At; at+sizeSlot <= run.At+run.Size; at += sizeSlot {
			slot, err := w.pages.Bytes(at, sizeSlot)
			if err != nil {
				w.note(disk.Note{What: disk.FolderUnread, Folder: f.path})
				break
			}
			kind := slot[0] &^ inUse
			switch {
			case slot[0] == 0 || len(found) > disk.MostFolders:
				return found, nil
			case slot[0] == 0x83 && f.path == "/":
				w.label = text(slot[2:], min(int(slot[1]), 11))
			case kind == file:
				set, begun, want = append(set[:0], slot...), at, int(slot[1])
			case len(set) > 0 && (kind == stream || kind == name) && len(set)/sizeSlot <= want:
				set = append(set, slot...)
			default:
				set = set[:0]
			}
			if len(set) == 0 || len(set)/sizeSlot != want+1 {
				continue
			}
			if e, sub, ok := w.entry(f, set, begun); ok {
				if err := w.each(e); err != nil {
					return nil, err
				}
				if e.Folder && len(sub.path) <= disk.MostPath {
					found = append(found, sub)
				}
			}
			set = set[:0]
		}
	}
	return found, nil
}

// proves tells whether the checksum of a set of entries is right, once all of them are in use.
func proves(set []byte) bool {
	var sum uint16
	for i, b := range set {
		if i == 2 || i == 3 {
			continue
		}
		if i%sizeSlot == 0 {
			b |= inUse
		}
		sum = sum>>1 | sum<<15
		sum += uint16(b)
	}
	return sum == binary.LittleEndian.Uint16(set[2:])
}

func text(b []byte, count int) string {
	all := make([]uint16, 0, count)
	for i := 0; i < count && 2*i+1 < len(b); i++ {
		all = append(all, binary.LittleEndian.Uint16(b[2*i:]))
	}
	return string(utf16.Decode(all))
}

// entry reads a set of entries. One whose checksum is wrong is none.
func (w *walk) entry(f folder, set []byte, at int64) (e disk.Entry, sub folder, ok bool) {
	if len(set) < 3*sizeSlot || set[sizeSlot]&^inUse != stream || !proves(set) {
		return e, sub, false
	}
	s := set[sizeSlot:]
	var units []byte
	for n := 2 * sizeSlot; n < len(set); n += sizeSlot {
		if set[n]&^inUse == name {
			units = append(units, set[n+2:n+sizeSlot]...)
		}
	}
	e = disk.Entry{Dir: f.path, Name: disk.Clean(text(units, int(s[3]))), Folder: set[4]&isFolder != 0, Erased: f.erased || set[0]&inUse == 0, Wall: true,
		Size: int64(binary.LittleEndian.Uint64(s[24:])), UID: -1, At: at}
	e.Made, _ = moment(binary.LittleEndian.Uint32(set[8:]), set[20], set[22])
	var zoned bool
	e.Written, zoned = moment(binary.LittleEndian.Uint32(set[12:]), set[21], set[23])
	if e.Wall = !zoned; e.Name == "" || e.Size < 0 {
		return e, sub, false
	}
	first := binary.LittleEndian.Uint32(s[20:])
	clusters := (e.Size + w.cluster - 1) / w.cluster
	switch {
	case e.Size == 0:
		e.Known = true
	case s[1]&onePiece != 0:
		e.Runs = w.piece(first, e.Size)
		e.Known = disk.Sum(e.Runs) == e.Size
	default: // the table may tell still: erasing frees by the bitmap alone
		runs, ended := w.chain(first, min(clusters, int64(w.clusters)))
		e.Runs = disk.Cut(runs, e.Size)
		if e.Known = disk.Sum(e.Runs) == e.Size && ended; !e.Known && e.Erased {
			e.Runs = w.piece(first, e.Size)
		}
	}
	if e.Folder {
		sub = folder{disk.Join(f.path, e.Name), disk.Cut(e.Runs, mostOfFolder), e.Erased}
		e.Size, e.Runs = 0, nil
		return e, sub, true
	}
	if e.Erased {
		for _, r := range e.Runs {
			e.Taken += w.Taken(r)
		}
		e.Taken += max(0, e.Size-disk.Sum(e.Runs))
	}
	return e, sub, true
}

// moment reads a time, to hundredths of a second; zoned says that it is told with its zone.
func moment(packed uint32, hundredths, zone byte) (at time.Time, zoned bool) {
	date, clock := packed>>16, packed&0xffff
	if date == 0 {
		return time.Time{}, false
	}
	at = time.Date(1980+int(date>>9), time.Month(date>>5&15), int(date&31), int(clock>>11), int(clock>>5&63), int(clock&31)*2, int(hundredths)*1e7, time.UTC)
	if zone&0x80 == 0 {
		return at, false
	}
	quarters := int(int8(zone<<1)) / 2 // seven bits with a sign
	return at.Add(-time.Duration(quarters) * 15 * time.Minute), true
}
