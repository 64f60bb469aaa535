package apart

import (
	"context"
	"errors"
	"fmt"
	"io"

	"humble-rewind/internal/core/archived"
)

// Zip takes the structure of a zip apart in a child: each is called with what is said of each member, in their order, until it fails.
func (p *Pool) Zip(ctx context.Context, at io.ReaderAt, size int64, each func(archived.Head) error) (archived.Told, error) {
	return p.members(ctx, &structure{request: request{Form: "zip"}, content: []Input{{ReaderAt: at, Size: size}}}, each)
}

// Tar does so for a tar that can be read at any offset, past contents.
func (p *Pool) Tar(ctx context.Context, at io.ReaderAt, size int64, each func(archived.Head) error) (archived.Told, error) {
	return p.members(ctx, &structure{request: request{Form: "tar"}, content: []Input{{ReaderAt: at, Size: size}}}, each)
}

// PackedTar does so for a tar that is packed as one stream, in the form named, see Unpack: the same child unpacks it.
// In no form it is read as it is, from its beginning. It unpacks no more than so many bytes: what unpacks to more is archived.ErrBomb.
func (p *Pool) PackedTar(ctx context.Context, form string, packed io.Reader, most int64, each func(archived.Head) error) (archived.Told, error) {
	return p.members(ctx, &structure{request: request{Form: "tar", Packed: form, Most: most}, stream: packed}, each)
}

func (p *Pool) members(ctx context.Context, s *structure, each func(archived.Head) error) (told archived.Told, err error) {
	s.request.Op = opMembers
	err = records(ctx, p, s, &told, each)
	return told, err
}

// members is the child's side.
func (w *worker) members(r request, contents []Input) (any, error) {
	tidy()
	found := batch[archived.Head]{w: w}
	told, err := w.archive(r, contents, func(h archived.Head) error {
		return found.put(h, 64+len(h.Name)+len(h.Target)+len(h.Cryptic))
	})
	if err == nil {
		err = found.flush()
	}
	return told, err
}

func (w *worker) archive(r request, contents []Input, put func(archived.Head) error) (archived.Told, error) {
	ctx := context.Background() // whoever does not want to know any more ends the process
	switch {
	case r.Form == "zip" && len(contents) == 1:
		return archived.Zip(ctx, contents[0], contents[0].Size, put)
	case r.Form == "tar" && len(contents) == 1:
		return archived.Tar(ctx, io.NewSectionReader(contents[0], 0, contents[0].Size), put)
	case r.Form == "tar" && len(contents) == 0:
		unpacker, ok := unpackers[r.Packed]
		if r.Packed == "" { // it is only read from its beginning
			unpacker, ok = func(r io.Reader) (io.ReadCloser, error) { return io.NopCloser(r), nil }, true
		}
		if !ok {
			return archived.Told{}, fmt.Errorf("%q is not a form that is unpacked", r.Packed)
		}
		packed, err := w.stream()
		if err != nil {
			return archived.Told{}, err
		}
		defer packed.end()
		of, err := unpacker(packed)
		if err != nil {
			return archived.Told{}, fmt.Errorf("%w (%w)", archived.ErrDamaged, err)
		}
		defer of.Close()
		return archived.Tar(ctx, &renewing{Reader: of, w: w, most: r.Most}, put)
	}
	return archived.Told{}, errors.New("not a request")
}
