package fat

import (
	"encoding/binary"
	"fmt"
	"strings"
	"time"

	"humble-rewind/internal/core/disk"
)

// folder is one that is to be walked.
type folder struct {
	path   string
	first  uint32 // 0: the root of FAT12 and FAT16
	erased bool
}

// Walk calls each with what the file system tells of: first what stands, then what erased folders held.
func (v *Volume) Walk(each func(disk.Entry) error, note func(disk.Note)) error {
	w := walk{v, each, note, map[uint32]bool{}}
	return w.from(folder{path: "/", first: v.rootAt})
}

// Lost walks a folder whose own place nothing tells, by its first cluster, unless an earlier walk came by it.
func (v *Volume) Lost(at int64, each func(disk.Entry) error, note func(disk.Note)) error {
	c := uint32((at-v.data)/v.cluster) + 2
	w := walk{v, each, note, map[uint32]bool{}}
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
}

func (w *walk) from(begin folder) error {
	return disk.Breadth(begin, func(f folder) bool { return f.erased }, w.folder, w.note)
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
	if w.visited[f.first] {
		return nil, nil
	}
	w.visited[f.first] = true
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
	first  uint32
	proved bool // its long name belongs to it
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
		Wall: true, UID: -1, At: at}, w.Volume.first(slot), false}
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
		e.Name, e.Lost, e.proved = erasedName(slot, parts)
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
		return e, e.first != 0 || e.proved // else what was never written at all
	}
	room := int64(w.clusters)*w.cluster - (w.of(e.first) - w.data)
	e.Runs = []disk.Run{{At: w.of(e.first), Size: min(e.Size, room)}}
	e.Taken = w.Taken(e.Runs[0])
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
