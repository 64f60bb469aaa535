package survey

import (
	"context"
	"sync"

	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/core/traits"
)

// lane is what is surveyed one after the other.
type lane struct {
	apart   bool   // stores whose structure has to be taken apart, which somebody may have made to be slow
	machine string // one over the network, which may not answer; "" for all on the service's own host
}

// laneOf tells in which lane a source is surveyed. Where its machine cannot be asked it is one by itself.
func (w *worker) laneOf(ctx context.Context, src catalogue.Source) lane {
	files, err := w.reader.Site.Files(ctx, src.AtMachine)
	if err != nil || files.Traits().RoundTrip > 0 {
		return lane{machine: src.AtMachine}
	}
	return lane{apart: src.Traits.Cost == traits.Whole || src.Traits.Proves}
}

// maxRemote is how many machines over the network are surveyed side by side.
const maxRemote = 4

// lanes let one survey at a time into each lane.
type lanes struct {
	remote chan struct{}

	mu  sync.Mutex
	all map[lane]chan struct{}
}

func newLanes() *lanes {
	return &lanes{remote: make(chan struct{}, maxRemote), all: map[lane]chan struct{}{}}
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
	turns := []chan struct{}{turn}
	if at.machine != "" {
		turns = append(turns, l.remote)
	}
	for _, turn := range turns {
		select {
		case turn <- struct{}{}:
			defer func() { <-turn }()
		case <-ctx.Done():
			return ctx.Err()
		}
	}
	return do()
}
