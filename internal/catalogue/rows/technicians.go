package rows

import (
	"context"
	"time"

	"humble-rewind/internal/catalogue/file"
)

// Technicians are those who may sign in.
type Technicians struct{ f *file.File }

// NewTechnicians returns those of a file.
func NewTechnicians(f *file.File) *Technicians { return &Technicians{f} }

// Set adds a technician or gives a known one a new token, of which only the hash is kept. With the old token end the
// sessions that it began.
func (c *Technicians) Set(ctx context.Context, name string, tokenHash []byte) error {
	return c.f.Tx(ctx, func(w *file.Writing) error {
		if _, err := w.ExecContext(ctx, "DELETE FROM sessions WHERE technician_id IN (SELECT id FROM technicians WHERE name = ? AND "+
			"token_hash <> ?)", name, tokenHash); err != nil {
			return err
		}
		_, err := w.ExecContext(ctx, `INSERT INTO technicians (name, token_hash) VALUES (?, ?)
			ON CONFLICT (name) DO UPDATE SET token_hash = excluded.token_hash`, name, tokenHash)
		return err
	})
}

// ByToken returns whose token it is, or problem.NotKnown.
func (c *Technicians) ByToken(ctx context.Context, tokenHash []byte) (string, error) {
	var name string
	err := c.f.Read.QueryRowContext(ctx, "SELECT name FROM technicians WHERE token_hash = ?", tokenHash).Scan(&name)
	return name, file.NoRows(err)
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
func (c *Technicians) BySession(ctx context.Context, hash []byte, now time.Time, lifetime time.Duration) (string, error) {
	var name string
	err := c.f.Read.QueryRowContext(ctx, "SELECT t.name FROM sessions s JOIN technicians t ON t.id = s.technician_id WHERE s.hash = ? AND "+
		"s.expires_at > ? AND s.expires_at <= ?",
		hash, now.UnixNano(), now.Add(lifetime+time.Hour).UnixNano()).
		Scan(&name)
	return name, file.NoRows(err)
}

// EndSession ends a console session.
func (c *Technicians) EndSession(ctx context.Context, hash []byte) error {
	_, err := c.f.Write.ExecContext(ctx, "DELETE FROM sessions WHERE hash = ?", hash)
	return err
}
