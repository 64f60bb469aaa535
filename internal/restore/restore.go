// Package restore brings copies back: it plans what would be written, carries it out so that a crash at any point leaves
// nothing half-written under a final name, keeps a receipt, and undoes a receipt.
//
// Whatever is written gets a temporary name in its destination folder first, is read back and compared by digest, and
// then takes its final name in a way that cannot replace anything. What has to give way goes into safekeeping before.
// The receipt is begun before the first write and says, item by item, what is needed to finish or undo it.
package restore

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"sync"
	"syscall"
	"time"

	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/plan"
	"humble-rewind/internal/reach"
	"humble-rewind/internal/safekeeping"
	"humble-rewind/internal/site"
	"humble-rewind/internal/source"
	"humble-rewind/internal/trails"
)

// Restorer brings copies back at a site. It is safe for concurrent use.
type Restorer struct {
	Site   *site.Site
	Trails *trails.Reader
	Safe   *safekeeping.Store
	Now    func() time.Time

	mu     sync.Mutex
	active map[int64]bool // receipts that are this process's: begun, and true once somebody works on them
}

// Request says what is to be brought back.
type Request struct {
	Copies   []int64
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

// Planned is a plan with what carrying it out needs.
type Planned struct {
	plan.Plan
	rule  plan.Rule
	wants []wanted // by the index of the plan's items
}

// wanted is a copy to bring back with what carrying that out needs.
type wanted struct {
	plan.Wanted
	copy   int64 // 0 where nothing comes
	source int64
	at     source.Locator
	before identity    // of the copy where it lies; zero where it was not looked at
	expect expectation // of a file that was not looked at
	asOf   bool
	to     *belonging  // whom it belongs to then; nil where its store is believed
	like   *entry.Mark // what it was like at the moment, where that is not as it is where its content is read from
}

// work is what is kept with the receipt of an item.
func (w *wanted) work() work {
	return work{Capture: []byte(w.at.Capture), Dir: []byte(w.at.Dir), Name: []byte(w.at.Name), Leaves: w.Leaves, Dated: w.Dated, DatedBy: w.DatedBy,
		Before: w.before, AsOf: w.asOf, Expect: w.expect, Alone: w.Alone, Away: w.Away, Like: w.like, To: w.to}
}

// work is kept with a receipt's item: what carrying it out, finishing it after a crash and undoing it need.
type work struct {
	Capture []byte         `json:"capture,omitempty"` // the copy's locator
	Dir     []byte         `json:"dir"`
	Name    []byte         `json:"name"`
	Action  plan.Action    `json:"action"`
	Rule    plan.Rule      `json:"rule"`
	Renames bool           `json:"renames"`
	Leaves  bool           `json:"leaves"`
	Held    source.Holding `json:"held,omitempty"`
	Dated   time.Time      `json:"dated"`
	DatedBy string         `json:"dated_by"`
	Before  identity       `json:"before"` // of the copy where it lies
	After   identity       `json:"after"`  // of what arrived; of a copied one, known before it takes its final name
	Made    [][]byte       `json:"made,omitempty"`
	Aside   *aside         `json:"aside,omitempty"`
	Sets    bool           `json:"sets_aside,omitempty"`
	AsOf    bool           `json:"as_of,omitempty"` // planned by what surveys saw
	Expect  expectation    `json:"expect,omitzero"` // of a file planned so
	Alone   bool           `json:"alone,omitempty"` // a folder without what is in it
	Away    bool           `json:"away,omitempty"`  // there is no copy: what stands is set aside
	Ground  *ground        `json:"ground,omitempty"`
	To      *belonging     `json:"to,omitempty"`
	Bits    fs.FileMode    `json:"bits,omitempty"`    // set-id bits that it had and that were taken from it after it was moved
	Removed string         `json:"removed,omitempty"` // what an undo removed, in safekeeping
	Like    *entry.Mark    `json:"like,omitempty"`    // what it comes back like, where not as its content is read
}

// expectation is what a file planned by what surveys saw must still be like.
type expectation struct {
	Size    int64         `json:"size"`
	Written entry.Instant `json:"written"`
}

func (e expectation) met(i reach.Info) bool {
	return i.Size == e.Size && entry.At(i.Written) == e.Written
}

func (w work) at() source.Locator {
	return source.Locator{Capture: string(w.Capture), Dir: string(w.Dir), Name: string(w.Name)}
}

// Plan works out what bringing the copies back would do. It writes nothing.
func (r *Restorer) Plan(ctx context.Context, req Request) (Planned, error) {
	open := newHandles(ctx, r.Site)
	defer open.close()
	find := r.copies
	if req.AsOf != nil {
		find = r.asOf
	}
	wants, err := find(ctx, open, req)
	if err != nil {
		return Planned{}, err
	}
	p := Planned{rule: req.Rule, wants: wants}
	all := make([]plan.Wanted, len(wants))
	for n := range wants {
		if req.KeepOwners {
			wants[n].Foreign = false
		}
		wants[n].Index = n
		all[n] = wants[n].Wanted
	}
	p.Plan = plan.Make(all, req.Rule, &world{open: open, standing: map[place.Place]plan.Standing{}})
	return p, ctx.Err()
}

// copies wants the copies named, each once.
func (r *Restorer) copies(ctx context.Context, open *handles, req Request) ([]wanted, error) {
	unique := make([]int64, 0, len(req.Copies))
	seen := map[int64]bool{}
	for _, id := range req.Copies {
		if !seen[id] {
			seen[id] = true
			unique = append(unique, id)
		}
	}
	copies, err := r.Site.Catalogue.Copies(ctx, unique)
	if err != nil {
		return nil, err
	}
	into, err := r.destination(open, req, len(copies))
	if err != nil {
		return nil, err
	}
	wants := make([]wanted, len(copies))
	for n, c := range copies {
		if !req.At.IsZero() {
			if c, err = r.heldAt(ctx, c, req.At); err != nil {
				return nil, err
			}
		}
		w := r.want(open, c, req.Claimed)
		switch {
		case req.To == nil && w.To == (place.Place{}) && c.Claimed != "" && w.Problem == "":
			w.Unconfirmed = true
			w.Problem = fmt.Sprintf("its record claims that it came from %s, but the owner of this trash could not have deleted it from there; "+
				"say where it should go, or confirm the claimed place", place.Quote(c.Claimed))
		case req.To == nil:
		case into:
			w.To = place.Place{Machine: req.To.Machine, Path: place.Join(req.To.Path, ownName(c))}
		default:
			w.To = *req.To
		}
		wants[n] = w
	}
	return wants, nil
}

// heldAt is a copy as its store showed it at one of its points in time.
func (r *Restorer) heldAt(ctx context.Context, c catalogue.Copy, at time.Time) (catalogue.Copy, error) {
	held, err := r.Site.Catalogue.Held(ctx, c.Source.ID, at, at)
	if err != nil {
		return c, err
	}
	if len(held) == 0 || at.Before(c.Captured) || at.After(c.LastSeen) {
		return c, &site.InputError{What: fmt.Sprintf("bring back %s as of %s", CopyID(c.ID), at.Format(time.RFC3339)), Err: errors.New("its store has no such point in time of it"),
			Next: "Leave the time out for the latest, or see which there are with humble-rewind folder."}
	}
	c.At.Capture, c.Written = held[0].Name, at
	return c, nil
}

// ownName is what a copy is called when it goes elsewhere.
func ownName(c catalogue.Copy) string { return c.Place.Name() }

// destination tells whether req.To is a folder to put the copies into.
func (r *Restorer) destination(open *handles, req Request, count int) (into bool, err error) {
	if req.To == nil {
		return false, nil
	}
	if _, err := open.files(req.To.Machine); err != nil {
		return false, &site.InputError{What: fmt.Sprintf("bring back to %s", req.To), Err: err, Next: "List the machines with: humble-rewind machine list"}
	}
	info, err := open.lstat(*req.To)
	switch {
	case err == nil && info.Type == plan.Folder:
		return true, nil
	case err != nil && !errors.Is(err, fs.ErrNotExist):
		return false, &site.InputError{What: fmt.Sprintf("bring back to %s", req.To), Err: err, Next: "Choose another destination."}
	case req.ToFolder && err == nil:
		return false, &site.InputError{What: fmt.Sprintf("bring back to %s", req.To), Err: reach.ErrNotFolder, Next: "Choose another destination."}
	case req.ToFolder:
		return true, nil
	case count > 1:
		return false, &site.InputError{What: fmt.Sprintf("bring back to %s", req.To), Err: errors.New("several copies cannot become one file"), Next: "Name a folder: end the path with a slash."}
	}
	return false, nil
}

// want looks at one copy where it lies.
func (r *Restorer) want(open *handles, c catalogue.Copy, claimed bool) wanted {
	w := wanted{Wanted: plan.Wanted{Copy: CopyID(c.ID), From: c.LiesAt(), Type: c.Type, Size: c.Size, Dated: c.Gone, DatedBy: "deleted"}, copy: c.ID, source: c.Source.ID, at: c.At}
	if c.OriginKnown {
		w.To = c.Place
	}
	if w.Dated.IsZero() {
		w.Dated, w.DatedBy = c.Written, "from"
	}
	if w.To == (place.Place{}) && c.Claimed != "" && claimed {
		w.To, w.Claimed = place.Place{Machine: c.Source.Machine, Path: c.Claimed}, true
	}
	w.Foreign, w.Own = !open.rootsOwn(c.Source, c.At.Capture), open.uidOf(c)
	if zone, err := open.zone(c.Source.Machine); err == nil {
		w.Dated = w.Dated.In(zone)
	}
	if !c.Readable {
		w.Problem = "only the record of it is left; there is nothing to bring back"
		return w
	}
	store, err := open.source(c.Source)
	if err != nil {
		w.Problem = fmt.Sprintf("its store cannot be reached: %s", Explain(err))
		return w
	}
	var info reach.Info
	if giver, ok := store.(source.Giver); ok {
		path, leaves := giver.Lies(c.At)
		w.From.Path, w.Leaves = path, leaves
		info, err = open.lstat(w.From)
	} else {
		var content source.Content
		if content, err = store.Open(open.ctx, c.At); err == nil {
			info = content.Info
			err = content.Close()
		}
	}
	switch {
	case errors.Is(err, fs.ErrNotExist):
		w.Problem = "it is no longer where the last survey saw it: it was emptied, or somebody just brought it back; survey again"
	case err != nil:
		w.Problem = Explain(err)
	case info.Type == plan.Other:
		w.Problem = "it is a device, pipe or socket; there is no content to bring back"
	default:
		w.Type, w.Device, w.before = info.Type, info.Device, identify(info)
		w.Mode, w.UID, w.GID = info.Mode, info.UID, info.GID
		if info.Type != plan.Folder {
			w.Size = info.Size
		}
	}
	return w
}

// CopyID writes a copy's number as it is shown.
func CopyID(id int64) string { return fmt.Sprintf("c%d", id) }

// Begin records the receipt of a plan, before anything is written.
func (r *Restorer) Begin(ctx context.Context, p Planned, by string) (catalogue.Receipt, error) {
	receipt := catalogue.Receipt{At: r.Now(), By: by}
	held, err := r.hold(ctx, p)
	if err != nil {
		return receipt, err
	}
	for _, item := range p.Items {
		wanted := &p.wants[item.Index]
		w := wanted.work()
		w.Held = held[item.Index]
		w.Action, w.Renames, w.Rule, w.Sets = item.Action, item.Renames, p.rule, item.SetsAside
		w.Ground = &ground{Path: []byte(item.Ground.Path), Device: item.GroundDevice}
		if item.Foreign {
			w.To = &belonging{UID: item.Owner.UID, GID: item.Owner.GID, Own: item.Own}
		}
		for _, made := range item.Makes {
			w.Made = append(w.Made, []byte(made.Path))
		}
		encoded, err := json.Marshal(w)
		if err != nil {
			return receipt, err
		}
		ri := catalogue.ReceiptItem{Copy: wanted.copy, Source: wanted.source, From: item.From, To: item.To, Type: item.Type, Size: item.Size,
			Outcome: catalogue.ItemWaiting, Note: joinNotes(item.Clash, item.Note), Work: encoded}
		switch item.Action {
		case plan.Pass:
			ri.Outcome = catalogue.ItemSkipped
		case plan.Refuse:
			ri.Outcome = catalogue.ItemRefused
		}
		receipt.Items = append(receipt.Items, ri)
	}
	r.mu.Lock() // so that nobody takes the receipt for one that a stop left
	receipt, err = r.Site.Catalogue.BeginReceipt(ctx, receipt)
	if err == nil {
		r.activate(receipt.ID)
	}
	r.mu.Unlock()
	if err != nil {
		return receipt, err
	}
	if err := r.rememberFolders(ctx, receipt); err != nil {
		r.Leave(receipt.ID)
		return receipt, err
	}
	return receipt, nil
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
	err := r.Site.Catalogue.BeginUndo(ctx, id, by)
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

// hold asks the stores what they remember about the items that will leave them, by the items' indexes.
func (r *Restorer) hold(ctx context.Context, p Planned) (map[int]source.Holding, error) {
	bySource := map[int64][]int{}
	for _, item := range p.Items {
		if item.Action == plan.Move {
			id := p.wants[item.Index].source
			bySource[id] = append(bySource[id], item.Index)
		}
	}
	all := map[int]source.Holding{}
	for id, indexes := range bySource {
		src, err := r.Site.Catalogue.Source(ctx, id)
		if err != nil {
			return nil, err
		}
		store, err := r.Site.Source(ctx, src)
		if err != nil {
			return nil, err
		}
		locators := make([]source.Locator, len(indexes))
		for n, index := range indexes {
			locators[n] = p.wants[index].at
		}
		held, err := store.(source.Giver).Hold(ctx, locators)
		if err != nil {
			return nil, err
		}
		for n, index := range indexes {
			all[index] = held[n]
		}
	}
	return all, nil
}

func joinNotes(notes ...string) string {
	all := ""
	for _, note := range notes {
		if note == "" {
			continue
		}
		if all != "" {
			all += "; "
		}
		all += note
	}
	return all
}

// Explain words an error of reading or writing for a technician.
func Explain(err error) string {
	if said, ok := catalogue.Explain(err); ok {
		return said
	}
	switch {
	case errors.Is(err, context.Canceled):
		return "it was cancelled, or the service stopped, before it arrived"
	case errors.Is(err, syscall.ENOSPC):
		return "the file system is full; free some room or choose another destination"
	case errors.Is(err, syscall.EDQUOT):
		return "the owner's quota is used up; raise it or choose another destination"
	case errors.Is(err, syscall.EROFS):
		return "the file system is read-only; mount it for writing or choose another destination"
	case errors.Is(err, fs.ErrPermission):
		return "the service may not do that there; run it as a user who may, or choose another destination"
	case errors.Is(err, safekeeping.ErrFull):
		return err.Error()
	case errors.Is(err, syscall.EIO):
		return "the drive reports a fault; stop using it and make an image of it first"
	case errors.Is(err, reach.ErrPrivate):
		return "the service's own data lies there, which is never read, moved or written as anybody's files; choose another place"
	case errors.Is(err, errChanged):
		return "it changed in the meantime; plan again"
	case errors.Is(err, fs.ErrExist):
		return "something else has come to stand there"
	case errors.Is(err, syscall.EMLINK), errors.Is(err, syscall.ENOTEMPTY):
		return "something else was put into it"
	case errors.Is(err, syscall.ENAMETOOLONG):
		return "the name is too long for the file system there; choose another destination"
	}
	return reach.Worded(err)
}
