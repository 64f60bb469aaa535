package restore

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"strings"

	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/place"
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
func (r *Restorer) CheckUndo(ctx context.Context, id int64) error {
	receipt, err := r.Site.Catalogue.Receipts.ByID(ctx, id)
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
		err := r.eachItem(ctx, id, func(item catalogue.ReceiptItem) error {
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
	open := newHandles(ctx, r.Site)
	defer open.close()
	arrived, err := r.arrivedOf(ctx, id)
	if err != nil {
		return err
	}
	err = r.eachItem(ctx, id, func(item catalogue.ReceiptItem) error {
		if !item.Outcome.Stands() {
			return nil
		}
		it, err := load(&item)
		if errors.Is(err, errUnreadable) {
			refused.Reasons = append(refused.Reasons, fmt.Sprintf("%s: %s", item.To, errUnreadable))
			return nil
		}
		if err != nil {
			return err
		}
		if reason := r.obstacle(open, it, arrived); reason != "" {
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
func (r *Restorer) eachItem(ctx context.Context, id int64, do func(catalogue.ReceiptItem) error) error {
	batches, err := r.Site.Catalogue.Receipts.Batches(ctx, id)
	if err != nil {
		return err
	}
	for _, first := range batches {
		items, err := r.Site.Catalogue.Receipts.Batch(ctx, id, first)
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
func (r *Restorer) arrivedOf(ctx context.Context, id int64) (map[place.Place]bool, error) {
	arrived := map[place.Place]bool{}
	alone := false
	err := r.eachItem(ctx, id, func(item catalogue.ReceiptItem) error {
		if !item.Outcome.Stands() {
			return nil
		}
		w, err := decodeWork(item.Work)
		if errors.Is(err, errUnreadable) {
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

// obstacle says what keeps an item from being put back, or "". arrived are the places of all that the receipt brought.
func (r *Restorer) obstacle(open *handles, it *carried, arrived map[place.Place]bool) string {
	folder, err := open.parent(it.item.To)
	if it.work.Away {
		if _, e := open.look(it.item.To); e == nil {
			return "something else is there since it was set aside"
		}
		return r.lostAside(it)
	}
	if err == nil {
		_, err = folder.Look(open.ctx, it.item.To.Name())
	}
	if errors.Is(err, fs.ErrNotExist) {
		return "it is no longer there"
	}
	if err != nil {
		return Explain(err)
	}
	if it.work.Alone {
		if stranger := strangerIn(open, it.item.To, arrived); stranger != "" {
			return fmt.Sprintf("%s was put into it since", place.Readable(stranger))
		}
		return r.lostAside(it)
	}
	now, err := print(open.ctx, folder, it.item.To.Name())
	if err != nil {
		return Explain(err)
	}
	if now != it.work.After.Print {
		return "it was changed after it was brought back, and that work would be lost"
	}
	if it.work.Leaves {
		if _, err := open.look(it.item.From); err == nil {
			return fmt.Sprintf("something else is now where it was, at %s", it.item.From)
		} else if !errors.Is(err, fs.ErrNotExist) {
			return Explain(err)
		}
		if _, err := open.parent(it.item.From); err != nil {
			return fmt.Sprintf("the folder it lay in is not there any more: %s", Explain(err))
		}
	}
	return r.lostAside(it)
}

// lostAside says why what was set aside for an item cannot be put back, or "".
func (r *Restorer) lostAside(it *carried) string {
	if it.work.Aside != nil {
		_, err := r.kept(*it.work.Aside)
		if errors.Is(err, fs.ErrNotExist) {
			return "what was set aside for it is no longer kept: it expired"
		}
		if err != nil {
			return fmt.Sprintf("what was set aside for it cannot be read: %s", Explain(err))
		}
	}
	return ""
}

// strangerIn names something in a folder that the receipt did not bring, or "".
func strangerIn(open *handles, p place.Place, arrived map[place.Place]bool) string {
	folder, err := open.folder(p)
	if err != nil {
		return ""
	}
	list, err := folder.List(open.ctx)
	if err != nil {
		return ""
	}
	for _, e := range list {
		if !arrived[place.Place{Machine: p.Machine, Path: place.Join(p.Path, e.Name)}] {
			return e.Name
		}
	}
	return ""
}
