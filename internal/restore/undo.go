package restore

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"strings"

	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/reach"
	"humble-rewind/internal/source"
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
	receipt, err := r.Site.Catalogue.Receipt(ctx, id)
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
		return refused
	case catalogue.ReceiptFailed:
		refused.Reasons = []string{"nothing was brought back, so there is nothing to undo"}
		return refused
	}
	open := newHandles(ctx, r.Site)
	defer open.close()
	arrived := map[place.Place]bool{}
	for _, item := range receipt.Items {
		if item.Outcome != catalogue.ItemDone {
			continue
		}
		it, err := load(item)
		if err != nil {
			return err
		}
		arrived[item.To] = true
		for _, made := range it.work.Made {
			arrived[place.Place{Machine: item.To.Machine, Path: string(made)}] = true
		}
	}
	for _, item := range receipt.Items {
		if item.Outcome != catalogue.ItemDone {
			continue
		}
		it, err := load(item)
		if err != nil {
			return err
		}
		if reason := r.obstacle(open, it, arrived); reason != "" {
			refused.Reasons = append(refused.Reasons, fmt.Sprintf("%s: %s", item.To, reason))
			if len(refused.Reasons) == maxReasons {
				refused.Reasons = append(refused.Reasons, "and perhaps more")
				break
			}
		}
	}
	if refused.Reasons != nil {
		return refused
	}
	return nil
}

