package rows

import (
	"context"
	"fmt"
	"slices"

	"humble-rewind/internal/catalogue/file"
	"humble-rewind/internal/core/account"
	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/core/principal"
	"humble-rewind/internal/core/problem"
)

// Person is somebody with accounts on machines.
type Person struct {
	ID       account.PersonID
	Name     string
	Accounts []AccountOn // by machine and name
}

// AccountOn is an account with the machine that it is on.
type AccountOn struct {
	Machine   string
	MachineID copies.MachineID
	Account
}

// keepAccount keeps an account as it is now. A new one is a person's of its own.
func keepAccount(ctx context.Context, w *file.Writing, machine copies.MachineID, a Account) error {
	known, err := file.Numbers(w.QueryContext(ctx, "SELECT id FROM people WHERE machine_id = ? AND name = ?", machine, a.Name))
	if err != nil {
		return err
	}
	if len(known) > 0 {
		return w.Exec(ctx, "UPDATE people SET full_name = ?, uid = ?, home = ? WHERE id = ?", a.FullName, a.UID, []byte(a.Home), known[0])
	}
	added, err := w.ExecContext(ctx, "INSERT INTO persons (name) VALUES (?)", a.Name)
	if err != nil {
		return err
	}
	person, err := added.LastInsertId()
	if err != nil {
		return err
	}
	return w.Exec(ctx, "INSERT INTO people (machine_id, name, full_name, uid, home, person_id) VALUES (?, ?, ?, ?, ?, ?)", machine, a.Name,
		a.FullName, a.UID, []byte(a.Home), person)
}

// Persons are those who have accounts on machines.
type Persons struct {
	f       *file.File
	changed func() // whatever is kept of machines in memory is read again
}

// NewPersons returns those of a file. machines forgets what it keeps of accounts whenever somebody's are others.
func NewPersons(f *file.File, machines *Machines) *Persons { return &Persons{f, machines.Forget} }

// Tidy forgets those who have no account any more.
func (c *Persons) Tidy(ctx context.Context) error {
	_, err := c.f.Write.ExecContext(ctx, "DELETE FROM persons WHERE id NOT IN (SELECT person_id FROM people)")
	return err
}

// View returns those who have accounts on the machines of a scope, with those accounts.
func (c *Persons) View(scope principal.Scope) PersonView { return PersonView{c, scope} }

// PersonView are persons of a scope.
type PersonView struct {
	all   *Persons
	scope principal.Scope
}

// All lists persons by name.
func (v PersonView) All(ctx context.Context) ([]Person, error) {
	rows, err := v.all.f.Read.QueryContext(ctx, `SELECT p.id, p.name, m.name, m.id, a.name, a.full_name, a.uid, a.home
		FROM persons p JOIN people a ON a.person_id = p.id JOIN machines m ON m.id = a.machine_id ORDER BY p.name, p.id, m.name, a.name`)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var all []Person
	for rows.Next() {
		var p Person
		var a AccountOn
		if err := rows.Scan(&p.ID, &p.Name, &a.Machine, &a.MachineID, &a.Name, &a.FullName, &a.UID, &a.Home); err != nil {
			return nil, err
		}
		if !v.scope.Has(a.MachineID) {
			continue
		}
		if a.Person = p.ID; len(all) == 0 || all[len(all)-1].ID != p.ID {
			all = append(all, p)
		}
		last := &all[len(all)-1]
		last.Accounts = append(last.Accounts, a)
	}
	return all, rows.Err()
}

// Apart tells of which persons it was said that they are two, the lower number first.
func (v PersonView) Apart(ctx context.Context) (map[[2]account.PersonID]bool, error) {
	rows, err := v.all.f.Read.QueryContext(ctx, "SELECT one, other FROM persons_apart")
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	all := map[[2]account.PersonID]bool{}
	for rows.Next() {
		var of [2]account.PersonID
		if err := rows.Scan(&of[0], &of[1]); err != nil {
			return nil, err
		}
		all[of] = true
	}
	return all, rows.Err()
}

