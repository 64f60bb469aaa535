// Package fat reads FAT12, FAT16 and FAT32 (Microsoft's "FAT: General Overview of On-Disk Format", 1.03), what stands and what was erased.
//
//	boot sector: u16 bytes of a sector at 11, u8 sectors of a cluster at 13, u16 reserved sectors at 14, u8 tables at 16, u16 root entries
//	    at 17, u16 sectors at 19, u16 of a table at 22, u32 sectors at 32; FAT32: u32 of a table at 36, u32 root cluster at 44, backup in sector 6
//	entry of 32 bytes: 11 short name, u8 attributes at 11, u8 case at 12, u8 hundredths made at 13, u16 time and date made at 14, u16 first
//	    cluster's upper half at 20, u16 time and date written at 22, u16 lower half at 26, u32 size at 28
//	part of a long name (attributes 0x0F): u8 number at 0, 5 units at 1, u8 checksum of the short name at 13, 6 units at 14, 2 at 28
//
// Erasing puts 0xE5 over the first byte of each and frees the chain. So of a short name the first letter is lost, and where the content lies is
// known only as far as its first cluster; that it lies in one piece is assumed.
package fat

import (
	"encoding/binary"
	"fmt"
	"strings"
	"time"
	"unicode/utf16"

	"golang.org/x/text/encoding/charmap"

	"humble-rewind/internal/core/disk"
)

