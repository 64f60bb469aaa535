package apart

import (
	"compress/bzip2"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"runtime/debug"
	"runtime/metrics"
	"sync"
	"syscall"
	"time"

	"github.com/klauspost/compress/flate"
	"github.com/klauspost/compress/gzip"

	"github.com/jackc/puddle/v2"
	"github.com/klauspost/compress/zstd"
	"github.com/xi2/xz"
	"golang.org/x/sys/unix"

	"humble-rewind/internal/core/place"
)

// maxWindow bounds, in bytes, how far back what is unpacked may refer, and with that what unpacking takes of memory.
const maxWindow = 64 << 20

// unpackers read what is packed as one stream, by its form: deflate (RFC 1951), gzip (RFC 1952), bzip2, xz (the .xz file format 1.1) and zstd
// (RFC 8878).
var unpackers = map[string]func(io.Reader) (io.ReadCloser, error){
	"deflate": func(r io.Reader) (io.ReadCloser, error) {
		if err := inflater.(flate.Resetter).Reset(r, nil); err != nil { // members of archives are many, and mostly small
			return nil, err
		}
		return io.NopCloser(inflater), nil
	},
	"gzip":  func(r io.Reader) (io.ReadCloser, error) { return gzip.NewReader(r) },
	"bzip2": func(r io.Reader) (io.ReadCloser, error) { return io.NopCloser(bzip2.NewReader(r)), nil },
	"xz": func(r io.Reader) (io.ReadCloser, error) {
		x, err := xz.NewReader(r, maxWindow)
		return io.NopCloser(x), err
	},
	"zstd": func(r io.Reader) (io.ReadCloser, error) {
		z, err := zstd.NewReader(r, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxWindow(maxWindow), zstd.WithDecoderLowmem(true))
		if err != nil {
			return nil, err
		}
		return z.IOReadCloser(), nil
	},
}

// inflater unpacks one stream after the other, in a child.
var inflater = flate.NewReader(nil)

// Unpack unpacks a stream in a child of its own, which others may use once it was read to its end, or nearly. What is packed is read by whoever
// reads the answer, one piece ahead of what the child is at. What is not in that form, or is damaged, is read as far as it goes, to an error.
func (p *Pool) Unpack(ctx context.Context, form string, packed io.Reader) (io.ReadCloser, error) {
	p.begin()
	s := &stream{ctx: ctx, form: form, packed: packed, pool: p}
	if err := s.begin(); err != nil {
		return nil, err
	}
	return s, nil
}

// stream is what comes out of a child.
type stream struct {
	ctx    context.Context
	form   string
	packed io.Reader
	pool   *Pool
	begun  bool                     // something of what is packed was given
	first  []byte                   // of what is packed; it goes with the request
	read   bool                     // it was
	kept   *puddle.Resource[*child] // nil once it was given back
	come   []byte                   // and was not read yet
	all    bool                     // of what is packed was given
	err    error                    // once nothing more comes
}

// begin asks a child. One that ended while it had nothing to do is none.
func (s *stream) begin() (err error) {
	for {
		if s.kept, err = s.pool.unpacking.Acquire(s.ctx); err != nil {
			return err
		}
		c := s.kept.Value()
		c.asked++
		if err := s.begins(c); err != nil {
			s.leave(true)
			return err
		}
		err = c.request(request{Op: opUnpack, Form: s.form, Sent: true}, pieceOf(s.all), s.first)
		if err == nil {
			return nil
		}
		s.leave(false)
		if c.asked == 1 {
			return err
		}
	}
}

// begins reads the first piece of what is packed, where it was not.
func (s *stream) begins(c *child) (err error) {
	if !s.read {
		s.first, s.all, err = c.next(s.packed)
		s.read = err == nil
	}
	return err
}

func (s *stream) Read(p []byte) (int, error) {
	for len(s.come) == 0 && s.err == nil {
		s.err = s.more()
		if s.err != nil {
			s.leave(errors.Is(s.err, io.EOF))
		}
		if errors.Is(s.err, errWorn) { // nothing of what is packed was read yet
			s.err = s.begin()
		}
	}
	if len(s.come) == 0 {
		return 0, s.err
	}
	n := copy(p, s.come)
	s.come = s.come[n:]
	return n, nil
}

// more has the child unpack something. io.EOF says that it was all, and whole.
func (s *stream) more() (err error) {
	c := s.kept.Value()
	stop := context.AfterFunc(s.ctx, c.end) // so that reading from it ends
	patience := time.AfterFunc(wallTime, c.end)
	defer func() {
		if ends := !stop(); ends || !patience.Stop() {
			c.broken = true // it ends, or has ended, whatever it said before
		}
	}()
	for {
		kind, frame, err := readFrameOf(c.out, c.buffer, outputSize)
		switch {
		case s.ctx.Err() != nil:
			return s.ctx.Err()
		case err != nil && !s.begun && c.asked > 1:
			return errWorn
		case err != nil:
			return ErrDemanding
		}
		s.begun = true
		switch kind {
		case frameRead:
			if s.all {
				return errStrange
			}
			patience.Stop() // that may be slow
			piece, all, err := c.next(s.packed)
			if err != nil {
				return err
			}
			s.all = all
			patience.Reset(wallTime)
			if err := c.send(pieceOf(all), piece); err != nil {
				return ErrDemanding // it ended
			}
		case frameOutput:
			if len(frame) == 0 {
				return errStrange
			}
			s.come = frame
			return nil
		case frameResult:
			var answer result
			if err := json.Unmarshal(frame, &answer); err != nil {
				return err
			}
			if answer.Failure == "" {
				return io.EOF
			}
			return errors.New(place.Readable(answer.Error[:min(len(answer.Error), 200)]))
		default:
			return errStrange
		}
	}
}

