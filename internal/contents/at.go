package contents

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"os"

	"humble-rewind/internal/core/problem"
	"humble-rewind/internal/reach"
	"humble-rewind/internal/reach/system"
	"humble-rewind/internal/source"
)

// What is read of a content that can only be read from its beginning, so that it can be looked into anywhere.
const (
	inMemory = 1 << 20   // what is larger goes into a file
	mostRead = 512 << 20 // what is larger is not looked into
)

// Random is a content that can be read at any offset. Close it; its own content stays open.
type Random struct {
	io.ReaderAt
	Size  int64
	close func() error
}

// Close lets go of what was kept to read it anywhere.
func (r Random) Close() error { return r.close() }

// At makes a file readable at any offset, until ctx is done. One whose store cannot do that is read to its end first; the error
// wraps problem.TooLarge where it is larger than is done for any.
func (r *Reader) At(ctx context.Context, c source.Content) (Random, error) {
	if c.File == nil {
		return Random{}, ErrNoContent
	}
	if at, ok := c.File.(io.ReaderAt); ok && c.Info.Size >= 0 {
		return Random{reach.UntilAt(ctx, at), c.Info.Size, func() error { return nil }}, nil
	}
	if c.Info.Size > mostRead {
		return Random{}, tooLarge(c.Info.Size)
	}
	s, err := c.File.Stream(ctx)
	if err != nil {
		return Random{}, err
	}
	defer s.Close()
	head, err := io.ReadAll(io.LimitReader(s, inMemory+1))
	if err != nil {
		return Random{}, err
	}
	if len(head) <= inMemory {
		return Random{bytes.NewReader(head), int64(len(head)), func() error { return nil }}, nil
	}
	return r.spool(io.MultiReader(bytes.NewReader(head), s))
}

// spool writes what is read into a file that has no name, so that nothing of it stays whatever happens.
func (r *Reader) spool(content io.Reader) (Random, error) {
	f, err := os.CreateTemp(r.Dir, "content-*")
	if err != nil {
		return Random{}, fmt.Errorf("keep it for a while: %w", system.Problem(err))
	}
	fail := func(err error) (Random, error) {
		f.Close()
		return Random{}, err
	}
	if err := os.Remove(f.Name()); err != nil {
		return fail(fmt.Errorf("keep it for a while: %w", system.Problem(err)))
	}
	n, err := io.Copy(f, io.LimitReader(content, mostRead+1))
	switch {
	case err != nil:
		return fail(fmt.Errorf("keep it for a while: %w", system.Problem(err)))
	case n > mostRead:
		return fail(tooLarge(n))
	}
	return Random{f, n, f.Close}, nil
}

func tooLarge(size int64) error {
	return fmt.Errorf("its store can only be read from the beginning, and with %d bytes or more it is too large to be looked into so: %w", size, problem.TooLarge)
}
