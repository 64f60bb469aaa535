package restore

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"strings"

	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/plan"
	"humble-rewind/internal/jobs"
	"humble-rewind/internal/reach"
	"humble-rewind/internal/source"
)

// A batch is what is written between two syncs and two entries in the receipt: large enough that syncing many small
// files costs little, small enough that a crash leaves little to settle.
const (
	batchItems = 2000
	batchBytes = 256 << 20
)

// nextBatch tells how many of the items make up the next batch. Folders that come without what is in them are batches of
// their own, a level at a time: what goes into them needs them under their final names.
func nextBatch(items []catalogue.ReceiptItem) int {
	var bytes int64
	level := levelOf(items[0])
	for n, item := range items {
		if n == batchItems || n > 0 && bytes+item.Size > batchBytes || levelOf(item) != level {
			return n
		}
		bytes += item.Size
	}
	return len(items)
}

// levelOf is how deep a folder lies that comes without what is in it; -1 for everything else.
func levelOf(item catalogue.ReceiptItem) int {
	if item.Type != plan.Folder || !bytes.Contains(item.Work, []byte(`"alone":true`)) {
		return -1
	}
	return strings.Count(item.To.Path, "/")
}

// Progress tells how far a bring-back or an undo is.
type Progress func(done int64, bytes int64, doing string)

// Carry carries out a receipt that Begin made, and closes it. An item that cannot be brought back does not keep others
// from it; the error then wraps jobs.ErrPart. Where ctx ends because the service stops, the receipt stays open and
// Recover settles it at the next start.
func (r *Restorer) Carry(ctx context.Context, id int64, progress Progress) error {
	if !r.enter(id) {
		return fmt.Errorf("receipt r%d is being worked on", id)
	}
	defer r.Leave(id)
	receipt, err := r.Site.Catalogue.Receipt(ctx, id)
	if err != nil {
		return err
	}
	var done, bytes int64
	c := carrier{r: r, ctx: ctx, receipt: id, at: func(path string) { progress(done, bytes, place.Readable(path)) }}
	for rest := receipt.Items; len(rest) > 0; {
		n := nextBatch(rest)
		if ctx.Err() != nil {
			break
		}
		if err := c.batch(rest[:n]); err != nil {
			return err
		}
		for _, item := range rest[:n] {
			done++
			if item.Outcome == catalogue.ItemDone && item.SHA256 != "" {
				bytes += item.Size
			}
		}
		progress(done, bytes, place.Readable(rest[n-1].To.Path))
		rest = rest[n:]
	}
	if ctx.Err() != nil && !jobs.Cancelled(ctx) {
		return ctx.Err()
	}
	return r.close(context.WithoutCancel(ctx), id, "not begun: the bring-back was cancelled before it")
}

// close settles what was not begun, takes the final prints of folders that later items were put into, and closes.
func (r *Restorer) close(ctx context.Context, id int64, notBegun string) error {
	receipt, err := r.Site.Catalogue.Receipt(ctx, id)
	if err != nil {
		return err
	}
	var changed []catalogue.ReceiptItem
	failed, done := 0, 0
	for _, item := range receipt.Items {
		switch item.Outcome {
		case catalogue.ItemUnsettled:
			return nil // it is settled once its place is back
		case catalogue.ItemWaiting, catalogue.ItemStarted:
			item.Outcome, item.Note = catalogue.ItemFailed, joinNotes(item.Note, notBegun)
			changed = append(changed, item)
			failed++
		case catalogue.ItemFailed, catalogue.ItemRefused:
			failed++
		case catalogue.ItemDone:
			done++
		}
	}
	if err := r.datedFolders(ctx, receipt); err != nil {
		return err
	}
	again, err := r.printAgain(ctx, receipt)
	if err != nil {
		return err
	}
	if err := r.Site.Catalogue.SaveItems(ctx, id, append(changed, again...)); err != nil {
		return err
	}
	state := catalogue.ReceiptDone
	switch {
	case failed > 0 && done > 0:
		state = catalogue.ReceiptPart
	case failed > 0:
		state = catalogue.ReceiptFailed
	}
	if err := r.Site.Catalogue.CloseReceipt(ctx, id, state, r.Now()); err != nil {
		return err
	}
	switch state {
	case catalogue.ReceiptPart:
		return fmt.Errorf("%w: %d of %d items were not brought back; receipt r%d says why", jobs.ErrPart, failed, len(receipt.Items), id)
	case catalogue.ReceiptFailed:
		return fmt.Errorf("nothing was brought back; receipt r%d says why", id)
	}
	return nil
}

