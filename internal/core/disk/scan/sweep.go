package scan

import (
	"errors"
	"fmt"
	"io"

	"humble-rewind/internal/core/disk"
	"humble-rewind/internal/core/intact"
	"humble-rewind/internal/core/signature"
)

// folders is a file system whose folders are known by how they begin, wherever they lie.
type folders interface {
	IsFolder(at int64, head []byte) bool
	Lost(at int64, each func(disk.Entry) error, note func(disk.Note)) error
}

// chunk is how much is read at once, and head how much of a block says what begins there.
const (
	chunk = 1 << 20
	head  = 1024
)

var errEnough = errors.New("the slice is at its end")

// Sweep reads what is free on a file system, from an offset of the drive on and so many bytes, and calls each with the contents that begin
// there by their type's own structure, and with the files of folders whose own place is lost. What an erased entry leads to already is left
// out, and so is what lies inside another content. next is where to go on; 0 is the end.
func Sweep(drive io.ReaderAt, size int64, v Volume, from, most int64, each func(Trace) error, note func(disk.Note)) (next int64, err error) {
	pages := disk.NewPages(drive, size)
	of, err := open(pages, v.At)
	if err != nil {
		return 0, err
	}
	s := sweep{pages: pages, drive: drive, of: of, each: each, note: note, left: most, led: map[int64]bool{}, told: map[int64]bool{},
		buffer: make([]byte, chunk)}
	s.folders, _ = of.(folders)
	if err := bounded(of, s.known, func(disk.Note) {}); err != nil {
		return 0, err
	}
	if s.at = from; s.at < of.Base() {
		s.at = of.Base()
	}
	err = of.Free(s.free)
	if errors.Is(err, errEnough) {
		return s.at, nil
	}
	return 0, err
}

type sweep struct {
	pages   *disk.Pages
	drive   io.ReaderAt
	of      disk.Volume
	folders folders // nil where it has none that are known so
	each    func(Trace) error
	note    func(disk.Note)
	at      int64          // what comes before it was looked at
	left    int64          // bytes of the slice
	led     map[int64]bool // where contents begin that an erased entry leads to
	told    map[int64]bool // entries, by where they are told of
	buffer  []byte
}

// known takes note of what the walk through the folders tells.
func (s *sweep) known(e disk.Entry) error {
	if !e.Erased || len(s.told) > Most {
		return nil
	}
	s.told[e.At] = true
	if len(e.Runs) > 0 && e.Taken == 0 {
		if b, err := s.pages.Bytes(e.Runs[0].At, int(min(head, e.Runs[0].Size))); err == nil {
			if fits, known := signature.Fits(e.Name, b); fits || !known {
				s.led[e.Runs[0].At] = true
			}
		}
	}
	return nil
}

// free looks through a piece that belongs to nothing.
func (s *sweep) free(r disk.Run) error {
	end := min(r.At+r.Size, s.pages.Size())
	unit := s.of.Unit()
	at := r.At
	if s.at > at {
		at = r.At + (s.at-r.At+unit-1)/unit*unit
	}
	for at < end {
		if s.at = at; s.left <= 0 {
			return errEnough
		}
		n, err := s.drive.ReadAt(s.buffer[:min(chunk, end-at)], at)
		if n == 0 {
			if err != nil && !errors.Is(err, io.EOF) { // what the drive cannot read is passed over, a little at a time
				at, s.left = at+max(unit, 64<<10), s.left-64<<10
				continue
			}
			return nil
		}
		next := at + (int64(n)+unit-1)/unit*unit // also behind what the drive could not read
		for off := int64(0); off < int64(n); off += unit {
			b := s.buffer[off:min(int64(n), off+head)]
			if zeros(b[:min(16, len(b))]) || s.led[at+off] {
				continue
			}
			to, err := s.begins(at+off, end, b)
			if err != nil {
				return err
			}
			if to > 0 {
				next = r.At + (to-r.At+unit-1)/unit*unit
				break
			}
		}
		s.left -= next - at
		at = next
	}
	return nil
}

// within tells whether a folder lies in another that is lost too, of which it is told then.
func (s *sweep) within(b []byte) bool {
	known, ok := s.folders.(interface {
		Above(head []byte) (at int64, ok bool)
	})
	if !ok {
		return false
	}
	at, ok := known.Above(b)
	if !ok {
		return false
	}
	if s.of.Taken(disk.Run{At: at, Size: 1}) > 0 {
		return false
	}
	above, err := s.pages.Bytes(at, head)
	return err == nil && s.folders.IsFolder(at, above)
}

// begins tells of what begins in a block, and where that ends; 0 where nothing does.
func (s *sweep) begins(at, end int64, b []byte) (to int64, err error) {
	if s.folders != nil && s.folders.IsFolder(at, b) {
		if s.within(b) {
			return 0, nil
		}
		return 0, s.folders.Lost(at, func(e disk.Entry) error {
			if !e.Erased || s.told[e.At] {
				return nil
			}
			if len(s.told) <= Most {
				s.told[e.At] = true
			}
			i := judge(s.pages, e)
			return s.each(Trace{Entry: e, State: i.State, Share: i.Share})
		}, s.note)
	}
	t, ok := signature.Of(b)
	if !ok {
		return 0, nil
	}
	extent, ok := signature.Length(t, s.pages, at, end-at)
	if !ok {
		return 0, nil
	}
	i := intact.Of(extent.Size, 0, 0, false, extent.Checked)
	e := disk.Entry{Dir: "/", Name: fmt.Sprintf("%012d.%s", at/512, t.Name), Lost: disk.All, Erased: true, Known: extent.Checked, Size: extent.Size, UID: -1, At: at,
		Runs: []disk.Run{{At: at, Size: extent.Size}}}
	return at + extent.Size, s.each(Trace{Entry: e, State: i.State, Share: i.Share})
}
