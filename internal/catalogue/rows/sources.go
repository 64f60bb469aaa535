// Package rows is the room of the catalogue for what is a row each: machines and their people, sources, technicians, jobs, cases and
// receipts. What technicians did cannot be read anew from machines, so all of this is copied once a day.
package rows

import (
	"context"
	"database/sql"
	"fmt"

	"humble-rewind/internal/catalogue/file"
	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/problem"
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
	Slice        string // how far a survey came that goes on in a further slice, see package spans; "" where none does
	Memo         []byte // what its kind keeps from one survey for the next
}

// Sources are what copies are read from.
type Sources struct {
	f       *file.File
	changed func(...copies.SourceID)
}

// NewSources returns those of a file. changed is told which were changed, none: any may have been.
func NewSources(f *file.File, changed func(...copies.SourceID)) *Sources { return &Sources{f, changed} }

// Add adds a source to the machine it names; problem.Known where that store is read already.
func (c *Sources) Add(ctx context.Context, s Source) (Source, error) {
	var id copies.SourceID
	err := c.f.Tx(ctx, func(w *file.Writing) error {
		r, err := w.ExecContext(
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
			file.ToJSON(s.Traits),
			file.ToJSON(s.Options),
			s.Named,
			file.ToJSON(s.Exclusions),
			s.Zone,
			file.ToJSON(s.Maps),
			s.OwnRetention,
			file.ToJSON(s.Notes),
		)
		if err != nil {
			return file.Taken(err, fmt.Sprintf("%s at %s:%s", s.Kind, s.AtMachine, s.At))
		}
		n, err := r.LastInsertId()
		id = copies.SourceID(n)
		return err
	})
	if err != nil {
		return Source{}, err
	}
	c.changed(id)
	return c.ByID(ctx, id)
}

// Change keeps where a source is and how it is read; problem.Known where another reads that store. With Renew its points in time are read
// anew by its next survey.
func (c *Sources) Change(ctx context.Context, s Source) error {
	defer c.changed(s.ID)
	_, err := c.f.Write.ExecContext(ctx, `UPDATE sources SET at = ?2, at_machine_id = (SELECT id FROM machines WHERE name = ?3), drive = ?4,
		options = ?5, named = ?6, exclusions = ?7, zone = ?8, maps = ?9, retention_days = ?10, notes = ?11, renew = ?12, memo = ?13, slice = NULL
		WHERE id = ?1`, s.ID, []byte(s.At), s.AtMachine, s.Drive, file.ToJSON(s.Options), s.Named, file.ToJSON(s.Exclusions), s.Zone,
		file.ToJSON(s.Maps), s.OwnRetention, file.ToJSON(s.Notes), s.Renew, s.Memo)
	return file.Taken(err, fmt.Sprintf("%s at %s:%s", s.Kind, s.AtMachine, s.At))
}

// ByID returns a source by its number.
func (c *Sources) ByID(ctx context.Context, id copies.SourceID) (Source, error) {
	all, err := c.sources(ctx, "s.id = ?", id)
	if err == nil && len(all) == 0 {
		err = fmt.Errorf("source %s: %w", id, problem.NotKnown)
	}
	if err != nil {
		return Source{}, err
	}
	return all[0], nil
}

// Of lists all sources, or those of one machine where it is not "".
func (c *Sources) Of(ctx context.Context, machine string) ([]Source, error) {
	return c.sources(ctx, "?1 = '' OR m.name = ?1", machine)
}

// On lists the sources whose stores are on a machine.
func (c *Sources) On(ctx context.Context, machine string) ([]Source, error) {
	return c.sources(ctx, "a.name = ?1", machine)
}

func (c *Sources) sources(ctx context.Context, where string, args ...any) ([]Source, error) {
	rows, err := c.f.Read.QueryContext(
		ctx,
		`SELECT s.id, s.kind, m.name, m.id, a.name, s.at, s.drive, s.traits, s.options, s.named, s.exclusions, s.zone, s.maps,
			s.retention_days,
			coalesce(s.retention_days, m.retention_days), m.clock_ahead, s.found, s.surveyed_at, s.trouble, s.renew, s.recheck,
				s.notes, s.memo, coalesce(s.slice, ''), a.way
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
		var exclusions, maps, notes, declared, options, way string
		if err := rows.Scan(&s.ID, &s.Kind, &s.Machine, &s.MachineID, &s.AtMachine, &s.At, &s.Drive, &declared, &options, &s.Named,
			&exclusions, &s.Zone, &maps, &own,
			&s.RetentionDays, &s.ClockAhead, &s.Found, &surveyed, &s.Trouble, &s.Renew, &s.Recheck, &notes, &s.Memo, &s.Slice, &way); err != nil {
			return nil, err
		}
		if own.Valid {
			days := int(own.Int64)
			s.OwnRetention = &days
		}
		s.SurveyedAt = file.Moment(surveyed)
		if s.Traits, err = file.FromJSON[traits.Traits](declared); err != nil {
			return nil, err
		}
		if s.Way, err = file.FromJSON[traits.Way](way); err != nil {
			return nil, err
		}
		if s.Options, err = file.FromJSON[map[string]string](options); err != nil {
			return nil, err
		}
		if s.Maps, err = file.FromJSON[[]place.Map](maps); err != nil {
			return nil, err
		}
		if s.Exclusions, err = file.FromJSON[[]string](exclusions); err != nil {
			return nil, err
		}
		if s.Notes, err = file.FromJSON[[]string](notes); err != nil {
			return nil, err
		}
		all = append(all, s)
	}
	return all, rows.Err()
}

// SetTraits keeps what a kind declares of its stores with all sources of the kind, but those whose stores say it of themselves.
func (c *Sources) SetTraits(ctx context.Context, kind string, t traits.Traits) error {
	defer c.changed()
	_, err := c.f.Write.ExecContext(
		ctx,
		"UPDATE sources SET shape = ?2, traits = ?3 WHERE kind = ?1 AND traits <> ?3 AND NOT told",
		kind,
		string(t.Shape),
		file.ToJSON(t),
	)
	return err
}

// SetOwnTraits keeps what a store says of itself.
func (c *Sources) SetOwnTraits(ctx context.Context, id copies.SourceID, t traits.Traits) error {
	defer c.changed(id)
	_, err := c.f.Write.ExecContext(ctx, "UPDATE sources SET shape = ?2, traits = ?3, told = 1 WHERE id = ?1", id, string(t.Shape), file.ToJSON(t))
	return err
}

// SetTrouble records why a source could not be surveyed.
func (c *Sources) SetTrouble(ctx context.Context, id copies.SourceID, trouble string) error {
	defer c.changed(id)
	_, err := c.f.Write.ExecContext(ctx, "UPDATE sources SET trouble = ? WHERE id = ?", trouble, id)
	return err
}
