package restore

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"strings"

	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/plan"
	"humble-rewind/internal/jobs"
	"humble-rewind/internal/reach"
	"humble-rewind/internal/source"
)

// Undo puts back what a receipt brought back, and what was set aside for it. CheckUndo comes first; the receipt must be
// claimed with BeginUndo. Each item is looked at again right before it is touched: what was changed meanwhile stays, and the
// receipt says so. Whatever is removed goes into safekeeping first. Called again after an interruption it goes on where it was.
func (r *Restorer) Undo(ctx context.Context, id int64, by string, progress Progress) error {
	if !r.enter(id) {
		return fmt.Errorf("receipt r%d is being worked on", id)
	}
	defer r.Leave(id)
	receipt, err := r.Site.Catalogue.Receipt(ctx, id)
	if err != nil || receipt.State != catalogue.ReceiptUndoing {
		return err
	}
	u := undoing{r: r, ctx: context.WithoutCancel(ctx), open: newHandles(context.WithoutCancel(ctx), r.Site), stages: r.newStages(id),
		receipt: id, stoppable: ctx}
	defer u.open.close()
	if err := u.stages.reopen(u.ctx, u.open); err != nil {
		return u.stop(err)
	}
	u.arrived = arrivedOf(receipt)
	untouched := r.untouchedFolders(u.open, id)
	var done int64
	for n := len(receipt.Items) - 1; n >= 0; n-- {
		if ctx.Err() != nil {
			return u.stop(ctx.Err())
		}
		item := receipt.Items[n]
		if item.Outcome != catalogue.ItemDone {
			continue
		}
		if err := u.item(item); err != nil {
			return u.stop(&undoError{item.To, err})
		}
		done++
		progress(done, 0, place.Readable(item.To.Path))
		if len(u.undone)+len(u.kept) >= batchItems {
			if err := u.save(); err != nil {
				return err
			}
		}
	}
	u.stages.close(u.ctx, u.open)
	if err := u.save(); err != nil {
		return err
	}
	r.dateBack(u.open, untouched)
	progress(done, 0, "")
	if u.changed > 0 {
		err := fmt.Errorf("%w: %d of %d items were changed meanwhile and stay; receipt r%d says which", jobs.ErrPart, u.changed, done, id)
		return errors.Join(err, r.Site.Catalogue.EndUndo(u.ctx, id, catalogue.ReceiptPart, "", r.Now()))
	}
	return r.Site.Catalogue.EndUndo(u.ctx, id, catalogue.ReceiptUndone, by, r.Now())
}

// undoing is an undo under way.
type undoing struct {
	r       *Restorer
	ctx     context.Context // which does not end: half an item undone helps nobody
	open    *handles
	stages  *stages
	receipt int64
	arrived map[place.Place]bool
	undone  []catalogue.ReceiptItem // not yet saved
	kept    []catalogue.ReceiptItem // that stay, not yet saved
	changed int

	stoppable context.Context // for what may take long
}

// item undoes one item, or leaves it where it was changed meanwhile. An error ends the undo.
func (u *undoing) item(item catalogue.ReceiptItem) error {
	it, err := load(item)
	if err != nil {
		return err
	}
	err = u.putBack(it)
	refused, changed := errors.AsType[*changedError](err)
	switch {
	case changed:
		it.item.Note = joinNotes(it.item.Note, "not undone: "+refused.why)
		u.kept = append(u.kept, *it.item)
		u.changed++
		return nil
	case err != nil:
		return err
	}
	removeMade(u.open, it)
	it.item.Outcome = catalogue.ItemUndone
	if err := it.store(); err != nil {
		return err
	}
	u.undone = append(u.undone, *it.item)
	return nil
}

// changedError says why an item stays as it is.
type changedError struct{ why string }

func (e *changedError) Error() string { return e.why }

