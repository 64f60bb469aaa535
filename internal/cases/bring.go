package cases

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"time"

	"humble-rewind/internal/advise"
	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/core/advice"
	"humble-rewind/internal/core/condition"
	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/restore"
)

// Reasons are why something was brought back, as they were then: once it stands there again, the advice would be another.
type Reasons struct {
	Because []string        `json:"because"`
	Plain   int             `json:"plain"` // how many of the first are in words for the user
	State   condition.State `json:"state,omitempty"`
	Costs   []string        `json:"costs"`
}

func reasonsOf(a *advise.Answer) Reasons {
	switch {
	case a.Folder != nil:
		return Reasons{Because: advice.Texts(a.Folder.Because), Plain: len(a.Folder.Because), Costs: advice.Texts(a.Folder.Costs)}
	case a.Recommended != nil:
		r := a.Recommended
		return Reasons{Because: advice.Texts(r.Because), Plain: r.Plain, State: r.Condition.State, Costs: advice.Texts(r.Costs)}
	}
	return Reasons{}
}

// ForUser gives the reasons in words for the user.
func (r Reasons) ForUser() []string {
	why := slices.Clone(r.Because[:min(r.Plain, len(r.Because))])
	switch r.State {
	case condition.Sound:
		why = append(why, "It was checked and is whole.")
	case condition.Broken:
		why = append(why, "It is damaged.")
	case condition.Doubtful, condition.Unread:
		why = append(why, "Nobody can tell from outside whether it is whole: please open it and look.")
	}
	return why
}

// Bring returns what to bring back for a case, and why: what is advised, or the copies named instead, to where they belong.
// The reasons say times in zone.
func (b *Book) Bring(
	ctx context.Context,
	k catalogue.Case,
	chosen []copies.ID,
	by string,
	zone *time.Location,
) (restore.Request, Reasons, error) {
	if len(chosen) > 0 {
		r, err := b.named(ctx, k, chosen)
		because := fmt.Sprintf("It was chosen by %s, whatever was advised.", by)
		return r, Reasons{Because: []string{because}, Plain: 1, Costs: []string{"What was saved after it is not in it."}}, err
	}
	answer, err := b.Advise(ctx, k, zone)
	if err != nil {
		return restore.Request{}, Reasons{}, err
	}
	bring, err := answer.Bring()
	if err != nil {
		return restore.Request{}, Reasons{}, err
	}
	r := restore.Request{Copies: bring.Copies, To: bring.To, At: bring.At}
	return r, reasonsOf(&answer), b.home(ctx, &r)
}

// home leaves out where a copy goes if that is its own place: its store may know better how it gets there, as a cloud drive does.
func (b *Book) home(ctx context.Context, r *restore.Request) error {
	if r.To == nil || len(r.Copies) != 1 {
		return nil
	}
	c, err := b.Site.Catalogue.Copies.ByID(ctx, r.Copies[0])
	if err == nil && !c.Lost && c.Place == *r.To {
		r.To = nil
	}
	return err
}

// named asks for copies that a technician named.
func (b *Book) named(ctx context.Context, k catalogue.Case, chosen []copies.ID) (restore.Request, error) {
	r := restore.Request{Copies: chosen}
	if len(chosen) > 1 || k.Place.Path == "" {
		return r, nil
	}
	c, err := b.Site.Catalogue.Copies.ByID(ctx, chosen[0])
	if err == nil && c.Type == entry.File { // whatever it is called where it lies
		r.To = &k.Place
	}
	if err == nil {
		err = b.home(ctx, &r)
	}
	return r, err
}

// Brought puts a receipt into a case, with the reasons for what it brings back.
func (b *Book) Brought(ctx context.Context, id int64, by string, receipt int64, why Reasons) error {
	work, err := json.Marshal(why)
	if err != nil {
		return err
	}
	_, err = b.Site.Catalogue.Cases.AddEntry(
		ctx,
		id,
		catalogue.CaseEntry{At: b.Now(), By: by, Kind: catalogue.EntryReceipt, Ref: fmt.Sprintf("r%d", receipt), Work: work},
	)
	if err == nil {
		b.changed(id)
	}
	return err
}

// reasons reads why the receipt of an entry was brought back.
func reasons(e catalogue.CaseEntry) (why Reasons, err error) {
	if err := json.Unmarshal(e.Work, &why); err != nil {
		return why, fmt.Errorf("read why receipt %s was brought back: %w", e.Ref, err)
	}
	return why, nil
}
