// Package spool keeps contents for a while in files without a name on the service's host: what is unpacked, what is fetched because it can
// only be read from its beginning, what is about to be sent. All of them share one budget of room, so that no store, however it was made,
// fills the drive. What is kept only to save work gives way, the one used longest ago first. Runs of zeros take no room.
package spool

import (
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"sync"

	"golang.org/x/sys/unix"

	"humble-rewind/internal/core/problem"
	"humble-rewind/internal/reach/system"
)

// The budget, in bytes.
const (
	// MostKept is what files hold together that are kept only to save work.
	MostKept = 1 << 30
	// most is what all hold together.
	most = 64 << 30
	// KeepFree stays free on the drive.
	KeepFree = 1 << 30
)

// Room is a budget and the folder that its files are in. It is safe for concurrent use.
type Room struct {
	mu    sync.Mutex
	dir   string // "": the system's for such
	kept  []*File
	holds int64 // of kept
	all   int64
	since int64 // bytes since the drive was looked at
}

// Common is the room of this process.
var Common = &Room{}

// In says which folder the room is in; what was there before stays where it is.
func (r *Room) In(dir string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.dir = dir
}

// File is a file without a name. It is written to its end by one, and then read by any number.
type File struct {
	room  *Room
	f     *os.File
	size  int64
	holds int64
	short bool // the file ends before size
	drop  func()
}

// File makes an empty file. drop is called where it has to give way; it must close the file soon, and may be called while it is read. Where
// it is nil the file stays until it is closed.
func (r *Room) File(drop func()) (*File, error) {
	r.mu.Lock()
	dir := r.dir
	r.mu.Unlock()
	f, err := os.CreateTemp(dir, "content-*")
	if err == nil {
		err = os.Remove(f.Name())
	}
	if err != nil {
		return nil, fmt.Errorf("keep it for a while: %w", system.Problem(err))
	}
	file := &File{room: r, f: f, drop: drop}
	if drop != nil {
		r.mu.Lock()
		r.kept = append(r.kept, file)
		r.mu.Unlock()
	}
	return file, nil
}

// Used says that the file was used just now.
func (f *File) Used() {
	if f.drop == nil {
		return
	}
	f.room.mu.Lock()
	defer f.room.mu.Unlock()
	if n := slices.Index(f.room.kept, f); n >= 0 {
		f.room.kept = append(slices.Delete(f.room.kept, n, n+1), f)
	}
}

// piece is what is left out as a hole where it is nothing but zeros.
const piece = 4 << 10

// Write appends; an error wraps problem.Full where there is no room.
func (f *File) Write(p []byte) (int, error) {
	written := 0
	for written < len(p) {
		run := dataRun(p[written:])
		if run == 0 {
			run = zeroRun(p[written:])
			f.size, f.short = f.size+int64(run), true
			written += run
			continue
		}
		if err := f.room.take(f, int64(run)); err != nil {
			return written, err
		}
		n, err := f.f.WriteAt(p[written:written+run], f.size)
		f.size, f.short = f.size+int64(n), false
		written += n
		if err != nil {
			return written, system.Problem(err)
		}
	}
	return written, nil
}

// dataRun is how many bytes at the beginning are no whole piece of zeros.
func dataRun(p []byte) int {
	at := 0
	for at < len(p) && !isZeros(p[at:]) {
		at = min(at+piece, len(p))
	}
	return at
}

func zeroRun(p []byte) int {
	at := 0
	for isZeros(p[at:]) {
		at += piece
	}
	return at
}

// isZeros tells whether a whole piece of zeros comes first.
func isZeros(p []byte) bool {
	if len(p) < piece {
		return false
	}
	for _, b := range p[:piece] {
		if b != 0 {
			return false
		}
	}
	return true
}

// take takes room for a file.
func (r *Room) take(f *File, n int64) error {
	for {
		drop, err := r.tryTake(f, n)
		if drop == nil {
			return err
		}
		drop()
	}
}

// tryTake takes room, or returns what has to be dropped first.
func (r *Room) tryTake(f *File, n int64) (drop func(), err error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if f.drop != nil && r.holds+n > MostKept || r.all+n > most {
		if i := slices.IndexFunc(r.kept, func(k *File) bool { return k != f && k.holds > 0 }); i >= 0 {
			oldest := r.kept[i]
			r.forget(oldest)
			return oldest.drop, nil
		}
		return nil, ErrNoRoom
	}
	if r.since += n; r.since > 64<<20 {
		r.since = 0
		if free, known := freeOf(f.f); known && free < KeepFree {
			return nil, fmt.Errorf("the service's drive has less than %d GiB left: %w", KeepFree>>30, problem.Full)
		}
	}
	f.holds += n
	r.all += n
	if f.drop != nil {
		r.holds += n
	}
	return nil, nil
}

// forget counts a file no more. mu is held.
func (r *Room) forget(f *File) {
	r.all -= f.holds
	if f.drop != nil {
		r.holds -= f.holds
	}
	f.holds = 0
	r.kept = slices.DeleteFunc(r.kept, func(k *File) bool { return k == f })
}

func freeOf(f *os.File) (int64, bool) {
	var s unix.Statfs_t
	err := unix.Fstatfs(int(f.Fd()), &s)
	return int64(s.Bavail) * s.Bsize, err == nil
}

// Size is how many bytes were written, zeros among them.
func (f *File) Size() int64 { return f.size }

// Whole makes the file as long as what was written, so that it can be read.
func (f *File) Whole() error {
	if !f.short {
		return nil
	}
	f.short = false
	return system.Problem(f.f.Truncate(f.size))
}

// Cut makes the file end after so many bytes, which are fewer than it has.
func (f *File) Cut(size int64) error {
	f.size, f.short = size, false
	return system.Problem(f.f.Truncate(size))
}

// ReadAt reads what was written, once the file is whole.
func (f *File) ReadAt(p []byte, off int64) (int, error) { return f.f.ReadAt(p, off) }

// Close gives the room back.
func (f *File) Close() error {
	f.room.mu.Lock()
	f.room.forget(f)
	f.room.mu.Unlock()
	if err := f.f.Close(); !errors.Is(err, os.ErrClosed) {
		return err
	}
	return nil
}

// ErrNoRoom says that the budget is used up by what is in use.
var ErrNoRoom = fmt.Errorf("what is unpacked and fetched takes more room than there is for that: %w", problem.Full)

// ErrLonger says that there was more to read than was said.
var ErrLonger = fmt.Errorf("it is longer than it was said to be: %w", problem.Changed)

// Fill reads to the end into a file, which is whole then. Of more than limit bytes nothing stays, and the error is ErrLonger.
func (f *File) Fill(from io.Reader, limit int64) error {
	n, err := io.Copy(f, io.LimitReader(from, limit+1))
	if err == nil && n > limit {
		err = ErrLonger
	}
	if err != nil {
		return err
	}
	return f.Whole()
}
