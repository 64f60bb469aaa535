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
	room   *Room
	f      *os.File
	sparse *Sparse
	holds  int64
	drop   func()
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
	file.sparse = NewSparse(f, func(n int64) error { return r.take(file, n) })
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

// Write appends; an error wraps problem.Full where there is no room.
func (f *File) Write(p []byte) (int, error) { return f.sparse.Write(p) }

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
	if r.since += n; r.since > looked {
		r.since = 0
		if err := enough(f.f); err != nil {
			return nil, err
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

// Size is how many bytes were written, zeros among them.
func (f *File) Size() int64 { return f.sparse.size }

// Whole makes the file as long as what was written, so that it can be read.
func (f *File) Whole() error { return f.sparse.Whole() }

// Cut makes the file end after so many bytes, which are fewer than it has.
func (f *File) Cut(size int64) error {
	f.sparse.size, f.sparse.short = size, false
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
