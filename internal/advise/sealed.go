package advise

import (
	"context"
	"fmt"
	"slices"
	"time"

	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/core/advice"
	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/sealed"
	"humble-rewind/internal/core/sighting"
)

// sealed says why the folder only makes sense whole; "" where nothing says so.
func (b *folderAdvice) sealed() string {
	paths := make([]string, len(b.files))
	for i := range b.files {
		paths[i] = b.files[i].path
	}
	return sealed.Of(paths)
}

// held is one point in time of a store that still has the folder.
type held struct {
	sighting.Capture
	store *catalogue.Store
	copy  int64 // the folder
}

// maxHeld bounds how many points in time are looked at.
const maxHeld = 60

// asOne looks for the newest point in time of one store, not after the moment that is wanted, at which the whole folder
// can be read and nothing in it is known to be broken.
func (b *folderAdvice) asOne(facts []catalogue.Fact) error {
	all, err := b.held(facts)
	if err != nil {
		return err
	}
	x, err := b.assurance(nil)
	if err != nil {
		return err
	}
	why := ""
	for _, h := range all[:min(maxHeld, len(all))] {
		against, size, err := b.againstHeld(x, h.At.UnixNano())
		if err != nil {
			return err
		}
		if against != "" {
			if why == "" {
				why = against
			}
			continue
		}
		return b.takeHeld(h, size, why)
	}
	b.Because = append(
		b.Because,
		fmt.Sprintf(
			"It is %s. Single files of it cannot be picked, and no store has it whole as it was at one moment before that.",
			b.Sealed,
		),
	)
	if why != "" {
		b.Because = append(b.Because, why)
	}
	b.AsOf = time.Time{}
	return nil
}

