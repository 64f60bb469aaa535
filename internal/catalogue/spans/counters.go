package spans

import (
	"context"
	"errors"
	"sync"

	"humble-rewind/internal/catalogue/file"
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
func (n *counters) keep(ctx context.Context, w *file.Writing) error {
	n.mu.Lock()
	defer n.mu.Unlock()
	return w.Exec(ctx, "UPDATE counters SET value = CASE name WHEN 'spans' THEN ? ELSE ? END", n.span, n.folder)
}

func (n *counters) load(ctx context.Context, q file.Querier) error {
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

// rewrites remember which folders were changed by something else than a survey, so that a survey that had read one before does not
// write over that.
type rewrites struct {
	mu    sync.Mutex
	count int64
	last  map[int64]int64 // by folder
	open  map[int64]bool  // folders of the transaction under way: whoever reads one now still reads it as it was
}

func (r *rewrites) note(folder int64) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.last == nil {
		r.last, r.open = map[int64]int64{}, map[int64]bool{}
	}
	r.open[folder] = true
	r.count++
	r.last[folder] = r.count
}

// settle says that the transaction under way has ended.
func (r *rewrites) settle() {
	r.mu.Lock()
	defer r.mu.Unlock()
	for folder := range r.open {
		r.count++
		r.last[folder] = r.count
	}
	clear(r.open)
}

// now is the moment of the latest.
func (r *rewrites) now() int64 {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.count
}

// since tells whether a folder was changed after a moment.
func (r *rewrites) since(folder, moment int64) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.open[folder] || r.last[folder] > moment
}

// ErrMeanwhile says that what is known of a folder changed while a survey was at work on it; surveying again settles it.
var ErrMeanwhile = errors.New("what is known of a folder changed while it was surveyed")
