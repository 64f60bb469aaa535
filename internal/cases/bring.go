package cases

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"time"

	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/choosing"
	"humble-rewind/internal/core/condition"
	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/remark"
	"humble-rewind/internal/restore"
	"humble-rewind/internal/say"
)

// Reasons are why something was brought back, as they were then: once it stands there again, the advice would be another.
type Reasons struct {
	Because []string        `json:"because"`
	Plain   int             `json:"plain"` // how many of the first are in words for the user
	State   condition.State `json:"state,omitempty"`
	Costs   []string        `json:"costs"`
}

func reasonsOf(a *choosing.Answer, s say.Speaker) Reasons {
	switch {
	case a.Folder != nil:
		return Reasons{Because: s.Remarks(a.Folder.Because), Plain: len(a.Folder.Because), Costs: s.Remarks(a.Folder.Costs)}
	case a.Recommended != nil:
		r := a.Recommended
		return Reasons{Because: s.Remarks(r.Because), Plain: r.Plain, State: r.Condition.State, Costs: s.Remarks(r.Costs)}
	}
	return Reasons{}
}

// ForUser gives the reasons in words for the user.
func (r Reasons) ForUser() []string {
	why := slices.Clone(r.Because[:min(r.Plain, len(r.Because))])
	if r.State != "" {
		why = append(why, say.Speaker{}.Remark(remark.New("user-"+string(r.State))))
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
		speak := say.Speaker{Now: b.Now(), Zone: zone}
		return r, Reasons{Because: []string{speak.Remark(remark.New("chosen-by", "who", by))}, Plain: 1,
			Costs: []string{speak.Remark(remark.New("chosen-costs"))}}, err
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
	return r, reasonsOf(&answer, say.Speaker{Now: b.Now(), Zone: zone}), b.home(ctx, &r)
}

// home leaves out where a copy goes if that is its own place: its store may know better how it gets there, as a cloud drive does.
func (b *Book) home(ctx context.Context, r *restore.Request) error {
	if r.To == nil || len(r.Copies) != 1 {
		return nil
	}
	c, err := b.view().Copies.ByID(ctx, r.Copies[0])
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
	c, err := b.view().Copies.ByID(ctx, chosen[0])
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
	k, err := b.Site.Catalogue.Cases.AddEntry(ctx, id,
		catalogue.CaseEntry{At: b.Now(), By: by, Kind: catalogue.EntryReceipt, Ref: fmt.Sprintf("r%d", receipt), Work: work})
	_, err = b.kept(ctx, k, err)
	return err
}

// reasons reads why the receipt of an entry was brought back.
func reasons(e catalogue.CaseEntry) (why Reasons, err error) {
	if err := json.Unmarshal(e.Work, &why); err != nil {
		return why, fmt.Errorf("read why receipt %s was brought back: %w", e.Ref, err)
	}
	return why, nil
}
