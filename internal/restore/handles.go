package restore

import (
	"context"
	"errors"
	"io/fs"
	"slices"
	"sync"
	"time"

	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/plan"
	"humble-rewind/internal/core/problem"
	"humble-rewind/internal/core/sighting"
	"humble-rewind/internal/reach"
	"humble-rewind/internal/site"
	"humble-rewind/internal/source"
)

// maxHandles is how many folders are kept open at once; the one used longest ago goes first. No step holds more than a few
// folders, so none is closed that is still in use.
const maxHandles = 256

// handles keeps the machines, stores and folders open that a piece of work goes through. It is not safe for concurrent
// use, and lives no longer than a batch, so that it does not hold on to folders that were moved meanwhile.
type handles struct {
	ctx     context.Context
	site    *site.Site
	reached map[string]reach.Session
	folders map[place.Place]reach.Folder
	order   []place.Place // of the open folders, the one used longest ago first
	sources map[copies.SourceID]source.Store
	zones   map[string]*time.Location
	homes   map[string][]catalogue.Person
	judges  map[copies.SourceID]*source.Judge
	roots   map[place.Place]bool // points in time, and whether only root can write them
}

func newHandles(ctx context.Context, s *site.Site) *handles {
	return &handles{ctx: ctx, site: s, reached: map[string]reach.Session{}, folders: map[place.Place]reach.Folder{},
		sources: map[copies.SourceID]source.Store{}, zones: map[string]*time.Location{}, homes: map[string][]catalogue.Person{},
		roots: map[place.Place]bool{}, judges: map[copies.SourceID]*source.Judge{}}
}

func (h *handles) files(machine string) (reach.Session, error) {
	if f, ok := h.reached[machine]; ok {
		return f, nil
	}
	f, err := h.site.Files(h.ctx, machine)
	if err == nil {
		h.reached[machine] = f
	}
	return f, err
}

// folder opens a folder; the answer belongs to h.
func (h *handles) folder(p place.Place) (reach.Folder, error) {
	if f, ok := h.folders[p]; ok {
		if last := len(h.order) - 1; h.order[last] != p {
			h.order = append(slices.DeleteFunc(h.order, func(o place.Place) bool { return o == p }), p)
		}
		return f, nil
	}
	files, err := h.files(p.Machine)
	if err != nil {
		return nil, err
	}
	f, err := files.Folder(h.ctx, p.Path)
	if err != nil {
		return nil, err
	}
	if len(h.order) >= maxHandles {
		h.drop(h.order[0])
	}
	h.folders[p] = f
	h.order = append(h.order, p)
	return f, nil
}

// drop closes a folder: one that was removed, so that another of its name is not taken for it, or one too many.
func (h *handles) drop(p place.Place) {
	if f, ok := h.folders[p]; ok {
		f.Close()
		delete(h.folders, p)
		h.order = slices.DeleteFunc(h.order, func(o place.Place) bool { return o == p })
	}
}

// parent opens the folder that a place lies in.
func (h *handles) parent(p place.Place) (reach.Folder, error) {
	return h.folder(place.Place{Machine: p.Machine, Path: place.Folder(p.Path)})
}

func (h *handles) look(p place.Place) (reach.Info, error) {
	if p.Path == "/" {
		f, err := h.folder(p)
		if err != nil {
			return reach.Info{}, err
		}
		return f.Info(h.ctx)
	}
	f, err := h.parent(p)
	if err != nil {
		return reach.Info{}, err
	}
	return f.Look(h.ctx, p.Name())
}

func (h *handles) source(src copies.Source) (source.Store, error) {
	if s, ok := h.sources[src.ID]; ok {
		return s, nil
	}
	s, err := h.site.Store(h.ctx, src)
	if err == nil {
		h.sources[src.ID] = s
	}
	return s, err
}

func (h *handles) sourceByID(id copies.SourceID) (source.Store, error) {
	if s, ok := h.sources[id]; ok {
		return s, nil
	}
	src, err := h.site.Catalogue.Sources.ByID(h.ctx, id)
	if err != nil {
		return nil, err
	}
	return h.source(src.Source)
}

func (h *handles) zone(machine string) (*time.Location, error) {
	if z, ok := h.zones[machine]; ok {
		return z, nil
	}
	m, err := h.site.Catalogue.Machines.Named(h.ctx, machine)
	if err != nil {
		return nil, err
	}
	z, err := time.LoadLocation(m.Zone)
	if err == nil {
		h.zones[machine] = z
	}
	return z, err
}

// people are those who live on a machine; none of one that is not known.
func (h *handles) people(machine string) []catalogue.Person {
	people, ok := h.homes[machine]
	if !ok {
		if m, err := h.site.Catalogue.Machines.Named(h.ctx, machine); err == nil {
			people = m.People
		}
		h.homes[machine] = people
	}
	return people
}

