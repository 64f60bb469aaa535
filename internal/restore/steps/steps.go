// Package steps carries receipts out, settles those that were interrupted and undoes them. It goes through the steps of their items in an
// order that a crash at any point leaves nothing unknown in, and keeps the journal; what touches destinations are their targets, see package
// target.
package steps

import (
	"context"
	"sync"
	"time"

	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/plan"
	"humble-rewind/internal/restore/hands"
	"humble-rewind/internal/restore/journal"
	"humble-rewind/internal/restore/target"
	"humble-rewind/internal/safekeeping"
	"humble-rewind/internal/site"
)

// Steps works on receipts. It is safe for concurrent use.
type Steps struct {
	Site *site.Site
	Safe *safekeeping.Store
	Now  func() time.Time

	mu     sync.Mutex
	active map[int64]bool // receipts that are this process's: begun, and true once somebody works on them
}

// Begin records the receipt of a plan, before anything is written, and claims it for whoever then calls Carry or Leave. each calls add with
// every item of the plan and what the receipt begins with of it, in the order in which they are brought back.
func (s *Steps) Begin(
	ctx context.Context, by string, each func(add func(plan.Item, catalogue.ReceiptItem) error) error,
) (receipt catalogue.Receipt, err error) {
	touched := touchedFolders{open: hands.New(ctx, s.Site), times: map[place.Place]time.Time{}}
	defer touched.open.Close()
	s.mu.Lock() // so that nobody takes the receipt for one that a stop left
	receipt, err = s.Site.Catalogue.Receipts.Begin(ctx, catalogue.Receipt{At: s.Now(), By: by}, func(put func([]catalogue.ReceiptItem) error) error {
		b := batching{put: put}
		err := each(func(item plan.Item, as catalogue.ReceiptItem) error {
			touched.add(item)
			return b.add(as, journal.LevelOf(item))
		})
		if err != nil {
			return err
		}
		return b.end()
	})
	if err == nil {
		s.activate(receipt.ID)
	}
	s.mu.Unlock()
	if err != nil {
		return receipt, err
	}
	if err := s.Site.Catalogue.Receipts.SaveFolders(ctx, receipt.ID, touched.times); err != nil {
		s.Leave(receipt.ID)
		return receipt, err
	}
	return receipt, nil
}

// BeginUndo claims a receipt for undoing, for whoever then calls Undo; catalogue.ErrTaken where it cannot be undone.
func (s *Steps) BeginUndo(ctx context.Context, receipt int64, by string) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	err := s.Site.Catalogue.Receipts.BeginUndo(ctx, receipt, by)
	if err == nil {
		s.activate(receipt)
	}
	return err
}

// Leave says that nobody in this process works on a receipt any more, so that it is settled if it is still open.
func (s *Steps) Leave(receipt int64) {
	s.mu.Lock()
	defer s.mu.Unlock()
	delete(s.active, receipt)
}

// activate notes that this process works on a receipt; mu is held.
func (s *Steps) activate(receipt int64) {
	if s.active == nil {
		s.active = map[int64]bool{}
	}
	s.active[receipt] = false
}

func (s *Steps) isActive(receipt int64) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	_, active := s.active[receipt]
	return active
}

// enter claims a receipt for work on it; false where somebody works on it already.
func (s *Steps) enter(receipt int64) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.active[receipt] {
		return false
	}
	s.activate(receipt)
	s.active[receipt] = true
	return true
}

func (s *Steps) keeper() target.Keeper { return target.Keeper{Safe: s.Safe} }
