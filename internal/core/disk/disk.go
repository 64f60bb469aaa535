// Package disk is what reading the raw bytes of a drive comes to, as values: pieces of it, and what the file systems on it say of files,
// those that stand and those that were erased. The packages below it read one structure each, over anything that can be read at any offset.
// They believe nothing that they read: whoever owned the drive could write every byte of it.
package disk

import (
	"errors"
	"fmt"
	"io"
	"time"

	"github.com/hashicorp/golang-lru/v2/simplelru"
)

// Run is a piece of a drive, in bytes from its beginning.
type Run struct {
	_    struct{} `cbor:",toarray"`
	At   int64    // Hole: it reads as zeros and lies nowhere
	Size int64
}

// Hole is where a piece lies that was never written.
const Hole = -1

// Sum is how many bytes pieces have together.
func Sum(runs []Run) (total int64) {
	for _, r := range runs {
		total += r.Size
	}
	return total
}

// Append adds a piece, to the last one where it follows that.
func Append(runs []Run, r Run) []Run {
	if r.Size <= 0 {
		return runs
	}
	if n := len(runs) - 1; n >= 0 && (r.At == Hole && runs[n].At == Hole || r.At != Hole && runs[n].At != Hole && runs[n].At+runs[n].Size == r.At) {
		runs[n].Size += r.Size
		return runs
	}
	return append(runs, r)
}

// Cut is the first bytes of pieces.
func Cut(runs []Run, size int64) []Run {
	for n := range runs {
		if size <= runs[n].Size {
			if size > 0 {
				runs[n].Size = size
				n++
			}
			return runs[:n]
		}
		size -= runs[n].Size
	}
	return runs
}

// Lost is what of a name is lost.
type Lost uint8

// What may be lost of it.
const (
	Nothing     Lost = iota
	FirstLetter      // of a short name that was erased; it stands as "_"
	All              // the name is one that was made up
)

// Entry is a file, a folder or a link of which a file system tells.
type Entry struct {
	_      struct{} `cbor:",toarray"`
	Dir    string   // clean, from the file system's root; folders whose own place is lost stand below one made up, "/?12345"
	Name   string
	Lost   Lost
	Folder bool
	Target string // of a link
	Erased bool
	Known  bool // where its pieces lie; else they are assumed to be one
	Size   int64
	Runs   []Run // of the content; nil where nothing tells where it lies
	Taken  int64 // bytes of it that somebody else has by now
	// Times are zero where nothing tells. Wall says that they are of a clock of an unknown zone, kept as if it were UTC.
	Made, Written, Removed time.Time
	Wall                   bool
	UID                    int64 // its owner's number; -1 where nothing tells
	Mode                   uint16
	At                     int64 // where on the drive it is told of: no two entries have one
}

// Volume is a file system on a drive.
type Volume interface {
	// Walk calls each with what the file system tells of, folder by folder, until it fails. What cannot be read is noted, and the rest goes
	// on.
	Walk(each func(Entry) error, note func(Note)) error
	// Taken tells how many bytes of a piece belong to something that stands.
	Taken(r Run) int64
	// Free calls each with the pieces that belong to nothing, in their order, until it fails.
	Free(each func(Run) error) error
	// Unit is the size in bytes of what is given out; contents begin at a multiple of it after Base.
	Unit() int64
	Base() int64
}

// ErrNone says that something is not a file system of the kind asked for, or too damaged to be read as one.
var ErrNone = errors.New("no file system that is read")

// pageSize is how much of a drive is read at once where small structures are looked at, and kept the number of pages that are.
const (
	pageSize = 64 << 10
	kept     = 64
)

// Pages reads a drive page by page and keeps 4 MiB of them. It is not safe for concurrent use.
type Pages struct {
	of    io.ReaderAt
	size  int64
	pages *simplelru.LRU[int64, []byte]
}

// NewPages returns pages of a drive of so many bytes.
func NewPages(of io.ReaderAt, size int64) *Pages {
	pages, _ := simplelru.NewLRU[int64, []byte](kept, nil) // it fails for no size alone
	return &Pages{of, size, pages}
}

// Size of the drive in bytes.
func (p *Pages) Size() int64 { return p.size }

// ReadAt reads as an io.ReaderAt does. What the drive cannot read is an error.
func (p *Pages) ReadAt(b []byte, at int64) (n int, err error) {
	if at < 0 {
		return 0, fmt.Errorf("read %d bytes before the beginning of the drive", -at)
	}
	for n < len(b) {
		off := at + int64(n)
		if off >= p.size {
			return n, io.EOF
		}
		number := off / pageSize
		page, ok := p.pages.Get(number)
		if !ok {
			page = make([]byte, min(pageSize, p.size-number*pageSize))
			if read, err := p.of.ReadAt(page, number*pageSize); read < len(page) {
				if err == nil || errors.Is(err, io.EOF) {
					err = io.ErrUnexpectedEOF
				}
				return n, err
			}
			p.pages.Add(number, page)
		}
		n += copy(b[n:], page[off%pageSize:])
	}
	return n, nil
}

// Bytes reads so many bytes at an offset, or an error.
func (p *Pages) Bytes(at int64, size int) ([]byte, error) {
	b := make([]byte, size)
	if n, err := p.ReadAt(b, at); n < size {
		return nil, err
	}
	return b, nil
}
