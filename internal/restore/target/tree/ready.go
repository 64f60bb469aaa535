package tree

import (
	"errors"
	"fmt"
	"io/fs"
	"strings"

	"humble-rewind/internal/contents"
	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/reach"
	"humble-rewind/internal/restore/hands"
	"humble-rewind/internal/restore/journal"
	"humble-rewind/internal/restore/original"
	"humble-rewind/internal/restore/target"
)

// Ready does its work through hands of its own, so that several items can be made ready side by side.
func (t *Target) Ready(it *journal.Carried) error {
	own := *t
	own.open = t.spare.Take(t.open)
	defer t.spare.Give(own.open)
	return own.makeReady(it)
}

// makeReady checks that the copy is as planned, makes missing folders, keeps what must give way, and, where a rename will
// not do, writes the copy under its temporary name.
func (t *Target) makeReady(it *journal.Carried) error {
	if it.Work.Away {
		folder, err := t.open.Parent(it.Item.To)
		if err != nil {
			return err
		}
		if err := target.StillStands(t.ctx, it, folder); err != nil {
			return err
		}
		a, err := t.keeper.Keep(t.ctx, folder, it.Item.To.Name())
		it.Work.Aside = &a
		return err
	}
	info, err := t.standingCopy(it)
	if err != nil {
		return err
	}
	switch {
	case !it.Work.AsOf && !it.Work.Before.Planned(info):
		return errors.New("it changed since it was planned; plan again")
	case it.Work.AsOf && (info.Type != it.Item.Type || info.Type == entry.File && !it.Work.Expect.Met(info)):
		return errors.New("it is not as the last survey saw it; survey and plan again")
	case it.Work.AsOf:
		it.Work.Before = original.Identify(info)
	}
	if it.Work.Leaves {
		if err := t.lookClosely(it); err != nil {
			return err
		}
	}
	folder, err := t.makeParents(it, info)
	if err != nil {
		return err
	}
	if it.Work.Sets {
		if err := target.StillStands(t.ctx, it, folder); err != nil {
			return err
		}
		a, err := t.keeper.Keep(t.ctx, folder, it.Item.To.Name())
		if errors.Is(err, fs.ErrNotExist) {
			it.Work.Sets = false // what stood there is gone, so nothing has to give way
		} else if err != nil {
			return err
		} else {
			it.Work.Aside = &a
		}
	}
	if it.Work.Renames {
		it.Work.After = it.Work.Before
		return nil
	}
	st, err := t.stage(it, folder)
	if err != nil {
		return err
	}
	name := staged(it.Item.N, endPart)
	w, err := t.copyTo(it, st, name)
	if err != nil {
		return err
	}
	it.Item.SHA256, it.Proofs, it.Stage = w.Digest, w.Proofs, st
	if it.Item.Type == entry.File {
		it.Item.Size = w.Bytes
	}
	journal.Note(it.Item, w.Notes...)
	if w.Lost != nil {
		it.Note("not-kept", "lost", strings.Join(w.Lost, ", "))
	}
	it.Work.After, err = original.IdentityAt(t.ctx, st, name)
	return err
}

// stage returns the stage on the file system of an item's folder. It is made in the folder that stood before.
func (t *Target) stage(it *journal.Carried, folder reach.Folder) (*stage, error) {
	if it.Work.Ground != nil {
		p := place.Place{Machine: it.Item.To.Machine, Path: string(it.Work.Ground.Path)}
		if above, err := t.open.Folder(p); err == nil {
			here, err := folder.Info(t.ctx)
			there, e := above.Info(t.ctx)
			if err == nil && e == nil && reach.SameVolume(here.Volume(), there.Volume()) == reach.Yes {
				return t.stages.on(t.ctx, above, p)
			}
		}
	}
	return t.stages.on(t.ctx, folder, it.Item.To.Parent())
}

// lookClosely takes down what an item that leaves its store is like inside, before anything is done with it: what is there
// afterwards must be that and nothing else. Of a file that is moved, that is its digest, and of one that nothing else tells.
func (t *Target) lookClosely(it *journal.Carried) error {
	from, err := t.open.Parent(it.Item.From)
	if err != nil {
		return err
	}
	name := it.Item.From.Name()
	switch {
	case it.Item.Type == entry.Folder:
		it.Work.Before.Inside, err = original.InsideOf(t.ctx, from, name)
	case it.Item.Type == entry.File && it.Work.Renames:
		it.Item.SHA256, err = contents.DigestAt(t.ctx, from, name)
	default:
		var info reach.Info
		if info, err = from.Look(t.ctx, name); err == nil {
			it.Work.Before.Digest, err = original.ContentOf(t.ctx, from, info)
		}
	}
	if errors.Is(err, fs.ErrNotExist) {
		return target.ErrNotThere
	}
	return err
}

