package restore

import (
	"context"

	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/plan"
	"humble-rewind/internal/core/remark"
	"humble-rewind/internal/core/sighting"
	"humble-rewind/internal/restore/hands"
	"humble-rewind/internal/restore/journal"
	"humble-rewind/internal/restore/original"
	"humble-rewind/internal/restore/target"
	"humble-rewind/internal/source"
)

// Planned is a plan with what carrying it out needs. Of a folder as of a moment, which may hold hundreds of thousands of entries, the
// items are worked out one by one, each time they are asked for.
type Planned struct {
	r     *Restorer
	rule  plan.Rule
	whole plan.Plan
	wants []wanted // by the index of the items of that
	asOf  *folderPlan
}

// wanted is a copy to bring back with what carrying that out needs.
type wanted struct {
	plan.Wanted
	copy     copies.ID // 0 where nothing comes
	source   copies.SourceID
	ref      sighting.Ref
	before   *original.Identity  // of the copy where it lies; nil where it was not looked at
	expect   journal.Expectation // of a file that was not looked at
	asOf     bool
	accounts original.Accounts   // of the machine that it comes from, where it goes to another; else nil
	to       *original.Belonging // whom it belongs to then; nil where its store is believed
	like     *entry.Mark         // what it was like at the moment, where that is not as it is where its content is read from
}

// Plan works out what bringing the copies back would do. It writes nothing.
func (r *Restorer) Plan(ctx context.Context, req Request) (Planned, error) {
	open := hands.New(ctx, r.Site)
	defer open.Close()
	p := Planned{r: r, rule: req.Rule}
	if req.To != nil {
		if _, err := r.Past.View.Machines.Named(ctx, req.To.Machine); err != nil {
			return p, err
		}
	}
	var err error
	if req.AsOf != nil {
		p.wants, p.asOf, err = r.asOf(ctx, open, req)
	} else {
		p.wants, err = r.copies(ctx, open, req)
	}
	if err != nil || p.asOf != nil {
		return p, err
	}
	all := make([]*plan.Wanted, len(p.wants))
	for n := range p.wants {
		w := &p.wants[n].Wanted
		w.Index, w.Foreign = n, w.Foreign && !req.KeepOwners
		all[n] = w
		if w.To.Machine != "" { // a drive is a machine of its own
			if _, err := r.Past.View.Machines.Named(ctx, w.To.Machine); err != nil {
				return p, err
			}
		}
	}
	p.whole = plan.Make(all, req.Rule, newWorld(open))
	return p, ctx.Err()
}

// Each calls do with every item, in the order in which they are brought back, and returns how many bytes have to be copied. No item may
// be kept longer than its call.
func (p *Planned) Each(ctx context.Context, do func(plan.Item) error) (bytes int64, err error) {
	return p.each(ctx, func(item plan.Item, _ *wanted) error { return do(item) })
}

func (p *Planned) each(ctx context.Context, do func(plan.Item, *wanted) error) (bytes int64, err error) {
	if p.asOf != nil {
		return p.asOf.each(ctx, do)
	}
	for _, item := range p.whole.Items {
		if err := do(item, &p.wants[item.Index]); err != nil {
			return 0, err
		}
	}
	return p.whole.Bytes, nil
}

// Whole returns all items at once.
func (p *Planned) Whole(ctx context.Context) (all plan.Plan, err error) {
	all.Bytes, err = p.Each(ctx, func(item plan.Item) error {
		w := *item.Wanted
		item.Wanted = &w
		all.Items = append(all.Items, item)
		return nil
	})
	return all, err
}

// Begin records the receipt of a plan, before anything is written.
func (r *Restorer) Begin(ctx context.Context, p Planned, by string) (catalogue.Receipt, error) {
	slips, err := r.slips(ctx, p)
	if err != nil {
		return catalogue.Receipt{}, err
	}
	open := hands.New(ctx, r.Site)
	defer open.Close()
	return r.Steps.Begin(ctx, by, func(add func(plan.Item, catalogue.ReceiptItem) error) error {
		_, err := p.each(ctx, func(item plan.Item, wanted *wanted) error {
			as, err := p.receiptItem(open, item, wanted, slips[item.Index])
			if err != nil {
				return err
			}
			return add(item, as)
		})
		return err
	})
}

// receiptItem is an item of a plan as its receipt begins with it.
func (p *Planned) receiptItem(open *hands.Hands, item plan.Item, wanted *wanted, slip source.Slip) (catalogue.ReceiptItem, error) {
	w := wanted.work()
	w.Slip = slip
	w.Action, w.Renames, w.Rule, w.Sets, w.Target = item.Action, item.Renames, p.rule, item.Over != nil, target.At(open, item.To.Machine)
	if item.Over != nil {
		w.Stood = &journal.Stood{Type: item.Over.Type, Size: item.Over.Size, Written: entry.At(item.Over.Written)}
	}
	w.Ground = &journal.Ground{Path: []byte(item.Ground.Path), Volume: item.GroundVolume}
	if item.Foreign || item.Across || !item.UID.Known && item.Action == plan.Copy {
		w.To = &original.Belonging{UID: item.Owner.UID, GID: item.Owner.GID, Mode: item.Owner.Mode, Own: item.Own, Told: !item.Foreign,
			Across: wanted.accounts}
	}
	for _, made := range item.Makes {
		w.Made = append(w.Made, []byte(made.Path))
	}
	encoded, err := w.Encode()
	ri := catalogue.ReceiptItem{
		Copy:    wanted.copy,
		Source:  wanted.source,
		From:    item.From,
		To:      item.To,
		Type:    item.Type,
		Size:    item.Size,
		Outcome: catalogue.ItemWaiting,
		Work:    encoded,
	}
	journal.Note(&ri, append([]remark.Remark{item.Clash}, item.Notes...)...)
	switch item.Action {
	case plan.Pass:
		ri.Outcome = catalogue.ItemSkipped
	case plan.Refuse:
		ri.Outcome = catalogue.ItemRefused
	}
	return ri, err
}

// work is what is kept with the receipt of an item.
func (w *wanted) work() journal.Work {
	of := journal.Work{Ref: []byte(w.ref), Leaves: w.Leaves, Dated: entry.Bounded(w.Dated), DatedBy: w.DatedBy,
		AsOf: w.asOf, Expect: w.expect, Alone: w.Alone, Away: w.Away, Like: w.like, To: w.to}
	if w.before != nil {
		of.Before = *w.before
	}
	return of
}

// slips asks the stores what they remember about the items that will leave them, by the items' indexes. Nothing leaves a store that is
// brought back as of a moment.
func (r *Restorer) slips(ctx context.Context, p Planned) (map[int]source.Slip, error) {
	bySource := map[copies.SourceID][]int{}
	for _, item := range p.whole.Items {
		if item.Action == plan.Move {
			id := p.wants[item.Index].source
			bySource[id] = append(bySource[id], item.Index)
		}
	}
	all := map[int]source.Slip{}
	for id, indexes := range bySource {
		src, err := r.Past.View.Sources.ByID(ctx, id)
		if err != nil {
			return nil, err
		}
		store, err := r.Site.Store(ctx, src.Source)
		if err != nil {
			return nil, err
		}
		refs := make([]sighting.Ref, len(indexes))
		for n, index := range indexes {
			refs[n] = p.wants[index].ref
		}
		var slips []source.Slip
		if emptied, ok := source.AsEmptied(store); ok {
			slips, err = emptied.Slips(ctx, refs)
		}
		store.Close()
		if err != nil {
			return nil, err
		}
		for n, index := range indexes {
			all[index] = slips[n]
		}
	}
	return all, nil
}
