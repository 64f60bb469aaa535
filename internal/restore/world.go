package restore

import (
	"errors"
	"io/fs"

	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/plan"
	"humble-rewind/internal/core/problem"
	"humble-rewind/internal/core/remark"
	"humble-rewind/internal/restore/hands"
	"humble-rewind/internal/restore/original"
	"humble-rewind/internal/say"
)

// world is what stands on the machines, looked at once a place.
type world struct {
	open     *hands.Hands
	standing map[place.Place]plan.Standing
}

func newWorld(open *hands.Hands) *world {
	return &world{open: open, standing: map[place.Place]plan.Standing{}}
}

func (w *world) At(p place.Place) plan.Standing {
	s, ok := w.standing[p]
	if ok {
		return s
	}
	if p.Path != "/" {
		// Thousands of items may go into one folder that is not there yet; nothing needs to be kept about them.
		if parent := w.At(place.Place{Machine: p.Machine, Path: place.Folder(p.Path)}); !parent.Exists && !parent.Problem.Any() {
			return plan.Standing{}
		}
	}
	s = w.observe(p)
	w.standing[p] = s
	return s
}

func (w *world) observe(p place.Place) plan.Standing {
	info, err := w.open.Look(p)
	switch {
	case errors.Is(err, fs.ErrNotExist) || errors.Is(err, problem.NotFolder):
		return plan.Standing{} // a file in the way of a folder is met again, as what stands, further up
	case err != nil:
		return plan.Standing{Problem: remark.Said(say.BringBackError(err))}
	}
	s := plan.Standing{
		Exists:  true,
		Type:    info.Type,
		Size:    info.Size,
		Written: info.Written,
		Volume:  info.Volume(),
		Mode:    info.Mode,
		UID:     info.UID,
		GID:     info.GID,
		Free:    -1,
	}
	if info.Type == entry.Folder {
		if f, err := w.open.Folder(p); err != nil {
			s.Problem = remark.Said(say.BringBackError(err))
		} else if s.Free, s.ReadOnly, err = f.Room(w.open.Ctx); err != nil {
			s.Problem = remark.Said(say.BringBackError(err))
		}
	}
	return s
}

// Inside says what in a folder keeps it from being set aside, or no remark.
func (w *world) Inside(p place.Place) remark.Remark {
	folder, err := w.open.Parent(p)
	if err != nil {
		return remark.Said(say.BringBackError(err))
	}
	if why := original.Obstacle(w.open.Ctx, folder, p.Name()); why != "" {
		return remark.Said(why)
	}
	return remark.Remark{}
}
