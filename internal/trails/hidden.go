package trails

import (
	"bytes"
	"context"
	"errors"
	"fmt"

	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/core/plan"
	"humble-rewind/internal/source"
)

// maxParted bounds how many spans of one trail are read at both ends.
const maxParted = 12

// part looks for damage that kept size and write time in stores of points in time: what a span first and last showed is
// read, and where that differs the span is parted where the content changed. It tells whether any was.
func (r *Reader) part(ctx context.Context, stores map[int64]*catalogue.Store, facts []catalogue.Fact) (parted bool, err error) {
	left := int64(digestBytes)
	n := 0
	for k := len(facts) - 1; k >= 0 && n < maxParted; k-- {
		f := &facts[k]
		if !stores[int64(f.Source)].Source.Dated || f.Type != plan.File || !f.Readable || f.Size == 0 || f.Size > digestFile || f.First.Equal(f.Last) {
			continue
		}
		n++
		if left -= 2 * f.Size; left < 0 {
			break
		}
		held, err := r.Site.Catalogue.Held(ctx, int64(f.Source), f.First, f.Last)
		if err != nil {
			return parted, err
		}
		if len(held) < 2 {
			continue
		}
		did, err := r.partSpan(ctx, f.Copy, held)
		if err != nil {
			return parted, err
		}
		parted = parted || did
	}
	return parted, nil
}

// partSpan finds by halving where the content of a span changed. Whatever changed more than once in it is found again
// in its parts.
func (r *Reader) partSpan(ctx context.Context, id int64, held []source.Capture) (bool, error) {
	c, err := r.Site.Catalogue.Copy(ctx, id)
	if err != nil {
		return false, err
	}
	at := func(k source.Capture) ([]byte, error) {
		c := c
		c.At.Capture = k.Name
		return r.Digest(ctx, c)
	}
	first, err := at(held[0])
	if err != nil {
		return false, ctx.Err() // what cannot be read tells nothing
	}
	last, err := at(held[len(held)-1])
	if err != nil || bytes.Equal(first, last) {
		return false, ctx.Err()
	}
	low, high := 0, len(held)-1
	for high-low > 1 {
		middle := (low + high) / 2
		sum, err := at(held[middle])
		switch {
		case err != nil && ctx.Err() != nil:
			return false, ctx.Err()
		case err == nil && bytes.Equal(sum, first):
			low = middle
		default:
			high = middle
		}
	}
	after, err := at(held[high])
	if err != nil {
		return false, ctx.Err()
	}
	if err := r.Site.Catalogue.Part(ctx, id, held[low].At, held[high].At, first, after); err != nil {
		return false, errors.Join(err, fmt.Errorf("part span c%d", id))
	}
	return true, nil
}
