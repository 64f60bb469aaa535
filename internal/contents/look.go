package contents

import (
	"context"
	"errors"
	"io"

	"humble-rewind/internal/apart"
	"humble-rewind/internal/core/condition"
	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/core/peek"
	"humble-rewind/internal/core/remark"
	"humble-rewind/internal/reach"
	"humble-rewind/internal/source"
)

// At makes an open file readable at any offset, see reach.ReadAnywhere; the error is ErrNoContent for what is no file. Close it.
func (r *Reader) At(ctx context.Context, c source.Opened) (reach.Anywhere, error) {
	if c.File == nil {
		return reach.Anywhere{}, ErrNoContent
	}
	return reach.ReadAnywhere(ctx, c.File)
}

// named gives a content to a child under a name, and takes it back.
func (r *Reader) named(ctx context.Context, name string, c source.Opened, use func(apart.Input) error) error {
	at, err := r.At(ctx, c)
	if err != nil {
		return err
	}
	return errors.Join(use(apart.Input{Name: name, ReaderAt: at, Size: at.Size}), at.Close())
}

// Look previews an open content.
func (r *Reader) Look(ctx context.Context, c source.Opened) (look peek.Preview, err error) {
	err = r.named(ctx, "", c, func(c apart.Input) error {
		look, err = r.Apart.Look(ctx, c)
		return err
	})
	return look, err
}

// Draw renders an open picture anew as PNG. Errors wrap peek.ErrNoPicture.
func (r *Reader) Draw(ctx context.Context, c source.Opened, w io.Writer) error {
	return r.named(ctx, "", c, func(c apart.Input) error { return r.Apart.Draw(ctx, c, w) })
}

// Holds looks for words in a copy.
func (r *Reader) Holds(ctx context.Context, c *copies.Copy, words []string) (held apart.Held, err error) {
	content, err := r.OpenFile(ctx, c)
	if err != nil {
		return held, err
	}
	defer content.Close()
	err = r.named(ctx, "", content, func(c apart.Input) error {
		held, err = r.Apart.Holds(ctx, c, words)
		return err
	})
	return held, err
}

// Bytes reads a copy whole, but no more than most bytes of it.
func (r *Reader) Bytes(ctx context.Context, c *copies.Copy, most int64) ([]byte, error) {
	content, err := r.OpenFile(ctx, c)
	if err != nil {
		return nil, err
	}
	defer content.Close()
	s, err := content.File.Stream(ctx)
	if err != nil {
		return nil, err
	}
	defer s.Close()
	return io.ReadAll(io.LimitReader(s, most))
}

// Shares reads two copies and returns which share of each one's content the other has; what cannot be read has nothing in common with
// anything.
func (r *Reader) Shares(ctx context.Context, a, b *copies.Copy) (ofA, ofB float64, err error) {
	one, err := r.OpenFile(ctx, a)
	if err != nil {
		return 0, 0, ctx.Err()
	}
	defer one.Close()
	two, err := r.OpenFile(ctx, b)
	if err != nil {
		return 0, 0, ctx.Err()
	}
	defer two.Close()
	err = r.named(ctx, "", one, func(one apart.Input) error {
		return r.named(ctx, "", two, func(two apart.Input) error {
			ofA, ofB, err = r.Apart.Shares(ctx, one, two)
			return err
		})
	})
	if errors.Is(err, apart.ErrDemanding) {
		return 0, 0, nil // as far as can be told they have nothing in common
	}
	return ofA, ofB, err
}

// demanding is what is found of a content that takes too much to be examined. It is kept like any finding, so that it is not tried
// again.
func demanding(size int64) condition.Findings {
	return condition.Findings{Size: size, State: condition.Doubtful, Media: "application/octet-stream",
		Reasons: []remark.Remark{remark.New("demanding")}}
}
