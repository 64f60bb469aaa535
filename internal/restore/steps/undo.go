package steps

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/restore/hands"
	"humble-rewind/internal/restore/journal"
)

// RefusedError says why a receipt cannot be undone. Nothing was changed.
type RefusedError struct {
	Receipt int64
	Reasons []string
}

func (e *RefusedError) Error() string {
	return fmt.Sprintf("receipt r%d cannot be undone: %s", e.Receipt, strings.Join(e.Reasons, "; "))
}

// maxReasons is how many reasons a refusal lists.
const maxReasons = 20

// CheckUndo looks whether a receipt can be undone exactly. It fails with a *RefusedError where the world has changed
// since, and writes nothing.
func (s *Steps) CheckUndo(ctx context.Context, id int64) error {
	receipt, err := s.Site.Catalogue.Receipts.ByID(ctx, id)
	if err != nil {
		return err
	}
	refused := &RefusedError{Receipt: id}
	switch receipt.State {
	case catalogue.ReceiptUndone:
		refused.Reasons = []string{fmt.Sprintf("it was undone already, by %s", receipt.UndoneBy)}
		return refused
	case catalogue.ReceiptOpen, catalogue.ReceiptUndoing:
		refused.Reasons = []string{"it is still being worked on; wait for its job to end"}
		err := s.eachItem(ctx, id, func(item catalogue.ReceiptItem) error {
			if item.Outcome == catalogue.ItemUnsettled {
				refused.Reasons = []string{
					fmt.Sprintf("it is unsettled: nobody can tell yet whether %s arrived; it is settled by itself once its "+
						"place is there again", item.To),
				}
				return errEnough
			}
			return nil
		})
		if err != nil && !errors.Is(err, errEnough) {
			return err
		}
		return refused
	case catalogue.ReceiptFailed:
		refused.Reasons = []string{"nothing was brought back, so there is nothing to undo"}
		return refused
	}
	open := hands.New(ctx, s.Site)
	defer open.Close()
	arrived, err := s.arrivedOf(ctx, id)
	if err != nil {
		return err
	}
	err = s.eachItem(ctx, id, func(item catalogue.ReceiptItem) error {
		if !item.Outcome.Stands() {
			return nil
		}
		it, err := journal.Load(&item)
		if errors.Is(err, journal.ErrUnreadable) {
			refused.Reasons = append(refused.Reasons, fmt.Sprintf("%s: %s", item.To, journal.ErrUnreadable))
			return nil
		}
		if err != nil {
			return err
		}
		if reason := s.keeper().Obstacle(open, it, arrived); reason != "" {
			refused.Reasons = append(refused.Reasons, fmt.Sprintf("%s: %s", item.To, reason))
			if len(refused.Reasons) == maxReasons {
				refused.Reasons = append(refused.Reasons, "and perhaps more")
				return errEnough
			}
		}
		return nil
	})
	if err != nil && !errors.Is(err, errEnough) {
		return err
	}
	if refused.Reasons != nil {
		return refused
	}
	return nil
}

// errEnough ends a look at items early.
var errEnough = errors.New("enough was seen")

// eachItem calls do with every item of a receipt, and ends with the first error.
func (s *Steps) eachItem(ctx context.Context, id int64, do func(catalogue.ReceiptItem) error) error {
	batches, err := s.Site.Catalogue.Receipts.Batches(ctx, id)
	if err != nil {
		return err
	}
	for _, first := range batches {
		items, err := s.Site.Catalogue.Receipts.Batch(ctx, id, first)
		if err != nil {
			return err
		}
		for _, item := range items {
			if err := do(item); err != nil {
				return err
			}
		}
	}
	return nil
}

// arrivedOf lists the places of the folders that a receipt brought or made on the way and, where any came without what is in them, of
// all else that it brought.
func (s *Steps) arrivedOf(ctx context.Context, id int64) (map[place.Place]bool, error) {
	arrived := map[place.Place]bool{}
	alone := false
	err := s.eachItem(ctx, id, func(item catalogue.ReceiptItem) error {
		if !item.Outcome.Stands() {
			return nil
		}
		w, err := journal.Decode(item.Work)
		if errors.Is(err, journal.ErrUnreadable) {
			return nil
		}
		if err != nil {
			return err
		}
		alone = alone || w.Alone // these come first
		if alone || item.Type == entry.Folder {
			arrived[item.To] = true
		}
		for _, made := range w.Made {
			arrived[place.Place{Machine: item.To.Machine, Path: string(made)}] = true
		}
		return nil
	})
	return arrived, err
}
