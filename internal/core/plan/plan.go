// Package plan works out what bringing copies back would write, before anything is written: where each copy goes,
// which folders have to be made again, what already stands there and how that clash is settled.
//
// It is pure. What stands on the machines is asked of a [World]; the plan is only as true as the world was when asked,
// so whoever carries it out must still write in ways that cannot replace anything.
package plan

import (
	"cmp"
	"io/fs"
	"math"
	"slices"
	"strings"
	"time"

	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/names"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/remark"
)

// Rule says how a clash is settled.
type Rule string

// The rules. The zero Rule is KeepBoth.
const (
	KeepBoth Rule = "keep-both" // the copy gets a readable new name beside what is there
	SetAside Rule = "set-aside" // what is there goes into safekeeping first
	Skip     Rule = "skip"      // the copy stays where it is
)

// Action is what the plan does with an item.
type Action string

// The actions.
const (
	Move   Action = "move"      // it leaves its store, record and all
	Copy   Action = "copy"      // its store keeps it
	Pass   Action = "skip"      // nothing is done, by rule
	Aside  Action = "set-aside" // nothing comes; what is there goes into safekeeping
	Refuse Action = "refuse"    // nothing can be done; the note says why
)

// Wanted is a copy to bring back.
type Wanted struct {
	Index   int    // the caller's own number for it
	Copy    string // its id
	From    place.Place
	To      place.Place // the zero Place where its origin is not known
	Type    entry.Type
	Size    int64           // bytes, of all files where it is a folder
	Volume  entry.Volume    // the file system it lies on
	Leaves  bool            // whether it is taken out of its store
	Dated   time.Time       // the time that tells it from what is there, in the zone to show it in
	DatedBy string          // what that time is, such as "deleted"
	Problem remark.Remark   // why it cannot be brought back at all; none where it can
	Alone   bool            // of a folder: itself, without what is in it
	Away    bool            // there is no copy: what stands at To is to be set aside
	Rule    Rule            // how its clash is settled, where not as the plan's others
	Notes   []remark.Remark // what is to be said about it in any case
	// Versioned says that what it is written over stays where it goes, as the version before: so both are kept under one name.
	Versioned bool

	// What it is like where it lies. Foreign says that a user can write its store, so that neither its owner, unless that is
	// Own, nor its set-id bits are believed.
	Mode     entry.Maybe[fs.FileMode]
	UID, GID entry.Maybe[int64]
	Own      int64 // whose store it is; negative for nobody
	Foreign  bool
	// Across says that it comes from another machine: its owner is who it is there, Account, or nobody known. "" where that is so.
	Across  bool
	Account string
	Claimed bool // To is only claimed by what may be forged, and confirmed by a technician
	// Displaced says that it is not believed to come from To, so that what of it is foreign comes to belong to whom its folder does.
	Displaced bool
	// Unconfirmed says that the problem is such a claim, which nobody has confirmed.
	Unconfirmed bool
}

// Ask is what a technician may confirm about an item, so that it is planned otherwise.
type Ask string

// What may be confirmed.
const (
	KeepOwners   Ask = "keep-owners"   // the owners and set-id bits are right
	TrustClaimed Ask = "trust-claimed" // it did come from where its record claims
)

// Standing is what a place holds.
type Standing struct {
	Exists   bool
	Type     entry.Type
	Size     int64
	Written  time.Time
	Volume   entry.Volume
	Mode     entry.Maybe[fs.FileMode]
	UID, GID entry.Maybe[int64]
	ReadOnly bool          // the file system takes no writes
	Free     int64         // bytes free for writing; negative where unknown
	Problem  remark.Remark // why the place could not be looked at
}

// World tells what stands on the machines.
type World interface {
	At(place.Place) Standing
	// Inside says what in a folder keeps it from being set aside as a whole, such as a file system mounted in it; no
	// remark where nothing does.
	Inside(place.Place) remark.Remark
}

// Owner is a user and a group by their numbers, and what they let others do.
type Owner struct {
	UID, GID entry.Maybe[int64]
	Mode     entry.Maybe[fs.FileMode]
}

