// Package apart looks into contents in processes of their own. Contents are hostile, and nobody need open one for it to be looked
// into: what reads them in the background meets each first. So whatever parses, decodes or compares a content runs in a child
// process of the same program, which has no rights where the service is root, and bounds on its memory and its processor time
// that the system enforces. A child that goes beyond them ends; the service goes on and says so.
//
// A child reads its contents through a pipe, piece by piece as it asks for them, so it needs no file of its own. Children are
// kept for the next content. What is packed as one stream is unpacked by them too.
//
// Those for light work run two side by side; what says that it needs more (a large picture) runs
// alone, in a child that may take more.
package apart

import (
	"context"
	"errors"
	"io"
	"sync"
	"sync/atomic"
	"time"

	"github.com/jackc/puddle/v2"
	"golang.org/x/sync/semaphore"

	"humble-rewind/internal/core/compare"
	"humble-rewind/internal/core/condition"
	"humble-rewind/internal/core/peek"
)

// Input is what is looked into. It is read only while the call lasts.
type Input struct {
	Name string // with its extension, where that tells something
	io.ReaderAt
	Size int64
}

// ErrDemanding says that looking into a content took more memory or processor time than any is given.
var ErrDemanding = errors.New("looking into it takes more memory or time than is given to any content")

// Pool keeps the children. The zero Pool is ready; it is safe for concurrent use. Close it.
type Pool struct {
	once      sync.Once
	weight    *semaphore.Weighted
	looking   *puddle.Pool[*child] // the light ones that look into contents
	unpacking *puddle.Pool[*child]
	resting   atomic.Bool // those with nothing to do will be looked at
}

// What a light and a heavy look weigh, of what may be looked into side by side.
const (
	atOnce      = 2
	lightWeight = 1
	heavyWeight = atOnce
)

// unpackedAtOnce is how many streams are unpacked side by side. Whoever unpacks one that lies in another waits for its child while it has one,
// so there are more than anybody asks for.
const unpackedAtOnce = 32

// idleTime is how long a child is kept that has nothing to do.
const idleTime = 30 * time.Second

// Examine says whether a content is whole, a database by SQLite's own check too.
func (p *Pool) Examine(ctx context.Context, c Input) (found condition.Findings, err error) {
	err = p.do(ctx, request{Op: opExamine}, &found, nil, c)
	return found, err
}

// Look previews a content.
func (p *Pool) Look(ctx context.Context, c Input) (look peek.Preview, err error) {
	err = p.do(ctx, request{Op: opLook}, &look, nil, c)
	return look, err
}

// Draw renders a picture anew as PNG. Errors wrap peek.ErrNoPicture.
func (p *Pool) Draw(ctx context.Context, c Input, w io.Writer) error {
	return p.do(ctx, request{Op: opDraw}, nil, w, c)
}

// Compare says how two contents differ.
func (p *Pool) Compare(ctx context.Context, left, right Input) (c compare.Comparison, err error) {
	err = p.do(ctx, request{Op: opCompare}, &c, nil, left, right)
	return c, err
}

// Shares returns which share of each content's pieces the other has too, see package similar.
func (p *Pool) Shares(ctx context.Context, a, b Input) (ofA, ofB float64, err error) {
	var shares [2]float64
	err = p.do(ctx, request{Op: opShares}, &shares, nil, a, b)
	return shares[0], shares[1], err
}

// Held tells which words are written in a content.
type Held struct {
	Words []bool // in the order asked for
	Text  bool   // it could be read as text, so that a word that was not found is not in it
}

// Holds looks for words in a content.
func (p *Pool) Holds(ctx context.Context, c Input, words []string) (held Held, err error) {
	err = p.do(ctx, request{Op: opHolds, Words: words}, &held, nil, c)
	return held, err
}

// do asks a child. result takes its answer, out what it writes.
func (p *Pool) do(ctx context.Context, r request, result any, out io.Writer, contents ...Input) error {
	p.begin()
	err := p.try(ctx, r, light, result, out, contents)
	if errors.Is(err, errWorn) {
		err = p.try(ctx, r, fresh, result, out, contents)
	}
	if errors.Is(err, errHeavy) {
		err = p.try(ctx, r, heavy, result, out, contents)
	}
	return err
}

// manner is in what child a content is looked into.
type manner byte

const (
	light manner = iota // any that has nothing to do
	fresh               // one that has looked into nothing yet
	heavy               // one that may take more, alone
)

func (p *Pool) try(ctx context.Context, r request, how manner, result any, out io.Writer, contents []Input) error {
	weight := int64(lightWeight)
	if how == heavy {
		weight = heavyWeight
	}
	if err := p.weight.Acquire(ctx, weight); err != nil {
		return err
	}
	defer p.weight.Release(weight)
	if how == heavy {
		p.rest(0) // what the others hold would come on top
		c, err := start(heavy)
		if err != nil {
			return err
		}
		defer c.end()
		return c.ask(ctx, r, result, out, contents)
	}
	kept, err := p.looking.Acquire(ctx)
	for err == nil && how == fresh && kept.Value().asked > 0 {
		kept.Destroy()
		kept, err = p.looking.Acquire(ctx)
	}
	if err != nil {
		return err
	}
	err = kept.Value().ask(ctx, r, result, out, contents)
	if kept.Value().broken {
		kept.Destroy()
		return err
	}
	kept.Release()
	p.lookLater()
	return err
}

// begin makes the pool ready.
func (p *Pool) begin() {
	p.once.Do(func() {
		p.weight = semaphore.NewWeighted(atOnce)
		p.looking, p.unpacking = children(atOnce, light), children(unpackedAtOnce, heavy) // for wide windows
	})
}

func children(most int32, how manner) *puddle.Pool[*child] {
	all, _ := puddle.NewPool(&puddle.Config[*child]{ // it fails for no size alone
		Constructor: func(context.Context) (*child, error) { return start(how) },
		Destructor:  (*child).end,
		MaxSize:     most,
	})
	return all
}

// lookLater ends children some time after they had something to do.
func (p *Pool) lookLater() {
	if p.resting.CompareAndSwap(false, true) {
		time.AfterFunc(idleTime, func() {
			p.resting.Store(false)
			if p.rest(idleTime) {
				p.lookLater()
			}
		})
	}
}

// rest ends the children that have had nothing to do for some time, and tells whether others are left.
func (p *Pool) rest(idle time.Duration) (left bool) {
	for _, kept := range append(p.looking.AcquireAllIdle(), p.unpacking.AcquireAllIdle()...) {
		if kept.IdleDuration() >= idle {
			kept.Destroy()
		} else {
			kept.ReleaseUnused()
			left = true
		}
	}
	return left
}

// Close ends the children, those that are at work once they are not asked any more.
func (p *Pool) Close() error {
	p.begin()
	go p.looking.Close() // which waits for those
	go p.unpacking.Close()
	return nil
}
