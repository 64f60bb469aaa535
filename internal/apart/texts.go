package apart

import (
	"context"
	"io"
	"math"

	"humble-rewind/internal/core/multistatus"
	"humble-rewind/internal/core/refs"
)

// Refs reads a text of a repository that names commits: each is called with what its lines name, in their order, until it fails.
func (p *Pool) Refs(ctx context.Context, form refs.Form, text io.Reader, each func(refs.Named) error) error {
	return records(ctx, p, &structure{request: request{Op: opRefs, Form: string(form)}, stream: text}, nil, each)
}

// Multistatus reads a piece of what a drive answered, see package multistatus: each is called with what it tells of each resource, in its order,
// until it fails.
func (p *Pool) Multistatus(ctx context.Context, piece io.Reader, last bool, each func(multistatus.Resource) error) (read multistatus.Slice, err error) {
	err = records(ctx, p, &structure{request: request{Op: opMultistatus, Last: last}, stream: piece}, &read, each)
	return read, err
}

// refs is the child's side.
func (w *worker) refs(form refs.Form) error {
	found := batch[refs.Named]{w: w}
	err := w.streamed(math.MaxInt64, func(text io.Reader) error {
		return refs.Read(form, text, func(n refs.Named) error { return found.put(n, 160+len(n.Ref)) })
	})
	if err != nil {
		return err
	}
	return found.flush()
}

// multistatus is the child's side.
func (w *worker) multistatus(last bool) (read multistatus.Slice, err error) {
	found := batch[multistatus.Resource]{w: w}
	err = w.streamed(math.MaxInt64, func(piece io.Reader) (err error) {
		read, err = multistatus.Read(piece, last, func(r multistatus.Resource) error { return found.put(r, r.Bytes()) })
		return err
	})
	if err != nil {
		return read, err
	}
	return read, found.flush()
}
