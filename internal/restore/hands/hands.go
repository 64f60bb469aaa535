// Package hands keeps the machines, stores and folders open that a bring-back goes through.
package hands

import (
	"context"
	"maps"
	"slices"
	"sync"
	"time"

	"github.com/hashicorp/golang-lru/v2/simplelru"

	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/sighting"
	"humble-rewind/internal/core/traits"
	"humble-rewind/internal/reach"
	"humble-rewind/internal/site"
	"humble-rewind/internal/source"
)

// maxFolders is how many folders are kept open at once; the one used longest ago goes first. No step holds more than a few
// folders, so none is closed that is still in use.
const maxFolders = 256

// Hands keep the machines, stores and folders open that a piece of work goes through. It is not safe for concurrent
// use, and lives no longer than a batch, so that it does not hold on to folders that were moved meanwhile.
type Hands struct {
	Ctx     context.Context
	site    *site.Site
	reached map[string]reach.Session
	folders *simplelru.LRU[place.Place, reach.Folder]
	sources map[copies.SourceID]source.Store
	zones   map[string]*time.Location
	homes   map[string][]catalogue.Account
	judges  map[copies.SourceID]*source.Judge
	roots   map[place.Place]bool // points in time, and whether only root can write them
}

// New returns hands for a piece of work, with nothing open yet. Close them.
func New(ctx context.Context, s *site.Site) *Hands {
	folders, _ := simplelru.NewLRU(maxFolders, func(_ place.Place, f reach.Folder) { f.Close() }) // it fails for no size alone
	return &Hands{Ctx: ctx, site: s, reached: map[string]reach.Session{}, folders: folders,
		sources: map[copies.SourceID]source.Store{}, zones: map[string]*time.Location{}, homes: map[string][]catalogue.Account{},
		roots: map[place.Place]bool{}, judges: map[copies.SourceID]*source.Judge{}}
}

// Files is the way to a machine, opened once; the answer belongs to h.
func (h *Hands) Files(machine string) (reach.Session, error) {
	if f, ok := h.reached[machine]; ok {
		return f, nil
	}
	f, err := h.site.Files(h.Ctx, machine)
	if err == nil {
		h.reached[machine] = f
	}
	return f, err
}

// WayTo is what the way to a machine can tell, also where it does not answer now; the zero Way where it never did.
func (h *Hands) WayTo(machine string) traits.Way {
	if m, err := h.site.Catalogue.Machines.Named(h.Ctx, machine); err == nil && m.Way != (traits.Way{}) {
		return m.Way
	}
	files, err := h.Files(machine)
	if err != nil {
		return traits.Way{}
	}
	return files.Traits()
}

// Folder opens a folder; the answer belongs to h.
func (h *Hands) Folder(p place.Place) (reach.Folder, error) {
	if f, ok := h.folders.Get(p); ok {
		return f, nil
	}
	files, err := h.Files(p.Machine)
	if err != nil {
		return nil, err
	}
	f, err := files.Folder(h.Ctx, p.Path)
	if err != nil {
		return nil, err
	}
	h.folders.Add(p, f)
	return f, nil
}

// Drop closes a folder that was removed, so that another of its name is not taken for it.
func (h *Hands) Drop(p place.Place) { h.folders.Remove(p) }

// Parent opens the folder that a place lies in.
func (h *Hands) Parent(p place.Place) (reach.Folder, error) {
	return h.Folder(place.Place{Machine: p.Machine, Path: place.Folder(p.Path)})
}

// Look describes what stands at a place; the error wraps fs.ErrNotExist where nothing does.
func (h *Hands) Look(p place.Place) (reach.Info, error) {
	if p.Path == "/" {
		f, err := h.Folder(p)
		if err != nil {
			return reach.Info{}, err
		}
		return f.Info(h.Ctx)
	}
	f, err := h.Parent(p)
	if err != nil {
		return reach.Info{}, err
	}
	return f.Look(h.Ctx, p.Name())
}

// Source opens the store of a source, once; the answer belongs to h.
func (h *Hands) Source(src copies.Source) (source.Store, error) {
	if s, ok := h.sources[src.ID]; ok {
		return s, nil
	}
	s, err := h.site.Store(h.Ctx, src)
	if err == nil {
		h.sources[src.ID] = s
	}
	return s, err
}

// SourceByID opens the store of a source that is known by its number; catalogue.ErrNotFound where it was removed.
func (h *Hands) SourceByID(id copies.SourceID) (source.Store, error) {
	if s, ok := h.sources[id]; ok {
		return s, nil
	}
	src, err := h.site.Catalogue.Sources.ByID(h.Ctx, id)
	if err != nil {
		return nil, err
	}
	return h.Source(src.Source)
}

// Zone is the time zone in which times on a machine are shown.
func (h *Hands) Zone(machine string) (*time.Location, error) {
	if z, ok := h.zones[machine]; ok {
		return z, nil
	}
	m, err := h.site.Catalogue.Machines.Named(h.Ctx, machine)
	if err != nil {
		return nil, err
	}
	z, err := time.LoadLocation(m.Zone)
	if err == nil {
		h.zones[machine] = z
	}
	return z, err
}