// uidOf returns the user number of the person in whose home a copy lies, by the machine's own accounts; negative where it lies in
// nobody's: on a drive anybody can say that a trash is hers.
func (h *handles) uidOf(c *copies.Copy) int64 {
	lies := c.LiesAt()
	home, uid := "", int64(-1)
	for _, p := range h.people(lies.Machine) {
		if place.Under(lies.Path, p.Home) && len(p.Home) > len(home) {
			home, uid = p.Home, p.UID
		}
	}
	return uid
}

// lives tells whether a place lies in a home of a user.
func (h *handles) lives(uid int64, p place.Place) bool {
	return uid >= 0 && slices.ContainsFunc(h.people(p.Machine), func(one catalogue.Person) bool {
		return one.UID == uid && place.Under(p.Path, one.Home)
	})
}

// forged tells whether a copy's origin is believed no more: who may write its store is looked at right before it is brought back, whatever
// a survey, or a version of the program that did not look, took for true.
func (h *handles) forged(src copies.Source, at sighting.Locator, origin string) bool {
	store, err := h.source(src)
	if err != nil {
		return false // it cannot be brought back either
	}
	judge, known := h.judges[src.ID]
	if !known {
		if judge, err = h.site.Judge(h.ctx, src); err != nil {
			return true
		}
		h.judges[src.ID] = judge
	}
	return !judge.Believes(h.ctx, store, at, origin)
}

// spareHandles lends handles to those who work side by side, each its own.
type spareHandles struct {
	mu  sync.Mutex
	all []*handles
}

// take returns handles for the context and the site of others; give gives them back.
func (s *spareHandles) take(like *handles) *handles {
	s.mu.Lock()
	defer s.mu.Unlock()
	if last := len(s.all) - 1; last >= 0 {
		h := s.all[last]
		s.all = s.all[:last]
		return h
	}
	return newHandles(like.ctx, like.site)
}

func (s *spareHandles) give(h *handles) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.all = append(s.all, h)
}

func (s *spareHandles) close() {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, h := range s.all {
		h.close()
	}
	s.all = nil
}

// seen describes a copy as its store opens it.
func (h *handles) seen(store source.Store, ref sighting.Ref) (reach.Info, error) {
	content, err := store.Open(h.ctx, ref)
	if err != nil {
		return reach.Info{}, err
	}
	return content.Info, content.Close()
}

// emptied tells whether a store's items are taken out of it when they are brought back.
func emptied(s source.Store) bool {
	_, ok := source.AsEmptied(s)
	return ok
}

func (h *handles) close() {
	for _, s := range h.sources {
		_ = s.Close() // which only gives it back
	}
	clear(h.sources)
	for _, f := range h.folders {
		f.Close()
	}
	clear(h.folders)
	for _, j := range h.judges {
		j.Close()
	}
	clear(h.judges)
	h.order = nil
}

// world is what stands on the machines, looked at once a place.
type world struct {
	open     *handles
	standing map[place.Place]plan.Standing
}

func newWorld(open *handles) *world {
	return &world{open: open, standing: map[place.Place]plan.Standing{}}
}

func (w *world) At(p place.Place) plan.Standing {
	s, ok := w.standing[p]
	if ok {
		return s
	}
	if p.Path != "/" {
		// Thousands of items may go into one folder that is not there yet; nothing needs to be kept about them.
		if parent := w.At(place.Place{Machine: p.Machine, Path: place.Folder(p.Path)}); !parent.Exists && parent.Problem == "" {
			return plan.Standing{}
		}
	}
	s = w.observe(p)
	w.standing[p] = s
	return s
}

func (w *world) observe(p place.Place) plan.Standing {
	info, err := w.open.look(p)
	switch {
	case errors.Is(err, fs.ErrNotExist) || errors.Is(err, problem.NotFolder):
		return plan.Standing{} // a file in the way of a folder is met again, as what stands, further up
	case err != nil:
		return plan.Standing{Problem: Explain(err)}
	}
	s := plan.Standing{
		Exists:  true,
		Type:    info.Type,
		Size:    info.Size,
		Written: info.Written,
		Volume:  info.Volume(),
		Mode:    info.Mode,
		UID:     info.UID,
		GID:     info.GID,
		Free:    -1,
	}
	if info.Type == entry.Folder {
		if f, err := w.open.folder(p); err != nil {
			s.Problem = Explain(err)
		} else if s.Free, s.ReadOnly, err = f.Room(w.open.ctx); err != nil {
			s.Problem = Explain(err)
		}
	}
	return s
}

// Inside says what in a folder keeps it from being set aside, or "".
func (w *world) Inside(p place.Place) string {
	folder, err := w.open.parent(p)
	if err != nil {
		return Explain(err)
	}
	return obstacle(w.open.ctx, folder, p.Name())
}
