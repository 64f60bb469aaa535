package corpus

import (
	"bytes"
	"context"
	"fmt"
	"math"
	"slices"
	"strings"
	"time"

	"humble-rewind/internal/choosing"
	"humble-rewind/internal/contents"
	"humble-rewind/internal/core/advice"
	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/core/place"
	registered "humble-rewind/internal/kinds"
	"humble-rewind/internal/past"
	"humble-rewind/internal/say"
)

// Outcome is what came of a case.
type Outcome struct {
	Case                  Case
	Right, Newest, Before bool // ours, and the two naive choosers
	Answer                choosing.Answer
	Got                   string // what was recommended, where it is wrong
}

// Run plays a case out in an empty folder and asks.
func Run(ctx context.Context, dir string, c Case) (Outcome, error) {
	o, h, reader, err := ask(ctx, dir, c)
	if err != nil {
		return o, err
	}
	defer h.close()
	o.judge(h, reader)
	return o, o.naive(h, reader)
}

// ask plays a case out, surveys everything and asks. The history is to be closed where there is no error.
func ask(ctx context.Context, dir string, c Case) (Outcome, *History, *contents.Reader, error) {
	o := Outcome{Case: c}
	h := newHistory(ctx, dir)
	h.linked = c.Family == wholeFolders
	c.Play(h)
	h.At(Now)
	h.Survey()
	if h.err != nil {
		return o, h, nil, fmt.Errorf("play %s, %s: %w", c.Family, c.Variant, h.err)
	}
	reader := &contents.Reader{Site: h.site, Apart: pool}
	now := func() time.Time { return Now }
	rules, _ := registered.Leftovers()
	adviser := choosing.Adviser{Site: h.site, Past: &past.Reader{Site: h.site, View: h.site.Catalogue.Everything(), Contents: reader}, Contents: reader,
		Examiner: &contents.Examiner{Contents: reader, Now: now}, Rules: rules, Now: now}
	machine := c.Machine
	if machine == "" {
		machine = First
	}
	var err error
	if o.Answer, err = adviser.Advise(ctx, choosing.Question{Question: c.Ask, Place: place.Place{Machine: machine,
		Path: c.Path}}); err != nil {
		h.close()
	}
	return o, h, reader, err
}

func (h *History) close() {
	h.fail(h.site.Close())
	h.fail(h.records.Close())
}

func (o *Outcome) judge(h *History, reader *contents.Reader) {
	c := o.Case
	r := o.Answer.Recommended
	switch {
	case r == nil:
		o.Right, o.Got = c.Want == nil, "nothing: "+strings.Join(say.Speaker{}.Remarks(o.Answer.Because), " ")
	default:
		got, err := contentOf(h, reader, r.Copy.ID)
		o.Right = err == nil && c.Want != nil && bytes.Equal(got, c.Want)
		o.Got = fmt.Sprintf("%q… because %s", got[:min(60, len(got))], strings.Join(say.Speaker{}.Remarks(r.Because), " "))
	}
	if c.Other != "" && !o.lists(h, c.Other) {
		o.Right = false
		o.Got += " without a runner-up from the " + c.Other
	}
	if c.Found != "" {
		found := false
		for _, p := range o.Answer.FoundAt {
			found = found || p.String() == c.Found
		}
		if !found {
			o.Right = false
			o.Got += fmt.Sprintf(" found at %v", o.Answer.FoundAt)
		}
	}
}

// lists tells whether a runner-up from a kind of source is listed.
func (o *Outcome) lists(h *History, kind string) bool {
	return slices.ContainsFunc(o.Answer.Others, func(other advice.Other) bool {
		c, err := h.records.Everything().Copies.ByID(h.ctx, other.Copy.ID)
		return err == nil && c.Store.Kind == kind
	})
}

func contentOf(h *History, reader *contents.Reader, id copies.ID) ([]byte, error) {
	c, err := h.records.Everything().Copies.ByID(h.ctx, id)
	if err != nil {
		return nil, err
	}
	return reader.Bytes(h.ctx, c, math.MaxInt64)
}

// naive asks the two naive choosers: of all copies recorded for the place, the one written last; and the one written last
// before the file was last right.
func (o *Outcome) naive(h *History, reader *contents.Reader) error {
	facts, err := h.records.Everything().Copies.At(h.ctx, o.Answer.Question.Place)
	if err != nil {
		return err
	}
	choose := func(until time.Time) bool {
		best := -1
		for i, f := range facts {
			if f.Readable && f.Type == "file" && (until.IsZero() || !f.Written.After(until)) &&
				(best < 0 || f.Written.After(facts[best].Written)) {
				best = i
			}
		}
		if best < 0 {
			return o.Case.Want == nil
		}
		got, err := contentOf(h, reader, facts[best].ID)
		return err == nil && o.Case.Want != nil && bytes.Equal(got, o.Case.Want)
	}
	o.Newest, o.Before = choose(time.Time{}), choose(o.Case.Ask.Good)
	return nil
}
