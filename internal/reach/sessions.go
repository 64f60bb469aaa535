package reach

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"sync/atomic"
	"time"

	"github.com/cenkalti/backoff/v5"
	"golang.org/x/sync/singleflight"

	"humble-rewind/internal/core/problem"
)

// Sessions keeps the machines of a site reached. Each has its own limits and its own back-off, so that nobody waits for a machine that he
// did not ask for; and whoever waits for one leaves when his context ends, without taking it from others who wait. What is handed out
// lasts: a session that nobody uses is closed, and reached anew behind it when it is used again. It is safe for concurrent use.
type Sessions struct {
	Ways Ways
	// Now is the clock; nil: time.Now.
	Now func() time.Time
	// Changed is called whenever a machine's state has, see Condition; nil: nobody wants to know.
	Changed func(name string)
	// Idle is for how long a machine stays reached that nobody uses; 0: IdleSession.
	Idle time.Duration

	mu     sync.Mutex
	open   map[string]*machine
	closed bool
}

// IdleSession is for how long a machine stays reached that is not asked anything and of which nothing is open: a drive that is not used can be
// unmounted then.
const IdleSession = 20 * time.Second

// How long reaching a machine may take, and looking whether one that is reached is still there, however long whoever asked for it waits. One
// that does not say so in time is reached anew.
const (
	dialTime = 30 * time.Second
	lookTime = 10 * time.Second
)

