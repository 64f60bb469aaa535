package rows

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"

	"humble-rewind/internal/catalogue/file"
	"humble-rewind/internal/core/account"
	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/core/problem"
	"humble-rewind/internal/core/traits"
)

// Machine is a computer or store that is looked after.
type Machine struct {
	ID            copies.MachineID
	Name          string
	At            string        // how it is reached
	Zone          string        // IANA
	RetentionDays int           // 0: nothing expires
	ClockAhead    time.Duration // of its write times; negative where its clock is behind
	Stopped       bool          // it is to be left alone
	Way           traits.Way    // as it was when it was reached last
	Notes         []string
	People        []Account
}

// Account is one that somebody with a home has on a machine.
type Account struct {
	Name, FullName string
	UID            int64
	Home           string
	Person         account.PersonID // whose it is
}

// Homes lists the home folders of the machine's people.
func (m Machine) Homes() []string {
	homes := make([]string, len(m.People))
	for i, p := range m.People {
		homes[i] = p.Home
	}
	return homes
}

// Machines are the machines that are looked after, and who lives on them.
type Machines struct {
	f       *file.File
	changed func(...copies.SourceID)
	known   knownMachines
}

// NewMachines returns those of a file. changed is called without a source once anything changed that sources take from their machines.
func NewMachines(f *file.File, changed func(...copies.SourceID)) *Machines {
	return &Machines{f: f, changed: changed}
}

// Forget makes what is kept of machines in memory be read again.
func (c *Machines) Forget() { c.known.forget() }

// Add adds a machine with its people; problem.Known where its name is.
func (c *Machines) Add(ctx context.Context, m Machine) (Machine, error) {
	err := c.f.Tx(ctx, func(w *file.Writing) error {
		r, err := w.ExecContext(ctx, "INSERT INTO machines (name, at, zone, retention_days, clock_ahead, way, notes) VALUES (?, ?, ?, ?, ?, ?, ?)",
			m.Name, m.At, m.Zone, m.RetentionDays, int64(m.ClockAhead), file.ToJSON(m.Way), file.ToJSON(m.Notes))
		if err != nil {
			return file.Taken(err, "machine "+m.Name)
		}
		id, err := r.LastInsertId()
		if err != nil {
			return err
		}
		m.ID = copies.MachineID(id)
		for _, p := range m.People {
			if err := keepAccount(ctx, w, m.ID, p); err != nil {
				return err
			}
		}
		return nil
	})
	c.known.forget()
	return m, err
}

// Change keeps how a machine is reached, whether at all, and for how long its trashes keep things.
func (c *Machines) Change(ctx context.Context, m Machine) error {
	const change = "UPDATE machines SET way = CASE WHEN at = ?1 THEN way ELSE '{}' END, at = ?1, retention_days = ?2, stopped = ?3 WHERE id = ?4"
	err := file.Affected(c.f.Write.ExecContext(ctx, change, m.At, m.RetentionDays, m.Stopped, m.ID))
	c.known.forget()
	c.changed()
	if err != nil {
		return fmt.Errorf("machine %s: %w", m.Name, err)
	}
	return nil
}

// SetWay keeps what the way to a machine can tell and do.
func (c *Machines) SetWay(ctx context.Context, id copies.MachineID, way traits.Way) error {
	err := file.Affected(c.f.Write.ExecContext(ctx, "UPDATE machines SET way = ? WHERE id = ?", file.ToJSON(way), id))
	c.known.forget()
	c.changed()
	return err
}

// All lists all machines by name.
func (c *Machines) All(ctx context.Context) ([]Machine, error) {
	return c.machines(ctx, "1 ORDER BY name")
}

// Named returns a machine by its name. What it holds is shared and must not be changed.
func (c *Machines) Named(ctx context.Context, name string) (Machine, error) {
	known, ok, since := c.known.get(name)
	if ok {
		return known, nil
	}
	m, err := oneMachine(c.machines(ctx, "name = ?", name))(name)
	if err == nil {
		c.known.put(m, since)
	}
	return m, err
}

// knownMachines are machines as they were read last: whoever opens a copy asks for one.
type knownMachines struct {
	mu      sync.Mutex
	changes int
	byName  map[string]Machine
}

func (k *knownMachines) get(name string) (m Machine, ok bool, changes int) {
	k.mu.Lock()
	defer k.mu.Unlock()
	m, ok = k.byName[name]
	return m, ok, k.changes
}

// put keeps a machine, unless one was changed since it was read.
func (k *knownMachines) put(m Machine, since int) {
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.changes != since {
		return
	}
	if k.byName == nil {
		k.byName = map[string]Machine{}
	}
	k.byName[m.Name] = m
}

// forget makes all be read again; it is called once a change has been made.
func (k *knownMachines) forget() {
	k.mu.Lock()
	defer k.mu.Unlock()
	k.byName = nil
	k.changes++
}

func oneMachine(all []Machine, err error) func(what any) (Machine, error) {
	return func(what any) (Machine, error) {
		if err == nil && len(all) == 0 {
			err = fmt.Errorf("machine %v: %w", what, problem.NotKnown)
		}
		if err != nil {
			return Machine{}, err
		}
		return all[0], nil
	}
}

// ByID returns a machine by its number.
func (c *Machines) ByID(ctx context.Context, id copies.MachineID) (Machine, error) {
	return oneMachine(c.machines(ctx, "id = ?", id))(id)
}

func (c *Machines) machines(ctx context.Context, where string, args ...any) ([]Machine, error) {
	rows, err := c.f.Read.QueryContext(
		ctx,
		"SELECT id, name, at, zone, retention_days, clock_ahead, stopped, way, notes FROM machines WHERE "+where,
		args...)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var all []Machine
	for rows.Next() {
		var m Machine
		var way, notes string
		if err := rows.Scan(&m.ID, &m.Name, &m.At, &m.Zone, &m.RetentionDays, &m.ClockAhead, &m.Stopped, &way, &notes); err != nil {
			return nil, err
		}
		if m.Way, err = file.FromJSON[traits.Way](way); err != nil {
			return nil, err
		}
		if m.Notes, err = file.FromJSON[[]string](notes); err != nil {
			return nil, err
		}
		all = append(all, m)
	}
	if err := errors.Join(rows.Err(), rows.Close()); err != nil {
		return nil, err
	}
	for i := range all {
		if all[i].People, err = c.people(ctx, all[i].ID); err != nil {
			return nil, err
		}
	}
	return all, nil
}

func (c *Machines) people(ctx context.Context, machine copies.MachineID) ([]Account, error) {
	rows, err := c.f.Read.QueryContext(ctx, "SELECT name, full_name, uid, home, person_id FROM people WHERE machine_id = ? ORDER BY name", machine)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var all []Account
	for rows.Next() {
		var p Account
		if err := rows.Scan(&p.Name, &p.FullName, &p.UID, &p.Home, &p.Person); err != nil {
			return nil, err
		}
		all = append(all, p)
	}
	return all, rows.Err()
}
