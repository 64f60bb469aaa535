package ext4

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"maps"
	"slices"
	"time"
	"unicode/utf8"

	"humble-rewind/internal/core/disk"
)

const rootInode = 2

type folder struct {
	path   string
	of     *inode
	erased bool
}

type walk struct {
	*Volume
	each    func(disk.Entry) error
	note    func(disk.Note)
	visited map[int64]bool  // folders, by where they begin
	named   map[uint32]bool // inodes of which an erased name was told
}

// Walk calls each with what the file system tells of: what stands, what was erased, and at last what nothing has a name for.
func (v *Volume) Walk(each func(disk.Entry) error, note func(disk.Note)) error {
	w := walk{v, each, note, map[int64]bool{}, map[uint32]bool{}}
	if v.incompat&needsReplay != 0 {
		note(disk.Note{What: disk.NotUnmounted})
	}
	root, err := v.inode(rootInode)
	if err != nil || root.mode&typeMask != typeFolder {
		note(disk.Note{What: disk.RootUnread})
	} else if err := w.from(folder{"/", root, false}); err != nil {
		return err
	}
	return w.nameless()
}

// Lost walks a folder whose own place nothing tells, by its first block.
func (v *Volume) Lost(at int64, each func(disk.Entry) error, note func(disk.Note)) error {
	b, err := v.pages.Bytes(at, int(v.block))
	if err != nil || !v.IsFolder(at, b) {
		return nil
	}
	w := walk{v, each, note, map[int64]bool{}, map[uint32]bool{}}
	number := binary.LittleEndian.Uint32(b)
	_, err = w.block(folder{fmt.Sprintf("/?%d", number), nil, true}, at, b, false, map[key]bool{})
	return err
}

// IsFolder tells whether a block is the first of a folder: it names itself and the one that it lies in.
func (v *Volume) IsFolder(_ int64, head []byte) bool {
	return len(head) >= 24 && binary.LittleEndian.Uint32(head) > 0 && int64(binary.LittleEndian.Uint32(head)) <= v.inodes &&
		binary.LittleEndian.Uint16(head[4:]) == 12 && head[6] == 1 && head[8] == '.' && head[9] == 0 &&
		binary.LittleEndian.Uint32(head[12:]) > 0 && head[18] == 2 && head[20] == '.' && head[21] == '.'
}

func (w *walk) from(begin folder) error {
	return disk.Breadth(begin, func(f folder) bool { return f.erased }, w.folder, w.note)
}

// mostOfFolder is how many bytes of a folder are read.
const mostOfFolder = 256 << 20

func (w *walk) folder(f folder) (found []folder, err error) {
	runs, whole := w.runs(f.of)
	if len(runs) == 0 || w.visited[runs[0].At] {
		return nil, nil
	}
	w.visited[runs[0].At] = true
	if !whole && !f.erased {
		w.note(disk.Note{What: disk.FolderBroken, Folder: f.path})
	}
	// First what stands in all of its blocks: an entry may have been moved from one to another. Then what stood there.
	seen := map[key]bool{}
	for _, former := range [...]bool{false, true} {
		read := int64(0)
		for _, r := range runs {
			for at := r.At; r.At != disk.Hole && at+w.Volume.block <= r.At+r.Size && read < mostOfFolder; at += w.Volume.block {
				read += w.Volume.block
				some, err := w.blockAt(f, at, former, seen)
				if err != nil {
					return nil, err
				}
				found = append(found, some...)
			}
		}
	}
	return found, nil
}

// key is by what an entry of a folder is known again.
type key struct {
	inode uint32
	name  string
}

