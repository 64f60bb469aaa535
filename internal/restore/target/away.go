package target

import (
	"errors"
	"fmt"
	"io/fs"

	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/problem"
	"humble-rewind/internal/reach"
	"humble-rewind/internal/restore/hands"
	"humble-rewind/internal/restore/journal"
	"humble-rewind/internal/say"
)

// ErrChanged says that something is not, or no longer, what it was.
const ErrChanged = problem.Changed

// ErrAway says that a place is not there now, as when its drive is not mounted, so that nobody can tell what became of what
// was in it.
var ErrAway = errors.New("its place is away")

// Away says why nobody can tell now what stands at a destination: its file system is not there. "" where it can be told.
func Away(g *journal.Ground, open *hands.Hands, machine string) string {
	if g == nil || len(g.Path) == 0 {
		return ""
	}
	p := place.Place{Machine: machine, Path: string(g.Path)}
	for {
		info, err := open.Look(p)
		switch {
		case errors.Is(err, fs.ErrNotExist) && p.Path != "/":
			p.Path = place.Folder(p.Path)
			continue
		case err != nil:
			return fmt.Sprintf("%s cannot be looked at: %s", p, say.BringBackError(err))
		case reach.SameVolume(info.Volume(), g.Volume) == reach.Yes:
			return "" // its file system is there; what is missing was removed
		case p.Path != string(g.Path):
			return fmt.Sprintf("%s is not there, as when its drive is not mounted", place.Place{Machine: machine, Path: string(g.Path)})
		}
		// File systems can come back under other numbers, but a folder that something is mounted on is empty by itself.
		if entries, err := list(open, p); err != nil || len(entries) == 0 {
			return fmt.Sprintf("%s is empty and on another file system than before, as when its drive is not mounted", p)
		}
		return ""
	}
}

func list(open *hands.Hands, p place.Place) ([]reach.Info, error) {
	folder, err := open.Folder(p)
	if err != nil {
		return nil, err
	}
	return folder.List(open.Ctx)
}