// save gives the stores back what they remembered of the items undone so far, and keeps how all stand.
func (u *undoing) save() error {
	if err := u.remember(); err != nil {
		why := "it is back where it lay, but the record of it is not: " + Explain(err)
		for n := range u.undone {
			u.undone[n].Note = joinNotes(u.undone[n].Note, why)
		}
		return errors.Join(fmt.Errorf("undo: %s", why), u.endInPart())
	}
	if err := u.r.Site.Catalogue.SaveItems(u.ctx, u.receipt, append(slices.Clone(u.undone), u.kept...)); err != nil {
		return err
	}
	var copies []int64
	for _, item := range u.undone {
		if it, err := load(item); err == nil && it.work.Leaves {
			copies = append(copies, item.Copy)
		}
	}
	u.undone, u.kept = nil, nil
	return u.r.Site.Catalogue.ReopenCopies(u.ctx, copies)
}

// undoError says at which item an undo met an obstacle.
type undoError struct {
	at  place.Place
	err error
}

func (e *undoError) Error() string { return fmt.Sprintf("undo %s: %s", e.at, Explain(e.err)) }
func (e *undoError) Unwrap() error { return e.err }

// stop leaves a truthful receipt of an undo that met an obstacle midway: undone items are marked, and what the stores remember
// of them is put back too. Where the service stops or a place is away, the undo is to go on later.
func (u *undoing) stop(why error) error {
	u.stages.close(u.ctx, u.open)
	if errors.Is(why, errAway) || u.stoppable.Err() != nil && !jobs.Cancelled(u.stoppable) {
		return errors.Join(why, u.save())
	}
	return errors.Join(why, u.remember(), u.endInPart())
}

// endInPart ends an undo that did not go through.
func (u *undoing) endInPart() error {
	records := u.r.Site.Catalogue
	return errors.Join(records.SaveItems(u.ctx, u.receipt, append(slices.Clone(u.undone), u.kept...)),
		records.EndUndo(u.ctx, u.receipt, catalogue.ReceiptPart, "", u.r.Now()))
}

// remember gives the stores back what they remembered of items that left them.
func (u *undoing) remember() error {
	held := map[int64][]source.Holding{}
	for _, item := range u.undone {
		it, err := load(item)
		if err != nil {
			return err
		}
		if it.work.Leaves {
			held[item.Source] = append(held[item.Source], it.work.Held)
		}
	}
	for id, all := range held {
		store, err := u.open.sourceByID(id)
		if err != nil {
			return err
		}
		if err := store.(source.Giver).Return(u.ctx, all); err != nil {
			return err
		}
	}
	return nil
}

// putBack takes away one item, puts what was set aside for it back where it stood, and the item where it lay. What is taken
// away lies in a stage until all of that is done; so an interrupted attempt is known by what it left there. A *changedError
// says that the item is not what arrived any more.
func (u *undoing) putBack(it *carried) error {
	if why := it.work.Ground.away(u.open, it.item.To.Machine); why != "" {
		return fmt.Errorf("%w: %s", errAway, why)
	}
	to, err := u.open.parent(it.item.To)
	if errors.Is(err, fs.ErrNotExist) && u.lies(it) {
		return nil // taken back already, and its folder with it
	}
	if errors.Is(err, fs.ErrNotExist) {
		return &changedError{"it is no longer there"}
	}
	if err != nil {
		return err
	}
	if it.work.Away {
		return u.returnAside(it, to)
	}
	if it.work.Alone {
		return u.removeAlone(it, to)
	}
	name := staged(it.item.N, endTaken)
	st, _, err := u.stages.find(name)
	if err != nil {
		return err
	}
	gone := false
	if st == nil {
		if gone, err = u.takenBefore(it, to); err != nil {
			return err
		}
		if !gone {
			if st, err = u.take(it, to, name); err != nil {
				return err
			}
		}
	}
	switch {
	case gone:
	case it.work.Leaves:
		err = u.intoStore(it, st, name)
	default:
		err = u.intoSafekeeping(it, st, name)
	}
	if err != nil {
		return err
	}
	return errors.Join(u.returnAside(it, to), to.Sync())
}

