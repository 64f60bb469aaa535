// Package site opens what one service looks after: its machines, the stores on them, and the secrets that both need, which are kept in memory
// alone.
package site

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"time"

	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/problem"
	"humble-rewind/internal/core/sighting"
	"humble-rewind/internal/reach"
	"humble-rewind/internal/source"
)

// Site opens machines and stores. It is safe for concurrent use.
type Site struct {
	Catalogue *catalogue.Catalogue
	Ways      reach.Ways
	Kinds     source.Kinds
	// Kept is the folder of the service's host in which each source has one for itself; "" where there is none.
	Kept string
	// Changed is called whenever a machine's state has; nil: nobody wants to know.
	Changed func(machine string)
	// Unpacker is what stores unpack streams with.
	Unpacker source.Unpacker

	once     sync.Once
	sessions reach.Sessions
	pool     source.Pool

	mu      sync.Mutex
	secrets map[copies.SourceID][]byte // by source, in memory alone

	machineSecrets map[string][]byte // by machine, likewise
}

// Begin keeps with the sources what the kinds declare of their stores. Call it once, before anything is asked.
func (s *Site) Begin(ctx context.Context) error {
	for _, kind := range s.Kinds {
		if err := s.Catalogue.Sources.SetTraits(ctx, kind.Name(), kind.Traits()); err != nil {
			return err
		}
	}
	return nil
}

// Files reaches a machine by its name. The answer is shared and must not be closed.
func (s *Site) Files(ctx context.Context, machine string) (reach.Session, error) {
	m, err := s.Catalogue.Machines.Named(ctx, machine)
	if err != nil {
		return nil, err
	}
	if m.Stopped {
		return nil, fmt.Errorf("machine %s: %w", machine, problem.Stopped)
	}
	s.once.Do(s.begin)
	files, err := s.sessions.Get(reach.WithSecret(ctx, s.MachineSecret(machine)), machine, m.At)
	if err != nil {
		return nil, fmt.Errorf("machine %s: %w", machine, err)
	}
	if way := files.Traits(); way != m.Way { // of one that was changed, or not reached since the program keeps them
		err = s.Catalogue.Machines.SetWay(context.WithoutCancel(ctx), m.ID, way)
	}
	return files, err
}

// begin makes the sessions ready.
func (s *Site) begin() { s.sessions.Ways, s.sessions.Changed = s.Ways, s.Changed }

// Condition tells how a machine's session is, without asking the machine.
func (s *Site) Condition(m catalogue.Machine) reach.Condition {
	if m.Stopped {
		return reach.Condition{State: reach.Stopped}
	}
	return s.sessions.Condition(m.Name)
}

// Leave lets go of a machine that is to be left alone: what is open of it answers that it is lost.
func (s *Site) Leave(machine string) { s.sessions.Drop(machine) }

// Far tells whether a machine is reached over the network, without asking it; false of one that is not known.
func (s *Site) Far(ctx context.Context, machine string) bool {
	m, err := s.Catalogue.Machines.Named(ctx, machine)
	if err != nil {
		return false
	}
	at, err := reach.ParseAddress(m.At)
	return err == nil && at.Scheme != ""
}

// Close lets go of all stores and machines.
func (s *Site) Close() error { return errors.Join(s.pool.Close(), s.sessions.Close()) }

// storeKey is what a store that is kept open was opened with: where anything of that changes, it is another one.
type storeKey struct {
	source copies.SourceID
	files  reach.Session
	as     string // the source's own settings
}

// Store returns a store for reading copies. It may be shared, and must be closed.
func (s *Site) Store(ctx context.Context, src copies.Source) (source.Store, error) {
	files, err := s.Files(ctx, src.AtMachine)
	if err != nil {
		return nil, err
	}
	key := storeKey{
		src.ID,
		files,
		fmt.Sprintf("%q", []any{src.Kind, src.Machine, src.AtMachine, src.At, src.Named, src.Zone, src.Maps, src.Options, src.Exclusions}),
	}
	lease, err := s.pool.Get(ctx, key, func() (source.Store, error) { return s.OpenStore(context.WithoutCancel(ctx), src) })
	if err != nil {
		return nil, err
	}
	return lease, nil
}

// OpenStore opens a store anew, with what is known of its machine now; surveys do so. It must be closed.
func (s *Site) OpenStore(ctx context.Context, src copies.Source) (source.Store, error) {
	return s.openStore(ctx, src, s.secret(src.ID))
}

