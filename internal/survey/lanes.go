package survey

import (
	"context"
	"sync"
	"time"

	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/core/traits"
)

// lane is what is surveyed one after the other.
type lane struct {
	apart   bool   // stores on the service's own host whose structure has to be taken apart, which somebody may have made to be slow
	machine string // any other; one that hangs, be it only a drive that does, holds up no other
}

// laneOf tells in which lane a source is surveyed. Where its machine cannot be asked it is that machine's.
func (w *worker) laneOf(ctx context.Context, src catalogue.Source) lane {
	files, err := w.reader.Site.Files(ctx, src.AtMachine)
	if err == nil && files.Traits().RoundTrip == 0 && (src.Traits.Cost == traits.Whole || src.Traits.Proves) {
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

// lanes let one survey at a time into each lane.
type lanes struct {
	most chan struct{}

	mu   sync.Mutex
	all  map[lane]chan struct{}
	slow map[string]int // by machine, sources that nobody waits for any more
}

func newLanes() *lanes {
	return &lanes{most: make(chan struct{}, maxMachines), all: map[lane]chan struct{}{}, slow: map[string]int{}}
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

// with does something in a lane, once it is free.
func (l *lanes) with(ctx context.Context, at lane, do func() error) error {
	l.mu.Lock()
	turn, ok := l.all[at]
	if !ok {
		turn = make(chan struct{}, 1)
		l.all[at] = turn
	}
	l.mu.Unlock()
	for _, turn := range []chan struct{}{turn, l.most} {
		select {
		case turn <- struct{}{}:
			defer func() { <-turn }()
		case <-ctx.Done():
			return ctx.Err()
		}
	}
	return do()
}
