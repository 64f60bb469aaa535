// Package site is what one service looks after: its machines, how they are reached, and the stores on them.
package site

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
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

// DefaultRetentionDays is how long trashes usually keep what was deleted.
const DefaultRetentionDays = 30

// Site opens machines and stores. It is safe for concurrent use.
type Site struct {
	Catalogue *catalogue.Catalogue
	Ways      reach.Ways
	Kinds     source.Kinds
	// Kept is the folder of the service's host in which each source has one for itself; "" where there is none.
	Kept string

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
	s.once.Do(func() { s.sessions.Ways = s.Ways })
	files, err := s.sessions.Get(reach.WithSecret(ctx, s.machineSecret(machine)), machine, m.At)
	if err != nil {
		return nil, fmt.Errorf("machine %s: %w", machine, err)
	}
	return files, nil
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
	setup, err := s.setup(ctx, src)
	if err != nil {
		return nil, err
	}
	setup.Secret = secret
	return kind.Open(ctx, setup.Confine(ctx))
}

// Judge returns what tells which of a store's copies are believed in what is said of where they came from.
func (s *Site) Judge(ctx context.Context, src copies.Source) (*source.Judge, error) {
	setup, err := s.setup(ctx, src)
	if err != nil {
		return nil, err
	}
	return source.NewJudge(ctx, setup), nil
}

