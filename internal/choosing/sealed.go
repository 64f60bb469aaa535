package choosing

import (
	"context"
	"slices"
	"time"

	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/core/advice"
	"humble-rewind/internal/core/condition"
	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/remark"
	"humble-rewind/internal/core/sealed"
	"humble-rewind/internal/core/sighting"
)

// sealed says why the folder only makes sense whole; "" where nothing says so.
func (b *folderAdvice) sealed() string {
	paths := make([]string, len(b.files))
	for i := range b.files {
		paths[i] = b.files[i].Path
	}
	return sealed.Of(paths)
}

// held is one point in time of a store that still has the folder.
type held struct {
	sighting.Capture
	store *copies.Store
	copy  *copies.Copy // the folder
}

// maxHeld bounds how many points in time are looked at.
const maxHeld = 60

// asOne looks for the newest point in time of one store, not after the moment that is wanted, at which the whole folder
// can be read and nothing in it is known to be broken.
func (b *folderAdvice) asOne(seen []*copies.Copy) error {
	all, err := b.held(seen)
	if err != nil {
		return err
	}
	r := b.reading()
	var why advice.Reason
	for _, h := range all[:min(maxHeld, len(all))] {
		against, size := b.againstHeld(r, h.At)
		if r.err != nil {
			return r.err
		}
		if against.Any() {
			if !why.Any() {
				why = against
			}
			continue
		}
		return b.takeHeld(h, size, why)
	}
	b.because("sealed-nowhere", "what", b.Sealed)
	if why.Any() {
		b.because("sealed-why", "why", why)
	}
	b.AsOf = time.Time{}
	return nil
}

// held lists the points in time of all stores at which the folder can be read whole, newest first.
func (b *folderAdvice) held(seen []*copies.Copy) (all []held, err error) {
	for _, f := range seen {
		s := f.Store
		if f.Type != entry.Folder || !f.Readable || !s.Traits.Dated() || f.First.After(b.AsOf) {
			continue
		}
		captures, err := b.Past.View.Copies.Held(b.ctx, s.ID, f.First, earlier(f.Last, b.AsOf))
		if err != nil {
			return nil, err
		}
		for _, c := range captures {
			all = append(all, held{c, s, f})
		}
	}
	slices.SortStableFunc(all, func(x, y held) int { return y.At.Compare(x.At) })
	return all, nil
}

func earlier(a, b time.Time) time.Time {
	if a.Before(b) {
		return a
	}
	return b
}

// againstHeld says what speaks against the folder as it was at a moment, and how large it was.
func (b *folderAdvice) againstHeld(r *folderReading, at time.Time) (why advice.Reason, size int64) {
	n := 0
	for i := range b.files {
		f := &b.files[i]
		k, _ := f.At(at.UnixNano())
		if k < 0 {
			continue
		}
		n++
		v := &f.Versions[k]
		size += max(0, v.Size)
		if v.Copy == 0 {
			continue // the store may have it all the same
		}
		found := r.Condition(advice.Content{Copies: []advice.Candidate{{ID: v.Copy}}, Size: v.Size, As: place.Name("/" + f.Path)})
		var against advice.Reason
		switch {
		case len(found.Failed) > 0 && found.State == condition.Unread:
			against = remark.New("held-unread", "why", found.Failed[v.Copy])
		case found.State == condition.Broken:
			against = remark.New("held-broken")
		case found.SHA256.Known() && b.q.Wrong[found.SHA256]:
			against = remark.New("held-wrong")
		}
		if against.Any() {
			return remark.New("as-it-was-broken", "at", at, "name", place.Readable(f.Path), "why", against), size
		}
	}
	if n == 0 {
		return remark.New("as-it-was-empty", "at", at), 0
	}
	return advice.Reason{}, size
}