// Item is what happens to one copy.
type Item struct {
	*Wanted // with the place and the notes as they are planned
	Action  Action
	Clash   remark.Remark // what stands at the wanted place and how it is settled; none where nothing does
	Over    *Standing     // what stands at To and goes into safekeeping first; nil where nothing gives way
	Renames bool          // same file system: no bytes are copied
	Makes   []place.Place // folders to be made, outermost first

	Ground       place.Place // the nearest folder above To that stands; zero where nothing is written
	GroundVolume entry.Volume
	Owner        Owner // of that folder, which what is foreign or nobody's comes to belong to
	Asks         []Ask
}

// Plan is what a bring-back would do, in the order in which it would do it.
type Plan struct {
	Items []Item
	Bytes int64 // that have to be copied
}

// Make plans the wanted copies. Folders come before what goes into them, those wanted without what is in them before
// everything else, level by level; two copies for one place clash with each other as with anything that stands there. The wanted are put in
// that order, and are part of the plan.
func Make(wanted []*Wanted, rule Rule, world World) Plan {
	slices.SortStableFunc(wanted, Before)
	m := NewMaker(rule, world)
	for _, w := range wanted {
		if w.Leaves && w.Type == entry.Folder {
			m.leaving[w.From] = true
		}
	}
	p := Plan{Items: make([]Item, 0, len(wanted))}
	for _, w := range wanted {
		p.Items = append(p.Items, m.Item(w))
	}
	p.Bytes = m.bytes
	return p
}

// Before orders what is wanted as it has to be planned.
func Before(a, b *Wanted) int {
	return cmp.Or(cmp.Compare(a.level(), b.level()), cmp.Compare(a.To.Machine, b.To.Machine), cmp.Compare(a.To.Path, b.To.Path))
}

// NewMaker returns what plans one item after the other, of which no folder leaves its store.
func NewMaker(rule Rule, world World) *Maker {
	if rule == "" {
		rule = KeepBoth
	}
	return &Maker{rule: rule, world: world, leaving: map[place.Place]bool{}, taken: map[place.Place]bool{}, made: map[place.Place]bool{},
		folders: map[place.Place]onGround{}, need: map[room]int64{}}
}

// Item plans the next item, in the order of Before.
func (m *Maker) Item(w *Wanted) Item {
	item := m.item(w)
	if (item.Action == Move || item.Action == Copy) && !item.Renames {
		m.bytes += item.Size
	}
	return item
}

// Bytes is how much all items so far have to copy.
func (m *Maker) Bytes() int64 { return m.bytes }

// level is how deep a folder lies that is wanted without what is in it; everything else comes later.
func (w *Wanted) level() int {
	if w.Alone {
		return strings.Count(w.To.Path, "/")
	}
	return math.MaxInt
}

// Maker plans item after item: what earlier ones make, fill and take counts for later ones.
type Maker struct {
	rule    Rule
	world   World
	leaving map[place.Place]bool     // folders that leave their stores whole
	taken   map[place.Place]bool     // destinations that earlier items fill
	made    map[place.Place]bool     // folders that earlier items make
	folders map[place.Place]onGround // what folders that earlier items bring stand on
	need    map[room]int64           // bytes that earlier items put there
	bytes   int64                    // that earlier items copy
}

// room is where bytes go: a file system or, where that cannot be told, the folder that stands.
type room struct {
	machine string
	volume  entry.Volume
	folder  string
}

func roomOf(ground onGround) room {
	if ground.Volume.Known() {
		return room{machine: ground.at.Machine, volume: ground.Volume}
	}
	return room{machine: ground.at.Machine, folder: ground.at.Path}
}

// onGround is the nearest folder above a destination that stands.
type onGround struct {
	at place.Place
	Standing
}