// takenBefore tells whether an interrupted attempt has taken an item away already.
func (u *undoing) takenBefore(it *carried, to reach.Folder) (bool, error) {
	_, err := to.Lstat(it.item.To.Name())
	switch {
	case errors.Is(err, fs.ErrNotExist) && it.work.Leaves && !u.lies(it):
		return false, &changedError{"it is no longer there"}
	case errors.Is(err, fs.ErrNotExist):
		return true, nil
	case err != nil:
		return false, err
	case it.work.Aside == nil || it.work.Leaves && !u.lies(it):
		return false, nil
	}
	return u.isAside(it, to)
}

// take moves what arrived into a stage, if it is still what arrived.
func (u *undoing) take(it *carried, to reach.Folder, name string) (*stage, error) {
	if reason := u.r.obstacle(u.open, it, u.arrived); reason != "" {
		return nil, &changedError{reason}
	}
	now, err := look(u.ctx, to, it.item.To.Name())
	if err != nil {
		return nil, err
	}
	it.work.After.Inside = now.Inside // which receipts of an earlier version lack
	st, err := u.stage(it.item.To)
	if err != nil {
		return nil, err
	}
	err = st.take(u.ctx, to, it.item.To.Name(), now, name)
	if errors.Is(err, errChanged) {
		err = &changedError{"it was changed while it was undone, and that work would be lost"}
	}
	return st, err
}

// stage returns the stage on the file system of a place. It is made in a folder that stays.
func (u *undoing) stage(p place.Place) (*stage, error) {
	p = parentOf(p)
	folder, err := u.open.folder(p)
	if err != nil {
		return nil, err
	}
	info, err := folder.Info()
	if err != nil {
		return nil, err
	}
	for at := p; u.arrived[at]; {
		at = parentOf(at)
		above, err := u.open.folder(at)
		if err != nil {
			break
		}
		if i, err := above.Info(); err != nil || i.Device != info.Device {
			break
		}
		p, folder = at, above
	}
	return u.stages.on(u.ctx, folder, p)
}

func (u *undoing) lies(it *carried) bool {
	_, err := u.open.lstat(it.item.From)
	return err == nil
}

// removeAlone removes a folder that came without what is in it, where it is empty again.
func (u *undoing) removeAlone(it *carried, to reach.Folder) error {
	info, err := to.Lstat(it.item.To.Name())
	switch {
	case errors.Is(err, fs.ErrNotExist):
	case err != nil:
		return err
	case info.Type != plan.Folder || info.Inode != it.work.After.Inode:
		if back, err := u.isAside(it, to); err != nil || back {
			return err
		}
		return &changedError{"something else has come to stand there"}
	default:
		if stranger := strangerIn(u.open, it.item.To, nil); stranger != "" {
			return &changedError{fmt.Sprintf("%s is in it", place.Readable(stranger))}
		}
		u.open.drop(it.item.To)
		if err := to.Remove(it.item.To.Name()); ignoreGone(err) != nil { // which removes nothing but an empty folder
			return &changedError{"something was put into it since"}
		}
	}
	return u.returnAside(it, to)
}

// isAside tells whether what stands at an item's place is what was set aside for it, put back already.
func (u *undoing) isAside(it *carried, to reach.Folder) (bool, error) {
	a := it.work.Aside
	if a == nil {
		return false, nil
	}
	info, err := to.Lstat(it.item.To.Name())
	if err != nil || info.Type != a.Type {
		return false, ignoreGone(err)
	}
	if a.Type != plan.File {
		return true, nil
	}
	if info.Size != a.Size || entry.At(info.Written) != a.Was.Written {
		return false, nil
	}
	sum, err := digestOf(u.ctx, to, it.item.To.Name())
	return sum == a.SHA256, err
}