// Volume is a FAT file system.
type Volume struct {
	pages    *disk.Pages
	at       int64 // where it begins on the drive
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
	v := &Volume{pages: drive, at: at}
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
func (v *Volume) Taken(r disk.Run) (int64, error) {
	return disk.TakenOf(v.taken, r, v.data, v.cluster), nil
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

// folder is one that is to be walked.
type folder struct {
	path   string
	first  uint32 // 0: the root of FAT12 and FAT16
	erased bool
}

// Walk calls each with what the file system tells of: first what stands, then what erased folders held.
func (v *Volume) Walk(each func(disk.Entry) error, note func(disk.Note)) error {
	w := walk{v, each, note, map[uint32]bool{}, nil}
	return w.from(folder{path: "/", first: v.rootAt})
}

// Lost walks a folder whose own place nothing tells, by its first cluster, unless an earlier walk came by it.
func (v *Volume) Lost(at int64, each func(disk.Entry) error, note func(disk.Note)) error {
	c := uint32((at-v.data)/v.cluster) + 2
	w := walk{v, each, note, map[uint32]bool{}, nil}
	return w.from(folder{path: fmt.Sprintf("/?%d", c), first: c, erased: true})
}

// IsFolder tells whether a cluster's beginning is that of a folder's: it names itself and the one that it lies in.
func (v *Volume) IsFolder(at int64, head []byte) bool {
	return len(head) >= 2*sizeSlot && string(head[:11]) == ".          " && head[11]&isFolder != 0 && string(head[32:43]) == "..         " &&
		head[43]&isFolder != 0 && v.first(head) == uint32((at-v.data)/v.cluster)+2
}

// Above is where the folder begins that a folder lies in, by what its beginning says; false where that is the top one.
func (v *Volume) Above(head []byte) (at int64, ok bool) {
	c := v.first(head[sizeSlot:])
	return v.of(c), v.has(c)
}

type walk struct {
	*Volume
	each    func(disk.Entry) error
	note    func(disk.Note)
	visited map[uint32]bool
	later   []folder // erased ones
}

func (w *walk) from(begin folder) error {
	for queue := []folder{begin}; len(queue) > 0 || len(w.later) > 0; {
		if len(queue) == 0 {
			queue, w.later = w.later, nil
		}
		f := queue[0]
		queue = queue[1:]
		if w.visited[f.first] {
			continue
		}
		if len(w.visited) >= disk.MostFolders {
			w.note(disk.Note{What: disk.FoldersMany, Number: disk.MostFolders})
			return nil
		}
		w.visited[f.first] = true
		found, err := w.folder(f)
		if err != nil {
			return err
		}
		for _, sub := range found {
			if sub.erased {
				w.later = append(w.later, sub)
			} else {
				queue = append(queue, sub)
			}
		}
	}
	return nil
}

// mostOfFolder is how many bytes of a folder are read: more than a million entries.
const mostOfFolder = 64 << 20

// runs is where a folder lies.
func (w *walk) runs(f folder) []disk.Run {
	if f.first == 0 {
		return []disk.Run{w.root}
	}
	if !f.erased {
		runs, whole := w.chain(f.first, mostOfFolder/w.cluster)
		if !whole {
			w.note(disk.Note{What: disk.FolderBroken, Folder: f.path})
		}
		return w.own(runs)
	}
	// Of an erased one, those that follow its first one, as long as they look like it.
	var runs []disk.Run
	for c := f.first; w.has(c) && !w.taken.Taken(int64(c)-2); c++ {
		b, err := w.pages.Bytes(w.of(c), int(w.cluster))
		if err != nil {
			break
		}
		if c == f.first && !w.IsFolder(w.of(c), b) || c != f.first && !plausible(b) {
			break
		}
		if runs = disk.Append(runs, disk.Run{At: w.of(c), Size: w.cluster}); disk.Sum(runs) >= mostOfFolder || b[len(b)-sizeSlot] == 0 {
			break
		}
	}
	return runs
}

// own cuts off what another folder has already: chains can be made to lead into one another.
func (w *walk) own(runs []disk.Run) (own []disk.Run) {
	for n, r := range runs {
		for at := r.At; at < r.At+r.Size; at += w.cluster {
			c := uint32((at-w.data)/w.cluster) + 2
			if w.visited[c] && (n > 0 || at > r.At) {
				return own
			}
			w.visited[c] = true
			own = disk.Append(own, disk.Run{At: at, Size: w.cluster})
		}
	}
	return own
}

// plausible tells whether all of a cluster looks like entries of a folder.
func plausible(b []byte) bool {
	found := false
	for ; len(b) >= sizeSlot; b = b[sizeSlot:] {
		switch {
		case b[0] == 0:
			return found
		case b[11] == longName:
			if b[12] != 0 || b[26] != 0 || b[27] != 0 {
				return false
			}
		case b[11]&0xc0 != 0 || b[0] < 0x20 && b[0] != 5 || b[12]&^0x18 != 0 || b[0] == '.':
			return false
		default:
			if _, ok := moment(binary.LittleEndian.Uint16(b[22:]), binary.LittleEndian.Uint16(b[24:])); !ok {
				return false
			}
		}
		found = true
	}
	return found
}

// folder reads a folder and returns those in it.
func (w *walk) folder(f folder) (found []folder, err error) {
	var parts [][]byte // of a long name, in their order on the drive
	for _, run := range w.runs(f) {
		for at := run.At; at < run.At+run.Size; at += sizeSlot {
			slot, err := w.pages.Bytes(at, sizeSlot)
			if err != nil {
				w.note(disk.Note{What: disk.FolderUnread, Folder: f.path})
				break
			}
			switch {
			case slot[0] == 0:
				return found, nil
			case slot[11]&0x3f == longName:
				parts = append(parts[max(0, len(parts)-20):], slot)
				continue
			case slot[11]&isLabel != 0:
				if f.path == "/" && slot[0] != erased {
					w.label = strings.TrimRight(decoded(slot[:11]), " ")
				}
			case slot[0] != '.':
				e, ok := w.entry(f, slot, parts, at)
				if ok {
					if err := w.each(e.Entry); err != nil {
						return nil, err
					}
					if sub := disk.Join(f.path, e.Name); e.Folder && w.has(e.first) && len(sub) <= disk.MostPath {
						found = append(found, folder{sub, e.first, e.Erased})
					}
				}
			}
			parts = nil
		}
	}
	return found, nil
}

type told struct {
	disk.Entry
	first uint32
}

func (v *Volume) first(slot []byte) uint32 {
	c := uint32(binary.LittleEndian.Uint16(slot[26:]))
	if v.bits == 32 {
		c |= uint32(binary.LittleEndian.Uint16(slot[20:])) << 16
	}
	return c
}

// entry reads a slot with the parts of its long name that stand before it.
func (w *walk) entry(f folder, slot []byte, parts [][]byte, at int64) (told, bool) {
	e := told{disk.Entry{Dir: f.path, Folder: slot[11]&isFolder != 0, Erased: f.erased || slot[0] == erased, Size: int64(binary.LittleEndian.Uint32(slot[28:])),
		Wall: true, UID: -1, At: at}, w.Volume.first(slot)}
	var ok bool
	if e.Written, ok = moment(binary.LittleEndian.Uint16(slot[22:]), binary.LittleEndian.Uint16(slot[24:])); !ok || slot[11]&0xc0 != 0 {
		if e.Erased {
			return e, false // rubbish
		}
	}
	if made, ok := moment(binary.LittleEndian.Uint16(slot[14:]), binary.LittleEndian.Uint16(slot[16:])); ok && !made.IsZero() {
		e.Made = made.Add(time.Duration(slot[13]) * 10 * time.Millisecond)
	}
	if slot[0] == erased {
		e.Name, e.Lost, e.Proved = erasedName(slot, parts)
	} else {
		e.Name = standingName(slot, parts)
	}
	if e.Name = disk.Clean(e.Name); e.Name == "" {
		return e, false
	}
	if e.Folder {
		e.Size = 0
		return e, true
	}
	if e.Size == 0 {
		e.Known = true
		return e, true
	}
	if !e.Erased {
		runs, whole := w.chain(e.first, (e.Size+w.cluster-1)/w.cluster)
		e.Runs, e.Known = disk.Cut(runs, e.Size), whole
		return e, true
	}
	e.first = w.upper(e)
	if !w.has(e.first) {
		return e, e.first != 0 || e.Proved // else what was never written at all
	}
	room := int64(w.clusters)*w.cluster - (w.of(e.first) - w.data)
	e.Runs = []disk.Run{{At: w.of(e.first), Size: min(e.Size, room)}}
	e.Taken, _ = w.Taken(e.Runs[0])
	e.Taken += max(0, e.Size-room)
	return e, true
}

// upper finds a first cluster whose upper half was put to zero, by the only one whose content is of the type that the name says.
func (w *walk) upper(e told) uint32 {
	if w.bits != 32 || e.first>>16 != 0 || w.clusters < 1<<16 || w.Fits == nil {
		return e.first
	}
	var found []uint32
	for c := e.first; w.has(c) || c == e.first; c += 1 << 16 {
		if !w.has(c) || w.taken.Taken(int64(c)-2) {
			continue
		}
		if w.probes++; w.probes > mostProbes {
			return e.first
		}
		head, err := w.pages.Bytes(w.of(c), 512)
		if err != nil {
			continue
		}
		fits, told := w.Fits(e.Name, head)
		if !told {
			return e.first
		}
		if fits {
			if c == e.first {
				return c
			}
			found = append(found, c)
		}
	}
	if len(found) == 1 {
		return found[0]
	}
	return e.first
}

// moment reads a time and a date; not ok where there is no such moment. A date of zero is none.
func moment(clock, date uint16) (time.Time, bool) {
	if date == 0 {
		return time.Time{}, true
	}
	year, month, day := 1980+int(date>>9), time.Month(date>>5&15), int(date&31)
	hour, minute, second := int(clock>>11), int(clock>>5&63), int(clock&31)*2
	at := time.Date(year, month, day, hour, minute, second, 0, time.UTC)
	return at, at.Month() == month && at.Day() == day && hour < 24 && minute < 60 && second < 60
}

func decoded(b []byte) string {
	text, _ := charmap.CodePage437.NewDecoder().Bytes(b) // which has a letter for each byte
	return string(text)
}

// shortName reads a short name, with first in place of its first byte.
func shortName(slot []byte, first byte) string {
	b := append([]byte{first}, slot[1:11]...)
	if b[0] == 5 {
		b[0] = erased
	}
	base, ext := strings.TrimRight(decoded(b[:8]), " "), strings.TrimRight(decoded(b[8:]), " ")
	if slot[12]&8 != 0 {
		base = strings.ToLower(base)
	}
	if slot[12]&16 != 0 {
		ext = strings.ToLower(ext)
	}
	if ext == "" {
		return base
	}
	return base + "." + ext
}

// units of a part of a long name; ended says that the name ends in it.
func units(part []byte) (all []uint16, ended bool) {
	for _, r := range [...][2]int{{1, 11}, {14, 26}, {28, 32}} {
		for i := r[0]; i < r[1]; i += 2 {
			u := binary.LittleEndian.Uint16(part[i:])
			if u == 0 || u == 0xffff {
				return all, true
			}
			all = append(all, u)
		}
	}
	return all, false
}

// sum is the checksum of a short name.
func sum(name []byte) (s byte) {
	for _, c := range name {
		s = s>>1 | s<<7
		s += c
	}
	return s
}

// lostByte is the first byte of a short name by its checksum and the others.
func lostByte(s byte, rest []byte) byte {
	for i := len(rest) - 1; i >= 0; i-- {
		s -= rest[i]
		s = s<<1 | s>>7
	}
	return s
}

func standingName(slot []byte, parts [][]byte) string {
	check := sum(slot[:11])
	var name []uint16
	for n := len(parts) - 1; n >= 0; n-- {
		part := parts[n]
		if part[13] != check || int(part[0]&0x3f) != len(parts)-n {
			break
		}
		some, _ := units(part)
		if name = append(name, some...); part[0]&0x40 != 0 {
			if len(name) == 0 || len(name) > mostUnits {
				break
			}
			return string(utf16.Decode(name))
		}
	}
	return shortName(slot, slot[0])
}

// erasedName puts together what is left of a name: the long one where the checksum in its parts gives the short one a first byte that the
// long one begins with.
func erasedName(slot []byte, parts [][]byte) (name string, lost disk.Lost, proved bool) {
	var long []uint16
	for n := len(parts) - 1; n >= 0 && parts[n][0] == erased && parts[n][13] == parts[len(parts)-1][13]; n-- {
		some, ended := units(parts[n])
		if long = append(long, some...); ended || len(long) > mostUnits {
			break
		}
	}
	if len(long) > 0 && len(long) <= mostUnits {
		name := string(utf16.Decode(long))
		first := lostByte(parts[len(parts)-1][13], slot[1:11])
		if begins(name, first) {
			return name, disk.Nothing, true
		}
	}
	return shortName(slot, '_'), disk.FirstLetter, false
}

// begins tells whether a short name that was made of a long one may begin with a byte.
func begins(long string, first byte) bool {
	upper := strings.ToUpper(strings.TrimLeft(long, " ."))
	if upper == "" {
		return false
	}
	letter := []rune(upper)[0]
	b, ok := charmap.CodePage437.EncodeRune(letter)
	if !ok || strings.ContainsRune("+,;=[]", letter) || first >= 0x80 {
		return first == '_' || first > ' ' // another code page
	}
	return b == first
}

var _ disk.Volume = (*Volume)(nil)
