package survey

import (
	"context"
	"sync"
	"time"

	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/core/traits"
	"humble-rewind/internal/core/turns"
)

// lane is what is surveyed one after the other.
type lane struct {
	apart   bool   // stores on the service's own host whose structure has to be taken apart, which somebody may have made to be slow
	machine string // any other; one that hangs, be it only a drive that does, holds up no other
}

// laneOf tells in which lane a source is surveyed. Where nothing is known of its machine it is that machine's.
func laneOf(src catalogue.Source) lane {
	if src.Way.Near() && (src.Traits.Cost == traits.Whole || src.Traits.Proves) {
		return lane{apart: true}
	}
	return lane{machine: src.AtMachine}
}

// maxMachines is how many machines are surveyed side by side: more than are expected to hang at the same time.
const maxMachines = 16

// How long one source is waited for before the next begins beside it: one after the other is best for a drive, and for what is remembered of
// both. A machine over the network is waited for only to keep the order where nothing is to be done.
const (
	patience    = 20 * time.Second
	farPatience = 5 * time.Second
)

// How long a slice of a survey takes: where somebody else waits for the lane, and where nobody does. What it found is shown then.
const (
	sharedSlice = 5 * time.Second
	soleSlice   = time.Minute
)

// lanes let one survey at a time into each lane: of those that wait the one that is waited for most, of equal ones who waits longest.
type lanes struct {
	most *turns.Turns

	mu   sync.Mutex
	all  map[lane]*turns.Turns
	slow map[string]int // by machine, sources that nobody waits for any more
}

func newLanes() *lanes {
	return &lanes{most: turns.New(maxMachines), all: map[lane]*turns.Turns{}, slow: map[string]int{}}
}

// wait waits for the survey of a source to end, not for long, and not at all for a machine that had not come to the end of another by then.
func (l *lanes) wait(ctx context.Context, machine string, far bool, done <-chan struct{}) {
	l.mu.Lock()
	slow := l.slow[machine] > 0
	l.mu.Unlock()
	if !slow {
		least := patience
		if far {
			least = farPatience
		}
		select {
		case <-done:
			return
		case <-ctx.Done():
			return
		case <-time.After(least):
		}
	}
	l.count(machine, 1)
	go func() {
		<-done
		l.count(machine, -1)
	}()
}

func (l *lanes) count(machine string, n int) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.slow[machine] += n; l.slow[machine] == 0 {
		delete(l.slow, machine)
	}
}

// turn is somebody's in a lane.
type turn struct {
	lanes    *lanes
	lane     *turns.Turns
	priority turns.Priority
	begun    time.Time
}

// take waits for a turn in a lane. Give it back.
func (l *lanes) take(ctx context.Context, at lane) (*turn, error) {
	l.mu.Lock()
	of, ok := l.all[at]
	if !ok {
		of = turns.New(1)
		l.all[at] = of
	}
	l.mu.Unlock()
	t := &turn{lanes: l, lane: of, priority: turns.Of(ctx)}
	return t, t.take(ctx)
}

func (t *turn) take(ctx context.Context) error {
	if err := t.lane.Take(ctx, t.priority); err != nil {
		return err
	}
	if err := t.lanes.most.Take(ctx, t.priority); err != nil {
		t.lane.Give()
		return err
	}
	t.begun = time.Now()
	return nil
}

// give ends the turn; to give it again changes nothing.
func (t *turn) give() {
	if t.begun.IsZero() {
		return
	}
	t.begun = time.Time{}
	t.lanes.most.Give()
	t.lane.Give()
}

// due tells whether it has lasted so long that others should have theirs.
func (t *turn) due() bool {
	if t.begun.IsZero() {
		return false
	}
	lasted := time.Since(t.begun)
	return lasted >= soleSlice || lasted >= sharedSlice && (t.lane.Waits() || t.lanes.most.Waits())
}

// again ends the turn and takes another, behind those that wait.
func (t *turn) again(ctx context.Context) error {
	t.give()
	return t.take(ctx)
}
