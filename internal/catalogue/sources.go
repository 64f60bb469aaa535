package catalogue

import (
	"context"
	"database/sql"
	"fmt"

	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/traits"
)

// Source is a source with what surveys keep of it.
type Source struct {
	copies.Source
	OwnRetention *int // days; nil for the machine's
	Found        int64
	Renew        bool // what is known of its points in time is wrong, and has to be forgotten before it is surveyed
	Recheck      bool // what its records say was believed without looking, and is looked at again by the next survey
	Notes        []string
	Memo         []byte // what its kind keeps from one survey for the next
}

// AddSource adds a source to the machine it names; ErrTaken where that store is read already.
func (c *Catalogue) AddSource(ctx context.Context, s Source) (Source, error) {
	var id copies.SourceID
	err := c.tx(ctx, func(tx *sql.Tx) error {
		r, err := tx.ExecContext(
			ctx,
			`INSERT INTO sources (machine_id, at_machine_id, kind, at, drive, shape, traits, options, named, exclusions, zone, maps,
				retention_days, notes)
			VALUES ((SELECT id FROM machines WHERE name = ?), (SELECT id FROM machines WHERE name = ?), ?, ?, ?, ?, ?, ?, ?, ?, ?, ?,
				?, ?)`,
			s.Machine,
			s.AtMachine,
			s.Kind,
			[]byte(s.At),
			s.Drive,
			string(s.Traits.Shape),
			toJSON(s.Traits),
			toJSON(s.Options),
			s.Named,
			toJSON(s.Exclusions),
			s.Zone,
			toJSON(s.Maps),
			s.OwnRetention,
			toJSON(s.Notes),
		)
		if err != nil {
			return taken(err, fmt.Sprintf("%s at %s:%s", s.Kind, s.AtMachine, s.At))
		}
		n, err := r.LastInsertId()
		id = copies.SourceID(n)
		return err
	})
	if err != nil {
		return Source{}, err
	}
	c.forgetStore(id)
	return c.Source(ctx, id)
}

// Source returns a source by its number.
func (c *Catalogue) Source(ctx context.Context, id copies.SourceID) (Source, error) {
	all, err := c.sources(ctx, "s.id = ?", id)
	if err == nil && len(all) == 0 {
		err = fmt.Errorf("source %s: %w", id, ErrNotFound)
	}
	if err != nil {
		return Source{}, err
	}
	return all[0], nil
}

// Sources lists all sources, or those of one machine where it is not "".
func (c *Catalogue) Sources(ctx context.Context, machine string) ([]Source, error) {
	return c.sources(ctx, "?1 = '' OR m.name = ?1", machine)
}

// SourcesOn lists the sources whose stores are on a machine.
func (c *Catalogue) SourcesOn(ctx context.Context, machine string) ([]Source, error) {
	return c.sources(ctx, "a.name = ?1", machine)
}

func (c *Catalogue) sources(ctx context.Context, where string, args ...any) ([]Source, error) {
	rows, err := c.read.QueryContext(
		ctx,
		`SELECT s.id, s.kind, m.name, m.id, a.name, s.at, s.drive, s.traits, s.options, s.named, s.exclusions, s.zone, s.maps,
			s.retention_days,
			coalesce(s.retention_days, m.retention_days), m.clock_ahead, s.found, s.surveyed_at, s.trouble, s.renew, s.recheck,
				s.notes, s.memo
		FROM sources s JOIN machines m ON m.id = s.machine_id JOIN machines a ON a.id = s.at_machine_id
		WHERE `+where+` ORDER BY m.name, s.id`,
		args...)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var all []Source
	for rows.Next() {
		var s Source
		var own, surveyed sql.NullInt64
		var exclusions, maps, notes, declared, options string
		if err := rows.Scan(&s.ID, &s.Kind, &s.Machine, &s.MachineID, &s.AtMachine, &s.At, &s.Drive, &declared, &options, &s.Named,
			&exclusions, &s.Zone, &maps, &own,
			&s.RetentionDays, &s.ClockAhead, &s.Found, &surveyed, &s.Trouble, &s.Renew, &s.Recheck, &notes, &s.Memo); err != nil {
			return nil, err
		}
		if own.Valid {
			days := int(own.Int64)
			s.OwnRetention = &days
		}
		s.SurveyedAt = moment(surveyed)
		if s.Traits, err = fromJSON[traits.Traits](declared); err != nil {
			return nil, err
		}
		if s.Options, err = fromJSON[map[string]string](options); err != nil {
			return nil, err
		}
		if s.Maps, err = fromJSON[[]place.Map](maps); err != nil {
			return nil, err
		}
		if s.Exclusions, err = fromJSON[[]string](exclusions); err != nil {
			return nil, err
		}
		if s.Notes, err = fromJSON[[]string](notes); err != nil {
			return nil, err
		}
		all = append(all, s)
	}
	return all, rows.Err()
}

// SetTraits keeps what a kind declares of its stores with all sources of the kind.
func (c *Catalogue) SetTraits(ctx context.Context, kind string, t traits.Traits) error {
	defer c.forgetStores()
	_, err := c.write.ExecContext(
		ctx,
		"UPDATE sources SET shape = ?2, traits = ?3 WHERE kind = ?1 AND traits <> ?3",
		kind,
		string(t.Shape),
		toJSON(t),
	)
	return err
}

// RemoveSource removes a source with everything that surveys saw in it. Receipts stay.
func (c *Catalogue) RemoveSource(ctx context.Context, id copies.SourceID) error {
	if err := c.forget(ctx, "id = ?1", "DELETE FROM sources WHERE id = ?1", id); err != nil {
		return fmt.Errorf("source %s: %w", id, err)
	}
	return nil
}

// SetTrouble records why a source could not be surveyed.
func (c *Catalogue) SetTrouble(ctx context.Context, id copies.SourceID, trouble string) error {
	defer c.forgetStore(id)
	_, err := c.write.ExecContext(ctx, "UPDATE sources SET trouble = ? WHERE id = ?", trouble, id)
	return err
}
