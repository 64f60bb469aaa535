package restore

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"time"

	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/plan"
	"humble-rewind/internal/core/problem"
	"humble-rewind/internal/core/remark"
	"humble-rewind/internal/core/sealed"
	"humble-rewind/internal/core/sighting"
	"humble-rewind/internal/past"
	"humble-rewind/internal/restore/hands"
)

// pickedFrom says of what lies in folders that only make sense whole why it is not brought back by itself: of each of wants by the place
// that it has, the zero place where nobody knows.
func (r *Restorer) pickedFrom(ctx context.Context, places []place.Place, wants []wanted) error {
	type answer struct{ folder, why string }
	known := map[place.Place]answer{} // by the folder that a file lies in
	for n, p := range places {
		if p == (place.Place{}) {
			continue
		}
		in := p.Parent()
		a, ok := known[in]
		if !ok {
			var err error
			if a.folder, a.why, err = r.Past.SealedAbove(ctx, p); err != nil {
				return err
			}
			known[in] = a
		}
		if a.why != "" && !wants[n].Problem.Any() {
			wants[n].Problem = remark.Said((&past.ErrSealed{Folder: place.Place{Machine: p.Machine, Path: a.folder}, Why: a.why}).Error())
		}
	}
	return nil
}

// sealedAsOf wants a folder that only makes sense whole as one store had it at one moment, the newest up to the one that is asked for: to
// where it is asked to go, else beside what stands at aside.
func (r *Restorer) sealedAsOf(ctx context.Context, open *hands.Hands, req Request, why string, aside place.Place) ([]wanted, error) {
	p, at := req.AsOf.Place, req.AsOf.At
	seen, err := r.Past.View.Copies.At(ctx, p)
	if err != nil {
		return nil, err
	}
	var best sighting.Capture
	var from *copies.Copy
	for _, f := range seen {
		if f.Type != entry.Folder || !f.Readable || !f.Store.Traits.Dated() || f.First.After(at) {
			continue
		}
		until := f.Last
		if at.Before(until) {
			until = at
		}
		held, err := r.Past.View.Copies.Held(ctx, f.Store.ID, f.First, until)
		if err != nil {
			return nil, err
		}
		if n := len(held); n > 0 && held[n-1].At.After(best.At) {
			best, from = held[n-1], f
		}
	}
	if from == nil {
		return nil, &problem.Input{What: fmt.Sprintf("bring back %s as of %s", p, at.Format(time.RFC3339)),
			Err:  fmt.Errorf("it is %s, which fits together only as it was at one moment, and no store has it whole from then or before", why),
			Next: "Choose a later moment; the trail shows which there are."}
	}
	whole := Request{Copies: []copies.ID{from.ID}, At: best.At, To: req.To, ToFolder: req.ToFolder, Rule: req.Rule, KeepOwners: req.KeepOwners}
	zone, err := open.Zone(p.Machine)
	if err != nil {
		return nil, err
	}
	if whole.To == nil {
		aside.Path += " as of " + best.At.In(zone).Format("2006-01-02 15.04")
		whole.To = &aside
	}
	wants, err := r.copies(ctx, open, whole)
	for n := range wants {
		wants[n].Notes = append(wants[n].Notes, remark.New("comes-whole", "at", best.At.In(zone).Format("2 January 2006 15:04"), "what", why))
	}
	return wants, err
}

// wholes takes what lies in folders that only make sense whole out of what is brought back entry by entry. Such a folder, where anything
// of it is needed, comes whole: to its place where nothing stands there, else beside that.
func (b *folderPlan) wholes() error {
	folders := sealed.Folders(func(yield func(string) bool) {
		for n := range b.entries {
			if e := &b.entries[n]; e.State != past.Added && e.Path != "" && !yield(e.Path) {
				return
			}
		}
	})
	if len(folders) == 0 {
		return nil
	}
	needed := map[string]bool{}
	b.needed = slices.DeleteFunc(b.needed, func(n int) bool {
		in := sealed.Over(folders, b.entries[n].Path)
		needed[in] = true
		return in != ""
	})
	delete(needed, "")
	for _, rel := range slices.Sorted(maps.Keys(needed)) {
		to := b.to(rel)
		req := Request{AsOf: &AsOf{Place: b.req.AsOf.Place, At: b.at}, Rule: b.req.Rule, KeepOwners: b.req.KeepOwners}
		req.AsOf.Place.Path = place.Join(req.AsOf.Place.Path, rel)
		if stands := b.world.At(to); !stands.Problem.Any() && !stands.Exists {
			req.To = &to
		}
		wants, err := b.r.sealedAsOf(b.ctx, b.open, req, folders[rel], to)
		if refused, ok := errors.AsType[*problem.Input](err); ok {
			wants, err = []wanted{{Wanted: plan.Wanted{Type: entry.Folder, To: to, Problem: remark.Said(refused.Err.Error())}}}, nil
		}
		if err != nil {
			return err
		}
		b.whole = append(b.whole, wants...)
	}
	b.later = slices.DeleteFunc(b.later, func(w plan.Wanted) bool {
		rel, _ := place.Below(w.To.Path, b.base.Path)
		return sealed.Over(folders, rel) != ""
	})
	return nil
}

// withLogs adds to databases the logs that lay beside them at the same moment in the same store: neither is whole without the other.
func (r *Restorer) withLogs(ctx context.Context, wanted []*copies.Copy) ([]*copies.Copy, error) {
	met := map[copies.ID]bool{}
	for _, c := range wanted {
		met[c.ID] = true
	}
	for _, c := range wanted[:len(wanted):len(wanted)] {
		if c.Type != entry.File || c.Lost || !c.Readable || !c.Store.Traits.Dated() {
			continue
		}
		for _, ending := range sealed.Logs {
			seen, err := r.Past.View.Copies.At(ctx, place.Place{Machine: c.Place.Machine, Path: c.Place.Path + ending})
			if err != nil && !errors.Is(err, catalogue.ErrNotFound) {
				return nil, err
			}
			for _, f := range seen {
				if f.Store.ID != c.Store.ID || !f.Readable || f.Type != entry.File || met[f.ID] || f.First.After(c.Last) ||
					f.Last.Before(c.Last) {
					continue
				}
				f.At.Capture = c.At.Capture
				met[f.ID] = true
				wanted = append(wanted, f)
			}
		}
	}
	return wanted, nil
}
