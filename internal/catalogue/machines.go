package catalogue

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"humble-rewind/internal/core/copies"
	"sync"
	"time"

	"modernc.org/sqlite"
	sqlite3 "modernc.org/sqlite/lib"
)

// Machine is a computer or store that is looked after.
type Machine struct {
	ID            copies.MachineID
	Name          string
	At            string        // how it is reached
	Zone          string        // IANA
	RetentionDays int           // 0: nothing expires
	ClockAhead    time.Duration // of its write times; negative where its clock is behind
	Notes         []string
	People        []Person
}

// Person is somebody with a home on a machine.
type Person struct {
	Name, FullName string
	UID            int64
	Home           string
}

// Homes lists the home folders of the machine's people.
func (m Machine) Homes() []string {
	homes := make([]string, len(m.People))
	for i, p := range m.People {
		homes[i] = p.Home
	}
	return homes
}

// AddMachine adds a machine with its people; ErrTaken where its name is.
func (c *Catalogue) AddMachine(ctx context.Context, m Machine) (Machine, error) {
	err := c.tx(ctx, func(tx *sql.Tx) error {
		r, err := tx.ExecContext(ctx, "INSERT INTO machines (name, at, zone, retention_days, clock_ahead, notes) VALUES (?, ?, ?, ?, ?, ?)",
			m.Name, m.At, m.Zone, m.RetentionDays, int64(m.ClockAhead), toJSON(m.Notes))
		if err != nil {
			return taken(err, "machine "+m.Name)
		}
		id, err := r.LastInsertId()
		if err != nil {
			return err
		}
		m.ID = copies.MachineID(id)
		for _, p := range m.People {
			if _, err := tx.ExecContext(ctx, "INSERT INTO people (machine_id, name, full_name, uid, home) VALUES (?, ?, ?, ?, ?)",
				m.ID, p.Name, p.FullName, p.UID, []byte(p.Home)); err != nil {
				return err
			}
		}
		return nil
	})
	c.known.forget()
	return m, err
}

func taken(err error, what string) error {
	if fault, ok := errors.AsType[*sqlite.Error](err); ok && fault.Code() == sqlite3.SQLITE_CONSTRAINT_UNIQUE {
		return fmt.Errorf("%s: %w", what, ErrTaken)
	}
	return err
}

// Machines lists all machines by name.
func (c *Catalogue) Machines(ctx context.Context) ([]Machine, error) {
	return c.machines(ctx, "1 ORDER BY name")
}

// Machine returns a machine by its name. What it holds is shared and must not be changed.
func (c *Catalogue) Machine(ctx context.Context, name string) (Machine, error) {
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
			err = fmt.Errorf("machine %v: %w", what, ErrNotFound)
		}
		if err != nil {
			return Machine{}, err
		}
		return all[0], nil
	}
}

// MachineByID returns a machine by its number.
func (c *Catalogue) MachineByID(ctx context.Context, id copies.MachineID) (Machine, error) {
	return oneMachine(c.machines(ctx, "id = ?", id))(id)
}

func (c *Catalogue) machines(ctx context.Context, where string, args ...any) ([]Machine, error) {
	rows, err := c.read.QueryContext(
		ctx,
		"SELECT id, name, at, zone, retention_days, clock_ahead, notes FROM machines WHERE "+where,
		args...)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var all []Machine
	for rows.Next() {
		var m Machine
		var notes string
		if err := rows.Scan(&m.ID, &m.Name, &m.At, &m.Zone, &m.RetentionDays, &m.ClockAhead, &notes); err != nil {
			return nil, err
		}
		if m.Notes, err = fromJSON[[]string](notes); err != nil {
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

func (c *Catalogue) people(ctx context.Context, machine copies.MachineID) ([]Person, error) {
	rows, err := c.read.QueryContext(ctx, "SELECT name, full_name, uid, home FROM people WHERE machine_id = ? ORDER BY name", machine)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var all []Person
	for rows.Next() {
		var p Person
		if err := rows.Scan(&p.Name, &p.FullName, &p.UID, &p.Home); err != nil {
			return nil, err
		}
		all = append(all, p)
	}
	return all, rows.Err()
}

// ForgetMachine removes a machine with everything that surveys saw of it or on it. Receipts stay.
func (c *Catalogue) ForgetMachine(ctx context.Context, name string) error {
	err := c.forget(ctx, "machine_id IN (SELECT id FROM machines WHERE name = ?1) OR at_machine_id IN (SELECT id FROM machines "+
		"WHERE name = ?1)", "DELETE FROM machines WHERE name = ?1", name)
	c.known.forget()
	if err != nil {
		return fmt.Errorf("machine %s: %w", name, err)
	}
	return nil
}

// forget removes sources with everything that surveys saw in them, and what remove removes, which has to be something.
func (c *Catalogue) forget(ctx context.Context, sources, remove string, arg any) error {
	of := "(SELECT id FROM folders WHERE source_id IN (SELECT id FROM sources WHERE " + sources + "))"
	defer c.forgetStores()
	err := c.tx(ctx, func(tx *sql.Tx) error {
		for _, step := range []string{
			"DELETE FROM contents WHERE (SELECT folder_id FROM id_runs WHERE first <= span_id ORDER BY first DESC LIMIT 1) IN " + of,
			"DELETE FROM blocks WHERE id >> 36 IN " + of,
			"DELETE FROM elsewhere WHERE block_id >> 36 IN " + of,
			"DELETE FROM link_targets WHERE folder_id IN " + of,
			"DELETE FROM pending_blocks WHERE id >> 36 IN " + of,
			"DELETE FROM pending_folders WHERE id IN " + of,
			// Not from id_runs: a number that is found nowhere else would seem to be of the run before. It is never given again.
			"DELETE FROM folders WHERE id IN " + of,
		} {
			if _, err := tx.ExecContext(ctx, step, arg); err != nil {
				return err
			}
		}
		if err := affected(tx.ExecContext(ctx, remove, arg)); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `DELETE FROM dirs WHERE id NOT IN (SELECT dir_id FROM folders WHERE dir_id IS NOT NULL) AND
			id NOT IN (SELECT dir_id FROM elsewhere)`); err != nil {
			return err
		}
		return c.text.forgetUnseen(ctx, newWriting(tx))
	})
	if err != nil {
		return err
	}
	<-c.indexed
	return c.readIndex(context.WithoutCancel(ctx))
}
