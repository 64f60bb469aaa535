package restore

import (
	"errors"
	"fmt"
	"io/fs"
	"strings"

	"humble-rewind/internal/contents"
	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/reach"
)

// ready does its work through handles of its own, so that several items can be made ready side by side.
func (t *treeTarget) ready(it *carried) error {
	own := *t
	own.open = t.spare.take(t.open)
	defer t.spare.give(own.open)
	return own.makeReady(it)
}

// makeReady checks that the copy is as planned, makes missing folders, keeps what must give way, and, where a rename will
// not do, writes the copy under its temporary name.
func (t *treeTarget) makeReady(it *carried) error {
	if it.work.Away {
		folder, err := t.open.parent(it.item.To)
		if err != nil {
			return err
		}
		a, err := t.r.keep(t.ctx, folder, it.item.To.Name())
		it.work.Aside = &a
		return err
	}
	info, err := t.standingCopy(it)
	if err != nil {
		return err
	}
	switch {
	case !it.work.AsOf && !it.work.Before.planned(info):
		return errors.New("it changed since it was planned; plan again")
	case it.work.AsOf && (info.Type != it.item.Type || info.Type == entry.File && !it.work.Expect.met(info)):
		return errors.New("it is not as the last survey saw it; survey and plan again")
	case it.work.AsOf:
		it.work.Before = identify(info)
	}
	if it.work.Leaves {
		if err := t.lookClosely(it); err != nil {
			return err
		}
	}
	folder, err := t.makeParents(it, info)
	if err != nil {
		return err
	}
	if it.work.Sets {
		a, err := t.r.keep(t.ctx, folder, it.item.To.Name())
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
	st, err := t.stage(it, folder)
	if err != nil {
		return err
	}
	name := staged(it.item.N, endPart)
	w, err := t.copyTo(it, st, name)
	if err != nil {
		return err
	}
	it.item.SHA256, it.proofs, it.stage = w.digest, w.proofs, st
	if it.item.Type == entry.File {
		it.item.Size = w.bytes
	}
	it.item.Note = joinNotes(append([]string{it.item.Note}, w.notes...)...)
	if w.lost != nil {
		it.item.Note = joinNotes(it.item.Note, "not kept: "+strings.Join(w.lost, ", "))
	}
	it.work.After, err = identityAt(t.ctx, st, name)
	return err
}

// stage returns the stage on the file system of an item's folder. It is made in the folder that stood before.
func (t *treeTarget) stage(it *carried, folder reach.Folder) (*stage, error) {
	if it.work.Ground != nil {
		p := place.Place{Machine: it.item.To.Machine, Path: string(it.work.Ground.Path)}
		if above, err := t.open.folder(p); err == nil {
			here, err := folder.Info(t.ctx)
			there, e := above.Info(t.ctx)
			if err == nil && e == nil && reach.SameVolume(here.Volume(), there.Volume()) == reach.Yes {
				return t.stages.on(t.ctx, above, p)
			}
		}
	}
	return t.stages.on(t.ctx, folder, parentOf(it.item.To))
}

// lookClosely takes down what an item that leaves its store is like inside, before anything is done with it: what is there
// afterwards must be that and nothing else. Of a file that is moved, that is its digest, and of one that nothing else tells.
func (t *treeTarget) lookClosely(it *carried) error {
	from, err := t.open.parent(it.item.From)
	if err != nil {
		return err
	}
	name := it.item.From.Name()
	switch {
	case it.item.Type == entry.Folder:
		it.work.Before.Inside, err = insideOf(t.ctx, from, name)
	case it.item.Type == entry.File && it.work.Renames:
		it.item.SHA256, err = contents.DigestAt(t.ctx, from, name)
	default:
		var info reach.Info
		if info, err = from.Look(t.ctx, name); err == nil {
			it.work.Before.Digest, err = contentOf(t.ctx, from, info)
		}
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

func (t *treeTarget) standingCopy(it *carried) (reach.Info, error) {
	if !emptied(it.source) {
		return t.open.seen(it.source, it.work.ref())
	}
	info, err := t.open.look(it.item.From)
	if errors.Is(err, fs.ErrNotExist) {
		err = errNotThere
	}
	return info, err
}

func (t *treeTarget) copyTo(it *carried, folder reach.Folder, name string) (written, error) {
	if emptied(it.source) {
		from, err := t.open.parent(it.item.From)
		if err != nil {
			return written{}, err
		}
		o, err := standingAt(t.ctx, from, it.item.From.Name())
		if err != nil {
			return written{}, err
		}
		return begin(t.ctx, it.original(o), folder, name)
	}
	content, err := it.source.Open(t.ctx, it.work.ref())
	if err != nil {
		return written{}, err
	}
	defer content.Close()
	return begin(t.ctx, it.original(opened{standing{ctx: t.ctx, info: content.Info}, content}), folder, name)
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
func (t *treeTarget) makeParents(it *carried, copied reach.Info) (reach.Folder, error) {
	to := place.Place{Machine: it.item.To.Machine, Path: place.Folder(it.item.To.Path)}
	folder, err := t.open.folder(to)
	if err == nil {
		it.work.Made = nil
		return folder, nil
	}
	t.making.Lock() // one after the other, so that it is told whose folders they are
	defer t.making.Unlock()
	folder, err = t.open.folder(to)
	if err == nil {
		it.work.Made = nil
		return folder, nil
	}
	var missing []string
	for errors.Is(err, fs.ErrNotExist) && to.Path != "/" {
		missing = append(missing, to.Path)
		to.Path = place.Folder(to.Path)
		folder, err = t.open.folder(to)
	}
	if err != nil {
		return nil, err
	}
	ground, err := folder.Info(t.ctx)
	if err != nil {
		return nil, err
	}
	belongs := it.work.To.of(reach.Meta{UID: copied.UID, GID: copied.GID, Written: t.r.Now()})
	belongs.Mode = entry.Is(fs.FileMode(0o755))
	if ground.UID == belongs.UID && ground.Mode.Known {
		belongs.Mode = entry.Is(ground.Mode.Value.Perm())
	} else if copied.Mode.Known && copied.Mode.Value&0o077 == 0 {
		belongs.Mode = entry.Is(fs.FileMode(0o700))
	}
	it.work.Made = nil
	for n := len(missing) - 1; n >= 0; n-- {
		made := place.Place{Machine: to.Machine, Path: missing[n]}
		if folder, err = t.makeFolder(it, folder, made, belongs); err != nil {
			return nil, fmt.Errorf("make folder %s: %w", place.Quote(made.Path), err)
		}
	}
	return folder, nil
}

// makeFolder makes a folder ready in a stage and gives it its name. Where somebody else makes one meanwhile, that is taken.
func (t *treeTarget) makeFolder(it *carried, in reach.Folder, p place.Place, meta reach.Meta) (reach.Folder, error) {
	st, err := t.stages.on(t.ctx, in, parentOf(p))
	if err != nil {
		return nil, err
	}
	name := fmt.Sprintf("%d.%d.%s", it.item.N, len(it.work.Made), endPart)
	if err := st.Mkdir(t.ctx, name); err != nil {
		return nil, err
	}
	made, err := st.Into(t.ctx, name)
	if err != nil {
		return nil, err
	}
	defer made.Close()
	err = made.SetMeta(t.ctx, meta)
	if lost, ok := errors.AsType[*reach.MetaError](err); ok {
		it.item.Note, err = joinNotes(it.item.Note, "folder made again without "+strings.Join(lost.Lost, ", ")), nil
	}
	if err == nil {
		err = st.Rename(t.ctx, name, in, p.Name())
	}
	if errors.Is(err, fs.ErrExist) {
		if err := st.Remove(t.ctx, name); err != nil {
			return nil, err
		}
		return t.open.folder(p)
	}
	if err != nil {
		return nil, err
	}
	it.work.Made = append(it.work.Made, []byte(p.Path))
	if err := in.Sync(t.ctx); err != nil {
		return nil, err
	}
	opened, err := t.open.folder(p)
	if err != nil {
		return nil, err
	}
	was, err := made.Info(t.ctx)
	if err != nil {
		return nil, err
	}
	is, err := opened.Info(t.ctx)
	if err == nil && is.Seen().SameFile(was.Seen()) == reach.No {
		t.open.drop(p)
		err = errors.New("something else took its place the moment it was made")
	}
	return opened, err
}