// printAgain takes the prints of folders anew that other items of the same receipt were put into.
func (r *Restorer) printAgain(ctx context.Context, receipt catalogue.Receipt) ([]catalogue.ReceiptItem, error) {
	parents := map[place.Place]bool{}
	for _, item := range receipt.Items {
		if item.Outcome == catalogue.ItemDone {
			for path := place.Folder(item.To.Path); path != "/"; path = place.Folder(path) {
				parents[place.Place{Machine: item.To.Machine, Path: path}] = true
			}
		}
	}
	open := newHandles(ctx, r.Site)
	defer open.close()
	var changed []catalogue.ReceiptItem
	for _, item := range receipt.Items {
		if item.Outcome != catalogue.ItemDone || item.Type != plan.Folder || !parents[item.To] {
			continue
		}
		c, err := load(item)
		if err != nil {
			return nil, err
		}
		if c.work.Alone {
			continue
		}
		if err := c.printArrived(open); err == nil { // gone already: the undo will say so
			if err := c.store(); err != nil {
				return nil, err
			}
			changed = append(changed, *c.item)
		}
	}
	return changed, nil
}

// carried is one item on its way.
type carried struct {
	item    *catalogue.ReceiptItem
	work    work
	source  source.Source
	arrived bool
	err     error
}

func load(item catalogue.ReceiptItem) (*carried, error) {
	c := &carried{item: &item}
	return c, json.Unmarshal(item.Work, &c.work)
}

// store writes the work back into the item.
func (c *carried) store() (err error) {
	c.item.Work, err = json.Marshal(c.work)
	return err
}

type carrier struct {
	r       *Restorer
	ctx     context.Context
	receipt int64
	at      func(path string) // told what is being written
	open    *handles
	stages  *stages
}

// batch brings one batch of items back. An error is one of the records or the stores as a whole; what befalls single
// items is in their outcomes. Its steps, each for all items, are: make ready under temporary names and keep what must
// give way; sync, and record what will arrive; give final names; sync; take out of the stores; record.
func (c *carrier) batch(items []catalogue.ReceiptItem) error {
	c.open, c.stages = newHandles(c.ctx, c.r.Site), c.r.newStages(c.receipt)
	defer func() {
		c.stages.close(context.WithoutCancel(c.ctx), c.open)
		c.open.close()
	}()
	var all []*carried
	for n := range items {
		if items[n].Outcome != catalogue.ItemWaiting {
			continue
		}
		it := &carried{item: &items[n]}
		if err := json.Unmarshal(items[n].Work, &it.work); err != nil {
			return err
		}
		if !it.work.Away {
			it.source, it.err = c.open.sourceByID(items[n].Source)
		}
		if it.err == nil {
			c.at(it.item.To.Path)
			it.err = c.ready(it)
		}
		all = append(all, it)
	}
	// From here on the batch is finished even if the service is asked to stop.
	stoppable := c.ctx
	defer func() { c.ctx = stoppable }()
	c.ctx = context.WithoutCancel(c.ctx)
	c.open.ctx = c.ctx
	if err := c.commitReady(all); err != nil {
		return err
	}
	for _, it := range all {
		if it.err == nil {
			it.err = c.place(it)
		}
	}
	c.syncPlaced(all)
	c.takeOut(all)
	return c.record(all)
}

