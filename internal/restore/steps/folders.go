package steps

import (
	"slices"
	"time"

	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/plan"
	"humble-rewind/internal/restore/hands"
)

// touchedFolders are the standing folders that a bring-back will write in, with their write times from before it, so that an undo can give
// them back.
type touchedFolders struct {
	open  *hands.Hands
	times map[place.Place]time.Time
}

// add takes note of the folders that an item writes in.
func (f *touchedFolders) add(item plan.Item) {
	if item.Action == plan.Pass || item.Action == plan.Refuse {
		return
	}
	f.touched(item.To)
	if item.Leaves {
		f.touched(item.From)
	}
}

// touched takes note of the nearest folder above a place that stands.
func (f *touchedFolders) touched(p place.Place) {
	p.Path = place.Folder(p.Path)
	for {
		if _, known := f.times[p]; known {
			return
		}
		info, err := f.open.Look(p)
		if err == nil {
			f.times[p] = info.Written
			return
		}
		if p.Path == "/" {
			return
		}
		p.Path = place.Folder(p.Path)
	}
}

// datedFolders gives folders that came without what is in them their write times again, which filling them changed, the innermost
// first, and keeps the write times that the standing ones have now.
func (s *Steps) datedFolders(open *hands.Hands, receipt int64, alone []datedFolder) error {
	for _, folder := range slices.Backward(alone) {
		s.dateBack(open, map[place.Place]time.Time{folder.at: folder.written})
	}
	ctx := open.Ctx
	before, err := s.Site.Catalogue.Receipts.Folders(ctx, receipt)
	if err != nil {
		return err
	}
	after := map[place.Place]time.Time{}
	for p := range before {
		if info, err := open.Look(p); err == nil {
			after[p] = info.Written
		}
	}
	return s.Site.Catalogue.Receipts.SaveFoldersAfter(ctx, receipt, after)
}

// datedFolder is a folder with the write time that it is to have.
type datedFolder struct {
	at      place.Place
	written time.Time
}

// untouchedFolders returns the folders that nobody has written in since a bring-back, with their write times from before.
func (s *Steps) untouchedFolders(open *hands.Hands, receipt int64) map[place.Place]time.Time {
	folders, err := s.Site.Catalogue.Receipts.Folders(open.Ctx, receipt)
	if err != nil {
		return nil // their times stay those of the undo
	}
	untouched := map[place.Place]time.Time{}
	for p, times := range folders {
		if info, err := open.Look(p); err == nil && info.Written.Equal(times.After) {
			untouched[p] = times.Before
		}
	}
	return untouched
}

// dateBack sets folders' write times. One that cannot be set stays as it is: nothing hangs on it.
func (s *Steps) dateBack(open *hands.Hands, times map[place.Place]time.Time) {
	for p, at := range times {
		if p.Path == "/" || at.IsZero() {
			continue
		}
		if folder, err := open.Folder(p); err == nil {
			_ = folder.Date(open.Ctx, at)
		}
	}
}
