package restore

import (
	"context"
	"slices"
	"time"

	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/plan"
)

// rememberFolders keeps the write times of the standing folders that a bring-back will write in, before it does, so that
// an undo can give them back.
func (r *Restorer) rememberFolders(ctx context.Context, receipt int64, p Planned) error {
	open := newHandles(ctx, r.Site)
	defer open.close()
	times := map[place.Place]time.Time{}
	for _, item := range p.Items {
		if item.Action == plan.Pass || item.Action == plan.Refuse {
			continue
		}
		touched := []place.Place{item.To}
		if p.wants[item.Index].Leaves {
			touched = append(touched, item.From)
		}
		for _, p := range touched {
			p.Path = place.Folder(p.Path)
			for _, known := times[p]; !known; _, known = times[p] { // the nearest that stands
				if info, err := open.look(p); err == nil {
					times[p] = info.Written
				} else if p.Path == "/" {
					break
				} else {
					p.Path = place.Folder(p.Path)
				}
			}
		}
	}
	return r.Site.Catalogue.SaveFolders(ctx, receipt, times)
}

// datedFolders gives folders that came without what is in them their write times again, which filling them changed, the innermost
// first, and keeps the write times that the standing ones have now.
func (r *Restorer) datedFolders(open *handles, receipt int64, alone []datedFolder) error {
	for _, folder := range slices.Backward(alone) {
		r.dateBack(open, map[place.Place]time.Time{folder.at: folder.written})
	}
	ctx := open.ctx
	before, err := r.Site.Catalogue.Folders(ctx, receipt)
	if err != nil {
		return err
	}
	after := map[place.Place]time.Time{}
	for p := range before {
		if info, err := open.look(p); err == nil {
			after[p] = info.Written
		}
	}
	return r.Site.Catalogue.SaveFoldersAfter(ctx, receipt, after)
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
	folders, err := r.Site.Catalogue.Folders(open.ctx, receipt)
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