func (m *Maker) item(w *Wanted) Item {
	item := Item{Wanted: w, Action: Copy}
	if w.Leaves {
		item.Action = Move
	}
	refuse := func(why remark.Remark) Item {
		item.Action, item.Makes, item.Over, item.Notes = Refuse, nil, nil, []remark.Remark{why}
		return item
	}
	if w.Unconfirmed {
		item.Asks = append(item.Asks, TrustClaimed)
	}
	if w.Problem.Any() {
		return refuse(w.Problem)
	}
	if w.Away {
		return m.away(item)
	}
	if m.inLeaving(w.From) {
		item.Action, item.Notes = Pass, []remark.Remark{remark.New("with-its-folder")}
		return item
	}
	if w.To == (place.Place{}) {
		return refuse(remark.New("origin-unknown"))
	}
	if w.To.Machine == w.From.Machine && place.Under(w.To.Path, w.From.Path) {
		return refuse(remark.New("into-itself", "place", w.To))
	}
	ground, reason := m.ground(&item)
	if reason.Any() {
		return refuse(reason)
	}
	item.Ground, item.GroundVolume, item.Owner = ground.at, ground.Volume, Owner{ground.UID, ground.GID, ground.Mode}
	stands := m.world.At(w.To)
	if stands.Problem.Any() {
		return refuse(stands.Problem)
	}
	if stands.Exists || m.taken[w.To] {
		if done := m.settle(&item, stands); done {
			return item
		}
	}
	if item.Over != nil && stands.Type == entry.Folder {
		if reason := m.world.Inside(w.To); reason.Any() {
			return refuse(remark.New("folder-stays", "why", reason))
		}
	}
	item.Renames = w.Leaves && w.From.Machine == w.To.Machine && w.Volume.Known() && w.Volume == ground.Volume &&
		!(w.Displaced && w.Foreign && w.UID.Known && w.UID != ground.UID) && !w.Across
	if !item.Renames {
		if ground.Free >= 0 && m.need[roomOf(ground)]+w.Size > ground.Free {
			return refuse(remark.New("no-room", "machine", w.To.Machine, "free", ground.Free-m.need[roomOf(ground)], "size", w.Size))
		}
		m.need[roomOf(ground)] += w.Size
		if w.Leaves && w.Volume != ground.Volume {
			item.note("other-file-system")
		}
	}
	m.belongs(&item)
	m.taken[item.To] = true
	if w.Alone {
		m.folders[item.To] = ground
	}
	for _, folder := range item.Makes {
		m.made[folder] = true
	}
	return item
}

// belongs says what an item loses because a user can write its store.
func (m *Maker) belongs(item *Item) {
	if item.Claimed {
		item.note("claimed-confirmed")
	}
	m.untold(item)
	if !item.Foreign {
		return
	}
	if item.Mode.Value&(fs.ModeSetuid|fs.ModeSetgid) != 0 && (item.Type == entry.File || !item.Renames) {
		item.note("bits-dropped")
		item.Asks = append(item.Asks, KeepOwners)
	}
	if !item.Renames && item.UID.Known && item.UID != item.Owner.UID && !item.UID.Is(item.Own) {
		item.note("owner-not-believed", "uid", item.UID.Value, "owner", item.Owner.UID.Value)
		if !slices.Contains(item.Asks, KeepOwners) {
			item.Asks = append(item.Asks, KeepOwners)
		}
	}
}

// untold says what becomes of an item whose store does not tell whose it is or who may read it.
func (m *Maker) untold(item *Item) {
	belongs := remark.New("belongs-by-machine")
	if item.Owner.UID.Known {
		belongs = remark.New("belongs-as-folder", "uid", item.Owner.UID.Value)
	}
	if item.Across && item.UID.Known && item.Account != "" {
		belongs = remark.New("belongs-to-account", "account", item.Account)
	}
	if item.Across {
		item.note("owner-elsewhere", "belongs", belongs)
		if item.Mode.Known {
			return
		}
	}
	if item.Renames || item.UID.Known && item.Mode.Known {
		return
	}
	switch {
	case item.Mode.Known:
		item.note("owner-untold", "belongs", belongs)
	case item.UID.Known:
		item.note("mode-untold")
	default:
		item.note("owner-and-mode-untold", "belongs", belongs)
	}
}

