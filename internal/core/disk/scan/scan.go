// Package scan reads a whole drive: how it is divided, which file systems there are, and what each tells of files.
package scan

import (
	"bytes"
	"errors"
	"io"
	"strings"

	"humble-rewind/internal/core/disk"
	"humble-rewind/internal/core/disk/exfat"
	"humble-rewind/internal/core/disk/ext4"
	"humble-rewind/internal/core/disk/fat"
	"humble-rewind/internal/core/disk/table"
	"humble-rewind/internal/core/intact"
	"humble-rewind/internal/core/signature"
)

// Volume is a file system of a drive.
type Volume struct {
	_      struct{} `cbor:",toarray"`
	Name   string   // "p1", "whole", "lost2048"; of one below another with "-older" behind it
	At     int64
	Size   int64
	System string // "FAT32", "exFAT", "ext4"; what is not read is called by its family
	Label  string
	Read   bool // it is one that is read
}

// Layout is how a drive is divided.
type Layout struct {
	Scheme  string
	Volumes []Volume
	Notes   []disk.Note
}

// Trace is what a file system tells of a file, with how much of that is intact.
type Trace struct {
	_     struct{} `cbor:",toarray"`
	Entry disk.Entry
	State intact.State
	Share intact.Share
}

// Most entries that are told of one file system.
const Most = 2_000_000

// older is how a file system is called that another was made over.
const older = "-older"

// probes is at how many places a lost partition is looked for: on whole MiB, where today's tools begin one.
const probes = 4096

// named is a volume that is read.
type named interface {
	disk.Volume
	Name() string
	Label() string
}

func open(pages *disk.Pages, at int64) (named, error) {
	if v, err := exfat.Open(pages, at); err == nil {
		return v, nil
	}
	if v, err := fat.Open(pages, at); err == nil {
		v.Fits = signature.Fits
		return v, nil
	}
	v, err := ext4.Open(pages, at)
	if err != nil {
		return nil, err
	}
	return v, nil
}

// Look finds the file systems of a drive of so many bytes.
func Look(drive io.ReaderAt, size int64) Layout {
	pages := disk.NewPages(drive, size)
	parts := table.Read(pages, size)
	l := Layout{Scheme: parts.Scheme, Notes: parts.Notes}
	for _, p := range parts.Partitions {
		l.look(pages, p)
	}
	if len(l.Volumes) == 0 || parts.Scheme != "" {
		l.lost(pages, parts)
	}
	if len(l.Volumes) == 0 {
		l.Notes = append(l.Notes, disk.Note{What: disk.NothingHere})
	}
	return l
}

// look looks into a partition.
func (l *Layout) look(pages *disk.Pages, p table.Partition) bool {
	v := Volume{Name: p.Name(), At: p.At, Size: p.Size, Label: p.Label}
	family := table.Recognise(pages, p.At, pages.Size())
	switch family {
	case "NTFS", "btrfs", "XFS", "LUKS", "swap":
		v.System = family
		l.Volumes = append(l.Volumes, v)
		l.Notes = append(l.Notes, disk.Note{What: disk.VolumeUnread, Folder: family, Number: int64(p.Number)})
		return true
	}
	if p.Lost && family == "" {
		return false
	}
	of, err := open(pages, p.At)
	if err != nil {
		return false
	}
	v.System, v.Read = of.Name(), true
	if of.Label() != "" {
		v.Label = of.Label()
	}
	l.Volumes = append(l.Volumes, v)
	if family != "ext" && family != "" { // it may have been made over another
		if was, err := ext4.Open(pages, p.At); err == nil {
			l.Volumes = append(l.Volumes, Volume{Name: v.Name + older, At: v.At, Size: v.Size, System: was.Name(), Label: was.Label(), Read: true})
			l.Notes = append(l.Notes, disk.Note{What: disk.VolumeOlder, Folder: was.Name(), Number: int64(p.Number)})
		}
	}
	return true
}