func (t *Target) standingCopy(it *journal.Carried) (reach.Info, error) {
	if !hands.Emptied(it.Source) {
		return t.open.Seen(it.Source, it.Work.CopyRef())
	}
	info, err := t.open.Look(it.Item.From)
	if errors.Is(err, fs.ErrNotExist) {
		err = target.ErrNotThere
	}
	return info, err
}

func (t *Target) copyTo(it *journal.Carried, folder reach.Folder, name string) (original.Written, error) {
	if hands.Emptied(it.Source) {
		from, err := t.open.Parent(it.Item.From)
		if err != nil {
			return original.Written{}, err
		}
		o, err := original.StandingAt(t.ctx, from, it.Item.From.Name())
		if err != nil {
			return original.Written{}, err
		}
		return original.Begin(t.ctx, it.Written(o), folder, name)
	}
	content, err := it.Source.Open(t.ctx, it.Work.CopyRef())
	if err != nil {
		return original.Written{}, err
	}
	defer content.Close()
	return original.Begin(t.ctx, it.Written(original.OpenedBy(t.ctx, content)), folder, name)
}

// makeParents opens the destination folder and makes what is missing of it: owned by the copy's owner, and as open to
// others as the nearest folder that stands, where that is the same owner's.
func (t *Target) makeParents(it *journal.Carried, copied reach.Info) (reach.Folder, error) {
	to := place.Place{Machine: it.Item.To.Machine, Path: place.Folder(it.Item.To.Path)}
	folder, err := t.open.Folder(to)
	if err == nil {
		it.Work.Made = nil
		return folder, nil
	}
	t.making.Lock() // one after the other, so that it is told whose folders they are
	defer t.making.Unlock()
	folder, err = t.open.Folder(to)
	if err == nil {
		it.Work.Made = nil
		return folder, nil
	}
	var missing []string
	for errors.Is(err, fs.ErrNotExist) && to.Path != "/" {
		missing = append(missing, to.Path)
		to.Path = place.Folder(to.Path)
		folder, err = t.open.Folder(to)
	}
	if err != nil {
		return nil, err
	}
	ground, err := folder.Info(t.ctx)
	if err != nil {
		return nil, err
	}
	belongs := it.Work.To.Of(reach.Meta{UID: copied.UID, GID: copied.GID, Written: t.now()})
	belongs.Mode = entry.Is(fs.FileMode(0o755))
	if ground.UID == belongs.UID && ground.Mode.Known {
		belongs.Mode = entry.Is(ground.Mode.Value.Perm())
	} else if copied.Mode.Known && copied.Mode.Value&0o077 == 0 {
		belongs.Mode = entry.Is(fs.FileMode(0o700))
	}
	it.Work.Made = nil
	for n := len(missing) - 1; n >= 0; n-- {
		made := place.Place{Machine: to.Machine, Path: missing[n]}
		if folder, err = t.makeFolder(it, folder, made, belongs); err != nil {
			return nil, fmt.Errorf("make folder %s: %w", place.Quote(made.Path), err)
		}
	}
	return folder, nil
}

// makeFolder makes a folder ready in a stage and gives it its name. Where somebody else makes one meanwhile, that is taken.
func (t *Target) makeFolder(it *journal.Carried, in reach.Folder, p place.Place, meta reach.Meta) (reach.Folder, error) {
	st, err := t.stages.on(t.ctx, in, p.Parent())
	if err != nil {
		return nil, err
	}
	name := fmt.Sprintf("%d.%d.%s", it.Item.N, len(it.Work.Made), endPart)
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
		it.Note("folder-without", "lost", strings.Join(lost.Lost, ", "))
		err = nil
	}
	if err == nil {
		err = st.Rename(t.ctx, name, in, p.Name())
	}
	if errors.Is(err, fs.ErrExist) {
		if err := st.Remove(t.ctx, name); err != nil {
			return nil, err
		}
		return t.open.Folder(p)
	}
	if err != nil {
		return nil, err
	}
	it.Work.Made = append(it.Work.Made, []byte(p.Path))
	if err := in.Sync(t.ctx); err != nil {
		return nil, err
	}
	opened, err := t.open.Folder(p)
	if err != nil {
		return nil, err
	}
	was, err := made.Info(t.ctx)
	if err != nil {
		return nil, err
	}
	is, err := opened.Info(t.ctx)
	if err == nil && is.Seen().SameFile(was.Seen()) == reach.No {
		t.open.Drop(p)
		err = errors.New("something else took its place the moment it was made")
	}
	return opened, err
}