// obstacle says what keeps an item from being put back, or "". arrived are the places of all that the receipt brought.
func (r *Restorer) obstacle(open *handles, it *carried, arrived map[place.Place]bool) string {
	folder, err := open.parent(it.item.To)
	if it.work.Away {
		if _, e := open.lstat(it.item.To); e == nil {
			return "something else has come to stand there since it was set aside"
		}
		return r.lostAside(it)
	}
	if err == nil {
		_, err = folder.Lstat(it.item.To.Name())
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
		if _, err := open.lstat(it.item.From); err == nil {
			return fmt.Sprintf("something else has come to stand where it lay, at %s", it.item.From)
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

// Undo puts back what a receipt brought back, and what was set aside for it. CheckUndo comes first; the receipt must be
// claimed with BeginUndo. Called again after an interruption it goes on where it was.
func (r *Restorer) Undo(ctx context.Context, id int64, by string, progress Progress) error {
	ctx = context.WithoutCancel(ctx) // half an undo helps nobody; it is short
	receipt, err := r.Site.Catalogue.Receipt(ctx, id)
	if err != nil || receipt.State != catalogue.ReceiptUndoing {
		return err
	}
	open := newHandles(ctx, r.Site)
	defer open.close()
	untouched := r.untouchedFolders(open, id)
	var done int64
	var pending []catalogue.ReceiptItem
	for n := len(receipt.Items) - 1; n >= 0; n-- {
		item := receipt.Items[n]
		if item.Outcome != catalogue.ItemDone {
			continue
		}
		it, err := load(item)
		if err != nil {
			return err
		}
		if err := r.putBack(open, id, it); err != nil {
			return r.undoFailed(ctx, receipt, pending, item, err)
		}
		removeMade(open, it)
		it.item.Outcome = catalogue.ItemUndone
		pending = append(pending, *it.item)
		done++
		progress(done, 0, place.Readable(item.To.Path))
	}
	if err := r.remember(ctx, open, pending); err != nil {
		why := "it is back where it lay, but the record of it is not: " + Explain(err)
		for n := range pending {
			pending[n].Note = joinNotes(pending[n].Note, why)
		}
		return errors.Join(fmt.Errorf("undo: %s", why), r.endInPart(ctx, id, pending))
	}
	if err := r.Site.Catalogue.SaveItems(ctx, id, pending); err != nil {
		return err
	}
	r.dateBack(open, untouched)
	var copies []int64
	for _, item := range pending {
		if it, err := load(item); err == nil && it.work.Leaves {
			copies = append(copies, item.Copy)
		}
	}
	if err := r.Site.Catalogue.ReopenCopies(ctx, copies); err != nil {
		return err
	}
	progress(done, 0, "")
	return r.Site.Catalogue.EndUndo(ctx, id, catalogue.ReceiptUndone, by, r.Now())
}

// undoFailed leaves a truthful receipt of an undo that met an obstacle midway: undone items are marked, and what the
// stores remember of them is put back too.
func (r *Restorer) undoFailed(ctx context.Context, receipt catalogue.Receipt, undone []catalogue.ReceiptItem, at catalogue.ReceiptItem, why error) error {
	open := newHandles(ctx, r.Site)
	defer open.close()
	err := fmt.Errorf("undo %s: %s", at.To, Explain(why))
	return errors.Join(err, r.remember(ctx, open, undone), r.endInPart(ctx, receipt.ID, undone))
}

// endInPart ends an undo that did not go through.
func (r *Restorer) endInPart(ctx context.Context, id int64, undone []catalogue.ReceiptItem) error {
	return errors.Join(r.Site.Catalogue.SaveItems(ctx, id, undone), r.Site.Catalogue.EndUndo(ctx, id, catalogue.ReceiptPart, "", r.Now()))
}

// remember gives the stores back what they remembered of items that left them.
func (r *Restorer) remember(ctx context.Context, open *handles, items []catalogue.ReceiptItem) error {
	held := map[int64][]source.Holding{}
	for _, item := range items {
		it, err := load(item)
		if err != nil {
			return err
		}
		if it.work.Leaves {
			held[item.Source] = append(held[item.Source], it.work.Held)
		}
	}
	for id, all := range held {
		store, err := open.sourceByID(id)
		if err != nil {
			return err
		}
		if err := store.(source.Giver).Return(ctx, all); err != nil {
			return err
		}
	}
	return nil
}

// putBack puts one item back where it lay and what was set aside for it where it stood. Steps that an interrupted
// attempt has taken are passed over.
func (r *Restorer) putBack(open *handles, receipt int64, it *carried) error {
	to, err := open.parent(it.item.To)
	if errors.Is(err, fs.ErrNotExist) && r.lies(open, it) {
		return nil // taken back already, and its folder with it
	}
	if err != nil {
		return err
	}
	part := temporary(receipt, it.item.N, endPart)
	switch {
	case it.work.Away: // nothing came in its stead
	case it.work.Leaves:
		err = r.takeBack(open, it, to, part)
	default:
		err = r.remove(open, it, to)
	}
	if err != nil {
		return err
	}
	if it.work.Aside == nil {
		return to.Sync()
	}
	if _, err := to.Lstat(it.item.To.Name()); err == nil {
		return nil // put back by an interrupted attempt
	}
	o, err := r.kept(*it.work.Aside)
	if err != nil {
		return err
	}
	if err := ignoreGone(removeTree(open.ctx, to, part)); err != nil {
		return err
	}
	w, err := write(open.ctx, o, to, part)
	if err != nil {
		return err
	}
	if w.lost != nil {
		it.item.Note = joinNotes(it.item.Note, "put back without "+strings.Join(w.lost, ", "))
	}
	if err := to.Settle(); err != nil {
		return err
	}
	if err := to.Rename(part, to, it.item.To.Name()); err != nil {
		return err
	}
	// What could not be removed when it was set aside is double now; the receipt has named it in case it stays.
	_ = removeTree(open.ctx, to, temporary(receipt, it.item.N, endAside))
	return to.Sync()
}

func (r *Restorer) lies(open *handles, it *carried) bool {
	_, err := open.lstat(it.item.From)
	return err == nil
}

// remove removes what arrived, if it is still what arrived.
func (r *Restorer) remove(open *handles, it *carried, to reach.Folder) error {
	info, err := to.Lstat(it.item.To.Name())
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err == nil && info.Inode != it.work.After.Inode {
		return nil // what was set aside is back already
	}
	if err != nil {
		return err
	}
	if it.work.Alone {
		open.drop(it.item.To)
		return to.Remove(it.item.To.Name())
	}
	return removeTree(open.ctx, to, it.item.To.Name())
}

// takeBack moves what arrived into its store again, by a rename or, between file systems, by a verified copy.
func (r *Restorer) takeBack(open *handles, it *carried, to reach.Folder, part string) error {
	from, err := open.parent(it.item.From)
	if err != nil {
		return err
	}
	name := it.item.From.Name()
	if _, err := from.Lstat(name); err == nil {
		if it.work.Renames {
			return nil // moved by an interrupted attempt
		}
		return r.remove(open, it, to)
	}
	if it.work.Renames {
		if err := to.Rename(it.item.To.Name(), from, name); err != nil {
			return err
		}
		return from.Sync()
	}
	o, err := standingAt(open.ctx, to, it.item.To.Name())
	if err != nil {
		return err
	}
	if err := ignoreGone(removeTree(open.ctx, from, part)); err != nil {
		return err
	}
	if _, err := write(open.ctx, o, from, part); err != nil {
		return err
	}
	if err := from.Settle(); err != nil {
		return err
	}
	if err := errors.Join(from.Rename(part, from, name), from.Sync()); err != nil {
		return err
	}
	return r.remove(open, it, to)
}