// ready checks that the copy is as planned, makes missing folders, keeps what must give way, and, where a rename will
// not do, writes the copy under its temporary name.
func (c *carrier) ready(it *carried) error {
	if it.work.Away {
		folder, err := c.open.parent(it.item.To)
		if err != nil {
			return err
		}
		a, err := c.r.keep(c.ctx, folder, it.item.To.Name())
		it.work.Aside = &a
		return err
	}
	info, err := c.standingCopy(it)
	if err != nil {
		return err
	}
	switch {
	case !it.work.AsOf && !it.work.Before.is(info):
		return errors.New("it changed since it was planned; plan again")
	case it.work.AsOf && (info.Type != it.item.Type || info.Type == plan.File && !it.work.Expect.met(info)):
		return errors.New("it is not as the last survey saw it; survey and plan again")
	case it.work.AsOf:
		it.work.Before = identify(info)
	}
	if it.work.Leaves {
		if err := c.lookClosely(it); err != nil {
			return err
		}
	}
	folder, err := c.makeParents(it, info)
	if err != nil {
		return err
	}
	if it.work.Sets {
		a, err := c.r.keep(c.ctx, folder, it.item.To.Name())
		if errors.Is(err, fs.ErrNotExist) {
			it.work.Sets = false // what stood there is gone, so nothing has to give way
		} else if err != nil {
			return err
		} else {
			it.work.Aside = &a
		}
	}
	if it.work.Renames {
		it.work.After = it.work.Before
		return nil
	}
	st, err := c.stage(it, folder)
	if err != nil {
		return err
	}
	name := staged(it.item.N, endPart)
	w, err := c.copyTo(it, st, name)
	if err != nil {
		return err
	}
	it.item.SHA256 = w.digest
	if it.item.Type == plan.File {
		it.item.Size = w.bytes
	}
	it.item.Note = joinNotes(append([]string{it.item.Note}, w.notes...)...)
	if w.lost != nil {
		it.item.Note = joinNotes(it.item.Note, "not kept: "+strings.Join(w.lost, ", "))
	}
	it.work.After, err = look(c.ctx, st, name)
	return err
}

// stage returns the stage on the file system of an item's folder. It is made in the folder that stood before.
func (c *carrier) stage(it *carried, folder reach.Folder) (*stage, error) {
	if it.work.Ground != nil {
		p := place.Place{Machine: it.item.To.Machine, Path: string(it.work.Ground.Path)}
		if above, err := c.open.folder(p); err == nil {
			here, err := folder.Info()
			there, e := above.Info()
			if err == nil && e == nil && here.Device == there.Device {
				return c.stages.on(c.ctx, above, p)
			}
		}
	}
	return c.stages.on(c.ctx, folder, parentOf(it.item.To))
}

// lookClosely takes down what an item that leaves its store is like inside, before anything is done with it: what is there
// afterwards must be that and nothing else. Of a file that is moved, that is its digest.
func (c *carrier) lookClosely(it *carried) error {
	from, err := c.open.parent(it.item.From)
	if err != nil {
		return err
	}
	name := it.item.From.Name()
	switch {
	case it.item.Type == plan.Folder:
		it.work.Before.Inside, err = insideOf(c.ctx, from, name)
	case it.item.Type == plan.File && it.work.Renames:
		it.item.SHA256, err = digestOf(c.ctx, from, name)
	}
	if errors.Is(err, fs.ErrNotExist) {
		return errNotThere
	}
	return err
}

// parentOf is the folder that a place lies in.
func parentOf(p place.Place) place.Place {
	return place.Place{Machine: p.Machine, Path: place.Folder(p.Path)}
}

// errNotThere says that an item is not in its store any more.
var errNotThere = errors.New("it is no longer where it was: it was emptied, or somebody just brought it back; survey again")

func (c *carrier) standingCopy(it *carried) (reach.Info, error) {
	if _, ok := it.source.(source.Giver); ok {
		info, err := c.open.lstat(it.item.From)
		if errors.Is(err, fs.ErrNotExist) {
			err = errNotThere
		}
		return info, err
	}
	content, err := it.source.Open(c.ctx, it.work.at())
	if err != nil {
		return reach.Info{}, err
	}
	return content.Info, content.Close()
}

