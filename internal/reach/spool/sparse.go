package spool

import (
	"fmt"
	"os"

	"golang.org/x/sys/unix"

	"humble-rewind/internal/core/problem"
	"humble-rewind/internal/reach/system"
)

// Sparse writes a file from its beginning and leaves out what is zeros, so that what takes no room at its source takes none here.
type Sparse struct {
	to    *os.File
	room  func(n int64) error // is asked before so many bytes take room
	size  int64
	short bool // zeros were left out at the end, which the file is not as long as yet
}

// NewSparse writes to an empty file. It asks for room before it takes any.
func NewSparse(to *os.File, room func(n int64) error) *Sparse { return &Sparse{to: to, room: room} }

// piece is what is left out as a hole where it is nothing but zeros.
const piece = 4 << 10

// Write appends; an error is that of room, or of the drive.
func (s *Sparse) Write(p []byte) (int, error) {
	written := 0
	for written < len(p) {
		run := dataRun(p[written:])
		if run == 0 {
			run = zeroRun(p[written:])
			s.size, s.short = s.size+int64(run), true
			written += run
			continue
		}
		if err := s.room(int64(run)); err != nil {
			return written, err
		}
		n, err := s.to.WriteAt(p[written:written+run], s.size)
		s.size, s.short = s.size+int64(n), false
		written += n
		if err != nil {
			return written, system.Problem(err)
		}
	}
	return written, nil
}

// Whole makes the file as long as what was written.
func (s *Sparse) Whole() error {
	if !s.short {
		return nil
	}
	s.short = false
	return system.Problem(s.to.Truncate(s.size))
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

// looked is after how many bytes it is looked again how much the drive has left.
const looked = 64 << 20

// Leaving is room for what is written to a drive as long as that keeps KeepFree.
func Leaving(on *os.File) func(n int64) error {
	since := int64(0)
	return func(n int64) error {
		if since += n; since <= looked {
			return nil
		}
		since = 0
		return enough(on)
	}
}

// enough says with an error that wraps problem.Full that the drive of a file has less than KeepFree left.
func enough(on *os.File) error {
	var s unix.Statfs_t
	if err := unix.Fstatfs(int(on.Fd()), &s); err == nil && int64(s.Bavail)*s.Bsize < KeepFree {
		return fmt.Errorf("the service's drive has less than %d GiB left: %w", KeepFree>>30, problem.Full)
	}
	return nil
}
