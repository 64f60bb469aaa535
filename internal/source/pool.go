package source

import (
	"context"
	"errors"
	"sync"
	"time"
)

// What a pool keeps open.
const (
	// PoolLimit is how many stores that nobody uses are kept open; the one used longest ago goes first.
	PoolLimit = 32
	// PoolIdle is how long a store is kept open after its last use.
	PoolIdle = 2 * time.Minute
)

// Pool keeps stores open between uses, so that an archive's directory is read once and not for every copy. It is safe for concurrent
// use; the zero Pool is ready.
type Pool struct {
	// Now is the clock; nil: time.Now.
	Now func() time.Time

	mu       sync.Mutex
	open     map[any]*pooled
	closed   bool
	watching bool // what is kept for nothing will be looked for
}

type pooled struct {
	ready  chan struct{} // closed once store or err is set
	store  Store
	err    error
	users  int
	used   time.Time
	doomed bool // it is closed as soon as nobody uses it
}

// Lease is a store of a pool in use. Closing it gives it back.
type Lease struct {
	Store
	giveBack func()
}

// Close gives the store back to its pool; doing so twice is no error.
func (l *Lease) Close() error {
	l.giveBack()
	return nil
}

// ErrPoolClosed says that the service is about to end.
var ErrPoolClosed = errors.New("the service stops")

func (p *Pool) now() time.Time {
	if p.Now == nil {
		return time.Now()
	}
	return p.Now()
}

// Get returns the store kept under a key, opening it where it is not open. Somebody else who wants the same store meanwhile waits for
// that; nobody else does. The key is compared whole: what it is opened with belongs into it.
func (p *Pool) Get(ctx context.Context, key any, open func() (Store, error)) (*Lease, error) {
	p.mu.Lock()
	if p.closed {
		p.mu.Unlock()
		return nil, ErrPoolClosed
	}
	if p.open == nil {
		p.open = map[any]*pooled{}
	}
	one, known := p.open[key]
	if !known {
		one = &pooled{ready: make(chan struct{})}
		p.open[key] = one
	}
	one.users++
	p.mu.Unlock()
	if known {
		select {
		case <-one.ready:
		case <-ctx.Done():
			p.release(key, one)
			return nil, ctx.Err()
		}
	} else {
		one.store, one.err = open()
		close(one.ready)
	}
	if one.err != nil {
		p.release(key, one)
		return nil, one.err
	}
	var once sync.Once
	return &Lease{one.store, func() { once.Do(func() { p.release(key, one) }) }}, nil
}

// release ends one use, and closes what has been idle for too long or is too much.
func (p *Pool) release(key any, one *pooled) {
	p.mu.Lock()
	one.users--
	one.used = p.now()
	var closing []Store
	if one.users == 0 && (p.closed || one.doomed || one.err != nil) {
		closing = p.take(key, one)
	}
	closing = append(closing, p.idle()...)
	p.watch()
	p.mu.Unlock()
	_ = closeAll(closing) // nothing was written to them
}

// watch closes later what nobody uses by then: what is open keeps a drive from being unmounted. mu is held.
func (p *Pool) watch() {
	if p.watching || len(p.open) == 0 {
		return
	}
	p.watching = true
	time.AfterFunc(PoolIdle, func() {
		p.mu.Lock()
		p.watching = false
		closing := p.idle()
		p.watch()
		p.mu.Unlock()
		_ = closeAll(closing)
	})
}

// take takes a store out of the pool, for the caller to close. mu is held.
func (p *Pool) take(key any, one *pooled) []Store {
	if p.open[key] == one {
		delete(p.open, key)
	}
	if one.store == nil {
		return nil
	}
	return []Store{one.store}
}

// idle takes out what is kept for nothing. mu is held.
func (p *Pool) idle() (idle []Store) {
	now := p.now()
	for {
		var oldest any
		unused := 0
		for key, one := range p.open {
			if one.users > 0 {
				continue
			}
			unused++
			if oldest == nil || one.used.Before(p.open[oldest].used) {
				oldest = key
			}
		}
		if oldest == nil || unused <= PoolLimit && now.Sub(p.open[oldest].used) < PoolIdle {
			return idle
		}
		idle = append(idle, p.take(oldest, p.open[oldest])...)
	}
}

// Forget closes the stores whose keys are meant as soon as nobody uses them: what they were opened with has changed.
func (p *Pool) Forget(meant func(key any) bool) {
	p.mu.Lock()
	var closing []Store
	for key, one := range p.open {
		switch {
		case !meant(key):
		case one.users == 0:
			closing = append(closing, p.take(key, one)...)
		default:
			one.doomed = true
			delete(p.open, key) // so that it is opened anew meanwhile
		}
	}
	p.mu.Unlock()
	_ = closeAll(closing)
}

// Close closes all stores that nobody uses, and the others once they are given back.
func (p *Pool) Close() error {
	p.mu.Lock()
	p.closed = true
	var closing []Store
	for key, one := range p.open {
		if one.users == 0 {
			closing = append(closing, p.take(key, one)...)
		}
	}
	p.mu.Unlock()
	return closeAll(closing)
}

func closeAll(stores []Store) error {
	var errs []error
	for _, s := range stores {
		errs = append(errs, s.Close())
	}
	return errors.Join(errs...)
}
