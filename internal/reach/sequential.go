package reach

import (
	"context"
	"io"
)

// Gaps is a File that knows where it has no bytes of its own: holes, which read as zeros.
type Gaps interface {
	// NextData returns where the next bytes at or behind off begin and end; io.EOF where there are none.
	NextData(off int64) (start, end int64, err error)
}

// Random is what a File that can be read at any offset offers to be read in order.
type Random interface {
	File
	io.ReaderAt
}

// Sequential reads a file that can be read at any offset from its beginning until ctx is done, at most size bytes. Holes are not
// read, where the file knows them. It is how such files offer Stream.
func Sequential(ctx context.Context, f Random, size int64) io.ReadCloser {
	s := &sequential{ctx: ctx, f: f, size: size}
	if size > fewBytes {
		s.gaps, _ = f.(Gaps)
	}
	return s
}

// fewBytes are read faster than it is asked where there are holes among them.
const fewBytes = 64 << 10

type sequential struct {
	ctx        context.Context
	f          Random
	gaps       Gaps
	at, size   int64
	start, end int64 // of the bytes that are known to be there
}

func (s *sequential) Close() error { return nil }

func (s *sequential) Read(p []byte) (int, error) {
	if err := s.ctx.Err(); err != nil {
		return 0, err
	}
	if s.at >= s.size {
		return 0, io.EOF
	}
	p = p[:min(int64(len(p)), s.size-s.at)]
	if s.gaps != nil && s.at >= s.end {
		start, end, err := s.gaps.NextData(s.at)
		switch {
		case err == io.EOF: // nothing but a hole, as far as the file reaches
			info, err := s.f.Info(s.ctx)
			if err != nil {
				return 0, err
			}
			if s.size = min(s.size, info.Size); s.at >= s.size {
				return 0, io.EOF
			}
			p = p[:min(int64(len(p)), s.size-s.at)]
			start, end = s.size, s.size
		case err != nil:
			s.gaps, start, end = nil, s.at, s.size
		}
		s.start, s.end = max(start, s.at), end
	}
	if s.gaps != nil && s.at < s.start {
		p = p[:min(int64(len(p)), s.start-s.at)]
		clear(p)
		s.at += int64(len(p))
		return len(p), nil
	}
	n, err := s.f.ReadAt(p, s.at)
	s.at += int64(n)
	if n > 0 {
		err = nil
	}
	return n, err
}

// AtMost reads the first size bytes of a file.
func AtMost(ctx context.Context, f File, size int64) (io.ReadCloser, error) {
	s, err := f.Stream(ctx)
	if err != nil {
		return nil, err
	}
	return struct {
		io.Reader
		io.Closer
	}{io.LimitReader(s, size), s}, nil
}

// Until reads until ctx is done.
func Until(ctx context.Context, r io.Reader) io.Reader { return until{ctx, r, nil} }

// UntilAt reads at any offset until ctx is done, waiting for its turn no longer than that.
func UntilAt(ctx context.Context, r io.ReaderAt) io.ReaderAt { return until{ctx, nil, r} }

type until struct {
	ctx context.Context
	r   io.Reader
	at  io.ReaderAt
}

func (u until) Read(p []byte) (int, error) {
	if err := u.ctx.Err(); err != nil {
		return 0, err
	}
	return u.r.Read(p)
}

func (u until) ReadAt(p []byte, off int64) (int, error) {
	if err := u.ctx.Err(); err != nil {
		return 0, err
	}
	if turns, ok := u.at.(interface {
		readAtUntil(ctx context.Context, p []byte, off int64) (int, error)
	}); ok {
		return turns.readAtUntil(u.ctx, p, off)
	}
	return u.at.ReadAt(p, off)
}
