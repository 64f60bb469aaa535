package rows

import (
	"context"
	"database/sql"
	"fmt"
	"time"

	"humble-rewind/internal/catalogue/file"
	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/core/principal"
	"humble-rewind/internal/core/problem"
)

// TheService is who asked for what nobody did; no technician has that name.
const TheService = "the service"

// Technicians are those who may sign in.
type Technicians struct{ f *file.File }

// NewTechnicians returns those of a file.
func NewTechnicians(f *file.File) *Technicians { return &Technicians{f} }

// technicianColumns are what a principal is read from.
const technicianColumns = "t.id, t.name, t.rights, t.whole"

// principal reads who somebody is, what he may do and of which machines he knows.
func (c *Technicians) principal(ctx context.Context, by principal.Way, row *sql.Row) (none principal.Principal, err error) {
	var id int64
	var name, allowed string
	var whole bool
	if err := row.Scan(&id, &name, &allowed, &whole); err != nil {
		return none, file.NoRows(err)
	}
	rights, err := file.FromJSON[[]principal.Right](allowed)
	if err != nil {
		return none, err
	}
	scope := principal.Everything()
	if !whole {
		machines, err := file.Numbers(c.f.Read.QueryContext(ctx, "SELECT machine_id FROM technician_machines WHERE technician_id = ?", id))
		if err != nil {
			return none, err
		}
		scope = principal.Of(numbered[copies.MachineID](machines)...)
	}
	return principal.With(name, by, scope, rights...), nil
}

func numbered[T ~int64](numbers []int64) []T {
	all := make([]T, len(numbers))
	for i, n := range numbers {
		all[i] = T(n)
	}
	return all
}

// Named returns what a technician may do now, who asked for something that goes on; problem.NotKnown where there is none of the name.
func (c *Technicians) Named(ctx context.Context, name string) (principal.Principal, error) {
	return c.principal(ctx, "", c.f.Read.QueryRowContext(ctx, "SELECT "+technicianColumns+" FROM technicians t WHERE t.name = ?", name))
}

// Allow says what a technician may do from now on, and of which machines he knows.
func (c *Technicians) Allow(ctx context.Context, name string, scope principal.Scope, rights ...principal.Right) error {
	return c.f.Tx(ctx, func(w *file.Writing) error { return allow(ctx, w, name, scope, rights) })
}

// Admit lets somebody in by a token with no more than some rights, or changes both of somebody who is in already: at no moment has he others.
func (c *Technicians) Admit(ctx context.Context, name string, tokenHash []byte, scope principal.Scope, rights ...principal.Right) error {
	return c.f.Tx(ctx, func(w *file.Writing) error {
		if err := setToken(ctx, w, name, tokenHash); err != nil {
			return err
		}
		return allow(ctx, w, name, scope, rights)
	})
}

func allow(ctx context.Context, w *file.Writing, name string, scope principal.Scope, rights []principal.Right) error {
	if rights == nil {
		rights = []principal.Right{}
	}
	if err := file.Affected(w.ExecContext(ctx, "UPDATE technicians SET rights = ?, whole = ? WHERE name = ?", file.ToJSON(rights),
		scope.Whole(), name)); err != nil {
		return err
	}
	if err := w.Exec(ctx, "DELETE FROM technician_machines WHERE technician_id = (SELECT id FROM technicians WHERE name = ?)", name); err != nil {
		return err
	}
	return w.Exec(ctx, "INSERT INTO technician_machines (technician_id, machine_id) SELECT t.id, m.id FROM technicians t CROSS JOIN "+
		"json_each(?) e JOIN machines m ON m.id = e.value WHERE t.name = ?", file.ToJSON(scope.Machines()), name)
}

// Remove takes somebody's access away.
func (c *Technicians) Remove(ctx context.Context, name string) error {
	return file.Affected(c.f.Write.ExecContext(ctx, "DELETE FROM technicians WHERE name = ?", name))
}

// Set adds a technician, with all rights and the whole site, or gives a known one a new token, of which only the hash is kept. With the old token end the
// sessions that it began.
func (c *Technicians) Set(ctx context.Context, name string, tokenHash []byte) error {
	return c.f.Tx(ctx, func(w *file.Writing) error { return setToken(ctx, w, name, tokenHash) })
}

func setToken(ctx context.Context, w *file.Writing, name string, tokenHash []byte) error {
	if name == TheService {
		return fmt.Errorf("technician %s: %w", name, problem.Known)
	}
	if _, err := w.ExecContext(ctx, "DELETE FROM sessions WHERE technician_id IN (SELECT id FROM technicians WHERE name = ? AND "+
		"token_hash <> ?)", name, tokenHash); err != nil {
		return err
	}
	_, err := w.ExecContext(ctx, `INSERT INTO technicians (name, token_hash) VALUES (?, ?)
		ON CONFLICT (name) DO UPDATE SET token_hash = excluded.token_hash`, name, tokenHash)
	return err
}

// ByToken returns whose token it is, or problem.NotKnown.
func (c *Technicians) ByToken(ctx context.Context, tokenHash []byte) (principal.Principal, error) {
	return c.principal(ctx, principal.ByToken, c.f.Read.QueryRowContext(ctx, "SELECT "+technicianColumns+" FROM technicians t WHERE t.token_hash = ?",
		tokenHash))
}

// AddSession begins a console session and drops those that are over.
func (c *Technicians) AddSession(ctx context.Context, technician string, hash []byte, now, expires time.Time) error {
	if _, err := c.f.Write.ExecContext(ctx, "DELETE FROM sessions WHERE expires_at < ?", now.UnixNano()); err != nil {
		return err
	}
	_, err := c.f.Write.ExecContext(
		ctx,
		"INSERT INTO sessions (hash, technician_id, expires_at) SELECT ?, id, ? FROM technicians WHERE name = ?",
		hash,
		expires.UnixNano(),
		technician,
	)
	return err
}

// BySession returns whose session it is, or problem.NotKnown. One that lasts longer than any does was begun by a clock that was ahead,
// and is none.
func (c *Technicians) BySession(ctx context.Context, hash []byte, now time.Time, lifetime time.Duration) (principal.Principal, error) {
	return c.principal(ctx, principal.BySession, c.f.Read.QueryRowContext(ctx, "SELECT "+technicianColumns+" FROM sessions s JOIN technicians t "+
		"ON t.id = s.technician_id WHERE s.hash = ? AND s.expires_at > ? AND s.expires_at <= ?",
		hash, now.UnixNano(), now.Add(lifetime+time.Hour).UnixNano()))
}

// EndSession ends a console session.
func (c *Technicians) EndSession(ctx context.Context, hash []byte) error {
	_, err := c.f.Write.ExecContext(ctx, "DELETE FROM sessions WHERE hash = ?", hash)
	return err
}