// returnAside puts back what was set aside for an item.
func (u *undoing) returnAside(it *carried, to reach.Folder) error {
	if it.work.Aside == nil {
		return nil
	}
	if back, err := u.isAside(it, to); err != nil || back {
		return err
	}
	remains := staged(it.item.N, endAside) // where it could not be removed
	st, _, err := u.stages.find(remains)
	if err != nil {
		return err
	}
	if st != nil {
		if now, err := look(u.ctx, st, remains); err == nil && it.work.Aside.Was.isStill(now) {
			return errors.Join(orBeside(it, st, remains, to, "what was set aside"), to.Sync())
		}
	}
	if st, err = u.stage(it.item.To); err != nil {
		return err
	}
	o, err := u.r.kept(*it.work.Aside)
	if err != nil {
		return err
	}
	part := staged(it.item.N, endPart)
	if err := ignoreGone(removeTree(u.ctx, st, part)); err != nil {
		return err
	}
	w, err := write(u.ctx, o, st, part)
	if err != nil {
		return err
	}
	if w.lost != nil {
		it.item.Note = joinNotes(it.item.Note, "put back without "+strings.Join(w.lost, ", "))
	}
	if err := to.Settle(); err != nil {
		return err
	}
	return errors.Join(orBeside(it, st, part, to, "what was set aside"), to.Sync())
}

// intoStore puts what was taken away into the item's store again, by a rename or, between file systems, by a verified copy.
func (u *undoing) intoStore(it *carried, st *stage, name string) error {
	from, err := u.open.parent(it.item.From)
	if err != nil {
		return err
	}
	if it.work.Renames {
		if err := it.giveBits(st, name); err != nil {
			return err
		}
		if err := st.Rename(name, from, it.item.From.Name()); err != nil {
			return err
		}
		return from.Sync()
	}
	if _, err := from.Lstat(it.item.From.Name()); errors.Is(err, fs.ErrNotExist) {
		if err := u.copyBack(it, st, name, from); err != nil {
			return err
		}
	} else if err != nil {
		return err
	}
	return u.removeTaken(it, st, name)
}

// giveBits gives a file the set-id bits again that it had in its store.
func (c *carried) giveBits(st *stage, name string) error {
	if c.work.Bits == 0 {
		return nil
	}
	f, err := st.Open(name)
	if err != nil {
		return err
	}
	defer f.Close()
	info, err := f.Info()
	if setter, ok := f.(reach.ModeSetter); ok && err == nil {
		err = setter.SetMode(info.Mode | c.work.Bits)
	}
	return err
}

func (u *undoing) copyBack(it *carried, st *stage, name string, from reach.Folder) error {
	o, err := standingAt(u.ctx, st, name)
	if err != nil {
		return err
	}
	there, err := u.stages.on(u.ctx, from, parentOf(it.item.From))
	if err != nil {
		return err
	}
	part := staged(it.item.N, endPart)
	if err := ignoreGone(removeTree(u.ctx, there, part)); err != nil {
		return err
	}
	if _, err := write(u.ctx, o, there, part); err != nil {
		return err
	}
	if err := from.Settle(); err != nil {
		return err
	}
	return errors.Join(there.Rename(part, from, it.item.From.Name()), from.Sync())
}

// intoSafekeeping keeps what was taken away, and removes it. Where it cannot be kept, it goes back to where it stood.
func (u *undoing) intoSafekeeping(it *carried, st *stage, name string) error {
	a, err := u.r.keep(u.stoppable, st, name)
	if err != nil {
		to, e := u.open.parent(it.item.To)
		if e == nil {
			e = orBeside(it, st, name, to, "it")
		}
		return errors.Join(err, e)
	}
	it.work.Removed = a.Manifest
	return u.removeTaken(it, st, name)
}

// removeTaken removes what was taken away, where nobody who had it open has written to it meanwhile; else it goes back to where
// it stood.
func (u *undoing) removeTaken(it *carried, st *stage, name string) error {
	now, err := look(u.ctx, st, name)
	if err != nil {
		return err
	}
	if !it.work.After.isStill(now) {
		to, err := u.open.parent(it.item.To)
		if err == nil {
			err = orBeside(it, st, name, to, "it")
		}
		if err != nil {
			return err
		}
		return &changedError{"it was changed while it was undone, and that work would be lost"}
	}
	return removeTree(u.ctx, st, name)
}
