// Package tree brings things back to the folder tree of a machine. What is written, what gives way and what is about to be removed passes
// through working folders that nobody else can enter, see stage.
package tree

import (
	"context"
	"sync"
	"time"

	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/restore/hands"
	"humble-rewind/internal/restore/target"
)

// Target is the folder tree of a machine.
type Target struct {
	keeper  target.Keeper
	records *catalogue.Catalogue
	now     func() time.Time
	ctx     context.Context
	receipt int64
	open    *hands.Hands
	stages  *stages
	spare   *hands.Spare // for what is done side by side
	making  *sync.Mutex  // held while folders are made

	// Of an undo.
	arrived   map[place.Place]bool // the places of all that the receipt brought
	stoppable context.Context      // for what may take long
}

// New returns the target of a receipt's items on folder trees; open stays the caller's.
func New(ctx context.Context, records *catalogue.Catalogue, keeper target.Keeper, now func() time.Time, receipt int64, open *hands.Hands) *Target {
	return &Target{keeper: keeper, records: records, now: now, ctx: ctx, stoppable: ctx, receipt: receipt, open: open,
		stages: &stages{records: records, receipt: receipt, at: map[volumeOf]*stage{}}, spare: &hands.Spare{}, making: &sync.Mutex{}}
}

// Undoing says that what follows is an undo: arrived are the places of all that the receipt brought, and what may take long ends with
// stoppable.
func (t *Target) Undoing(stoppable context.Context, arrived map[place.Place]bool) {
	t.stoppable, t.arrived = stoppable, arrived
}

// Reopen opens the working folders that an interrupted attempt left. The error wraps target.ErrAway where one cannot be reached.
func (t *Target) Reopen() error { return t.stages.reopen(t.ctx, t.open) }

// Uninterrupted makes all that follows go on even if the service is asked to stop.
func (t *Target) Uninterrupted() {
	t.ctx = context.WithoutCancel(t.ctx)
	t.open.Ctx = t.ctx
}

// Close removes the working folders, as far as nothing of anybody's is in them.
func (t *Target) Close() {
	t.stages.close(context.WithoutCancel(t.ctx), t.open)
	t.spare.Close()
}