// Named returns those whom a name may mean: a person by number, such as p3, or all who have an account of the name.
func (v PersonView) Named(ctx context.Context, name string) ([]Person, error) {
	all, err := v.All(ctx)
	return slices.DeleteFunc(all, func(p Person) bool {
		return p.ID.String() != name && !slices.ContainsFunc(p.Accounts, func(a AccountOn) bool { return a.Name == name })
	}), err
}

// With returns the person who has an account; problem.NotKnown where there is none.
func (v PersonView) With(ctx context.Context, machine, name string) (Person, error) {
	all, err := v.All(ctx)
	if err != nil {
		return Person{}, err
	}
	i := slices.IndexFunc(all, func(p Person) bool {
		return slices.ContainsFunc(p.Accounts, func(a AccountOn) bool { return a.Machine == machine && a.Name == name })
	})
	if i < 0 {
		return Person{}, fmt.Errorf("account %s@%s: %w", name, machine, problem.NotKnown)
	}
	return all[i], nil
}

// Join says that persons are one, the first of them. What was said of either, that it is not somebody else, holds of both.
func (c *Persons) Join(ctx context.Context, one account.PersonID, others ...account.PersonID) error {
	defer c.changed()
	return c.f.Tx(ctx, func(w *file.Writing) error {
		for _, other := range others {
			if other == one {
				continue
			}
			for _, step := range []string{
				"DELETE FROM persons_apart WHERE one = min(?1, ?2) AND other = max(?1, ?2)",
				"INSERT OR IGNORE INTO persons_apart SELECT min(?1, x), max(?1, x) FROM (SELECT iif(one = ?2, other, one) AS x FROM persons_apart " +
					"WHERE one = ?2 OR other = ?2) WHERE x <> ?1",
				"UPDATE people SET person_id = ?1 WHERE person_id = ?2",
				"DELETE FROM persons WHERE id = ?2 AND id <> ?1",
			} {
				if err := w.Exec(ctx, step, int64(one), int64(other)); err != nil {
					return err
				}
			}
		}
		return nil
	})
}

// Part makes an account a person's of its own, who is not the one that had it.
func (c *Persons) Part(ctx context.Context, machine copies.MachineID, name string) error {
	defer c.changed()
	return c.f.Tx(ctx, func(w *file.Writing) error {
		var before, alone int64
		if err := w.QueryRowContext(ctx, "SELECT person_id, (SELECT count(*) = 1 FROM people b WHERE b.person_id = a.person_id) FROM people a WHERE "+
			"machine_id = ? AND name = ?", machine, name).Scan(&before, &alone); err != nil {
			return fmt.Errorf("account %s: %w", name, file.NoRows(err))
		}
		if alone == 1 {
			return nil
		}
		added, err := w.ExecContext(ctx, "INSERT INTO persons (name) VALUES (?)", name)
		if err != nil {
			return err
		}
		id, err := added.LastInsertId()
		if err != nil {
			return err
		}
		if err := w.Exec(ctx, "UPDATE people SET person_id = ? WHERE machine_id = ? AND name = ?", id, machine, name); err != nil {
			return err
		}
		return keepApart(ctx, w, account.PersonID(before), account.PersonID(id))
	})
}

// KeepApart says that two persons are two, so that it is not asked again.
func (c *Persons) KeepApart(ctx context.Context, one, other account.PersonID) error {
	return c.f.Tx(ctx, func(w *file.Writing) error { return keepApart(ctx, w, one, other) })
}

func keepApart(ctx context.Context, w *file.Writing, one, other account.PersonID) error {
	return w.Exec(ctx, "INSERT OR IGNORE INTO persons_apart (one, other) VALUES (?, ?)", int64(min(one, other)), int64(max(one, other)))
}