// lost looks for file systems where no table tells of a partition.
func (l *Layout) lost(pages *disk.Pages, parts table.Layout) {
	within := func(at int64) bool {
		for _, v := range l.Volumes {
			if at >= v.At && at < v.At+v.Size {
				return true
			}
		}
		for _, p := range parts.Partitions {
			if p.Number > 0 && at > p.At && at < p.At+p.Size { // a backup, or what was there before
				return true
			}
		}
		return false
	}
	try := func(at int64) {
		if !within(at) {
			l.look(pages, table.Partition{At: at, Size: pages.Size() - at, Lost: true})
		}
	}
	try(63 * 512)
	for n := int64(1); n <= probes && n<<20 < pages.Size(); n++ {
		try(n << 20)
	}
}

// Walk calls each with the files, links and folders of which a file system tells: those that stand, or those that were erased.
func Walk(drive io.ReaderAt, size int64, v Volume, erased bool, each func(Trace) error, note func(disk.Note)) error {
	pages := disk.NewPages(drive, size)
	of, err := open(pages, v.At)
	if strings.HasSuffix(v.Name, older) {
		of, err = ext4.Open(pages, v.At)
	}
	if err != nil {
		return err
	}
	var later *claims
	if erased {
		later = newClaims(v, of)
		if err := bounded(of, later.add, func(disk.Note) {}); err != nil {
			return err
		}
		later.settle()
		if later.many {
			note(disk.Note{What: disk.PiecesMany, Number: mostClaimed})
		}
	}
	troubles := map[disk.Trouble]int{}
	noted := func(n disk.Note) {
		if troubles[n.What]++; troubles[n.What] <= 10 {
			note(n)
		}
	}
	return bounded(of, func(e disk.Entry) error {
		if e.Erased != erased {
			return nil
		}
		t := Trace{Entry: e}
		if erased {
			t.Entry.Taken = later.taken(&e)
			i := judge(pages, t.Entry)
			if later.many {
				i = i.Lower(intact.Intact{State: intact.InPart})
			}
			t.State, t.Share = i.State, i.Share
		}
		return each(t)
	}, noted)
}

var errMany = errors.New("there are too many entries")

// bounded walks a file system for so many entries at the most: folders can be made to hold one another.
func bounded(of disk.Volume, each func(disk.Entry) error, note func(disk.Note)) error {
	count := 0
	err := of.Walk(func(e disk.Entry) error {
		if count++; count > Most {
			return errMany
		}
		return each(e)
	}, note)
	if errors.Is(err, errMany) {
		note(disk.Note{What: disk.EntriesMany, Number: Most})
		return nil
	}
	return err
}

// looked is how much of a content's beginning, and of its end, is looked at.
const looked = 4096

// judge works out how much of an erased entry is intact: by its blocks, which its first and last bytes may lower.
func judge(pages *disk.Pages, e disk.Entry) intact.Intact {
	switch {
	case e.Folder:
		return intact.Intact{State: intact.Whole, Share: intact.All}
	case e.Target != "":
		return intact.Of(0, 0, 0, false, true)
	case e.Size < 0, e.Size > 0 && len(e.Runs) == 0:
		return intact.Intact{State: intact.Overwritten}
	}
	i := intact.Of(e.Size, e.Taken, 0, false, e.Known)
	if e.Size == 0 || i.State == intact.Overwritten {
		return i
	}
	first, last := e.Runs[0], e.Runs[len(e.Runs)-1]
	if first.At == disk.Hole || last.At == disk.Hole {
		return i
	}
	head, err := pages.Bytes(first.At, int(min(looked, first.Size)))
	if err != nil {
		return i.Lower(intact.Intact{State: intact.Unread, Share: 0})
	}
	fits, told := signature.Fits(e.Name, head)
	if fits {
		return i
	}
	if zeros(head) {
		tail, err := pages.Bytes(last.At+last.Size-min(looked, last.Size), int(min(looked, last.Size)))
		if err == nil && zeros(tail) {
			return i.Lower(intact.Intact{State: intact.Wiped})
		}
	}
	if told { // something else lies there by now
		return i.Lower(intact.Intact{State: intact.InPart, Share: 0})
	}
	return i
}

var noBytes [looked]byte

func zeros(b []byte) bool { return bytes.Equal(b, noBytes[:len(b)]) }
