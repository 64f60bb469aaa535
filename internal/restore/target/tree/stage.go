package tree

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io/fs"
	"strings"
	"sync"

	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/problem"
	"humble-rewind/internal/reach"
	"humble-rewind/internal/restore/hands"
	"humble-rewind/internal/restore/original"
	"humble-rewind/internal/restore/target"
	"humble-rewind/internal/say"
)

// stage is a folder on the file system of a destination that nobody but the service can enter. What is written, what gives way
// and what is about to be removed passes through it: there no user can put anything in its place. The receipt knows its stages
// before they are made. A stage is known again by an entry in it whose name nobody else knows.
type stage struct {
	reach.Folder
	record catalogue.Stage
}

// What a stage holds of an item is named by the item's number and one of these.
const (
	endPart  = "part"  // being written
	endAside = "aside" // gave way; it is in safekeeping too
	endTaken = "taken" // to be removed, or put back into its store
)

func staged(n int, end string) string { return fmt.Sprintf("%d.%s", n, end) }

// stages are those of a receipt: one on each file system or, of an interrupted attempt, one for each of two batches.
type stages struct {
	records *catalogue.Catalogue
	receipt int64
	mu      sync.Mutex // held while one is looked for or made
	at      map[volumeOf]*stage
}

// volumeOf is a file system of a machine or, where nobody can tell which that is, a folder.
type volumeOf struct {
	machine string
	volume  entry.Volume
	folder  string
}

// volumeAt is the file system that a folder lies on, or a place in one.
func volumeAt(folder place.Place, volume entry.Volume) volumeOf {
	if volume.Known() {
		return volumeOf{machine: folder.Machine, volume: volume}
	}
	return volumeOf{machine: folder.Machine, folder: folder.Path}
}

// on returns the stage on the file system of a folder, and makes it in that folder where there is none yet.
func (s *stages) on(ctx context.Context, folder reach.Folder, p place.Place) (*stage, error) {
	info, err := folder.Info(ctx)
	if err != nil {
		return nil, err
	}
	key := volumeAt(p, info.Volume())
	s.mu.Lock()
	defer s.mu.Unlock()
	if made, ok := s.at[key]; ok {
		return made, nil
	}
	record := catalogue.Stage{
		Receipt: s.receipt,
		Folder:  p,
		Name:    ".humble-rewind-" + strings.ToLower(rand.Text()[:10]),
		Secret:  rand.Text(),
	}
	if err := s.records.Receipts.AddStage(ctx, record); err != nil {
		return nil, err
	}
	made, err := makeStage(ctx, folder, record)
	if err != nil {
		_ = folder.Remove(ctx, record.Name) // empty, if it is there at all
		return nil, errors.Join(fmt.Errorf("make a folder to work in: %w", err), s.records.Receipts.DropStage(ctx, record))
	}
	s.at[key] = made
	return made, nil
}

func makeStage(ctx context.Context, folder reach.Folder, record catalogue.Stage) (*stage, error) {
	if err := folder.Mkdir(ctx, record.Name); err != nil {
		return nil, err
	}
	inside, err := folder.Into(ctx, record.Name)
	if err != nil {
		return nil, err
	}
	if err = private(ctx, inside); err == nil {
		err = inside.Mkdir(ctx, record.Secret)
	}
	if err != nil {
		return nil, errors.Join(err, inside.Close())
	}
	return &stage{inside, record}, nil
}

// private makes sure that a folder that was just made is one: empty, and closed to others. Whoever may rename in the folder
// around it could have put another in its place, but none that he can enter.
func private(ctx context.Context, folder reach.Folder) error {
	info, err := folder.Info(ctx)
	if err != nil {
		return err
	}
	entries, err := folder.List(ctx)
	if err == nil && (!info.Mode.Known || info.Mode.Value.Perm()&0o077 != 0 || len(entries) > 0) {
		err = errors.New("something else took its place while it was made")
	}
	return err
}

// reopen opens the stages that an interrupted attempt left. Where the folder of one is away, the error is target.ErrAway.
func (s *stages) reopen(ctx context.Context, open *hands.Hands) error {
	left, err := s.records.Receipts.Stages(ctx, s.receipt)
	if err != nil {
		return err
	}
	for _, record := range left {
		folder, err := open.Folder(record.Folder)
		if err != nil {
			return fmt.Errorf("%w: %s, in which it was worked, cannot be opened (%s)", target.ErrAway, record.Folder, say.BringBackError(err))
		}
		inside, err := folder.Into(ctx, record.Name)
		if errors.Is(err, fs.ErrNotExist) || errors.Is(err, problem.NotFolder) {
			if err := s.records.Receipts.DropStage(ctx, record); err != nil {
				return err
			}
			continue
		}
		if err != nil {
			return err
		}
		if _, err := inside.Look(ctx, record.Secret); err != nil { // not made to its end, or somebody else's
			inside.Close()
			_ = folder.Remove(ctx, record.Name) // which removes nothing but an empty folder
			if err := s.records.Receipts.DropStage(ctx, record); err != nil {
				return err
			}
			continue
		}
		info, err := inside.Info(ctx)
		if err != nil {
			return err
		}
		key := volumeAt(record.Folder, info.Volume())
		if _, another := s.at[key]; another { // of the batch before or behind it
			key.folder = record.Name
		}
		s.at[key] = &stage{inside, record}
	}
	return nil
}

// Find returns the stage that holds something under a name, or nil.
func (s *stages) find(ctx context.Context, name string) (*stage, reach.Info, error) {
	for _, st := range s.at {
		info, err := st.Look(ctx, name)
		if err == nil {
			return st, info, nil
		}
		if !errors.Is(err, fs.ErrNotExist) {
			return nil, info, err
		}
	}
	return nil, reach.Info{}, nil
}

// close removes the stages with what is left in them of what was written. What was taken from somebody stays, and so does
// the stage with it, until it can be settled.
func (s *stages) close(ctx context.Context, open *hands.Hands) {
	for _, st := range s.at {
		if st.clear(ctx) {
			if folder, err := open.Folder(st.record.Folder); err == nil && original.IgnoreGone(folder.Remove(ctx, st.record.Name)) == nil {
				_ = s.records.Receipts.DropStage(ctx, st.record) // else it is looked for in vain, once
			}
		}
		st.Close()
	}
	clear(s.at)
}

// clear empties a stage, and tells whether that went through.
func (st *stage) clear(ctx context.Context) bool {
	entries, err := st.List(ctx)
	if err != nil {
		return false
	}
	for _, e := range entries {
		switch {
		case e.Name == st.record.Secret:
			continue // last
		case !strings.HasSuffix(e.Name, "."+endPart), original.RemoveTree(ctx, st, e.Name) != nil:
			return false
		}
	}
	return st.Remove(ctx, st.record.Secret) == nil
}

// take moves an entry into a stage and makes sure that what came is what was seen. If not, it is put back.
func (st *stage) take(ctx context.Context, from reach.Folder, name string, was original.Identity, as string) error {
	if err := from.Rename(ctx, name, st.Folder, as); err != nil {
		return err
	}
	got, err := original.IdentityAt(ctx, st, as)
	if err == nil && !was.IsStill(got) {
		err = target.ErrChanged
	}
	if err != nil {
		return errors.Join(err, st.Rename(ctx, as, from, name))
	}
	return nil
}
