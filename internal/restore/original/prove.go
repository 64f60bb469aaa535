package original

import (
	"context"
	"errors"
	"fmt"
	"io"
	"strings"

	"github.com/cespare/xxhash/v2"

	"humble-rewind/internal/core/place"
	"humble-rewind/internal/reach"
)

// maxProofs bounds how many files of one item wait to be read back.
const maxProofs = 4000

// Proof is what a file that was written must read back as. What tells is a checksum of 64 bits (XXH64), which finds what a drive or a
// file system does wrong; the digest of the content is taken from what was sent.
type Proof struct {
	path string // from the folder in which writing began
	size int64
	sum  uint64
}

// of reads a file back from where it lies, not from memory, as far as the way to it can do that.
func (p Proof) of(ctx context.Context, f reach.File) error {
	if err := reach.Forget(ctx, f, 0, p.size); err != nil {
		return err
	}
	content, err := f.Stream(ctx)
	if err != nil {
		return err
	}
	defer content.Close()
	buffer := buffers.Get().(*[]byte)
	defer buffers.Put(buffer)
	var sum xxhash.Digest
	sum.Reset()
	n, err := io.CopyBuffer(struct{ io.Writer }{&sum}, struct{ io.Reader }{content}, *buffer)
	if err == nil && (n != p.size || sum.Sum64() != p.sum) {
		err = fmt.Errorf("%s: %w", place.Quote(p.path), errDiffers)
	}
	return err
}

// ProveAll reads files back that were written in a folder and below it, in the order in which they were written.
func ProveAll(ctx context.Context, root reach.Folder, proofs []Proof) (err error) {
	at, folder := "", reach.Tree(root)
	leave := func() {
		if at != "" {
			folder.Close()
		}
	}
	defer func() { leave() }()
	for _, p := range proofs {
		if err := ctx.Err(); err != nil {
			return err
		}
		dir, name := "", p.path
		if cut := strings.LastIndexByte(p.path, '/'); cut >= 0 {
			dir, name = p.path[:cut], p.path[cut+1:]
		}
		if dir != at {
			leave()
			at = ""
			if folder, err = enter(ctx, root, dir); err != nil {
				return err
			}
			at = dir
		}
		if err := p.in(ctx, folder, name); err != nil {
			return err
		}
	}
	return nil
}

// in reads a file of a folder back.
func (p Proof) in(ctx context.Context, folder reach.Tree, name string) error {
	f, err := folder.Open(ctx, name)
	if err != nil {
		return err
	}
	return errors.Join(p.of(ctx, f), f.Close())
}

// enter opens a folder below another by its path, which is not "".
func enter(ctx context.Context, root reach.Tree, path string) (reach.Tree, error) {
	at := root
	for name := range strings.SplitSeq(path, "/") {
		inside, err := at.Enter(ctx, name)
		if at != root {
			at.Close()
		}
		if err != nil {
			return root, err
		}
		at = inside
	}
	return at, nil
}

// prove makes what was written last and reads back what was not yet.
func (w *Written) prove(ctx context.Context, root reach.Folder) error {
	if len(w.Proofs) == 0 {
		return nil
	}
	if err := root.Settle(ctx); err != nil {
		return err
	}
	err := ProveAll(ctx, root, w.Proofs)
	w.Proofs = nil
	if err != nil {
		err = fmt.Errorf("read it back: %w", err)
	}
	return err
}