// takeHeld recommends the folder as one store had it at one moment, beside what is there.
func (b *folderAdvice) takeHeld(h held, size int64, passedOver advice.Reason) error {
	c := *h.copy
	c.At.Capture, c.Captured = h.Name, h.At
	b.Whole, b.WholeAt, b.Bytes = &c, h.At, size
	aside := b.q.Place
	aside.Path += " as of " + h.At.In(b.q.Zone).Format("2006-01-02 15.04")
	b.Aside = &aside
	b.because("sealed-whole", "what", b.Sealed)
	if passedOver.Any() {
		b.because("sealed-passed", "why", passedOver)
	}
	if err := b.elsewhere(); err != nil {
		return err
	}
	b.because("sealed-then", "at", h.At, "source", capital(Name(&h.store.Source, b.q.Place.Machine)))
	b.because("sealed-aside", "place", aside)
	b.Costs = []advice.Reason{remark.New("sealed-later", "at", h.At), remark.New("sealed-password")}
	return nil
}

// elsewhere finds the same container on another machine or at another place: what its program keeps at its top is the same there, byte for
// byte.
func (b *folderAdvice) elsewhere() error {
	const some, largest = 50, 1 << 20
	for _, name := range sealed.Marks() {
		own, err := b.Past.View.Copies.At(b.ctx, place.Place{Machine: b.q.Place.Machine, Path: place.Join(b.q.Place.Path, name)})
		if err != nil {
			return err
		}
		i := slices.IndexFunc(own, func(f *copies.Copy) bool {
			return f.Type == entry.File && f.Readable && f.Size > 0 && f.Size < largest
		})
		if i < 0 {
			continue
		}
		sum, err := b.digest(b.ctx, own[i])
		if err != nil || !sum.Known() {
			return err
		}
		found, err := b.Past.View.Search.Find(b.ctx, catalogue.Query{Words: name, Limit: some})
		if err != nil {
			return err
		}
		for _, c := range found.Copies {
			at := place.Place{Machine: c.Place.Machine, Path: place.Folder(c.Place.Path)}
			if c.Lost || c.Size != own[i].Size || at == b.q.Place || slices.Contains(b.SameAt, at) {
				continue
			}
			if there, err := b.digest(b.ctx, c.Copy); err != nil {
				return err
			} else if there == sum {
				b.SameAt = append(b.SameAt, at)
				b.because("sealed-elsewhere", "place", at)
			}
		}
		return nil
	}
	return nil
}

// whole answers for a file in a folder that only makes sense whole.
func (a *Answer) whole(folder, why string) {
	r := a.Recommended
	at := place.Place{Machine: a.Question.Place.Machine, Path: folder}
	a.Because, a.Ask = []advice.Reason{remark.New("sealed-part", "place", at, "what", why)}, nil
	if r != nil && r.Copy.Live && !r.Copy.Leftover {
		return // it stands there, and nothing needs to be brought back
	}
	a.Recommended, a.Notes = nil, nil // which speak of the file by itself
	a.Next = append([]advice.Reason{remark.New("sealed-ask", "place", at, "loss", a.Question.Loss)}, a.Next...)
	if r != nil {
		a.Others = append([]advice.Other{{Copy: r.Copy, Version: r.Version, State: r.Condition.State,
			Why: remark.New("sealed-itself", "why", r.Because[0])}}, a.Others...)
	}
}

// withLog says of a database that has its log beside it that the two only fit as they were at one moment.
func (a *Adviser) withLog(ctx context.Context, answer *Answer) error {
	r := answer.Recommended
	if r == nil || r.Copy.Live {
		return nil
	}
	p := answer.Question.Place
	names := make([]string, len(sealed.Logs))
	for i, ending := range sealed.Logs {
		names[i] = p.Name() + ending
	}
	logs, err := a.Past.View.Copies.NamedIn(ctx, p.Machine, []string{place.Folder(p.Path)}, names)
	for _, log := range logs {
		r.Costs = append(r.Costs, remark.New("database-log", "log", place.Readable(place.Name(log))))
	}
	return err
}
