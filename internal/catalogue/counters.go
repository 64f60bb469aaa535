package catalogue

import (
	"context"
	"sync"
)

// counters give out the numbers of spans and of folders, each once.
type counters struct {
	mu           sync.Mutex
	span, folder int64 // the last given
}

// spans takes n numbers that follow each other, and returns the first.
func (n *counters) spans(count int64) int64 {
	n.mu.Lock()
	defer n.mu.Unlock()
	n.span += count
	return n.span - count + 1
}

func (n *counters) nextFolder() int64 {
	n.mu.Lock()
	defer n.mu.Unlock()
	n.folder++
	return n.folder
}

// keep writes down what has been given.
func (n *counters) keep(ctx context.Context, w *writing) error {
	n.mu.Lock()
	defer n.mu.Unlock()
	return w.exec(ctx, "UPDATE counters SET value = CASE name WHEN 'spans' THEN ? ELSE ? END", n.span, n.folder)
}

func (n *counters) load(ctx context.Context, q querier) error {
	n.mu.Lock()
	defer n.mu.Unlock()
	return q.QueryRowContext(ctx, "SELECT (SELECT value FROM counters WHERE name = 'spans'), (SELECT value FROM counters WHERE name = "+
		"'folders')").Scan(&n.span, &n.folder)
}

func (n *counters) lastSpan() int64 {
	n.mu.Lock()
	defer n.mu.Unlock()
	return n.span
}