// openStore opens one with a secret.
func (s *Site) openStore(ctx context.Context, src copies.Source, secret []byte) (source.Store, error) {
	kind, err := s.Kinds.Named(src.Kind)
	if err != nil {
		return nil, err
	}
	setup, err := s.Setup(ctx, src)
	if err != nil {
		return nil, err
	}
	setup.Secret = secret
	return kind.Open(ctx, setup.Confine(ctx))
}

// Judge returns what tells which of a store's copies are believed in what is said of where they came from.
func (s *Site) Judge(ctx context.Context, src copies.Source) (*source.Judge, error) {
	setup, err := s.Setup(ctx, src)
	if err != nil {
		return nil, err
	}
	return source.NewJudge(ctx, setup), nil
}

// OpenCopy opens a copy. Its store stays in use until it is closed.
func (s *Site) OpenCopy(ctx context.Context, src copies.Source, ref sighting.Ref) (source.Opened, error) {
	store, err := s.Store(ctx, src)
	if err != nil {
		return source.Opened{}, err
	}
	content, err := store.Open(ctx, ref)
	if err != nil {
		return source.Opened{}, errors.Join(err, store.Close())
	}
	before := content.Release
	content.Release = func() {
		if before != nil {
			before()
		}
		_ = store.Close() // which only gives it back
	}
	return content, nil
}

// Setup is what a source is opened with.
func (s *Site) Setup(ctx context.Context, src copies.Source) (source.Setup, error) {
	files, err := s.Files(ctx, src.AtMachine)
	if err != nil {
		return source.Setup{}, err
	}
	machine, err := s.Catalogue.Machines.Named(ctx, src.Machine)
	if err != nil {
		return source.Setup{}, err
	}
	name := src.Zone
	if name == "" {
		name = machine.Zone
	}
	zone, err := time.LoadLocation(name)
	if err != nil {
		return source.Setup{}, fmt.Errorf("zone of %s: %w", src.Machine, err)
	}
	own := files
	if src.Machine != src.AtMachine {
		if own, err = s.Files(ctx, src.Machine); err != nil {
			own = nil // what cannot be told of it is then not believed
		}
	}
	people, err := s.people(ctx, machine)
	if err != nil {
		return source.Setup{}, err
	}
	stores, err := s.stores(ctx, src)
	return source.Setup{Files: files, Own: own, Elsewhere: src.Machine != src.AtMachine, People: people, At: src.At, Zone: zone,
			Homes: machine.Homes(), Maps: src.Maps,
			Named: src.Named, Exclusions: src.Exclusions, Stores: stores, Options: src.Options, Keep: s.keptOf(src.ID), Unpacker: s.Unpacker},
		err
}

// keptOf is the folder that a source has for itself; "" before it is looked after.
func (s *Site) keptOf(id copies.SourceID) string {
	if s.Kept == "" || id == 0 {
		return ""
	}
	return filepath.Join(s.Kept, id.String())
}

// Tidy removes the folders of sources that are not looked after any more.
func (s *Site) Tidy(ctx context.Context) error {
	if s.Kept == "" {
		return nil
	}
	list, err := os.ReadDir(s.Kept)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	sources, err := s.Catalogue.Sources.Of(ctx, "")
	if err != nil {
		return err
	}
	for _, e := range list {
		if !slices.ContainsFunc(sources, func(src catalogue.Source) bool { return src.ID.String() == e.Name() }) {
			if err := os.RemoveAll(filepath.Join(s.Kept, e.Name())); err != nil {
				return err
			}
		}
	}
	return nil
}

// people lists who lives on a machine, with the homes that they have and had.
func (s *Site) people(ctx context.Context, machine catalogue.Machine) ([]source.Person, error) {
	former, err := s.Catalogue.Machines.FormerHomes(ctx, machine.Name)
	if err != nil {
		return nil, err
	}
	people := make([]source.Person, len(machine.People))
	for i, p := range machine.People {
		people[i] = source.Person{UID: p.UID, Homes: []string{p.Home}}
		for home := range former[p.Name] {
			people[i].Homes = append(people[i].Homes, home)
		}
	}
	return people, nil
}

// stores lists the folders on a source's machine that hold the points in time of others.
func (s *Site) stores(ctx context.Context, src copies.Source) ([]string, error) {
	sources, err := s.Catalogue.Sources.On(ctx, src.AtMachine)
	var stores []string
	for _, other := range sources {
		if other.ID != src.ID && other.Traits.Dated() {
			stores = append(stores, place.Join(other.At, other.Traits.Private))
		}
	}
	return stores, err
}
