package rows

import (
	"context"
	"database/sql"
	"errors"
	"time"

	"humble-rewind/internal/catalogue/file"
)

// People lists everybody who has a home on some machine.
func (c *Machines) People(ctx context.Context) ([]string, error) {
	rows, err := c.f.Read.QueryContext(ctx, "SELECT DISTINCT name FROM people ORDER BY name")
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var all []string
	for rows.Next() {
		var name string
		if err := rows.Scan(&name); err != nil {
			return nil, err
		}
		all = append(all, name)
	}
	return all, rows.Err()
}

// FormerHomes lists the homes that people of a machine had before, with when they were last theirs.
func (c *Machines) FormerHomes(ctx context.Context, machine string) (map[string]map[string]time.Time, error) {
	rows, err := c.f.Read.QueryContext(
		ctx,
		"SELECT person, home, until FROM former_homes WHERE machine_id = (SELECT id FROM machines WHERE name = ?)",
		machine,
	)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	all := map[string]map[string]time.Time{}
	for rows.Next() {
		var person, home string
		var until int64
		if err := rows.Scan(&person, &home, &until); err != nil {
			return nil, err
		}
		if all[person] == nil {
			all[person] = map[string]time.Time{}
		}
		all[person][home] = time.Unix(0, until).UTC()
	}
	return all, rows.Err()
}

// UpdatePeople takes over who lives on a machine now, and remembers homes that are no longer somebody's.
func (c *Machines) UpdatePeople(ctx context.Context, machine Machine, people []Account, at time.Time) error {
	defer c.known.forget()
	return c.f.Tx(ctx, func(w *file.Writing) error {
		for _, p := range people {
			var home string
			err := w.QueryRowContext(ctx, "SELECT home FROM people WHERE machine_id = ? AND name = ?", machine.ID, p.Name).Scan(&home)
			if err != nil && !errors.Is(err, sql.ErrNoRows) {
				return err
			}
			if err == nil && home != p.Home {
				if _, err := w.ExecContext(ctx, "INSERT INTO former_homes (machine_id, person, home, until) VALUES (?, ?, ?, ?) ON "+
					"CONFLICT DO UPDATE SET until = excluded.until",
					machine.ID, p.Name, []byte(home), at.UnixNano()); err != nil {
					return err
				}
			}
			if err := keepAccount(ctx, w, machine.ID, p); err != nil {
				return err
			}
		}
		return nil
	})
}