func (c *carrier) copyTo(it *carried, folder reach.Folder, name string) (written, error) {
	if _, ok := it.source.(source.Giver); ok {
		from, err := c.open.parent(it.item.From)
		if err != nil {
			return written{}, err
		}
		o, err := standingAt(c.ctx, from, it.item.From.Name())
		if err != nil {
			return written{}, err
		}
		return write(c.ctx, it.original(o), folder, name)
	}
	content, err := it.source.Open(c.ctx, it.work.at())
	if err != nil {
		return written{}, err
	}
	defer content.Close()
	return write(c.ctx, it.original(contentOf{standing{ctx: c.ctx, info: content.Info}, content}), folder, name)
}

// original is what of a copy is written: of a folder that comes alone only itself.
func (c *carried) original(o original) original {
	if c.work.Alone {
		o = bare{o}
	}
	if c.work.Like != nil {
		o = liked{o, *c.work.Like}
	}
	if c.work.To != nil {
		o = belonged{o, c.work.To}
	}
	return o
}

// makeParents opens the destination folder and makes what is missing of it: owned by the copy's owner, and as open to
// others as the nearest folder that stands, where that is the same owner's.
func (c *carrier) makeParents(it *carried, copied reach.Info) (reach.Folder, error) {
	to := place.Place{Machine: it.item.To.Machine, Path: place.Folder(it.item.To.Path)}
	folder, err := c.open.folder(to)
	if err == nil {
		it.work.Made = nil
		return folder, nil
	}
	var missing []string
	for errors.Is(err, fs.ErrNotExist) && to.Path != "/" {
		missing = append(missing, to.Path)
		to.Path = place.Folder(to.Path)
		folder, err = c.open.folder(to)
	}
	if err != nil {
		return nil, err
	}
	ground, err := folder.Info()
	if err != nil {
		return nil, err
	}
	belongs := it.work.To.of(reach.Meta{UID: copied.UID, GID: copied.GID, Written: c.r.Now()})
	belongs.Mode = 0o755
	if ground.UID == belongs.UID {
		belongs.Mode = ground.Mode.Perm()
	} else if copied.Mode&0o077 == 0 {
		belongs.Mode = 0o700
	}
	it.work.Made = nil
	for n := len(missing) - 1; n >= 0; n-- {
		made := place.Place{Machine: to.Machine, Path: missing[n]}
		if folder, err = c.makeFolder(it, folder, made, belongs); err != nil {
			return nil, fmt.Errorf("make folder %s: %w", place.Quote(made.Path), err)
		}
	}
	return folder, nil
}

// makeFolder makes a folder ready in a stage and gives it its name. Where somebody else makes one meanwhile, that is taken.
func (c *carrier) makeFolder(it *carried, in reach.Folder, p place.Place, meta reach.Meta) (reach.Folder, error) {
	st, err := c.stages.on(c.ctx, in, parentOf(p))
	if err != nil {
		return nil, err
	}
	name := fmt.Sprintf("%d.%d.%s", it.item.N, len(it.work.Made), endPart)
	if err := st.Mkdir(name); err != nil {
		return nil, err
	}
	made, err := st.Enter(name)
	if err != nil {
		return nil, err
	}
	defer made.Close()
	err = made.SetMeta(meta)
	if lost, ok := errors.AsType[*reach.MetaError](err); ok {
		it.item.Note, err = joinNotes(it.item.Note, "folder made again without "+strings.Join(lost.Lost, ", ")), nil
	}
	if err == nil {
		err = st.Rename(name, in, p.Name())
	}
	if errors.Is(err, fs.ErrExist) {
		if err := st.Remove(name); err != nil {
			return nil, err
		}
		return c.open.folder(p)
	}
	if err != nil {
		return nil, err
	}
	it.work.Made = append(it.work.Made, []byte(p.Path))
	if err := in.Sync(); err != nil {
		return nil, err
	}
	opened, err := c.open.folder(p)
	if err != nil {
		return nil, err
	}
	was, err := made.Info()
	if err != nil {
		return nil, err
	}
	is, err := opened.Info()
	if err == nil && (is.Inode != was.Inode || is.Device != was.Device) {
		c.open.drop(p)
		err = errors.New("something else took its place the moment it was made")
	}
	return opened, err
}