// OpenCopy opens a copy. Its store stays in use until it is closed.
func (s *Site) OpenCopy(ctx context.Context, src copies.Source, ref sighting.Ref) (source.Content, error) {
	store, err := s.Store(ctx, src)
	if err != nil {
		return source.Content{}, err
	}
	content, err := store.Open(ctx, ref)
	if err != nil {
		return source.Content{}, errors.Join(err, store.Close())
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

func (s *Site) setup(ctx context.Context, src copies.Source) (source.Setup, error) {
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
			Named: src.Named, Exclusions: src.Exclusions, Stores: stores, Options: src.Options, Keep: s.keptOf(src.ID)},
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

var machineName = regexp.MustCompile(`^[a-zA-Z0-9][a-zA-Z0-9._-]{0,62}$`)

// NewMachine is a machine as a technician gives it.
type NewMachine struct {
	Name          string
	At            string
	Secret        []byte // with which it is reached; nil: none. It is kept in memory alone
	Zone          string // "": read from the machine
	Homes         string // pattern of home folders; "": /home/*
	RetentionDays *int   // nil: the default
	ClockAhead    time.Duration
}

// AddMachine reads who lives on a machine and in which zone it is, and begins to look after it.
func (s *Site) AddMachine(ctx context.Context, n NewMachine) (catalogue.Machine, error) {
	refuse := func(err error, next string) (catalogue.Machine, error) {
		return catalogue.Machine{}, &problem.Input{What: "add machine " + n.Name, Err: err, Next: next}
	}
	if !machineName.MatchString(n.Name) {
		return refuse(
			errors.New("the name must be letters, digits, dots, dashes or underscores, beginning with a letter or digit"),
			"Choose another name.",
		)
	}
	files, err := s.Ways.Open(reach.WithSecret(ctx, n.Secret), n.At)
	if err != nil && strings.Contains(n.At, "://") {
		return refuse(err, "Check the address, the name and the password. A drive's certificate that no authority vouches for is named in the "+
			"address: ?certificate=sha256:…")
	}
	if err != nil {
		return refuse(err, "Give the directory that holds what the machine's / looks like, and check that it is mounted.")
	}
	defer files.Close()
	m := catalogue.Machine{
		Name:          n.Name,
		At:            n.At,
		Zone:          n.Zone,
		RetentionDays: DefaultRetentionDays,
		ClockAhead:    n.ClockAhead,
		Notes:         []string{},
	}
	if n.RetentionDays != nil {
		m.RetentionDays = *n.RetentionDays
	}
	_, drive := reach.KeeperOf(files)
	system := !drive // which has neither accounts nor a zone of its own
	if m.Zone == "" && !system {
		m.Zone = "UTC"
	}
	if m.Zone == "" {
		var note string
		if m.Zone, note = readZone(ctx, files); note != "" {
			m.Notes = append(m.Notes, note)
		}
	} else if _, err := time.LoadLocation(m.Zone); err != nil || m.Zone == "Local" {
		return refuse(fmt.Errorf("%q is no time zone", m.Zone), "Name it like Europe/Lisbon or UTC.")
	}
	if system {
		people, notes, err := readPeople(ctx, files, n.Homes)
		if err != nil {
			return refuse(err, "Give its homes as patterns of absolute paths, such as /home/*.")
		}
		m.People, m.Notes = people, append(m.Notes, notes...)
	}
	added, err := s.Catalogue.Machines.Add(ctx, m)
	if errors.Is(err, catalogue.ErrTaken) {
		return refuse(err, "Choose another name, or forget the machine of that name first.")
	}
	if err == nil && n.Secret != nil {
		s.setMachineSecret(n.Name, n.Secret)
	}
	return added, err
}

// NewSource is a source as a technician gives it.
type NewSource struct {
	Machine       string
	Kind          string
	At            string // a path on the machine, or other-machine:/path; "" for the homes
	Named         string // strftime pattern of its points in time
	Exclusions    []string
	Zone          string
	Maps          []string          // FROM=TO
	Options       map[string]string // of the kind
	RetentionDays *int
}

// AddSource looks at a location and begins to read copies from it.
func (s *Site) AddSource(ctx context.Context, n NewSource) (catalogue.Source, error) {
	refuse := func(err error, next string, do ...problem.Step) (catalogue.Source, error) {
		return catalogue.Source{}, &problem.Input{What: fmt.Sprintf("add %s source of %s", n.Kind, n.Machine), Err: err, Next: next, Do: do}
	}
	if _, err := s.Catalogue.Machines.Named(ctx, n.Machine); err != nil {
		return refuse(err, "List the machines.", problem.Step{Do: problem.ListMachines})
	}
	kind, err := s.Kinds.Named(n.Kind)
	if err != nil {
		return refuse(err, "Choose one of the known kinds.")
	}
	src := catalogue.Source{
		Source: copies.Source{Kind: n.Kind, Machine: n.Machine, AtMachine: n.Machine, Named: n.Named, Exclusions: n.Exclusions, Zone: n.Zone,
			Options: n.Options},
		OwnRetention: n.RetentionDays,
	}
	src.Traits = kind.Traits()
	if src.OwnRetention == nil && src.Traits.Dated() && !src.Traits.Expires { // nothing in it goes by itself
		keeps := 0
		src.OwnRetention = &keeps
	}
	if err := source.CheckOptions(kind, n.Options); err != nil {
		return refuse(err, "Leave it out, or give it as it is described.")
	}
	location := n.At
	if location == "" {
		if location, err = s.defaultLocation(ctx, kind, src.Source); err != nil {
			return refuse(err, "Name its location.")
		}
	}
	if !strings.HasPrefix(location, "/") {
		p, err := place.Parse(location)
		if err != nil {
			return refuse(err, "Give an absolute path on the machine, or machine:/path for a store on another one.")
		}
		src.AtMachine, location = p.Machine, p.Path
	}
	if src.At, err = place.Clean(location); err != nil {
		return refuse(err, "Give an absolute path without \"..\".")
	}
	if src.Maps, err = parseMaps(n.Maps); err != nil {
		return refuse(err, "Write each map as /path/in/the/store=/path/on/the/machine.")
	}
	if n.Zone != "" {
		if _, err := time.LoadLocation(n.Zone); err != nil {
			return refuse(fmt.Errorf("%q is no time zone", n.Zone), "Name it like Europe/Lisbon or UTC.")
		}
	}
	setup, err := s.setup(ctx, src.Source)
	if err != nil {
		return refuse(err, "Check that the machine can be reached.", problem.Step{Do: problem.ShowMachine, About: src.AtMachine})
	}
	described, err := kind.Describe(ctx, setup.Confine(ctx))
	if err != nil {
		return refuse(err, "See what the machine has.", problem.Step{Do: problem.SuggestSources, About: n.Machine})
	}
	src.Drive, src.Notes = described.Drive, described.Notes
	if n.RetentionDays == nil && described.KeepsDays != nil {
		src.OwnRetention = described.KeepsDays
	}
	added, err := s.Catalogue.Sources.Add(ctx, src)
	if errors.Is(err, catalogue.ErrTaken) {
		return refuse(err, "List the sources.", problem.Step{Do: problem.ListSources})
	}
	return added, err
}

func parseMaps(texts []string) ([]place.Map, error) {
	maps := []place.Map{}
	for _, text := range texts {
		from, to, ok := strings.Cut(text, "=")
		if !ok {
			return nil, fmt.Errorf("%s is no map", place.Quote(text))
		}
		from, err := place.Clean(from)
		if err != nil {
			return nil, err
		}
		to, err = place.Clean(to)
		if err != nil {
			return nil, err
		}
		maps = append(maps, place.Map{From: from, To: to})
	}
	return maps, nil
}

func isGone(err error) bool { return errors.Is(err, fs.ErrNotExist) }
