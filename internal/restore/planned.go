package restore

import (
	"context"
	"time"

	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/plan"
	"humble-rewind/internal/core/sighting"
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
	copy   copies.ID // 0 where nothing comes
	source copies.SourceID
	ref    sighting.Ref
	before *identity   // of the copy where it lies; nil where it was not looked at
	expect expectation // of a file that was not looked at
	asOf   bool
	to     *belonging  // whom it belongs to then; nil where its store is believed
	like   *entry.Mark // what it was like at the moment, where that is not as it is where its content is read from
}

// Plan works out what bringing the copies back would do. It writes nothing.
func (r *Restorer) Plan(ctx context.Context, req Request) (Planned, error) {
	open := newHandles(ctx, r.Site)
	defer open.close()
	p := Planned{r: r, rule: req.Rule}
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
	receipt := catalogue.Receipt{At: r.Now(), By: by}
	slips, err := r.slips(ctx, p)
	if err != nil {
		return receipt, err
	}
	touched := touchedFolders{open: newHandles(ctx, r.Site), times: map[place.Place]time.Time{}}
	defer touched.open.close()
	r.mu.Lock() // so that nobody takes the receipt for one that a stop left
	receipt, err = r.Site.Catalogue.Receipts.Begin(ctx, receipt, func(put func([]catalogue.ReceiptItem) error) error {
		b := batching{put: put}
		_, err := p.each(ctx, func(item plan.Item, wanted *wanted) error {
			touched.add(item)
			ri, err := p.receiptItem(item, wanted, slips[item.Index])
			if err != nil {
				return err
			}
			return b.add(ri, levelOf(item))
		})
		if err != nil {
			return err
		}
		return b.end()
	})
	if err == nil {
		r.activate(receipt.ID)
	}
	r.mu.Unlock()
	if err != nil {
		return receipt, err
	}
	if err := r.Site.Catalogue.Receipts.SaveFolders(ctx, receipt.ID, touched.times); err != nil {
		r.Leave(receipt.ID)
		return receipt, err
	}
	return receipt, nil
}

// receiptItem is an item of a plan as its receipt begins with it.
func (p *Planned) receiptItem(item plan.Item, wanted *wanted, slip source.Slip) (catalogue.ReceiptItem, error) {
	w := wanted.work()
	w.Slip = slip
	w.Action, w.Renames, w.Rule, w.Sets = item.Action, item.Renames, p.rule, item.SetsAside
	w.Ground = &ground{Path: []byte(item.Ground.Path), Volume: item.GroundVolume}
	if item.Foreign || !item.UID.Known && item.Action == plan.Copy {
		w.To = &belonging{UID: item.Owner.UID, GID: item.Owner.GID, Mode: item.Owner.Mode, Own: item.Own, Told: !item.Foreign}
	}
	for _, made := range item.Makes {
		w.Made = append(w.Made, []byte(made.Path))
	}
	encoded, err := w.encode()
	ri := catalogue.ReceiptItem{
		Copy:    wanted.copy,
		Source:  wanted.source,
		From:    item.From,
		To:      item.To,
		Type:    item.Type,
		Size:    item.Size,
		Outcome: catalogue.ItemWaiting,
		Note:    joinNotes(item.Clash, item.Note),
		Work:    encoded,
	}
	switch item.Action {
	case plan.Pass:
		ri.Outcome = catalogue.ItemSkipped
	case plan.Refuse:
		ri.Outcome = catalogue.ItemRefused
	}
	return ri, err
}
