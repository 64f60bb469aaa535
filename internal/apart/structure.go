package apart

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"time"

	"github.com/fxamacker/cbor/v2"

	"humble-rewind/internal/core/archived"
)

// structure is something that is taken apart: what can be read at any offset, or what is read from its beginning to its end.
type structure struct {
	request request
	content []Input
	stream  io.Reader                // nil where there is a content
	first   []byte                   // of the stream; it goes with the request
	read    bool                     // it was
	all     bool                     // of the stream was given
	faults  bool                     // what of the content cannot be read is missing, and the rest goes on
	take    func(frame []byte) error // what was found, some at a time
}

// records takes a structure apart: each is called with what is found in it, in its order, until it fails. told takes what is said of it as a whole.
func records[T any](ctx context.Context, p *Pool, s *structure, told any, each func(T) error) error {
	s.take = func(frame []byte) error {
		var some []T
		if err := recordsReading.Unmarshal(frame, &some); err != nil {
			return fmt.Errorf("%w: %w", errStrange, err)
		}
		for _, one := range some {
			if err := each(one); err != nil {
				return err
			}
		}
		return nil
	}
	return p.structure(ctx, s, told)
}

// recordsReading bounds what a frame of records unpacks to.
var recordsReading, _ = cbor.DecOptions{MaxArrayElements: 1 << 16, MaxMapPairs: 64, MaxNestedLevels: 6, UTF8: cbor.UTF8DecodeInvalid}.DecMode()

// recordsWriting keeps times to the nanosecond.
var recordsWriting, _ = cbor.EncOptions{Time: cbor.TimeRFC3339Nano, TimeTag: cbor.EncTagNone}.EncMode()

// structure asks a child. One that ended while it had nothing to do is none.
func (p *Pool) structure(ctx context.Context, s *structure, told any) error {
	p.begin()
	for {
		kept, err := p.unpacking.Acquire(ctx)
		if err != nil {
			return err
		}
		c := kept.Value()
		c.asked++
		begun, err := s.ask(ctx, c, told)
		if err == nil && !c.broken {
			kept.Release()
			p.lookLater()
			return nil
		}
		kept.Destroy()
		if err == nil || begun || c.asked == 1 || ctx.Err() != nil {
			return err
		}
	}
}

// recordsFrame is the largest frame of records, in bytes: a name may be of 64 KiB, and as much a target.
const recordsFrame = 2 << 20

// ask has a child take it apart. begun says that something came of it.
func (s *structure) ask(ctx context.Context, c *child, told any) (begun bool, err error) {
	stop := context.AfterFunc(ctx, c.end) // so that reading from it ends
	patience := time.AfterFunc(wallTime, c.end)
	defer func() {
		if ends := !stop(); ends || !patience.Stop() {
			c.broken = true
		}
	}()
	r := s.request
	if s.stream != nil && !s.read {
		patience.Stop() // that may be slow
		if s.first, s.all, err = c.next(s.stream); err != nil {
			return true, err
		}
		s.read = true
		patience.Reset(wallTime)
	}
	for _, content := range s.content {
		r.Names, r.Sizes = append(r.Names, content.Name), append(r.Sizes, content.Size)
	}
	r.Sent = s.stream != nil
	if c.request(r, pieceOf(s.all), s.first) != nil {
		return false, ErrDemanding
	}
	for {
		kind, frame, err := readFrameOf(c.out, c.buffer, recordsFrame)
		switch {
		case ctx.Err() != nil:
			return begun, ctx.Err()
		case err != nil:
			return begun, ErrDemanding
		}
		begun = true
		switch kind {
		case frameRead:
			patience.Stop() // that may be slow
			err = s.give(c, frame)
			patience.Reset(wallTime)
		case frameOutput:
			err = s.take(frame)
			patience.Reset(wallTime)
		case frameResult:
			var answer result
			if err := json.Unmarshal(frame, &answer); err != nil {
				return begun, errStrange
			}
			if answer.Failure != "" {
				return begun, answer.said()
			}
			if told == nil {
				return begun, nil
			}
			return begun, decode(answer.Value, told)
		default:
			err = errStrange
		}
		if err != nil {
			c.broken = true
			return begun, err
		}
	}
}

// give gives the child what it wants to read: of a content, or the next piece of the stream.
func (s *structure) give(c *child, frame []byte) error {
	if len(s.content) > 0 {
		var readErr error
		if err := c.give(frame, s.content, &readErr); err != nil {
			return errors.Join(readErr, err)
		}
		if s.faults {
			return nil
		}
		return readErr
	}
	if s.all || len(frame) > 0 {
		return errStrange
	}
	piece, all, err := c.next(s.stream)
	if err != nil {
		return err
	}
	s.all = all
	if err := c.send(pieceOf(all), piece); err != nil {
		return ErrDemanding // it ended
	}
	return nil
}

// batchBytes is about how much of what is found is sent at once.
const batchBytes = 64 << 10

// batch gathers what is found in the child, to be sent together.
type batch[T any] struct {
	w    *worker
	all  []T
	size int
}

// put takes one more, which is about so many bytes.
func (b *batch[T]) put(one T, size int) error {
	b.all = append(b.all, one)
	if b.size += size; b.size < batchBytes {
		return nil
	}
	return b.flush()
}

func (b *batch[T]) flush() error {
	if len(b.all) == 0 {
		return nil
	}
	encoded, err := recordsWriting.Marshal(b.all)
	if err != nil {
		return err
	}
	b.all, b.size = b.all[:0], 0
	b.w.renew()
	return errors.Join(writeFrame(b.w.out, frameOutput, encoded), b.w.out.Flush())
}

// streamed has something read what is sent piece by piece.
func (w *worker) streamed(most int64, read func(io.Reader) error) error {
	stream, err := w.stream()
	if err != nil {
		return err
	}
	defer stream.end()
	return read(&renewing{Reader: stream, w: w, most: most})
}

// renew lets the child go on: what it does is taken note of as it comes.
func (w *worker) renew() {
	if bound(cpuTime) != nil {
		os.Exit(exitSpent)
	}
}

// renewing lets the child go on with each megabyte that it has unpacked.
type renewing struct {
	io.Reader
	w    *worker
	left int
	most int64
}

func (r *renewing) Read(p []byte) (int, error) {
	n, err := r.Reader.Read(p)
	if r.most -= int64(n); r.most < 0 {
		return 0, archived.ErrBomb
	}
	if r.left -= n; r.left <= 0 {
		r.left = 1 << 20
		r.w.renew()
	}
	return n, err
}
