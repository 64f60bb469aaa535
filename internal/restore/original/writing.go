package original

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"slices"

	"humble-rewind/internal/core/digest"
	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/remark"
	"humble-rewind/internal/reach"
)

// Written is what writing an original came to.
type Written struct {
	Digest digest.Sum // of a file
	Bytes  int64
	Lost   []string        // what could not be kept
	Notes  []remark.Remark // what else is to be said
	Proofs []Proof         // of what is not read back yet
}

var errDiffers = errors.New("what was written reads back as something else")

// Write makes an original anew under a name that must be free, and reads every file back, see prove. What was begun is removed on
// failure.
func Write(ctx context.Context, o Original, folder reach.Folder, name string) (Written, error) {
	w, err := Begin(ctx, o, folder, name)
	if err == nil {
		if err = w.prove(ctx, folder); err != nil {
			err = errors.Join(err, IgnoreGone(RemoveTree(context.WithoutCancel(ctx), folder, name)))
		}
	}
	return w, err
}

// Begin is Write without reading back what is small: many are made to last together, and then proved.
func Begin(ctx context.Context, o Original, folder reach.Folder, name string) (Written, error) {
	w := writer{root: folder}
	err := w.entry(ctx, o, folder, name, name)
	if o.Type() != entry.File {
		w.Digest = digest.Sum{}
	}
	if err != nil {
		err = errors.Join(err, IgnoreGone(RemoveTree(context.WithoutCancel(ctx), folder, name)))
	}
	return w.Written, err
}

// writer writes one original.
type writer struct {
	Written
	root reach.Folder // that it is written in
}

// entry writes one entry under a name in a folder; at is its path from the root.
func (w *writer) entry(ctx context.Context, o Original, folder reach.Folder, name, at string) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	meta, err := o.Meta()
	if err != nil {
		return err
	}
	switch o.Type() {
	case entry.File:
		err = w.file(ctx, o, meta, folder, name, at)
	case entry.Link:
		if err = folder.Symlink(ctx, o.Target(), name); err == nil {
			err = folder.SetLinkMeta(ctx, name, meta)
		}
	case entry.Folder:
		err = w.folder(ctx, o, meta, folder, name, at)
	default:
		return fmt.Errorf("%s is a device, pipe or socket, which cannot be copied", place.Quote(name))
	}
	if lost, ok := errors.AsType[*reach.MetaError](err); ok {
		w.lose(lost.Lost)
		return nil
	}
	return err
}

func (w *Written) lose(lost []string) {
	for _, l := range lost {
		if !slices.Contains(w.Lost, l) && len(w.Lost) < 10 {
			w.Lost = append(w.Lost, l)
		}
	}
}

func (w *writer) folder(ctx context.Context, o Original, meta reach.Meta, folder reach.Folder, name, at string) error {
	if err := folder.Mkdir(ctx, name); err != nil {
		return err
	}
	into, err := folder.Into(ctx, name)
	if err != nil {
		return err
	}
	defer into.Close()
	children, done, err := o.Children()
	if err != nil {
		return err
	}
	defer done()
	for _, child := range children {
		if err := w.entry(ctx, child.Original, into, child.Name, place.Join(at, child.Name)); err != nil {
			return err
		}
		if len(w.Proofs) >= maxProofs {
			if err := w.prove(ctx, w.root); err != nil {
				return err
			}
		}
	}
	if closed(meta, 0o500) {
		if err := w.prove(ctx, w.root); err != nil {
			return err
		}
	}
	return into.SetMeta(ctx, meta)
}

// closed tells whether its mode keeps something from its owner, who cannot read it back then.
func closed(meta reach.Meta, needs fs.FileMode) bool {
	return meta.Mode.Known && meta.Mode.Value.Perm()&needs != needs
}

// file writes a file. What is large is digested beside being written, and read back from the drive meanwhile; see stream.
func (w *writer) file(ctx context.Context, o Original, meta reach.Meta, folder reach.Folder, name, at string) error {
	content, err := o.Content()
	if err != nil {
		return err
	}
	defer content.Close()
	f, err := folder.Create(ctx, name)
	if err != nil {
		return err
	}
	defer f.Close()
	s := stream{w: w, content: content, size: o.Size(), into: f}
	if err := s.run(ctx); err != nil {
		return err
	}
	w.Digest, w.Bytes = s.digest, w.Bytes+s.n
	if !s.proved {
		p := Proof{path: at, size: s.n, sum: s.sum}
		if closed(meta, 0o400) {
			if err := p.of(ctx, f); err != nil {
				return err
			}
		} else {
			w.Proofs = append(w.Proofs, p)
		}
	}
	return f.SetMeta(ctx, meta)
}

func allZero(b []byte) bool {
	return len(b) > 0 && b[0] == 0 && bytes.Equal(b[:len(b)-1], b[1:])
}
