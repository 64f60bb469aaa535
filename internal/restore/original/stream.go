package original

import (
	"context"
	"errors"
	"fmt"
	"io"
	"math"
	"sync"

	"github.com/cespare/xxhash/v2"
	"golang.org/x/sync/errgroup"

	"humble-rewind/internal/core/digest"
	"humble-rewind/internal/core/problem"
	"humble-rewind/internal/core/remark"
	"humble-rewind/internal/reach"
)

// What is copied goes in pieces; files of at most largePieces of them are digested as they are written, and larger ones beside it.
const (
	pieceSize   = 256 << 10
	largePieces = 16
	windowSize  = 32 << 20 // of a large file, is read back while the next is written
)

// buffers serve copying one small file after the other without garbage.
var buffers = sync.Pool{New: func() any {
	b := make([]byte, pieceSize)
	return &b
}}

// stream writes one content into a new file, long runs of zeros as holes. Where the file system can share the bytes, they are not
// copied, but read as they are sent all the same: the digest is the content's, not the copy's. Of a content that grew since it was
// looked at, only what it was then is written; one that shrank changed. One whose size nobody told (negative) is written to its end.
//
// Of a large one the digest, which takes longest, is taken on another processor; and what has been written is read back from the drive,
// window after window, while the rest is still being sent.
type stream struct {
	w       *writer
	content io.Reader
	size    int64
	into    reach.NewFile

	n      int64      // bytes written
	digest digest.Sum // of them
	sum    uint64     // XXH64 of them, where they are not proved
	proved bool       // they were read back

	cloned bool
}

func (s *stream) run(ctx context.Context) error {
	if shared, ok := s.content.(interface{ Shared() reach.File }); ok {
		if c, ok := s.into.(reach.Cloner); ok {
			s.cloned = c.Clone(shared.Shared())
		}
	}
	var err error
	if _, random := s.into.(io.ReaderAt); random && s.size > largePieces*pieceSize {
		err = s.large(ctx)
	} else {
		err = s.small(ctx)
	}
	if err != nil {
		return err
	}
	if err := s.grown(); err != nil {
		return err
	}
	if s.cloned {
		return s.into.Cut(ctx, s.n)
	}
	return nil
}

// next reads the next piece into a buffer; none at the end.
func (s *stream) next(ctx context.Context, buffer []byte) ([]byte, error) {
	if err := ctx.Err(); err != nil {
		return nil, err
	}
	left := int64(math.MaxInt64)
	if s.size >= 0 {
		left = s.size - s.n
	}
	if left == 0 {
		return nil, nil
	}
	k, err := io.ReadFull(s.content, buffer[:min(int64(len(buffer)), left)])
	ended := errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF)
	switch {
	case ended && s.size >= 0:
		return nil, problem.Changed
	case err != nil && !ended:
		return nil, err
	}
	return buffer[:k], nil
}

// put writes a piece.
func (s *stream) put(ctx context.Context, piece []byte) (err error) {
	switch {
	case s.cloned:
	case len(piece) == pieceSize && allZero(piece):
		err = s.into.Skip(ctx, int64(len(piece)))
	default:
		_, err = s.into.Write(piece)
	}
	s.n += int64(len(piece))
	return err
}

// small writes and digests one piece after the other.
func (s *stream) small(ctx context.Context) error {
	buffer := buffers.Get().(*[]byte)
	defer buffers.Put(buffer)
	h := digest.New()
	var sum xxhash.Digest
	sum.Reset()
	for {
		piece, err := s.next(ctx, *buffer)
		if err != nil {
			return err
		}
		if len(piece) == 0 {
			break
		}
		h.Write(piece)
		_, _ = sum.Write(piece)
		if err := s.put(ctx, piece); err != nil {
			return err
		}
	}
	s.digest, s.sum = h.Value(), sum.Sum64()
	return nil
}

// window is a part of a file that was written and is to read back with a checksum.
type window struct {
	at, size int64
	sum      uint64
}

// large writes, digests and reads back at the same time.
func (s *stream) large(ctx context.Context) error {
	group, ctx := errgroup.WithContext(ctx)
	h := digest.New()
	pieces := make(chan *[]byte, 4)
	windows := make(chan window, 4)
	group.Go(func() error {
		for piece := range pieces {
			h.Write(*piece)
			*piece = (*piece)[:pieceSize]
			buffers.Put(piece)
		}
		return nil
	})
	group.Go(func() error {
		var failed error
		for w := range windows { // to the end, so that nobody waits
			if failed == nil {
				failed = s.readBack(ctx, w)
			}
		}
		return failed
	})
	err := s.send(ctx, pieces, windows)
	close(pieces)
	close(windows)
	if failed := group.Wait(); failed != nil { // which is why sending ended, where it did
		return failed
	}
	if err != nil {
		return err
	}
	s.digest, s.proved = h.Value(), true
	return nil
}

// send writes all pieces and hands them on, and each window once it is written.
func (s *stream) send(ctx context.Context, pieces chan<- *[]byte, windows chan<- window) error {
	var w window
	var sum xxhash.Digest
	sum.Reset()
	for {
		buffer := buffers.Get().(*[]byte)
		piece, err := s.next(ctx, *buffer)
		if err == nil && len(piece) > 0 {
			_, _ = sum.Write(piece)
			err = s.put(ctx, piece)
		}
		if err != nil || len(piece) == 0 {
			buffers.Put(buffer)
			if err != nil || w.size == 0 {
				return err
			}
		} else {
			w.size += int64(len(piece))
		}
		if len(piece) == 0 || w.size >= windowSize {
			w.sum = sum.Sum64()
			windows <- w
			w = window{at: s.n}
			sum.Reset()
		}
		if len(piece) == 0 {
			return nil
		}
		*buffer = piece
		pieces <- buffer
	}
}

// readBack reads a window from where it lies.
func (s *stream) readBack(ctx context.Context, w window) error {
	if err := reach.Forget(ctx, s.into, w.at, w.size); err != nil {
		return fmt.Errorf("read it back: %w", err)
	}
	buffer := buffers.Get().(*[]byte)
	defer buffers.Put(buffer)
	var sum xxhash.Digest
	sum.Reset()
	from := s.into.(io.ReaderAt)
	for at := w.at; at < w.at+w.size; {
		if err := ctx.Err(); err != nil {
			return err
		}
		k, err := from.ReadAt((*buffer)[:min(int64(len(*buffer)), w.at+w.size-at)], at)
		_, _ = sum.Write((*buffer)[:k])
		if at += int64(k); err != nil && at < w.at+w.size {
			if errors.Is(err, io.EOF) { // it is shorter than what was written
				err = errDiffers
			}
			return fmt.Errorf("read it back: %w", err)
		}
	}
	if sum.Sum64() != w.sum {
		return fmt.Errorf("read it back: %w", errDiffers)
	}
	return nil
}

// grown says of a content that goes on after what was written of it.
func (s *stream) grown() error {
	var one [1]byte
	switch k, err := io.ReadFull(s.content, one[:]); {
	case err != nil && !errors.Is(err, io.EOF):
		return err
	case k > 0 && len(s.w.Notes) < 10:
		s.w.Notes = append(s.w.Notes, remark.New("grew", "n", s.n))
	}
	return nil
}
