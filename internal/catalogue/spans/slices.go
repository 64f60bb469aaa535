package spans

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"time"

	"humble-rewind/internal/catalogue/file"
	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/core/place"
)

// A survey that takes long goes on in slices, so that others have their turn between them. What a slice found is shown once it has ended, and a
// stop between two of them loses nothing: the next begins where the last ended. Only the last one says what is gone.

// slice is how far a survey came.
type slice struct {
	Cursor []byte    `json:"cursor"` // of the kind, where to go on
	At     time.Time `json:"at"`     // when the survey began
	Seen   int64     `json:"seen"`
	Fresh  int64     `json:"fresh"`
	Gone   int64     `json:"gone"`
	Unread [][]byte  `json:"unread,omitempty"` // folders that could not be read
	Notes  []string  `json:"notes,omitempty"`
	N      int       `json:"n"` // slices so far

	Recount bool `json:"recount,omitempty"` // see Difference
}

// How far slices go on: a store that is at it longer, or more often, is begun anew.
const (
	slicesWithin = 24 * time.Hour
	maxSlices    = 1_000_000
)

// resume takes up a survey where its last slice ended, unless that is too long ago or how its source is read was changed since.
func (d *Difference) resume() error {
	if d.source.Slice == "" {
		return nil
	}
	s, err := file.FromJSON[slice](d.source.Slice)
	if err != nil || d.source.Renew || d.at.Sub(s.At) > slicesWithin || s.At.After(d.at) || s.N >= maxSlices {
		return d.dropSlice()
	}
	d.slice, d.at, d.seen, d.cursor = s, s.At, s.Seen, s.Cursor
	d.counts.Fresh, d.counts.Gone, d.recount = s.Fresh, s.Gone, s.Recount
	for _, dir := range s.Unread {
		d.unread = append(d.unread, string(dir))
	}
	return nil
}

// dropSlice forgets how far a survey came.
func (d *Difference) dropSlice() error {
	d.source.Slice = ""
	return d.room.f.Tx(d.ctx, func(w *file.Writing) error { return dropSlice(d.ctx, w, d.source.ID) })
}

func dropSlice(ctx context.Context, w *file.Writing, source copies.SourceID) error {
	return errors.Join(w.Exec(ctx, "UPDATE sources SET slice = NULL WHERE id = ? AND slice IS NOT NULL", source),
		w.Exec(ctx, "DELETE FROM sliced_folders WHERE source_id = ?", source))
}

// Cursor is where to go on; nil at the beginning of a survey.
func (d *Difference) Cursor() []byte { return d.cursor }

// Sliced tells whether the survey goes on in another slice, and what earlier ones had to say about the store as a whole.
func (d *Difference) Sliced() (again bool, noted []string) { return d.sliced, d.slice.Notes }

// Again ends a slice of the survey, which goes on from cursor in another. What was sighted in it is kept; notes are those of all slices.
func (d *Difference) Again(cursor []byte, notes []string) error {
	if d.delta && d.held == nil || d.line {
		return fmt.Errorf("survey %s: it goes on in a further slice, though it tells what changed alone, or all at once", d.source.At)
	}
	if d.slice.N > 0 && bytes.Equal(cursor, d.cursor) && d.begun == 0 {
		return errors.Join(fmt.Errorf("survey %s: it goes on where it was, and no further", d.source.At), d.dropSlice())
	}
	next := slice{Cursor: cursor, At: d.at, Seen: d.seen, Fresh: d.counts.Fresh, Notes: notes, N: d.slice.N + 1,
		Recount: d.recount}
	if d.held != nil { // points in time are each complete by themselves
		if err := d.finish(); err != nil {
			return err
		}
		d.sliced, next.Gone = true, d.counts.Gone
		return d.room.f.Tx(d.ctx, func(w *file.Writing) error { return d.keepSlice(w, next, d.source.Found+d.counts.Fresh-d.slice.Fresh) })
	}
	if d.capture == nil {
		if err := d.beginNow(); err != nil {
			return err
		}
	}
	for _, dir := range d.unread {
		next.Unread = append(next.Unread, []byte(dir))
	}
	d.sliced = true
	return errors.Join(d.failed, d.capture.pause(d.ctx, func(w *file.Writing, read []int64) error {
		if err := w.Exec(d.ctx, "INSERT OR IGNORE INTO sliced_folders (source_id, folder_id) SELECT ?, value FROM json_each(?)", d.source.ID,
			file.ToJSON(read)); err != nil {
			return err
		}
		next.Gone = d.counts.Gone + d.capture.gone
		return d.keepSlice(w, next, max(d.source.Found, next.Seen))
	}))
}

func (d *Difference) keepSlice(w *file.Writing, s slice, found int64) error {
	return w.Exec(d.ctx, "UPDATE sources SET slice = ?, found = ? WHERE id = ?", file.ToJSON(s), found, d.source.ID)
}

// pause writes what was sighted until now, without saying what is gone; keep is called with the folders read in this slice.
func (k *Capture) pause(ctx context.Context, keep func(w *file.Writing, read []int64) error) error {
	if err := k.closeFolder(ctx); err != nil {
		return err
	}
	if err := k.written(); err != nil {
		return err
	}
	for key, f := range k.folders.later {
		k.folders.put(key, f)
	}
	var read []int64
	for key, f := range k.folders.all {
		if f.visited == k.folders.epoch && !k.earlier[key] {
			read = append(read, f.id)
		}
	}
	defer k.c.forgetStore(k.source.ID)
	return k.c.writeFolders(ctx, k.source, k.dirs, k.changes, func(w *file.Writing) error {
		return errors.Join(k.enter(ctx, w), keep(w, read))
	})
}

// readBefore marks the folders that earlier slices of the survey have read.
func (k *Capture) readBefore(ctx context.Context) error {
	ids, err := file.Numbers(k.c.f.Reads.QueryContext(ctx, "SELECT folder_id FROM sliced_folders WHERE source_id = ?", k.source.ID))
	if err != nil || len(ids) == 0 {
		return err
	}
	read := make(map[int64]bool, len(ids))
	for _, id := range ids {
		read[id] = true
	}
	k.earlier = map[[2]uint64]bool{}
	for key, f := range k.folders.all {
		if read[f.id] {
			k.folders.visit(key)
			k.earlier[key] = true
		}
	}
	return nil
}

// toldBefore refuses a folder that an earlier slice has read: what lies in one belongs into one slice.
func (k *Capture) toldBefore(dir string) error {
	if k.earlier[k.folders.key(dir)] {
		return fmt.Errorf("survey %s: %s was told in an earlier slice already", k.source.At, place.Quote(dir))
	}
	return nil
}

// lastSlice ends the slices of a store that shows what it holds now, with the capture.
func (k *Capture) lastSlice(ctx context.Context, w *file.Writing) error {
	if k.dated {
		return nil
	}
	return dropSlice(ctx, w, k.source.ID)
}
