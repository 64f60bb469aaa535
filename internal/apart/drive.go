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

// Walk has a child tell of the files of a file system: each is called with those that stand, or those that were erased, until it fails;
// note with what was wrong.
func (p *Pool) Walk(ctx context.Context, drive io.ReaderAt, size int64, v scan.Volume, erased bool, each func(scan.Trace) error, note func(disk.Note)) error {
	var notes []disk.Note
	s := &structure{request: request{Op: opWalk, Volume: &v, Erased: erased}, content: []Input{{ReaderAt: drive, Size: size}}, faults: true}
	err := records(ctx, p, s, &notes, each)
	for _, n := range notes {
		note(n)
	}
	return err
}

// Sweep has a child look through so many bytes of what is free on a file system, from an offset of the drive on; next is where to go on, 0
// the end.
func (p *Pool) Sweep(ctx context.Context, drive io.ReaderAt, size int64, v scan.Volume, from, most int64, each func(scan.Trace) error,
	note func(disk.Note)) (next int64, err error) {
	var told swept
	s := &structure{request: request{Op: opSweep, Volume: &v, From: from, Most: most}, content: []Input{{ReaderAt: drive, Size: size}}, faults: true}
	err = records(ctx, p, s, &told, each)
	for _, n := range told.Notes {
		note(n)
	}
	return told.Next, err
}

// swept is what there is to say of a slice.
type swept struct {
	Next  int64
	Notes []disk.Note
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
	put := func(t scan.Trace) error {
		return found.put(t, 128+len(t.Entry.Dir)+len(t.Entry.Name)+len(t.Entry.Target)+24*len(t.Entry.Runs))
	}
	note := func(n disk.Note) {
		if len(notes) < mostNotes {
			notes = append(notes, n)
		}
	}
	drive, size := contents[0], contents[0].Size
	if r.Op == opSweep {
		next, err := scan.Sweep(drive, size, *r.Volume, r.From, r.Most, put, note)
		return swept{next, notes}, errors.Join(err, found.flush())
	}
	err := scan.Walk(drive, size, *r.Volume, r.Erased, put, note)
	return notes, errors.Join(err, found.flush())
}

// mostNotes is how many are passed on.
const mostNotes = 200
