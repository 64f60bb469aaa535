package service

import (
	"context"
	"errors"
	"net/http"

	"humble-rewind/api"
	"humble-rewind/internal/apart"
	"humble-rewind/internal/core/compare"
	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/say"
	"humble-rewind/internal/source"
)

// Compare compares a copy with another, or with what stands at its place now.
func (s *Service) Compare(ctx context.Context, request api.CompareRequestObject) (api.CompareResponseObject, error) {
	left, err := s.copyOf(ctx, request.Params.Left)
	if err != nil {
		return nil, err
	}
	l, err := s.openCopy(ctx, left)
	if err != nil {
		return nil, err
	}
	defer l.Close()
	shown, err := s.shown(ctx, left)
	if err != nil {
		return nil, err
	}
	a := api.Compare200JSONResponse{Left: shown}
	right, name := source.Opened{}, left.Place.Name()
	if request.Params.Right == "now" {
		at := left.Place
		if request.Params.Machine != nil {
			if at, err = fromQuery(*request.Params.Machine, request.Params.Path, request.Params.PathBytes); err != nil {
				return nil, err
			}
		}
		standing := toPlace(at)
		a.RightPlace, name = &standing, at.Name()
		right, err = s.contents.Standing(ctx, at)
	} else {
		var c *copies.Copy
		if c, err = s.copyOf(ctx, request.Params.Right); err == nil {
			var other api.Copy
			if other, err = s.shown(ctx, c); err == nil {
				a.Right, name = &other, c.Place.Name()
				right, err = s.openCopy(ctx, c)
			}
		}
	}
	if err != nil {
		return nil, err
	}
	defer right.Close()
	c, err := s.contents.Compare(ctx, left.Place.Name(), l, name, right)
	if errors.Is(err, apart.ErrDemanding) {
		return nil, notLookedInto(err)
	}
	if err != nil {
		return nil, &refusal{
			Status: http.StatusGone,
			Title:  "They cannot be compared",
			Detail: say.BringBackError(err) + ".",
			Next:   "Peek at each, or look for other copies with find.",
		}
	}
	fillComparison((*api.Comparison)(&a), c)
	return a, nil
}

func fillComparison(a *api.Comparison, c compare.Comparison) {
	a.By, a.Summary, a.Cut, a.Notes = api.ComparisonBy(c.By), say.Speaker{}.Remark(c.Summary), c.Cut, say.Speaker{}.Remarks(c.Notes)
	a.Blocks, a.Cells, a.Entries = make(
		[]api.ComparedBlock,
		len(c.Blocks),
	), make(
		[]api.ComparedCell,
		len(c.Cells),
	), make(
		[]api.ComparedEntry,
		len(c.Entries),
	)
	if c.Differs >= 0 {
		a.DiffersAt = &c.Differs
	}
	for i, b := range c.Blocks {
		a.Blocks[i] = api.ComparedBlock{
			Change:      api.ComparedBlockChange(b.Change),
			LeftNumber:  optional(b.LeftNumber),
			RightNumber: optional(b.RightNumber),
			Left: optional(
				b.Left,
			),
			Right:      optional(b.Right),
			LeftWords:  toWords(b.LeftWords),
			RightWords: toWords(b.RightWords),
			Count:      optional(b.Count),
		}
	}
	for i, cell := range c.Cells {
		a.Cells[i] = api.ComparedCell{Sheet: cell.Sheet, Address: cell.Address, Left: cell.Left, Right: cell.Right}
	}
	for i, e := range c.Entries {
		a.Entries[i] = api.ComparedEntry{Path: e.Path, Change: api.ComparedEntryChange(e.Change)}
		if e.Left >= 0 {
			a.Entries[i].Left = &c.Entries[i].Left
		}
		if e.Right >= 0 {
			a.Entries[i].Right = &c.Entries[i].Right
		}
	}
	if p := c.Picture; p != nil {
		a.Picture = &api.ComparedPicture{
			LeftWidth:   p.Left.X,
			LeftHeight:  p.Left.Y,
			RightWidth:  p.Right.X,
			RightHeight: p.Right.Y,
			Share:       float32(p.Share),
			Regions:     []api.ComparedRegion{},
		}
		for _, r := range p.Regions {
			a.Picture.Regions = append(a.Picture.Regions, api.ComparedRegion{X: r.Min.X, Y: r.Min.Y, Width: r.Dx(), Height: r.Dy()})
		}
	}
}

func toWords(words []compare.Word) *[]api.ComparedWord {
	if len(words) == 0 {
		return nil
	}
	all := make([]api.ComparedWord, len(words))
	for i, w := range words {
		all[i] = api.ComparedWord{Text: w.Text, Marked: w.Marked}
	}
	return &all
}