// away plans to set aside what stands somewhere.
func (m *Maker) away(item Item) Item {
	stands := m.world.At(item.To)
	instead := func(action Action, why remark.Remark) {
		item.Action, item.Over, item.Notes = action, nil, []remark.Remark{why}
	}
	item.Action, item.Over = Aside, &stands
	switch {
	case stands.Problem.Any():
		instead(Refuse, stands.Problem)
	case !stands.Exists:
		instead(Pass, remark.New("not-there-now"))
	case stands.Type == entry.Other:
		instead(Refuse, remark.New("device-kept"))
	case stands.Type == entry.Folder && m.world.Inside(item.To).Any():
		instead(Refuse, remark.New("aside-not", "why", m.world.Inside(item.To)))
	default:
		folder := place.Place{Machine: item.To.Machine, Path: place.Folder(item.To.Path)}
		item.Ground, item.GroundVolume = folder, m.world.At(folder).Volume
		item.Type, item.Clash = stands.Type, remark.New("came-later", "type", stands.Type)
		if stands.Type == entry.File {
			item.Size = stands.Size
		}
	}
	return item
}

// inLeaving tells whether a copy lies in a folder that is brought back whole by the same plan.
func (m *Maker) inLeaving(from place.Place) bool {
	for path := place.Folder(from.Path); path != "/" && len(m.leaving) > 0; path = place.Folder(path) {
		if m.leaving[place.Place{Machine: from.Machine, Path: path}] {
			return true
		}
	}
	return false
}

func (i *Item) note(code string, pairs ...any) { i.Notes = append(i.Notes, remark.New(code, pairs...)) }

// ground finds the nearest folder above the destination that stands, and notes those below it that must be made.
func (m *Maker) ground(item *Item) (onGround, remark.Remark) {
	if item.To.Path == "/" {
		return onGround{}, remark.New("root", "place", item.To)
	}
	folder := place.Place{Machine: item.To.Machine, Path: place.Folder(item.To.Path)}
	var makes []place.Place
	for {
		if s, ok := m.folders[folder]; ok {
			slices.Reverse(makes)
			item.Makes = makes
			return s, remark.Remark{}
		}
		s := m.world.At(folder)
		switch {
		case s.Problem.Any():
			return onGround{}, s.Problem
		case s.Exists && s.Type != entry.Folder:
			return onGround{}, remark.New("no-folder", "place", folder, "type", s.Type)
		case s.Exists && s.ReadOnly:
			return onGround{}, remark.New("read-only", "place", folder)
		case s.Exists:
			slices.Reverse(makes)
			item.Makes = makes
			return onGround{folder, s}, remark.Remark{}
		case folder.Path == "/":
			return onGround{}, remark.New("no-root", "machine", folder.Machine)
		}
		if !m.taken[folder] && !m.made[folder] {
			makes = append(makes, folder)
		}
		folder.Path = place.Folder(folder.Path)
	}
}

// settle applies the rule to a clash and tells whether the item is thereby finished.
func (m *Maker) settle(item *Item, stands Standing) bool {
	what := remark.New("stands", "type", stands.Type)
	own := m.taken[item.To]
	switch {
	case own:
		what = remark.New("stands-own")
	case stands.Type == entry.File:
		what = remark.New("stands-file", "type", stands.Type, "size", stands.Size,
			"written", stands.Written.In(item.Dated.Location()).Format("2006-01-02 15:04"))
	}
	rule := m.rule
	if item.Rule != "" {
		rule = item.Rule
	}
	switch {
	case rule == Skip:
		item.Action, item.Makes = Pass, nil
		item.Clash = remark.New("clash-skipped", "what", what)
		m.taken[item.To] = true
		return true
	case rule == KeepBoth && item.Versioned && !own && stands.Type == entry.File && item.Type == entry.File:
		item.Over = &stands
		item.Clash = remark.New("clash-version", "what", what)
		return false
	case rule == SetAside && !own && stands.Type != entry.Other:
		item.Over = &stands
		item.Clash = remark.New("clash-aside", "what", what)
		return false
	}
	folder := place.Folder(item.To.Path)
	name := names.Beside(place.Name(item.To.Path), item.DatedBy, item.Dated, func(name string) bool {
		p := place.Place{Machine: item.To.Machine, Path: place.Join(folder, name)}
		return m.taken[p] || m.world.At(p).Exists
	})
	item.To.Path = place.Join(folder, name)
	item.Clash = remark.New("clash-both", "what", what)
	return false
}