// People are those who live on a machine; none of one that is not known.
func (h *Hands) People(machine string) []catalogue.Account {
	people, ok := h.homes[machine]
	if !ok {
		if m, err := h.site.Catalogue.Machines.Named(h.Ctx, machine); err == nil {
			people = m.People
		}
		h.homes[machine] = people
	}
	return people
}

// UIDOf returns the user number of the person in whose home a copy lies, by the machine's own accounts; negative where it lies in
// nobody's: on a drive anybody can say that a trash is hers.
func (h *Hands) UIDOf(c *copies.Copy) int64 {
	lies := c.LiesAt()
	home, uid := "", int64(-1)
	for _, p := range h.People(lies.Machine) {
		if place.Under(lies.Path, p.Home) && len(p.Home) > len(home) {
			home, uid = p.Home, p.UID
		}
	}
	return uid
}

// Across returns the accounts that people of one machine have on another, by their numbers on the first. Where one number is several people's, or
// one person has several accounts on the other, nobody can tell, and none is.
func (h *Hands) Across(from, to string) map[int64]catalogue.Account {
	all := map[int64]catalogue.Account{}
	several := map[int64]bool{}
	for _, p := range h.People(from) {
		if p.UID < 0 {
			continue
		}
		var here []catalogue.Account
		for _, q := range h.People(to) {
			if q.Person == p.Person && q.UID >= 0 {
				here = append(here, q)
			}
		}
		if _, twice := all[p.UID]; twice || len(here) > 1 {
			several[p.UID] = true
		}
		if len(here) == 1 {
			all[p.UID] = here[0]
		}
	}
	maps.DeleteFunc(all, func(uid int64, _ catalogue.Account) bool { return several[uid] })
	return all
}

// Lives tells whether a place lies in a home of a user.
func (h *Hands) Lives(uid int64, p place.Place) bool {
	return uid >= 0 && slices.ContainsFunc(h.People(p.Machine), func(one catalogue.Account) bool {
		return one.UID == uid && place.Under(p.Path, one.Home)
	})
}

// Forged tells whether a copy's origin is believed no more: who may write its store is looked at right before it is brought back, whatever
// a survey, or a version of the program that did not look, took for true.
func (h *Hands) Forged(src copies.Source, at sighting.Locator, origin string) bool {
	store, err := h.Source(src)
	if err != nil {
		return false // it cannot be brought back either
	}
	judge, known := h.judges[src.ID]
	if !known {
		if judge, err = h.site.Judge(h.Ctx, src); err != nil {
			return true
		}
		h.judges[src.ID] = judge
	}
	return !judge.Believes(h.Ctx, store, at, origin)
}

// Spare lends hands to those who work side by side, each its own.
type Spare struct {
	mu  sync.Mutex
	all []*Hands
}

// Take returns hands for the context and the site of others; Give gives them back.
func (s *Spare) Take(like *Hands) *Hands {
	s.mu.Lock()
	defer s.mu.Unlock()
	if last := len(s.all) - 1; last >= 0 {
		h := s.all[last]
		s.all = s.all[:last]
		return h
	}
	return New(like.Ctx, like.site)
}

// Give takes hands back, for the next.
func (s *Spare) Give(h *Hands) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.all = append(s.all, h)
}

// Close closes all that were given back.
func (s *Spare) Close() {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, h := range s.all {
		h.Close()
	}
	s.all = nil
}

// Seen describes a copy as its store opens it.
func (h *Hands) Seen(store source.Store, ref sighting.Ref) (reach.Info, error) {
	content, err := store.Open(h.Ctx, ref)
	if err != nil {
		return reach.Info{}, err
	}
	return content.Info, content.Close()
}

// Emptied tells whether a store's items are taken out of it when they are brought back.
func Emptied(s source.Store) bool {
	_, ok := source.AsEmptied(s)
	return ok
}

// Close closes all that is open. The hands can be used again.
func (h *Hands) Close() {
	for _, s := range h.sources {
		_ = s.Close() // which only gives it back
	}
	clear(h.sources)
	h.folders.Purge()
	for _, j := range h.judges {
		j.Close()
	}
	clear(h.judges)
}

// RootsOwn tells whether only root, or whoever the service runs as, can write a store at one of its points in time: every
// folder down to it belongs to them and is closed to others' writing.
func (h *Hands) RootsOwn(src copies.Source, capture string) bool {
	if !src.Traits.Dated() || capture == "" {
		return false
	}
	p := place.Place{Machine: src.AtMachine, Path: place.Join(src.At, capture)}
	if known, ok := h.roots[p]; ok {
		return known
	}
	own, self := true, int64(-1)
	if files, err := h.Files(p.Machine); err == nil {
		self = reach.Self(files.Traits())
	}
	for path := p.Path; own; path = place.Folder(path) {
		info, err := h.Look(place.Place{Machine: p.Machine, Path: path})
		own = err == nil && info.Type == entry.Folder && (info.UID.Is(0) || info.UID.Is(self)) && info.Mode.Known &&
			info.Mode.Value.Perm()&0o022 == 0
		if path == "/" {
			break
		}
	}
	h.roots[p] = own
	return own
}
