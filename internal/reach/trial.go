package reach

import (
	"context"
	"sync"
)

// Step is one step of reaching a machine, and what came of it.
type Step struct {
	Doing string // such as "sign in"
	Shown string // what the other side showed, such as its certificate; "" where that is nothing
	Err   error  // nil where it succeeded
}

// trial takes down the steps of reaching a machine.
type trial struct {
	mu    sync.Mutex
	steps []Step
}

type trialKey struct{}

// Tell says of a step of reaching a machine what came of it, to whoever tries that. Ways tell each, in their order.
func Tell(ctx context.Context, doing, shown string, err error) {
	if t, ok := ctx.Value(trialKey{}).(*trial); ok {
		t.mu.Lock()
		t.steps = append(t.steps, Step{doing, shown, err})
		t.mu.Unlock()
	}
}

// Try reaches what is at an address, apart from whoever is at work on it, and tells step by step what came of that. The session must be closed; it
// is nil where the last step failed.
func (w Ways) Try(ctx context.Context, at string) (Session, []Step, error) {
	t := &trial{}
	s, err := w.Open(context.WithValue(ctx, trialKey{}, t), at)
	t.mu.Lock()
	defer t.mu.Unlock()
	if len(t.steps) == 0 || (err != nil) != (t.steps[len(t.steps)-1].Err != nil) {
		t.steps = append(t.steps, Step{Doing: "reach it", Err: err}) // of a way that tells no steps
	}
	return s, t.steps, err
}
