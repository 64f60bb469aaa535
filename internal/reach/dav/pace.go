package dav

import (
	"context"
	"errors"
	"fmt"
	"io"
	"sync/atomic"
	"time"

	"humble-rewind/internal/core/problem"
)

// The least that a server has to bring, or to take, in each span of time; a listing also has to end at all. A server that is slower holds
// up nobody but itself: the call ends, and what is known stays.
const (
	paceSpan  = 20 * time.Second
	paceBytes = 16 << 10
	listTime  = 10 * time.Minute
)

// errSlow says that a server sends or takes next to nothing.
var errSlow = fmt.Errorf("the server sends, or takes, less than %d KiB in %s: %w", paceBytes>>10, paceSpan, problem.Lost)

// errEndless says that a listing does not end.
var errEndless = fmt.Errorf("the server's answer did not end within %s: %w", listTime, problem.Lost)

// pace watches one exchange with a server.
type pace struct {
	moved  atomic.Int64 // bytes
	end    context.CancelCauseFunc
	timer  *time.Timer
	before int64
	span   time.Duration
	quiet  atomic.Bool // nobody asks for more just now
}

// paced returns a context that ends where a server is too slow.
func paced(ctx context.Context, span time.Duration) (context.Context, *pace) {
	ctx, end := context.WithCancelCause(ctx)
	p := &pace{end: end, span: span}
	p.timer = time.AfterFunc(span, p.look)
	return ctx, p
}

func (p *pace) look() {
	moved := p.moved.Load()
	if !p.quiet.Load() && moved-p.before < paceBytes {
		p.end(errSlow)
		return
	}
	p.before = moved
	p.timer.Reset(p.span)
}

// stop ends the watch and the exchange.
func (p *pace) stop() {
	p.timer.Stop()
	p.end(context.Canceled)
}

// sentBody counts what is sent: the server has to take it. What is sent whole is not watched any more, as an answer has its own time.
type sentBody struct {
	io.Reader
	p    *pace
	left int64 // bytes; whoever sends need not read on to the end
}

func (b *sentBody) Read(p []byte) (int, error) {
	n, err := b.Reader.Read(p)
	b.p.moved.Add(int64(n))
	b.left -= int64(n)
	b.p.quiet.Store(err != nil || b.left <= 0)
	return n, err
}

// pacedBody counts what is read of a body, and asks for no pace while nobody reads.
type pacedBody struct {
	io.ReadCloser
	ctx  context.Context
	p    *pace
	last bool // it is the answer's: closing it ends the watch
}

func (b *pacedBody) Read(p []byte) (int, error) {
	b.p.quiet.Store(false)
	n, err := b.ReadCloser.Read(p)
	b.p.quiet.Store(true)
	b.p.moved.Add(int64(n))
	if cause := context.Cause(b.ctx); err != nil && err != io.EOF && (errors.Is(cause, errSlow) || errors.Is(cause, errEndless)) {
		err = cause
	}
	return n, err
}

func (b *pacedBody) Close() error {
	err := b.ReadCloser.Close()
	if b.last {
		b.p.stop()
	}
	return err
}