// blockAt reads a block of a folder, and where that is asked for what it was before: newer systems wipe a name that is removed, but the
// journal has the block as it stood.
func (w *walk) blockAt(f folder, at int64, former bool, seen map[key]bool) (found []folder, err error) {
	if taken := w.Taken(disk.Run{At: at, Size: w.Volume.block}); !f.erased || taken == 0 { // else it is somebody else's
		b, err := w.pages.Bytes(at, int(w.Volume.block))
		if err != nil {
			w.note(disk.Note{What: disk.FolderUnread, Folder: f.path})
		} else if found, err = w.block(f, at, b, former, seen); err != nil {
			return nil, err
		}
	}
	if !former {
		return found, nil
	}
	w.readJournal()
	f.erased = true
	for _, c := range w.journal[(at-w.Volume.at)/w.Volume.block] {
		b := w.old(c)
		if b == nil {
			continue
		}
		some, err := w.block(f, c.at, b, false, seen)
		if err != nil {
			return nil, err
		}
		found = append(found, some...)
	}
	return found, nil
}

// A directory entry: u32 inode, u16 bytes to the next at 4, u8 bytes of the name at 6, u8 type at 7, the name.
type slot struct {
	inode  uint32
	next   int
	name   []byte
	kind   byte
	within int
}

// used is how many bytes an entry takes by itself.
func (s slot) used() int { return (8 + len(s.name) + 3) &^ 3 }

func (v *Volume) slot(b []byte, at int) (s slot, ok bool) {
	if at+8 > len(b) {
		return s, false
	}
	s = slot{binary.LittleEndian.Uint32(b[at:]), int(binary.LittleEndian.Uint16(b[at+4:])), nil, b[at+7], at}
	if s.next == 65535 || s.next == 0 && len(b) == 65536 {
		s.next = 65536
	}
	length := int(b[at+6])
	if at+8+length > len(b) {
		return s, false
	}
	s.name = b[at+8 : at+8+length]
	return s, true
}

// likely tells whether what lies in slack looks like an entry.
func (v *Volume) likely(s slot) bool {
	return len(s.name) > 0 && s.kind <= 7 && s.next >= s.used() && s.next%4 == 0 && int64(s.inode) <= v.inodes && (s.inode == 0 || int64(s.inode) >= v.firstOwn) &&
		bytes.IndexByte(s.name, 0) < 0 && bytes.IndexByte(s.name, '/') < 0 && (utf8.Valid(s.name) || s.kind == 1)
}

// block reads a block of a folder: the entries that stand, or in what they leave, those that stood there.
func (w *walk) block(f folder, at int64, b []byte, slack bool, seen map[key]bool) (found []folder, err error) {
	take := func(s slot, erased bool) error {
		name := key{s.inode, string(s.name)}
		if s.inode == 0 || name.name == "" || name.name == "." || name.name == ".." || seen[name] {
			return nil
		}
		seen[name] = true
		sub, err := w.entry(f, s, at, erased)
		if sub != nil {
			found = append(found, *sub)
		}
		return err
	}
	for off := 0; off < len(b); {
		s, ok := w.slot(b, off)
		if !ok || s.next < 8 || off+s.next > len(b) {
			return found, nil
		}
		end := off + s.next
		switch {
		case !slack:
			err = take(s, f.erased)
		case s.inode == 0 && w.likely(s): // the first of the block, of which the number is gone
			s.inode = w.dirBefore(at, off, s.name)
			err = take(s, true)
		}
		off += max(8, s.used())
		for slack && err == nil && off+8 < end {
			old, ok := w.slot(b[:end], off)
			if !ok || old.inode == 0 || !w.likely(old) {
				off += 4
				continue
			}
			err = take(old, true)
			off += old.used()
		}
		if err != nil {
			return nil, err
		}
		off = end
	}
	return found, nil
}

