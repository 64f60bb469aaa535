package restore

import (
	"context"
	"sync"

	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/core/place"
)

// target is where things are brought back to: the folder tree of a machine, see treeTarget, or a drive that keeps versions, see
// driveTarget. Its methods are the steps that touch
// the destination, and what undoes them. They neither read nor write the journal, but for what they are told to: what they found out
// is in the item, and whoever calls them keeps that before the next step.
//
// Which target an item goes to is chosen by what the way to its machine offers, see targets.
type target interface {
	// ready checks that the copy is as planned, keeps what must give way, and writes what will arrive under a name of the target's own.
	// It may be called for several items at once.
	ready(it *carried) error
	// last makes what ready wrote last, so that after a power cut it is there or can be told to be missing, and reads it back. What keeps
	// an item from it becomes its error.
	last(all []*carried)
	// arrive gives an item its final name, and makes sure that it was this item that got it.
	arrive(it *carried) error
	// settled makes the final names last.
	settled(all []*carried)
	// takeOut removes the copy of an item that arrived from where it lies, where it still is what was copied.
	takeOut(it *carried) error
	// print takes down what arrived, so that an undo can tell whether it was touched since.
	print(it *carried) error
	// find finds out of an item of an interrupted bring-back whether it arrived, and puts what gave way back where it had not. Where
	// nobody can tell, it.err wraps errAway; errors are of the target as a whole.
	find(it *carried) error
	// takeBack is the inverse of all that: it takes away what arrived, and puts back what gave way and, where it left its store, the
	// copy itself. A *changedError says that it is not what arrived any more. Called again, it goes on where it was.
	takeBack(it *carried) error
	// uninterrupted makes all that follows go on even if the service is asked to stop.
	uninterrupted()
	// close removes what the target made for itself, as far as nothing of anybody's is in it.
	close()
}

// treeTarget is the folder tree of a machine. What is written, what gives way and what is about to be removed passes through working
// folders, see stage.
type treeTarget struct {
	r       *Restorer
	ctx     context.Context
	receipt int64
	open    *handles
	stages  *stages
	spare   *spareHandles // for what is done side by side
	making  *sync.Mutex   // held while folders are made
	// journal keeps where an item goes that had to take another name.
	journal func(catalogue.ReceiptItem) error

	// Of an undo.
	arrived   map[place.Place]bool // the places of all that the receipt brought
	stoppable context.Context      // for what may take long
}

// newTargets returns the targets of a receipt's items; open stays the caller's.
func (r *Restorer) newTargets(ctx context.Context, receipt int64, open *handles) targets {
	return targets{r.newTarget(ctx, receipt, open), &driveTarget{r: r, ctx: ctx, open: newHandles(ctx, r.Site)}}
}

// newTarget returns the target of a receipt's items on folder trees; open stays the caller's.
func (r *Restorer) newTarget(ctx context.Context, receipt int64, open *handles) *treeTarget {
	t := &treeTarget{
		r:         r,
		ctx:       ctx,
		stoppable: ctx,
		receipt:   receipt,
		open:      open,
		stages:    r.newStages(receipt),
		spare:     &spareHandles{},
		making:    &sync.Mutex{},
	}
	t.journal = func(item catalogue.ReceiptItem) error {
		return r.Site.Catalogue.Receipts.SaveItems(t.ctx, receipt, []catalogue.ReceiptItem{item})
	}
	return t
}

func (t *treeTarget) uninterrupted() {
	t.ctx = context.WithoutCancel(t.ctx)
	t.open.ctx = t.ctx
}

func (t *treeTarget) close() {
	t.stages.close(context.WithoutCancel(t.ctx), t.open)
	t.spare.close()
}
