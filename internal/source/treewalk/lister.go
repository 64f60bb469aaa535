package treewalk

import (
	"context"
	"crypto/sha256"
	"slices"
	"strings"
	"sync"

	"humble-rewind/internal/reach"
)

const (
	near     = 2      // workers that list folders ahead
	far      = 8      // of a machine whose answers are waited for longer than they are worked on
	many     = 4096   // entries from which on a folder is not described all at once
	maxAhead = 20_000 // entries that are listed and not yet reported
	maxNodes = 512    // and folders
)

// lister lists folders ahead of whoever reports them. Folders are a list in the order in which they are reported: what is in one comes
// right behind it.
type lister struct {
	walk    *Walk
	head    *node // the one that is reported, or is next
	mu      sync.Mutex
	change  *sync.Cond
	ahead   int // entries listed behind head
	stopped bool
	open    map[*node]bool // whose trees are open
	working sync.WaitGroup
	cancel  context.CancelFunc
}

// node is a folder to be reported.
type node struct {
	parent    *node
	name, dir string
	depth     int
	next      *node
	started   bool
	done      bool

	tree   reach.Tree
	uses   int // of the tree: by whoever reports it, and by folders in it that are not yet open
	err    error
	names  []string // of a folder of very many entries
	all    []found
	inside []string // folders in it
	print  []byte

	files, folders int64
}

// walkers is how many workers list folders ahead.
func (w *Walk) walkers() int {
	if w.Way.RoundTrip > 0 {
		return far
	}
	return near
}

// newLister begins at a folder, which the caller closes.
func newLister(w *Walk, top reach.Tree) *lister {
	l := &lister{walk: w, open: map[*node]bool{}}
	l.change = sync.NewCond(&l.mu)
	l.head = &node{tree: top, uses: 1}
	return l
}

// begin starts the workers: a walk of one folder needs none.
func (l *lister) begin(ctx context.Context) {
	ctx, l.cancel = context.WithCancel(ctx)
	for range l.walk.walkers() {
		l.working.Go(func() { l.work(ctx) })
	}
}

// stop ends the workers and closes what is open.
func (l *lister) stop() {
	l.mu.Lock()
	l.stopped = true
	l.change.Broadcast()
	l.mu.Unlock()
	if l.cancel != nil {
		l.cancel()
	}
	l.working.Wait()
	for n := range l.open {
		n.tree.Close()
	}
}

// behind returns the folder that comes next; the one before is reported.
func (l *lister) behind(n *node) *node {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.ahead -= len(n.all)
	l.release(n)
	n.all, n.names = nil, nil
	l.head = n.next
	l.change.Broadcast()
	return l.head
}

// ready waits until a folder is listed, or lists it where nobody has begun.
func (l *lister) ready(ctx context.Context, n *node) {
	l.mu.Lock()
	if !n.started {
		n.started = true
		l.mu.Unlock()
		l.list(ctx, n)
		if l.cancel == nil && n.next != nil {
			l.begin(ctx)
		}
		return
	}
	for !n.done {
		l.change.Wait()
	}
	l.mu.Unlock()
}

// work lists folders, those that are next first.
func (l *lister) work(ctx context.Context) {
	for {
		n := l.first()
		if n == nil {
			return
		}
		l.list(ctx, n)
	}
}

// first waits for a folder that nobody has begun to list; nil once there will be none.
func (l *lister) first() *node {
	l.mu.Lock()
	defer l.mu.Unlock()
	for !l.stopped {
		n, passed := l.head, 0
		for ; n != nil && n.started; n = n.next {
			passed++
		}
		if n != nil && passed < maxNodes && l.ahead < maxAhead {
			n.started = true
			return n
		}
		l.change.Wait()
	}
	return nil
}

// list lists a folder and puts what is in it behind it.
func (l *lister) list(ctx context.Context, n *node) {
	if n.parent != nil {
		n.tree, n.err = n.parent.tree.Enter(ctx, n.name)
		l.mu.Lock()
		l.release(n.parent)
		if n.err == nil {
			n.uses = 1
			l.open[n] = true
		}
		l.mu.Unlock()
	}
	if n.err == nil {
		n.err = l.walk.list(ctx, n)
	}
	l.mu.Lock()
	l.ahead += len(n.all)
	if n.names == nil {
		l.link(n)
	}
	n.done = true
	l.change.Broadcast()
	l.mu.Unlock()
}

// add puts what is in a folder behind it.
func (l *lister) add(n *node) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.link(n)
	l.change.Broadcast()
}

// link does so; mu is held.
func (l *lister) link(n *node) {
	if n.err != nil || n.depth == maxDepth {
		return
	}
	last, behind := n, n.next
	for _, name := range n.inside {
		last.next = &node{parent: n, name: name, dir: join(n.dir, name), depth: n.depth + 1}
		last = last.next
		n.uses++
	}
	last.next = behind
}

// release ends one use of a tree; mu is held.
func (l *lister) release(n *node) {
	if n.uses--; n.uses == 0 && l.open[n] {
		delete(l.open, n)
		n.tree.Close()
	}
}

// list describes what is in a folder, or, where that is very much, only names it.
func (w *Walk) list(ctx context.Context, n *node) error {
	names, can, err := reach.Names(ctx, n.tree)
	if err != nil {
		return err
	}
	var entries []reach.Info
	if can {
		slices.Sort(names)
		if len(names) > many {
			n.names = names
			return nil
		}
		entries, err = reach.LookAll(ctx, n.tree, names)
	} else {
		entries, err = n.tree.List(ctx)
		slices.SortFunc(entries, func(a, b reach.Info) int { return strings.Compare(a.Name, b.Name) })
	}
	if err != nil {
		return err
	}
	n.all = make([]found, 0, len(entries))
	print := sha256.New()
	print.Write([]byte{byte(w.Keeps)})
	w.sort(n, entries, print)
	n.print = print.Sum(nil)
	return nil
}
