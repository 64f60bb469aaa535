package restore

import (
	"slices"
	"time"

	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/plan"
)

// touchedFolders are the standing folders that a bring-back will write in, with their write times from before it, so that an undo can give
// them back.
type touchedFolders struct {
	open  *handles
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
		info, err := f.open.look(p)
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
func (r *Restorer) datedFolders(open *handles, receipt int64, alone []datedFolder) error {
	for _, folder := range slices.Backward(alone) {
		r.dateBack(open, map[place.Place]time.Time{folder.at: folder.written})
	}
	ctx := open.ctx
	before, err := r.Site.Catalogue.Receipts.Folders(ctx, receipt)
	if err != nil {
		return err
	}
	after := map[place.Place]time.Time{}
	for p := range before {
		if info, err := open.look(p); err == nil {
			after[p] = info.Written
		}
	}
	return r.Site.Catalogue.Receipts.SaveFoldersAfter(ctx, receipt, after)
}

// datedFolder is a folder with the write time that it is to have.
type datedFolder struct {
	at      place.Place
	written time.Time
}

// dated is the write time that a folder comes back with.
func (w *work) dated() time.Time {
	if w.Like != nil && w.Like.Written.Known {
		return w.Like.Written.Time()
	}
	return w.Before.Written.Time()
}

// untouchedFolders returns the folders that nobody has written in since a bring-back, with their write times from before.
func (r *Restorer) untouchedFolders(open *handles, receipt int64) map[place.Place]time.Time {
	folders, err := r.Site.Catalogue.Receipts.Folders(open.ctx, receipt)
	if err != nil {
		return nil // their times stay those of the undo
	}
	untouched := map[place.Place]time.Time{}
	for p, times := range folders {
		if info, err := open.look(p); err == nil && info.Written.Equal(times.After) {
			untouched[p] = times.Before
		}
	}
	return untouched
}

// dateBack sets folders' write times. One that cannot be set stays as it is: nothing hangs on it.
func (r *Restorer) dateBack(open *handles, times map[place.Place]time.Time) {
	for p, at := range times {
		if p.Path == "/" || at.IsZero() {
			continue
		}
		if folder, err := open.folder(p); err == nil {
			_ = folder.Date(open.ctx, at)
		}
	}
}
