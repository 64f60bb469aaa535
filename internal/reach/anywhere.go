package reach

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"

	"humble-rewind/internal/core/problem"
	"humble-rewind/internal/reach/spool"
)

// What is read of a file that can only be read from its beginning, so that it can be read anywhere.
const (
	inMemory = 1 << 20 // what is larger goes into a file
	// MostKept is the largest file, in bytes, that is done for.
	MostKept = 512 << 20
)

// Anywhere is a file that can be read at any offset. Close it; the file that it was made of stays open.
type Anywhere struct {
	io.ReaderAt
	Size int64
	// Kept says that it was read whole first, because its way or store can only be read from the beginning.
	Kept  bool
	close func() error
}

// Close lets go of what was kept to read it anywhere.
func (a Anywhere) Close() error { return a.close() }

// ReadAnywhere makes a file readable at any offset, until ctx is done. One that cannot be is read to its end first, into a file without
// a name, see package spool; the error wraps problem.TooLarge where it has more than MostKept bytes.
func ReadAnywhere(ctx context.Context, f File) (Anywhere, error) {
	info, err := f.Info(ctx)
	if err != nil {
		return Anywhere{}, err
	}
	if at, ok := f.(io.ReaderAt); ok && info.Size >= 0 {
		return Anywhere{UntilAt(ctx, at), info.Size, false, func() error { return nil }}, nil
	}
	if info.Size > MostKept {
		return Anywhere{}, tooLarge(info.Size)
	}
	s, err := f.Stream(ctx)
	if err != nil {
		return Anywhere{}, err
	}
	defer s.Close()
	head, err := io.ReadAll(io.LimitReader(s, inMemory+1))
	if err != nil {
		return Anywhere{}, err
	}
	if len(head) <= inMemory {
		return Anywhere{bytes.NewReader(head), int64(len(head)), true, func() error { return nil }}, nil
	}
	return keep(io.MultiReader(bytes.NewReader(head), s))
}

// keep writes what is read into a file that has no name, so that nothing of it stays whatever happens.
func keep(content io.Reader) (Anywhere, error) {
	f, err := spool.Common.File(nil)
	if err != nil {
		return Anywhere{}, err
	}
	if err := f.Fill(content, MostKept); err != nil {
		size := f.Size()
		f.Close()
		if errors.Is(err, spool.ErrLonger) {
			err = tooLarge(size)
		}
		return Anywhere{}, err
	}
	return Anywhere{f, f.Size(), true, f.Close}, nil
}

func tooLarge(size int64) error {
	return fmt.Errorf(
		"it can only be read from the beginning, and with %d bytes or more it is too large to be looked into so: %w",
		size,
		problem.TooLarge,
	)
}
