// Package catalogue keeps the records: machines, people, sources, what surveys saw, jobs and receipts, in one SQLite file. It is the only
// package that knows SQL, and the hall of its rooms: file knows how records lie on the disk, rows what is a row each, spans what stores held
// when, and names where a name is found. Only this package opens them.
package catalogue

import (
	"context"
	"fmt"
	"path/filepath"
	"time"

	"humble-rewind/internal/catalogue/file"
	"humble-rewind/internal/catalogue/names"
	"humble-rewind/internal/catalogue/rows"
	"humble-rewind/internal/catalogue/spans"
	"humble-rewind/internal/core/copies"
)

// Catalogue is an open catalogue. It is safe for concurrent use: one connection writes, several read.
type Catalogue struct {
	Machines    *rows.Machines
	Persons     *rows.Persons
	Sources     *rows.Sources
	Technicians *rows.Technicians
	Jobs        *rows.Jobs
	Cases       *rows.Cases
	Receipts    *rows.Receipts
	Contents    spans.Contents
	Surveys     spans.Surveys

	f     *file.File
	spans *spans.Spans
}

// File is the name of the catalogue in its folder. What belongs to it besides begins with it.
const File = file.Name

// Open opens the catalogue in the folder dir, makes it where there is none, and brings an older one up to date. It fails with ErrDamaged
// where the file is not as it was written.
func Open(ctx context.Context, dir string) (*Catalogue, error) {
	c, err := openIn(ctx, filepath.Join(dir, File))
	if err != nil {
		return nil, fmt.Errorf("open the catalogue in %s: %w", dir, err)
	}
	return c, nil
}

func openIn(ctx context.Context, path string) (*Catalogue, error) {
	s := spans.Make()
	f, err := file.Open(ctx, path, s.Load, spans.RewriteMarks, spans.MoveSpans, rows.BatchItems, rows.MachinesOfReceipts, spans.CountSteps, names.BySource(spans.SourceOf))
	if err != nil {
		return nil, err
	}
	c := &Catalogue{Machines: rows.NewMachines(f, s.Changed), Sources: rows.NewSources(f, s.Changed), Technicians: rows.NewTechnicians(f),
		Jobs: rows.NewJobs(f), Cases: rows.NewCases(f), Receipts: rows.NewReceipts(f),
		Contents: s.Contents, Surveys: s.Surveys, f: f, spans: s}
	c.Persons = rows.NewPersons(f, c.Machines)
	s.Open(ctx, f, c.Sources, c.Receipts)
	return c, nil
}

// Close closes the catalogue. Closing it again is no error.
func (c *Catalogue) Close() error {
	c.spans.Close()
	return c.f.Close()
}

// ForgetMachine removes a machine with everything that surveys saw of it or on it. Receipts stay.
func (c *Catalogue) ForgetMachine(ctx context.Context, name string) error {
	err := c.spans.Forget(ctx, "machine_id IN (SELECT id FROM machines WHERE name = ?1) OR at_machine_id IN (SELECT id FROM machines "+
		"WHERE name = ?1)", "DELETE FROM machines WHERE name = ?1", name)
	c.Machines.Forget()
	if err != nil {
		return fmt.Errorf("machine %s: %w", name, err)
	}
	return c.Persons.Tidy(ctx)
}

// RemoveSource removes a source with everything that surveys saw in it. Receipts stay.
func (c *Catalogue) RemoveSource(ctx context.Context, id copies.SourceID) error {
	if err := c.spans.Forget(ctx, "id = ?1", "DELETE FROM sources WHERE id = ?1", id); err != nil {
		return fmt.Errorf("source %s: %w", id, err)
	}
	return nil
}

// Check looks whether everything is as it was written: every page by its checksum, the whole by SQLite's own check, then every block and what
// the tables promise each other. wrong is "" where it is. After each piece of the blocks rest is called with how long it took; nil where
// there is to be no rest.
func (c *Catalogue) Check(ctx context.Context, rest func(worked time.Duration)) (wrong string, err error) {
	if wrong, err = c.f.Check(ctx); wrong != "" || err != nil {
		return wrong, err
	}
	return c.spans.Check(ctx, rest)
}

// Problem and CheckDatabase are what package file knows of SQLite.
var (
	Problem       = file.Problem
	CheckDatabase = file.CheckDatabase
)