// entry tells of a name with its inode, or with what that was.
func (w *walk) entry(f folder, s slot, at int64, erased bool) (*folder, error) {
	now, err := w.Volume.inode(int64(s.inode))
	if err != nil {
		return nil, nil
	}
	of := now
	e := disk.Entry{Dir: f.path, Name: disk.Clean(string(s.name)), Erased: erased, UID: -1, At: at + int64(s.within)}
	if erased {
		stands := now.names > 0 && now.deleted.IsZero()
		fits := func(i *inode) bool { return kindOf(i.mode) == s.kind || s.kind == 0 }
		blocks := !stands && fits(now) && now.size > 0 // ext2 leaves them
		if !blocks {
			if of = w.former(now, fits); of == nil {
				if stands && fits(now) {
					return nil, nil // it was renamed or moved, and is told of there
				}
			} else if stands && of.generation == now.generation {
				return nil, nil
			}
		}
		if e.Removed = now.deleted; stands {
			e.Removed = time.Time{} // that of somebody else
		}
		w.named[s.inode] = true
	}
	if of == nil { // nothing but the name is left
		e.Size = -1
		e.Folder = s.kind == 2
		return nil, w.each(e)
	}
	w.fill(&e, of)
	if err := w.each(e); err != nil {
		return nil, err
	}
	if path := disk.Join(f.path, e.Name); e.Folder && len(path) <= disk.MostPath {
		return &folder{path, of, erased}, nil
	}
	return nil, nil
}

// kindOf is the type in a directory entry that an inode of a mode has.
func kindOf(mode uint16) byte {
	switch mode & typeMask {
	case typeFile:
		return 1
	case typeFolder:
		return 2
	case typeLink:
		return 7
	}
	return 0xff
}

// fill takes what an inode tells.
func (w *walk) fill(e *disk.Entry, of *inode) {
	e.Size, e.UID, e.Mode, e.Written, e.Made = of.size, of.uid, of.mode&0o7777, of.written, of.made
	switch of.mode & typeMask {
	case typeFolder:
		e.Folder, e.Size = true, 0
		return
	case typeLink:
		if of.size < 60 && of.flags&(withExtents|inlineData) == 0 {
			e.Target, e.Known = string(of.raw[40:40+of.size]), true
			return
		}
		runs, whole := w.runs(of)
		if whole && len(runs) == 1 && runs[0].At != disk.Hole && of.size <= disk.MostPath {
			if b, err := w.pages.Bytes(runs[0].At, int(of.size)); err == nil {
				e.Target = string(b)
			}
		}
		return
	case typeFile:
	default:
		e.Size = -1 // a device, a pipe: nothing to be read
		return
	}
	e.Runs, e.Known = w.runs(of)
	if !e.Erased {
		return
	}
	for _, r := range e.Runs {
		if of.flags&inlineData == 0 {
			e.Taken += w.Taken(r)
		}
	}
	if !e.Known {
		e.Taken += max(0, e.Size-disk.Sum(e.Runs)) // where that lies nothing tells any more
		e.Known = true
	}
}

// nameless tells of what the journal has copies of, that does not stand and that no name leads to.
func (w *walk) nameless() error {
	w.readJournal()
	copied := slices.Sorted(maps.Keys(w.journal))
	per := w.Volume.block / w.inodeSize
	for group := int64(0); group < w.groups && len(copied) > 0; group++ {
		d, err := w.descriptor(group)
		if err != nil {
			continue
		}
		first, _ := slices.BinarySearch(copied, d.table)
		for _, block := range copied[first:] {
			if block >= d.table+(w.ofTable+per-1)/per {
				break
			}
			for k := range per {
				number := group*w.ofTable + (block-d.table)*per + k + 1
				if number < w.firstOwn || w.named[uint32(number)] || number > w.inodes {
					continue
				}
				now, err := w.Volume.inode(number)
				if err != nil {
					continue
				}
				stands := now.names > 0 && now.deleted.IsZero()
				of := w.former(now, func(i *inode) bool {
					return i.mode&typeMask == typeFile && i.size > 0 && (!stands || i.generation != now.generation)
				})
				if of == nil {
					continue
				}
				e := disk.Entry{Dir: "/?", Name: fmt.Sprintf("inode %d", number), Lost: disk.All, Erased: true, UID: -1, At: of.at}
				if !stands {
					e.Removed = now.deleted
				}
				w.fill(&e, of)
				if err := w.each(e); err != nil {
					return err
				}
			}
		}
	}
	return nil
}
