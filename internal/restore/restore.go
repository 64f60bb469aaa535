// Package restore brings copies back: it plans what would be written, carries it out so that a crash at any point leaves
// nothing half-written under a final name, keeps a receipt, and undoes a receipt.
//
// Planning is here. What is kept of each item is in package journal, the order in which things are done and how a stop is recovered from
// in package steps, what is written to in package target, and what is read, and known again, in package original.
//
// Whatever is written lies first in a working folder on the same file system that nobody else can enter, is read back from the drive and
// compared by digest, and then takes its final name in a way that cannot replace anything. On a cloud drive it becomes a version, which is
// read back. What has to give way goes into safekeeping before. The receipt is begun before the first write and says, item by item, what is
// needed to finish or undo it.
package restore

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"time"

	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/contents"
	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/plan"
	"humble-rewind/internal/core/problem"
	"humble-rewind/internal/core/remark"
	"humble-rewind/internal/past"
	"humble-rewind/internal/reach"
	"humble-rewind/internal/restore/hands"
	"humble-rewind/internal/restore/original"
	"humble-rewind/internal/restore/steps"
	"humble-rewind/internal/say"
	"humble-rewind/internal/source"
)

// Restorer brings copies back at a site: it plans that, and its steps carry it out. It is safe for concurrent use.
type Restorer struct {
	*steps.Steps
	Past     *past.Reader
	Contents *contents.Reader
}

// For returns one that plans from what somebody else may know.
func (r *Restorer) For(view catalogue.View) *Restorer {
	return &Restorer{r.Steps, r.Past.For(view), r.Contents}
}

// Request says what is to be brought back.
type Request struct {
	Copies   []copies.ID
	At       time.Time    // of copies in a store that shows them at many points in time: which; zero: the latest
	AsOf     *AsOf        // instead of copies
	To       *place.Place // nil: each to its own place
	ToFolder bool         // To was written as a folder, with a slash at its end
	Rule     plan.Rule
	// KeepOwners believes owners and set-id bits also of stores that users can write.
	KeepOwners bool
	// Claimed lets copies go to the places that records claim which are not trusted.
	Claimed bool
}

// copies wants the copies named, each once.
func (r *Restorer) copies(ctx context.Context, open *hands.Hands, req Request) ([]wanted, error) {
	unique := make([]copies.ID, 0, len(req.Copies))
	seen := map[copies.ID]bool{}
	for _, id := range req.Copies {
		if !seen[id] {
			seen[id] = true
			unique = append(unique, id)
		}
	}
	all, err := r.Past.View.Copies.ByIDs(ctx, unique)
	if err != nil {
		return nil, err
	}
	into, err := r.destination(open, req, len(all))
	if err != nil {
		return nil, err
	}
	if (req.To == nil || into) && req.At.IsZero() { // else there is but one name to go by
		if all, err = r.withLogs(ctx, all); err != nil {
			return nil, err
		}
	}
	wants := make([]wanted, len(all))
	spare := &hands.Spare{}
	defer spare.Close()
	err = reach.SideBySide(len(all), func(n int) (err error) {
		c := all[n]
		if !req.At.IsZero() {
			if c, err = r.heldAt(ctx, c, req.At); err != nil {
				return err
			}
		}
		own := spare.Take(open)
		defer func() { spare.Give(own) }()
		if !c.Lost && own.Forged(c.Store.Source, c.At, c.Place.Path) {
			claimed := *c
			claimed.Claimed, claimed.Lost = c.Place.Path, true
			c = &claimed
		}
		w := r.want(own, c, req.Claimed)
		if !req.At.IsZero() {
			w.Dated, w.DatedBy = req.At.In(w.Dated.Location()), "from"
		}
		switch {
		case req.To == nil && w.To == (place.Place{}) && c.Claimed != "" && !w.Problem.Any():
			w.Unconfirmed = true
			w.Problem = remark.New("claims", "place", place.Quote(c.Claimed))
		case req.To == nil:
		case into:
			w.To, w.Versioned = place.Place{Machine: req.To.Machine, Path: place.Join(req.To.Path, ownName(c))}, false
		default:
			w.Versioned = w.Versioned && w.To == *req.To
			w.To = *req.To
		}
		if !req.KeepOwners {
			w.across(own, c)
		}
		if w.Displaced = c.Lost || w.To != c.Place; w.Displaced && !own.Lives(w.Own, w.To) {
			w.Own = -1
		}
		wants[n] = w
		return nil
	})
	if err == nil {
		places := make([]place.Place, len(all))
		for n, c := range all {
			if !c.Lost {
				places[n] = c.Place
			}
		}
		err = r.pickedFrom(ctx, places, wants)
	}
	return wants, err
}

