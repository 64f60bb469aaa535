package reach

import (
	"errors"
	"time"

	"humble-rewind/internal/core/problem"
)

// State is how a machine's session is.
type State string

// The states.
const (
	Unasked State = ""        // nobody has wanted to reach it yet
	Awake   State = "awake"   // it was reached when it was wanted last
	Asleep  State = "asleep"  // it was not; it is tried again when somebody wants it
	Locked  State = "locked"  // it has to be given a password first
	Stopped State = "stopped" // somebody said that it is to be left alone
)

// Condition is the state of a machine's session, since when, and why.
type Condition struct {
	State State
	Since time.Time
	Err   error     // of the last attempt, where that failed
	Again time.Time // when it is tried again at the earliest; zero: at once
}

// stateOf is the state that an attempt to reach a machine came to.
func stateOf(err error) State {
	switch {
	case err == nil:
		return Awake
	case errors.Is(err, problem.Locked), errors.Is(err, problem.NotSignedIn):
		return Locked
	}
	return Asleep
}

// Condition tells how a machine's session is, without asking the machine.
func (s *Sessions) Condition(name string) Condition {
	s.mu.Lock()
	m := s.open[name]
	s.mu.Unlock()
	if m == nil {
		return Condition{}
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	c := Condition{State: m.state, Since: m.since, Err: m.failure}
	if m.failure != nil {
		c.Again = m.again
	}
	return c
}

// came notes what an attempt came to, and tells whether that is another state than before. mu is held.
func (m *machine) came(err error, now time.Time) (changed bool) {
	state := stateOf(err)
	if changed = state != m.state; changed {
		m.state, m.since = state, now
	}
	return changed
}