// held lists the points in time of all stores at which the folder can be read whole, newest first.
func (b *folderAdvice) held(facts []catalogue.Fact) (all []held, err error) {
	for _, f := range facts {
		s := b.stores[int64(f.Source)]
		if f.Type != entry.Folder || !f.Readable || s == nil || !s.Source.Traits.Dated() || f.First.After(b.AsOf) {
			continue
		}
		captures, err := b.Site.Catalogue.Held(b.ctx, s.Source.ID, f.First, earlier(f.Last, b.AsOf))
		if err != nil {
			return nil, err
		}
		for _, c := range captures {
			all = append(all, held{c, s, f.Copy})
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
func (b *folderAdvice) againstHeld(x *assurance, moment int64) (why string, size int64, err error) {
	n := 0
	for i := range b.files {
		f := &b.files[i]
		k, _ := f.at(moment)
		if k < 0 {
			continue
		}
		n++
		v := &f.versions[k]
		size += max(0, v.size)
		if v.copy == 0 {
			continue // the store may have it all the same
		}
		against, err := x.against(v.copy, v.size, f.path)
		if err != nil {
			return "", 0, err
		}
		if against != "" {
			return fmt.Sprintf("As it was on %s, %s in it %s.", b.say(moment), place.Readable(f.path), against), size, nil
		}
	}
	if n == 0 {
		return fmt.Sprintf("On %s there was nothing in it.", b.say(moment)), 0, nil
	}
	return "", size, nil
}

// takeHeld recommends the folder as one store had it at one moment, beside what stands there.
func (b *folderAdvice) takeHeld(h held, size int64, passedOver string) error {
	c, err := b.Site.Catalogue.Copy(b.ctx, h.copy)
	if err != nil {
		return err
	}
	c.At.Capture, c.Captured = h.Name, h.At
	b.Whole, b.WholeAt, b.Bytes = c, h.At, size
	aside := b.q.Place
	aside.Path += " as of " + h.At.In(b.q.Zone).Format("2006-01-02 15.04")
	b.Aside = &aside
	b.Because = append(
		b.Because,
		fmt.Sprintf(
			"It is %s. What is in it fits together only as it was at one moment, so it comes back whole, from one source.",
			b.Sealed,
		),
	)
	if passedOver != "" {
		b.Because = append(b.Because, "Newer ones were passed over. "+passedOver)
	}
	if err := b.elsewhere(); err != nil {
		return err
	}
	b.Because = append(
		b.Because,
		fmt.Sprintf("As it was on %s, it lies in %s.", b.say(h.At.UnixNano()), Name(h.store.Source, b.q.Place.Machine)),
		fmt.Sprintf("It goes beside what stands there, to %s, to be opened and looked at there.", aside),
	)
	b.Costs = []string{
		fmt.Sprintf("What was saved in it after %s is not in it.", b.say(h.At.UnixNano())),
		"It has to be opened with its own program, and its password or key where it has one.",
	}
	return nil
}

// elsewhere finds the same container on another machine or at another place: what its program keeps at its top is the same there, byte for
// byte.
func (b *folderAdvice) elsewhere() error {
	const some, largest = 50, 1 << 20
	for _, name := range sealed.Marks() {
		own, err := b.Site.Catalogue.FactsOf(b.ctx, b.stores, place.Place{Machine: b.q.Place.Machine, Path: place.Join(b.q.Place.Path, name)})
		if err != nil {
			return err
		}
		i := slices.IndexFunc(own, func(f catalogue.Fact) bool {
			return f.Type == entry.File && f.Readable && f.Size > 0 && f.Size < largest
		})
		if i < 0 {
			continue
		}
		sum, err := b.digestOf(own[i].Copy)
		if err != nil || sum == "" {
			return err
		}
		found, err := b.Site.Catalogue.Find(b.ctx, catalogue.Query{Words: name, Limit: some})
		if err != nil {
			return err
		}
		for _, c := range found.Copies {
			at := place.Place{Machine: c.Place.Machine, Path: place.Folder(c.Place.Path)}
			if !c.OriginKnown || c.Size != own[i].Size || at == b.q.Place || slices.Contains(b.SameAt, at) {
				continue
			}
			if there, err := b.digestOf(c.ID); err != nil {
				return err
			} else if there == sum {
				b.SameAt = append(b.SameAt, at)
				b.Because = append(b.Because, fmt.Sprintf("The same container is known at %s too: what its user saved there is worth a look.", at))
			}
		}
		return nil
	}
	return nil
}

// digestOf reads a copy; "" where it cannot be read.
func (b *folderAdvice) digestOf(id int64) (string, error) {
	c, err := b.Site.Catalogue.Copy(b.ctx, id)
	if err != nil {
		return "", err
	}
	sum, err := b.Contents.Digest(b.ctx, c)
	if err != nil {
		return "", b.ctx.Err()
	}
	return fmt.Sprintf("%x", sum), nil
}

// whole answers for a file in a folder that only makes sense whole.
func (a *Answer) whole(folder, why string) {
	r := a.Recommended
	at := place.Place{Machine: a.Question.Place.Machine, Path: folder}
	a.Because = []string{
		fmt.Sprintf(
			"It lies in %s, which is %s. A single file of that cannot be brought back and still fit; the folder comes back whole, to a "+
				"place beside it.",
			at,
			why,
		),
	}
	if r != nil && r.Copy.Live {
		return // it stands there, and nothing needs to be brought back
	}
	a.Recommended, a.Notes = nil, nil // which speak of the file by itself
	a.Next = append(
		[]string{
			fmt.Sprintf("Ask for the folder: humble-rewind advise %s --loss %s", place.Quote(at.Machine+":"+at.Path), a.Question.Loss),
		},
		a.Next...)
	if r != nil {
		a.Others = append(
			[]advice.Other{
				{Copy: r.Copy, Version: r.Version, State: r.Condition.State, Why: "By itself it would be the one. " + r.Because[0]},
			},
			a.Others...)
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
	logs, err := a.Site.Catalogue.NamedIn(ctx, p.Machine, []string{place.Folder(p.Path)}, names)
	for _, log := range logs {
		r.Costs = append(
			r.Costs,
			fmt.Sprintf(
				"It has a log beside it, %s, and the two only fit as they were at one moment: bring both back from the same store and "+
					"time, to a folder beside, and open them there.",
				place.Readable(place.Name(log)),
			),
		)
	}
	return err
}