// machine is one that is or was reached. Its lock is never held over a call to it.
type machine struct {
	sessions *Sessions
	name     string
	at       string
	secret   []byte
	reaching singleflight.Group // at most one attempt at a time, which all wait for who want it
	users    atomic.Int64       // calls under way, and what is open of it; from none to some only with the lock

	mu       sync.Mutex
	gone     bool     // it was let go of
	handed   *lasting // what is handed out; another one once the machine was found to be away in between
	inner    Session  // nil while it is not reached
	last     Session  // the latest that it was
	used     time.Time
	watching bool      // it will be looked at whether anybody uses it
	looked   time.Time // when it was last seen to be there
	failure  error     // of the last attempt; nil where that succeeded
	again    time.Time // when it is tried again
	pauses   *backoff.ExponentialBackOff
	state    State
	since    time.Time // when it came to be in that state
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

// Get reaches a machine by its name, at its address, with the secret of the context. The answer is shared and must not be closed.
func (s *Sessions) Get(ctx context.Context, name, at string) (Session, error) {
	if err := ctx.Err(); err != nil {
		return nil, err
	}
	m, err := s.machine(name, at, SecretOf(ctx))
	if err != nil {
		return nil, err
	}
	if handed := m.lately(); handed != nil {
		return handed, nil
	}
	return m.reach(ctx)
}

// machine is the one of a name, another one if its address is.
func (s *Sessions) machine(name, at string, secret []byte) (*machine, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.closed {
		return nil, errStopping
	}
	m := s.open[name]
	if m != nil && m.at == at {
		return m, nil
	}
	if m != nil {
		go m.letGo()
	}
	if s.open == nil {
		s.open = map[string]*machine{}
	}
	m = &machine{sessions: s, name: name, at: at, secret: secret}
	s.open[name] = m
	return m, nil
}

var (
	errStopping = fmt.Errorf("the service stops: %w", problem.Lost)
	errNoAnswer = fmt.Errorf("%w: it did not answer within %.0f seconds", problem.Unreachable, dialTime.Seconds())
	errLetGo    = fmt.Errorf("it was let go of, to be reached anew: %w", problem.Lost)
)

// lookAgain is for how long a machine that was seen to be there is not looked at again: copies are opened by the thousand. One over the network
// is left alone for so many of its round trips.
const (
	lookAgain = 50 * time.Millisecond
	lookTrips = 100
)

// lately is what is handed out of a machine that was seen to be there lately; nil where it has to be looked at.
func (m *machine) lately() *lasting {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.inner == nil {
		return nil
	}
	since := m.sessions.now().Sub(m.looked)
	if since < 0 || since >= max(lookAgain, lookTrips*m.inner.Traits().RoundTrip) {
		return nil
	}
	return m.handed
}

// reach looks whether a machine is there, and reaches it where it is not reached.
func (m *machine) reach(ctx context.Context) (*lasting, error) {
	asked := m.reaching.DoChan("", func() (any, error) {
		ctx, done := context.WithTimeoutCause(WithSecret(context.WithoutCancel(ctx), m.secret), dialTime, errNoAnswer)
		defer done()
		return m.dial(ctx)
	})
	select {
	case answer := <-asked:
		if answer.Err != nil {
			return nil, answer.Err
		}
		return answer.Val.(*lasting), nil
	case <-ctx.Done():
		return nil, ctx.Err()
	}
}

// dial does so; there is one at a time.
func (m *machine) dial(ctx context.Context) (*lasting, error) {
	now := m.sessions.now()
	m.mu.Lock()
	inner := m.inner
	if inner != nil {
		m.users.Add(1)
	}
	failure, again := m.failure, m.again
	m.mu.Unlock()
	if inner != nil {
		look, done := context.WithTimeout(ctx, lookTime)
		there := alive(look, inner)
		done()
		m.leave()
		m.mu.Lock()
		if there {
			m.looked = now
			defer m.mu.Unlock()
			return m.handed, nil
		}
		m.inner, m.handed = nil, nil
		m.mu.Unlock()
		_ = inner.Close() // it is not there any more
	}
	if failure != nil && now.Before(again) {
		return nil, &BackoffError{again, failure}
	}
	inner, err := m.sessions.Ways.Open(ctx, m.at)
	m.mu.Lock()
	if m.came(err, now) && m.sessions.Changed != nil {
		defer m.sessions.Changed(m.name)
	}
	defer m.mu.Unlock()
	if m.gone {
		if err == nil {
			_ = inner.Close()
		}
		return nil, errLetGo
	}
	m.failure = err
	if err != nil {
		if m.pauses == nil {
			m.pauses = m.sessions.pauses(m.at)
		}
		if m.pauses != nil {
			m.again = now.Add(m.pauses.NextBackOff())
		}
		return nil, err
	}
	m.inner, m.last, m.looked, m.pauses = inner, inner, now, nil
	if m.handed == nil {
		m.handed = &lasting{m, inner.Traits()}
	}
	m.used = time.Now()
	m.watch()
	return m.handed, nil
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

// enter counts a call, or something that is open, and returns the session for it, reaching the machine anew where nobody had used it.
func (m *machine) enter(ctx context.Context) (Session, error) {
	for {
		m.mu.Lock()
		if m.gone {
			m.mu.Unlock()
			return nil, errLetGo
		}
		if inner := m.inner; inner != nil {
			m.users.Add(1)
			m.mu.Unlock()
			return inner, nil
		}
		m.mu.Unlock()
		if _, err := m.reach(ctx); err != nil {
			return nil, err
		}
	}
}

// more counts one more user of what is open.
func (m *machine) more() { m.users.Add(1) }

func (m *machine) leave() {
	if m.users.Add(-1) > 0 {
		return
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	m.used = time.Now()
	m.watch()
}

// watch looks later whether anybody uses the machine. mu is held.
func (m *machine) watch() {
	if m.watching || m.inner == nil || m.users.Load() > 0 {
		return
	}
	idle := m.sessions.Idle
	if idle == 0 {
		idle = IdleSession
	}
	m.watching = true
	time.AfterFunc(max(time.Millisecond, idle-time.Since(m.used)), func() {
		m.mu.Lock()
		m.watching = false
		inner := m.inner
		if inner == nil || m.users.Load() > 0 || time.Since(m.used) < idle {
			m.watch() // it is used, or was meanwhile
			m.mu.Unlock()
			return
		}
		m.inner = nil
		m.mu.Unlock()
		_ = inner.Close() // nothing of it is open
	})
}

// letGo closes what is reached; calls to it fail from then on.
func (m *machine) letGo() error {
	m.mu.Lock()
	m.gone = true
	inner := m.inner
	m.inner = nil
	m.mu.Unlock()
	if inner == nil {
		return nil
	}
	return inner.Close()
}

// Drop lets go of a machine, so that it is reached anew at once when it is asked for again.
func (s *Sessions) Drop(name string) {
	s.mu.Lock()
	m := s.open[name]
	delete(s.open, name)
	s.mu.Unlock()
	if m != nil {
		_ = m.letGo()
	}
}

// Close lets go of all machines.
func (s *Sessions) Close() error {
	s.mu.Lock()
	all := s.open
	s.open, s.closed = nil, true
	s.mu.Unlock()
	var errs []error
	for _, m := range all {
		errs = append(errs, m.letGo())
	}
	return errors.Join(errs...)
}

// lasting is a session that is reached anew where nobody had used it for a while.
type lasting struct {
	m      *machine
	traits Traits
}

func (l *lasting) Traits() Traits { return l.traits }

// Close does nothing: the session is shared.
func (l *lasting) Close() error { return nil }

// Inner is the session that calls go to, or went to last: what a way offers it offers still when it is reached anew.
func (l *lasting) Inner() Session {
	l.m.mu.Lock()
	defer l.m.mu.Unlock()
	return l.m.last
}

// around counts what is called and what is open.
func (l *lasting) around() around {
	return around{
		enter: func(context.Context) (func(), error) { l.m.more(); return l.m.leave, nil },
		hold:  func() func() { l.m.more(); return sync.OnceFunc(l.m.leave) },
	}
}

func (l *lasting) Tree(ctx context.Context, path string) (Tree, error) {
	inner, err := l.m.enter(ctx)
	if err != nil {
		return nil, err
	}
	defer l.m.leave()
	return l.around().tree(inner.Tree(ctx, path))
}

func (l *lasting) Folder(ctx context.Context, path string) (Folder, error) {
	inner, err := l.m.enter(ctx)
	if err != nil {
		return nil, err
	}
	defer l.m.leave()
	return l.around().folder(inner.Folder(ctx, path))
}
