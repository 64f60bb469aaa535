package apart

import (
	"context"
	"errors"
	"io"

	"humble-rewind/internal/core/disk"
	"humble-rewind/internal/core/disk/scan"
)

// Volumes finds the file systems of a drive of so many bytes, in a child.
func (p *Pool) Volumes(ctx context.Context, drive io.ReaderAt, size int64) (scan.Layout, error) {
	var layout scan.Layout
	s := &structure{request: request{Op: opVolumes}, content: []Input{{ReaderAt: drive, Size: size}}, faults: true}
	return layout, records(ctx, p, s, &layout, func(struct{}) error { return nil })
}

// Walk has a child tell of the files of a file system: each is called with those that stand, or those that were erased, until it fails; note with
// what was wrong.
func (p *Pool) Walk(ctx context.Context, drive io.ReaderAt, size int64, v scan.Volume, erased bool, each func(scan.Trace) error, note func(disk.Note)) error {
	var notes []disk.Note
	s := &structure{request: request{Op: opWalk, Volume: &v, Erased: erased}, content: []Input{{ReaderAt: drive, Size: size}}, faults: true}
	err := records(ctx, p, s, &notes, each)
	for _, n := range notes {
		note(n)
	}
	return err
}

// drive is the child's side.
func (w *worker) drive(r request, contents []Input) (any, error) {
	if len(contents) != 1 {
		return nil, errors.New("not a request")
	}
	tidy()
	if r.Op == opVolumes {
		return scan.Look(contents[0], contents[0].Size), nil
	}
	if r.Volume == nil {
		return nil, errors.New("not a request")
	}
	found := batch[scan.Trace]{w: w}
	notes := []disk.Note{}
	err := scan.Walk(contents[0], contents[0].Size, *r.Volume, r.Erased, func(t scan.Trace) error {
		return found.put(t, 128+len(t.Entry.Dir)+len(t.Entry.Name)+len(t.Entry.Target)+24*len(t.Entry.Runs))
	}, func(n disk.Note) {
		if len(notes) < mostNotes {
			notes = append(notes, n)
		}
	})
	if err == nil {
		err = found.flush()
	}
	return notes, err
}

// mostNotes is how many are passed on.
const mostNotes = 200
