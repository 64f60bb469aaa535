// Package restore brings copies back: it plans what would be written, carries it out so that a crash at any point leaves
// nothing half-written under a final name, keeps a receipt, and undoes a receipt.
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
	"strings"
	"sync"
	"time"

	"humble-rewind/internal/contents"
	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/plan"
	"humble-rewind/internal/core/problem"
	"humble-rewind/internal/explain"
	"humble-rewind/internal/reach"
	"humble-rewind/internal/safekeeping"
	"humble-rewind/internal/site"
	"humble-rewind/internal/source"
	"humble-rewind/internal/trails"
)

// Restorer brings copies back at a site. It is safe for concurrent use.
type Restorer struct {
	Site     *site.Site
	Trails   *trails.Reader
	Contents *contents.Reader
	Safe     *safekeeping.Store
	Now      func() time.Time

	mu     sync.Mutex
	active map[int64]bool // receipts that are this process's: begun, and true once somebody works on them
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
func (r *Restorer) copies(ctx context.Context, open *handles, req Request) ([]wanted, error) {
	unique := make([]copies.ID, 0, len(req.Copies))
	seen := map[copies.ID]bool{}
	for _, id := range req.Copies {
		if !seen[id] {
			seen[id] = true
			unique = append(unique, id)
		}
	}
	all, err := r.Site.Catalogue.Copies.ByIDs(ctx, unique)
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
	spare := &spareHandles{}
	defer spare.close()
	err = reach.SideBySide(len(all), func(n int) (err error) {
		c := all[n]
		if !req.At.IsZero() {
			if c, err = r.heldAt(ctx, c, req.At); err != nil {
				return err
			}
		}
		own := spare.take(open)
		defer func() { spare.give(own) }()
		if !c.Lost && own.forged(c.Store.Source, c.At, c.Place.Path) {
			claimed := *c
			claimed.Claimed, claimed.Lost = c.Place.Path, true
			c = &claimed
		}
		w := r.want(own, c, req.Claimed)
		if !req.At.IsZero() {
			w.Dated, w.DatedBy = req.At.In(w.Dated.Location()), "from"
		}
		switch {
		case req.To == nil && w.To == (place.Place{}) && c.Claimed != "" && w.Problem == "":
			w.Unconfirmed = true
			w.Problem = fmt.Sprintf(
				"it claims to come from %s, but somebody who may write its store could not have put it there, so that may be forged; "+
					"say where it should go, or confirm the claimed place",
				place.Quote(c.Claimed),
			)
		case req.To == nil:
		case into:
			w.To, w.Versioned = place.Place{Machine: req.To.Machine, Path: place.Join(req.To.Path, ownName(c))}, false
		default:
			w.Versioned = w.Versioned && w.To == *req.To
			w.To = *req.To
		}
		if w.Displaced = c.Lost || w.To != c.Place; w.Displaced && !own.lives(w.Own, w.To) {
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
	held, err := r.Site.Catalogue.Copies.Held(ctx, c.Store.ID, at, at)
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
func (r *Restorer) destination(open *handles, req Request, count int) (into bool, err error) {
	if req.To == nil {
		return false, nil
	}
	if _, err := open.files(req.To.Machine); err != nil {
		return false, &problem.Input{
			What: fmt.Sprintf("bring back to %s", req.To),
			Err:  err,
			Next: "List the machines.",
			Do:   []problem.Step{{Do: problem.ListMachines}},
		}
	}
	info, err := open.look(*req.To)
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
func (r *Restorer) want(open *handles, c *copies.Copy, claimed bool) wanted {
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
	w.Foreign, w.Own = !open.rootsOwn(c.Store.Source, c.At.Capture), open.uidOf(c)
	if zone, err := open.zone(c.Store.Machine); err == nil {
		w.Dated = w.Dated.In(zone)
	}
	if !c.Readable {
		w.Problem = "only the record of it is left; there is nothing to bring back"
		return w
	}
	store, err := open.source(c.Store.Source)
	if err != nil {
		w.Problem = fmt.Sprintf("its store cannot be reached: %s", Explain(err))
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
			info, err = open.look(w.From)
		}
	} else {
		info, err = open.seen(store, w.ref)
	}
	switch {
	case errors.Is(err, fs.ErrNotExist):
		w.Problem = "it is no longer where the last survey saw it: it was emptied, or somebody just brought it back; survey again"
	case err != nil:
		w.Problem = Explain(err)
	case info.Type == entry.Other:
		w.Problem = "it is a device, pipe or socket; there is no content to bring back"
	default:
		w.Type, w.Volume, w.before = info.Type, info.Volume(), new(identify(info))
		w.Mode, w.UID, w.GID = info.Mode, info.UID, info.GID
		if info.Type != entry.Folder && info.Size >= 0 {
			w.Size = info.Size
		}
	}
	return w
}

// activate notes that this process works on a receipt; mu is held.
func (r *Restorer) activate(id int64) {
	if r.active == nil {
		r.active = map[int64]bool{}
	}
	r.active[id] = false
}

// BeginUndo claims a receipt for undoing, for whoever then calls Undo; catalogue.ErrTaken where it cannot be undone.
func (r *Restorer) BeginUndo(ctx context.Context, id int64, by string) error {
	r.mu.Lock()
	defer r.mu.Unlock()
	err := r.Site.Catalogue.Receipts.BeginUndo(ctx, id, by)
	if err == nil {
		r.activate(id)
	}
	return err
}

// Leave says that nobody in this process works on a receipt any more, so that it is settled if it is still open.
func (r *Restorer) Leave(id int64) {
	r.mu.Lock()
	defer r.mu.Unlock()
	delete(r.active, id)
}

func (r *Restorer) isActive(id int64) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	_, active := r.active[id]
	return active
}

// enter claims a receipt for work on it; false where somebody works on it already.
func (r *Restorer) enter(id int64) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.active[id] {
		return false
	}
	r.activate(id)
	r.active[id] = true
	return true
}

func joinNotes(notes ...string) string {
	all := ""
	for _, note := range notes {
		if strings.Contains(all, note) { // nothing, or what is said already: what is away is tried again and again
			continue
		}
		if all != "" {
			all += "; "
		}
		all += note
	}
	return all
}

// words say of problems what they mean, or what to do next, where files are brought back.
var words = explain.Words{
	problem.Full:      "the file system is full; free some room or choose another destination",
	problem.OverQuota: "the owner's quota is used up; raise it or choose another destination",
	problem.ReadOnly:  "the file system is read-only; mount it for writing or choose another destination",
	problem.Refused:   "the service may not do that there; run it as a user who may, or choose another destination",
	problem.Fault:     "the drive reports a fault; stop using it and make an image of it first",
	problem.Private: "the service's own data lies there, which is never read, moved or written as anybody's files; choose another " +
		"place",
	problem.Changed:      "it changed in the meantime; plan again",
	problem.Taken:        "something else is there now",
	problem.TooManyLinks: "something else was put into it",
	problem.NotEmpty:     "something else was put into it",
	problem.NameTooLong:  "the name is too long for the file system there; choose another destination",
}

// Explain words an error of reading or writing for a technician.
func Explain(err error) string {
	if errors.Is(err, context.Canceled) {
		return "it was cancelled, or the service stopped, before it arrived"
	}
	if errors.Is(err, safekeeping.ErrFull) {
		return err.Error()
	}
	return words.Error(err)
}