// drain reads on to the end of the stream, if that is near, and tells whether it was: most who read a tar leave it at the end of its last member.
func (s *stream) drain() bool {
	for left := drained; left > 0 && s.err == nil; left -= len(s.come) {
		s.err = s.more()
	}
	return errors.Is(s.err, io.EOF)
}

// leave gives the child back; whole says that it waits for the next request.
func (s *stream) leave(whole bool) {
	if s.kept == nil {
		return
	}
	if whole && !s.kept.Value().broken {
		s.kept.Release()
		s.pool.lookLater()
	} else {
		s.kept.Destroy()
	}
	s.kept = nil
}

// Close ends the unpacking. It does not close what is packed.
func (s *stream) Close() error {
	if s.kept != nil {
		s.leave(s.drain())
	}
	s.come, s.err = nil, os.ErrClosed
	return nil
}

// drained is how much is unpacked only to keep a child, in bytes.
const drained = 512 << 10

// pipeSize is how much may be on its way, in bytes: the fewer times the two wait for each other, the better.
const pipeSize = 1 << 20

// outputSize is how much is unpacked before it is sent, in bytes.
const outputSize = 128 << 10

// unpack is the child's side.
func (w *worker) unpack(form string) error {
	tidy()
	widen()
	unpacker, ok := unpackers[form]
	if !ok {
		return fmt.Errorf("%q is not a form that is unpacked", form)
	}
	packed, err := w.stream()
	if err != nil {
		return err
	}
	defer packed.end()
	r, err := unpacker(packed)
	if err != nil {
		return err
	}
	defer r.Close()
	if w.unpacked == nil {
		w.unpacked = make([]byte, outputSize)
	}
	for piece := w.unpacked; ; {
		n, err := 0, error(nil)
		for n < len(piece) && err == nil {
			var more int
			more, err = r.Read(piece[n:])
			n += more
		}
		if n > 0 {
			if err := writeFrame(w.out, frameOutput, piece[:n]); err != nil {
				return err
			}
			if bound(cpuTime) != nil { // it comes along
				os.Exit(exitSpent)
			}
		}
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return err
		}
	}
}

// widen makes the pipes take more at once; narrower ones do too.
var widen = sync.OnceFunc(func() {
	for _, pipe := range []int{syscall.Stdin, syscall.Stdout} {
		_, _ = unix.FcntlInt(uintptr(pipe), unix.F_SETPIPE_SZ, pipeSize)
	}
})

// tidy gives back what a stream before took, where that was much.
func tidy() {
	held := []metrics.Sample{{Name: "/memory/classes/heap/objects:bytes"}, {Name: "/memory/classes/heap/unused:bytes"}}
	if metrics.Read(held); held[0].Value.Uint64()+held[1].Value.Uint64() > lightSoft {
		debug.FreeOSMemory()
	}
}

// asked is a stream that the service sends piece by piece. While one is worked on, the next is on its way, and taken as it comes: the
// service does not read what is sent to it while it sends.
type asked struct {
	w       *worker
	piece   []byte // what was not read of the last one
	last    bool   // there is none behind it
	coming  chan sent
	buffers [2][]byte // in turn
}

// sent is a piece of a stream that came.
type sent struct {
	piece []byte
	last  bool
}

// stream is the one of a request, whose first piece came with it.
func (w *worker) stream() (*asked, error) {
	if w.sent == nil {
		return nil, errors.New("not a request")
	}
	a := &asked{w: w, piece: w.sent.piece, last: w.sent.last}
	return a, a.ask()
}

// ask asks for the next piece, if there is one.
func (a *asked) ask() error {
	if a.last {
		return nil
	}
	a.coming = make(chan sent, 1)
	go func(coming chan<- sent, buffer []byte) {
		kind, piece, err := readFrame(a.w.in, buffer)
		if err != nil || kind != framePiece && kind != frameLast {
			os.Exit(0) // nobody wants to know any more
		}
		coming <- sent{piece, kind == frameLast}
	}(a.coming, a.buffers[0])
	return errors.Join(writeFrame(a.w.out, frameRead), a.w.out.Flush())
}

func (a *asked) Read(p []byte) (int, error) {
	for len(a.piece) == 0 {
		if a.coming == nil {
			return 0, io.EOF
		}
		came := <-a.coming
		a.coming, a.piece, a.last = nil, came.piece, came.last
		a.buffers[0], a.buffers[1] = a.buffers[1], came.piece
		if err := a.ask(); err != nil {
			return 0, err
		}
	}
	n := copy(p, a.piece)
	a.piece = a.piece[n:]
	return n, nil
}

// end takes what is still on its way, so that what comes next is the next request.
func (a *asked) end() {
	if a.coming != nil {
		<-a.coming
		a.coming = nil
	}
}
