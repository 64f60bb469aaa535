// Package turns lets so many at a time use what does not take more: of those that wait the one that is waited for most, of equal ones who
// waits longest.
package turns

import (
	"container/heap"
	"context"
	"sync"
)

// Priority says how much work is waited for: the lower goes first.
type Priority int

// The priorities.
const (
	Waited    Priority = -1 // somebody waits for its end
	Asked     Priority = 0  // somebody asked for it
	Scheduled Priority = 1  // the service itself did
	Idle      Priority = 2  // nobody did: it is done while nothing else is
)

type priorityKey struct{}

// With says how much what is done in a context is waited for.
func With(ctx context.Context, p Priority) context.Context {
	return context.WithValue(ctx, priorityKey{}, p)
}

// Of is how much what is done in a context is waited for: somebody waits, where nobody said otherwise.
func Of(ctx context.Context) Priority {
	if p, ok := ctx.Value(priorityKey{}).(Priority); ok {
		return p
	}
	return Waited
}

// Turns are so many at a time. They are safe for concurrent use.
type Turns struct {
	mu      sync.Mutex
	free    int
	counted int
	waiting waiters
}

// New returns so many turns at a time.
func New(atOnce int) *Turns { return &Turns{free: atOnce} }

// waiter waits for a turn.
type waiter struct {
	priority Priority
	number   int
	given    chan struct{}
	at       int // in the heap; negative once it has its turn
}

// Take waits for a turn, as long as its context lasts. Give it back.
func (t *Turns) Take(ctx context.Context, priority Priority) error {
	t.mu.Lock()
	if err := ctx.Err(); err != nil || t.free > 0 {
		if err == nil {
			t.free--
		}
		t.mu.Unlock()
		return err
	}
	t.counted++
	w := &waiter{priority: priority, number: t.counted, given: make(chan struct{})}
	heap.Push(&t.waiting, w)
	t.mu.Unlock()
	select {
	case <-w.given:
		return nil
	case <-ctx.Done():
	}
	t.mu.Lock()
	if w.at >= 0 {
		heap.Remove(&t.waiting, w.at)
		t.mu.Unlock()
		return ctx.Err()
	}
	t.mu.Unlock()
	t.Give() // it came at the same time
	return ctx.Err()
}

// Give gives a turn back.
func (t *Turns) Give() {
	t.mu.Lock()
	defer t.mu.Unlock()
	if len(t.waiting) == 0 {
		t.free++
		return
	}
	close(heap.Pop(&t.waiting).(*waiter).given)
}

// Waits tells whether somebody waits.
func (t *Turns) Waits() bool {
	t.mu.Lock()
	defer t.mu.Unlock()
	return len(t.waiting) > 0
}

// waiters are a heap, see container/heap.
type waiters []*waiter

func (w waiters) Len() int { return len(w) }
func (w waiters) Less(i, k int) bool {
	if w[i].priority != w[k].priority {
		return w[i].priority < w[k].priority
	}
	return w[i].number < w[k].number
}
func (w waiters) Swap(i, k int) {
	w[i], w[k] = w[k], w[i]
	w[i].at, w[k].at = i, k
}
func (w *waiters) Push(x any) {
	one := x.(*waiter)
	one.at = len(*w)
	*w = append(*w, one)
}
func (w *waiters) Pop() any {
	last := len(*w) - 1
	one := (*w)[last]
	one.at, (*w)[last] = -1, nil
	*w = (*w)[:last]
	return one
}
