package past

import (
	"context"
	"errors"
	"fmt"

	"humble-rewind/internal/contents"
	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/core/digest"
	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/sighting"
)

// maxDivided bounds how many spans of one trail are read at both ends.
const maxDivided = 12

// divide looks for damage that kept size and write time in stores of points in time: what a span first and last showed is
// read, and where that differs the span is divided where the content changed. It tells whether any was.
func (r *Reader) divide(ctx context.Context, seen []*copies.Copy) (divided bool, err error) {
	left := int64(contents.DigestBytes)
	n := 0
	for k := len(seen) - 1; k >= 0 && n < maxDivided; k-- {
		f := seen[k]
		if !f.Store.Traits.Dated() || f.Type != entry.File || !f.Readable || f.Size == 0 || f.Beside || f.Mark.Content.Kind.Names() ||
			f.Size > contents.DigestFile ||
			f.First.Equal(f.Last) {
			continue
		}
		n++
		if left -= 2 * f.Size; left < 0 {
			break
		}
		held, err := r.View.Copies.Held(ctx, f.Store.ID, f.Captured, f.Last)
		if err != nil {
			return divided, err
		}
		if len(held) < 2 {
			continue
		}
		did, err := r.divideSpan(ctx, f, held)
		if err != nil {
			return divided, err
		}
		divided = divided || did
	}
	return divided, nil
}

// divideSpan finds by halving where the content of a span changed. Whatever changed more than once in it is found again
// in its pieces.
func (r *Reader) divideSpan(ctx context.Context, c *copies.Copy, held []sighting.Capture) (bool, error) {
	at := func(k sighting.Capture) (digest.Sum, error) {
		then := *c
		then.At.Capture = k.Name
		return r.Contents.Digest(ctx, &then)
	}
	first, err := at(held[0])
	if err != nil {
		return false, ctx.Err() // what cannot be read tells nothing
	}
	last, err := at(held[len(held)-1])
	if err != nil || first == last {
		return false, ctx.Err()
	}
	low, high := 0, len(held)-1
	for high-low > 1 {
		middle := (low + high) / 2
		sum, err := at(held[middle])
		switch {
		case err != nil && ctx.Err() != nil:
			return false, ctx.Err()
		case err == nil && sum == first:
			low = middle
		default:
			high = middle
		}
	}
	after, err := at(held[high])
	if err != nil {
		return false, ctx.Err()
	}
	if err := r.Site.Catalogue.Surveys.Divide(ctx, c.ID, held[low].At, held[high].At, first, after); err != nil {
		return false, errors.Join(err, fmt.Errorf("divide span %s", c.ID))
	}
	return true, nil
}