// heldAt is a copy as its store showed it at one of its points in time.
func (r *Restorer) heldAt(ctx context.Context, c *copies.Copy, at time.Time) (*copies.Copy, error) {
	held, err := r.Past.View.Copies.Held(ctx, c.Store.ID, at, at)
	if err != nil {
		return c, err
	}
	if len(held) == 0 || at.Before(c.Captured) || at.After(c.Last) {
		return c, &problem.Input{
			What: fmt.Sprintf("bring back %s as of %s", c.ID.String(), at.Format(time.RFC3339)),
			Err:  errors.New("its store did not have it at that time"),
			Next: "Leave the time out for the latest, or see at which times there are copies.",
			Do:   []problem.Step{{Do: problem.ShowTrail, About: c.Place.String()}},
		}
	}
	then := *c
	then.At.Capture = held[0].Name
	return &then, nil
}

// ownName is what a copy is called when it goes elsewhere.
func ownName(c *copies.Copy) string { return c.Place.Name() }

// destination tells whether req.To is a folder to put the copies into.
func (r *Restorer) destination(open *hands.Hands, req Request, count int) (into bool, err error) {
	if req.To == nil {
		return false, nil
	}
	if _, err := open.Files(req.To.Machine); err != nil {
		return false, &problem.Input{
			What: fmt.Sprintf("bring back to %s", req.To),
			Err:  err,
			Next: "List the machines.",
			Do:   []problem.Step{{Do: problem.ListMachines}},
		}
	}
	info, err := open.Look(*req.To)
	switch {
	case err == nil && info.Type == entry.Folder:
		return true, nil
	case err != nil && !errors.Is(err, fs.ErrNotExist):
		return false, &problem.Input{What: fmt.Sprintf("bring back to %s", req.To), Err: err, Next: "Choose another destination."}
	case (req.ToFolder || count > 1) && err == nil:
		return false, &problem.Input{
			What: fmt.Sprintf("bring back to %s", req.To),
			Err:  problem.NotFolder,
			Next: "Choose another destination.",
		}
	case req.ToFolder, count > 1: // several can only go into a folder
		return true, nil
	}
	return false, nil
}

// want looks at one copy where it lies.
func (r *Restorer) want(open *hands.Hands, c *copies.Copy, claimed bool) wanted {
	w := wanted{
		Wanted: plan.Wanted{Copy: c.ID.String(), From: c.LiesAt(), Type: c.Type, Size: c.Size, Dated: c.GoneRecorded(), DatedBy: "deleted"},
		copy:   c.ID,
		source: c.Store.ID,
		ref:    c.Ref(),
	}
	if !c.Lost {
		w.To = c.Place
	}
	if w.Dated.IsZero() {
		w.Dated, w.DatedBy = c.Recorded(), "from"
	}
	if w.To == (place.Place{}) && c.Claimed != "" && claimed {
		w.To, w.Claimed = place.Place{Machine: c.Store.Machine, Path: c.Claimed}, true
	}
	w.Foreign, w.Own = !open.RootsOwn(c.Store.Source, c.At.Capture), open.UIDOf(c)
	if zone, err := open.Zone(c.Store.Machine); err == nil {
		w.Dated = w.Dated.In(zone)
	}
	if !c.Readable {
		w.Problem = remark.New("record-only")
		return w
	}
	store, err := open.Source(c.Store.Source)
	if err != nil {
		w.Problem = remark.New("store-away", "why", say.BringBackError(err))
		return w
	}
	if back, ok := source.AsReturning(store); ok {
		if path, versions, err := back.Returns(w.ref); err == nil {
			w.To, w.Versioned = place.Place{Machine: c.Store.AtMachine, Path: path}, versions
		}
	}
	var info reach.Info
	if emptied, ok := source.AsEmptied(store); ok {
		if w.From.Path, w.Leaves, err = emptied.Lies(w.ref); err == nil {
			info, err = open.Look(w.From)
		}
	} else {
		info, err = open.Seen(store, w.ref)
	}
	switch {
	case errors.Is(err, fs.ErrNotExist):
		w.Problem = remark.New("emptied")
	case err != nil:
		w.Problem = remark.Said(say.BringBackError(err))
	case info.Type == entry.Other:
		w.Problem = remark.New("device")
	default:
		w.Type, w.Volume, w.before = info.Type, info.Volume(), new(original.Identify(info))
		w.Mode, w.UID, w.GID = info.Mode, info.UID, info.GID
		if info.Type != entry.Folder && info.Size >= 0 {
			w.Size = info.Size
		}
	}
	return w
}
