package reach

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"

	"github.com/cenkalti/backoff/v5"
)

// Sessions keeps the machines of a site reached. Each has its own lock, its own limits and its own back-off, so that nobody waits
// for a machine that he did not ask for. It is safe for concurrent use.
type Sessions struct {
	Ways Ways
	// Now is the clock; nil: time.Now.
	Now func() time.Time

	mu   sync.Mutex // of the map alone
	open map[string]*reached
}

// reached is one machine. Its lock is held while it is dialled.
type reached struct {
	looked  time.Time     // when it was last seen to be there
	mu      chan struct{} // a lock that somebody who waits for it can leave
	at      string
	session Session
	failure error                       // of the last attempt; nil where that succeeded
	again   time.Time                   // when it is tried again
	pauses  *backoff.ExponentialBackOff // between attempts; nil where the last succeeded, or its way makes none
}

// BackoffError says that a machine could not be reached lately and is left alone for a while.
type BackoffError struct {
	Until time.Time
	Err   error // of the last attempt
}

func (e *BackoffError) Error() string {
	return fmt.Sprintf("%v (it is tried again at %s)", e.Err, e.Until.Format("15:04:05"))
}

// Unwrap returns what the last attempt met.
func (e *BackoffError) Unwrap() error { return e.Err }

func (s *Sessions) now() time.Time {
	if s.Now == nil {
		return time.Now()
	}
	return s.Now()
}

// Get reaches a machine by its name, at its address. The answer is shared and must not be closed.
func (s *Sessions) Get(ctx context.Context, machine, at string) (Session, error) {
	s.mu.Lock()
	if s.open == nil {
		s.open = map[string]*reached{}
	}
	r, ok := s.open[machine]
	if !ok {
		r = &reached{mu: make(chan struct{}, 1)}
		s.open[machine] = r
	}
	s.mu.Unlock()
	select {
	case r.mu <- struct{}{}:
		defer func() { <-r.mu }()
	case <-ctx.Done():
		return nil, ctx.Err()
	}
	return s.get(ctx, r, at)
}

// get is called with the machine's lock held.
func (s *Sessions) get(ctx context.Context, r *reached, at string) (Session, error) {
	now := s.now()
	if r.session != nil {
		lately := now.Sub(r.looked) < lookAgain && !now.Before(r.looked)
		if r.at == at && (lately || alive(ctx, r.session)) {
			if !lately {
				r.looked = now
			}
			return r.session, nil
		}
		if err := ctx.Err(); err != nil { // whoever asked left; others may be at work on it
			return nil, err
		}
		r.session.Close()
		r.session = nil
	}
	if r.at == at && r.failure != nil && now.Before(r.again) {
		return nil, &BackoffError{r.again, r.failure}
	}
	if r.at != at {
		r.pauses = nil
	}
	r.at = at
	if r.session, r.failure = s.Ways.Open(ctx, at); r.failure == nil {
		r.pauses = nil
		return r.session, nil
	}
	r.session = nil
	if ctx.Err() != nil { // whoever asked left; that says nothing about the machine
		err := r.failure
		r.failure = nil
		return nil, err
	}
	if r.pauses == nil {
		r.pauses = s.pauses(at)
	}
	if r.pauses != nil {
		r.again = now.Add(r.pauses.NextBackOff())
	}
	return nil, r.failure
}

// pauses are how long a machine is left alone after each failure in a row: ever longer, and never quite as long as others that failed with it.
func (s *Sessions) pauses(at string) *backoff.ExponentialBackOff {
	address, err := ParseAddress(at)
	if err != nil {
		return nil
	}
	way, err := s.Ways.For(address)
	if err != nil || way.Backoff == 0 {
		return nil
	}
	b := backoff.NewExponentialBackOff()
	b.InitialInterval, b.MaxInterval, b.Multiplier, b.RandomizationFactor = way.Backoff, MostBackoff, 2, backoffSpread
	return b
}

// Drop lets go of a machine, so that it is reached anew at once when it is asked for again.
func (s *Sessions) Drop(machine string) {
	s.mu.Lock()
	r := s.open[machine]
	s.mu.Unlock()
	if r == nil {
		return
	}
	r.mu <- struct{}{}
	defer func() { <-r.mu }()
	if r.session != nil {
		r.session.Close()
	}
	r.session, r.failure, r.pauses = nil, nil, nil
}

// lookAgain is for how long a machine that was seen to be there is not looked at again: copies are opened by the thousand.
const lookAgain = 50 * time.Millisecond

// alive notices a disk that was unmounted, or a directory that was replaced, since it was opened.
func alive(ctx context.Context, s Session) bool {
	root, err := s.Tree(ctx, "/")
	if err != nil {
		return false
	}
	defer root.Close()
	info, err := root.Info(ctx)
	return err == nil && !info.Removed()
}

// Close lets go of all machines.
func (s *Sessions) Close() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	var errs []error
	for _, r := range s.open {
		r.mu <- struct{}{}
		if r.session != nil {
			errs = append(errs, r.session.Close())
		}
		<-r.mu
	}
	s.open = nil
	return errors.Join(errs...)
}
