package catalogue

import (
	"database/sql"
	"fmt"
	"io/fs"
	"path/filepath"
	"strconv"
	"testing"
	"time"

	"github.com/pressly/goose/v3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humble-rewind/internal/catalogue/file"
	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/principal"
	"humble-rewind/internal/core/sighting"
	"humble-rewind/internal/core/traits"
)

// old makes a catalogue as the version before typed marks left it, with what fill puts into it.
func old(t *testing.T, dir string, fill ...string) {
	db, err := sql.Open("sqlite", filepath.Join(dir, "catalogue.sqlite"))
	require.NoError(t, err)
	defer db.Close()
	files, err := fs.Sub(file.Migrations, "migrations")
	require.NoError(t, err)
	migrations, err := goose.NewProvider(goose.DialectSQLite3, db, files, goose.WithDisableGlobalRegistry(true))
	require.NoError(t, err)
	_, err = migrations.UpTo(t.Context(), 3)
	require.NoError(t, err)
	for _, statement := range fill {
		_, err := db.ExecContext(t.Context(), statement)
		require.NoError(t, err, statement)
	}
}

// Two accounts of one name were one person before; now that is a question, and each is a person until somebody answers it.
func TestEqualNamesAreAskedAboutAndNotAssumed(t *testing.T) {
	dir, ctx := t.TempDir(), t.Context()
	old(t, dir, "INSERT INTO machines (id, name, at, zone, retention_days) VALUES (1, 'loft', '/', 'UTC', 30), (2, 'slip', '/', 'UTC', 30)",
		"INSERT INTO people (machine_id, name, full_name, uid, home) VALUES (1, 'ines', '', 1001, x'2f68'), (2, 'ines', '', 2001, x'2f68')",
		"INSERT INTO receipts (id, at, by, state) VALUES (1, 60, 'technician', 'done')",
		"INSERT INTO receipt_items VALUES (1, 0, 2, 2, 'loft', x'2f73', 'slip', x'2f68', 'file', 12, NULL, 'done', '', '{}')",
		"INSERT INTO jobs (kind, state, by, request, created_at) VALUES ('survey', 'done', 'technician', '{\"sources\":[1]}', 1)",
		"INSERT INTO cases (state, opened_at, opened_by, changed_at, machine, loss, folded) VALUES ('open', 1, 'oda', 1, 'slip', 'deleted', '')")
	c, err := Open(ctx, dir)
	require.NoError(t, err)
	defer c.Close()
	view := c.Everything()
	persons, err := view.Persons.All(ctx)
	require.NoError(t, err)
	require.Len(t, persons, 2)
	require.NoError(t, c.Persons.KeepApart(ctx, persons[0].ID, persons[1].ID))
	require.NoError(t, c.Persons.Join(ctx, persons[1].ID, persons[0].ID))
	apart, err := view.Persons.Apart(ctx)
	require.NoError(t, err)
	assert.Empty(t, apart, "what is said last holds")
	joined, err := view.Persons.All(ctx)
	require.NoError(t, err)
	require.Len(t, joined, 1)
	assert.Len(t, joined[0].Accounts, 2)
	loft, err := c.Machines.Named(ctx, "loft")
	require.NoError(t, err)
	assert.Equal(t, persons[1].ID, loft.People[0].Person)
	accounts, err := view.AccountsOf(ctx, "ines")
	require.NoError(t, err)
	assert.Equal(t, map[string][]string{"loft": {"ines"}, "slip": {"ines"}}, accounts)

	slip := c.View(principal.With("jonas", principal.ByToken, principal.Of(2)))
	_, err = slip.Receipts.ByID(ctx, 1)
	assert.ErrorIs(t, err, ErrNotFound, "it speaks of both")
	_, err = c.View(principal.With("jonas", principal.ByToken, principal.Of(1, 2))).Receipts.ByID(ctx, 1)
	require.NoError(t, err)
	_, err = slip.Jobs.ByID(ctx, 1)
	assert.ErrorIs(t, err, ErrNotFound, "of what nobody can tell any more whose it was")
	_, err = slip.Cases.ByID(ctx, 1)
	require.NoError(t, err)
	require.NoError(t, c.ForgetMachine(ctx, "slip"))
	_, err = slip.Cases.ByID(ctx, 1)
	assert.ErrorIs(t, err, ErrNotFound)
	left, err := view.Persons.All(ctx)
	require.NoError(t, err)
	assert.Len(t, left[0].Accounts, 1)
}

func TestAnOlderCatalogueIsUpgraded(t *testing.T) {
	dir, ctx := t.TempDir(), t.Context()
	written := time.Date(2022, 5, 6, 7, 8, 9, 10, time.UTC)
	base36 := strconv.FormatInt(written.UnixNano(), 36)
	require.Equal(t, byte('c'), base36[0], "the very times that were cut apart")
	file := "f 12 " + base36 + " 644 1001 1002 iz c" + base36
	span := func(id, source, storeDir int, name, mark string, first, last string) string {
		return fmt.Sprintf(
			`INSERT INTO spans (id, place_id, source_id, store_dir_id, store_name, mark, type, class, size, person, within, readable,
				origin_known, first_at, last_at)
			VALUES (%d, 1, %d, %d, CAST('%s' AS BLOB), '%s', 'file', 'documents', 12, 'ines', 0, 1, 1, %s, %s)`,
			id,
			source,
			storeDir,
			name,
			mark,
			first,
			last,
		)
	}
	old(
		t,
		dir,
		"INSERT INTO machines (id, name, at, zone, retention_days) VALUES (1, 'loft', '/', 'UTC', 30)",
		`INSERT INTO sources (id, machine_id, at_machine_id, kind, at, live, dated, last_capture) VALUES (1, 1, 1, 'live', x'2f68', 1,
			0, 1), (2, 1, 1, 'snapshots', x'2f73', 0, 1, 4), (3, 1, 1, 'trash', x'2f68', 0, 0, 5), (4, 1, 1, 'strays', x'2f68', 0, 0,
				NULL)`,
		"INSERT INTO captures (id, source_id, at, complete, name, held) VALUES (1, 1, 50, 1, x'', 1), (2, 2, 10, 1, x'61', 0), (3, 2, "+
			"20, 1, "+
			"x'62', 1), (4, 2, 30, 1, x'63', 1), (5, 3, 50, 1, x'', 1)",
		"INSERT INTO dirs VALUES (1, 1, x'2f68')",
		"INSERT INTO places VALUES (1, 1, CAST('quote' AS BLOB), 'quote')",
		"INSERT INTO store_dirs (id, source_id, path, print) VALUES (1, 1, x'', x'01'), (2, 2, x'', x'01'), (3, 3, CAST('files' AS "+
			"BLOB), NULL)",
		span(1, 1, 1, "quote", file, "50", "NULL"),
		span(2, 2, 2, "quote", file, "20", "NULL"),
		span(3, 2, 2, "other", file, "20", "NULL"),
		span(4, 2, 2, "thinned", file, "10", "10"),
		span(
			5,
			3,
			3,
			"gone",
			"zz."+base36+".1."+base36+".",
			"50",
			"NULL",
		),
		span(6, 3, 3, "folder", "zz."+base36+".0.-1. 0.-1.1."+base36+". 77",
			"50", "NULL"),
		"INSERT INTO receipts (id, at, by, state) VALUES (1, 60, 'technician', 'done')",
		"INSERT INTO receipt_items VALUES (1, 0, 2, 2, 'loft', x'2f73', 'loft', x'2f68', 'file', 12, NULL, 'done', '', '{}')",
	)
	c, err := Open(ctx, dir)
	require.NoError(t, err)
	defer c.Close()

	sources, err := c.Sources.Of(ctx, "")
	require.NoError(t, err)
	assert.False(t, sources[0].Renew)
	for n, shape := range []traits.Shape{traits.Now, traits.Points, traits.Removals, traits.Traces} {
		assert.Equal(t, shape, sources[n].Traits.Shape, "what was two flags is one of the traits, also before the kinds say more")
	}
	require.NoError(t, c.Sources.SetTraits(ctx, "trash", traits.Traits{Shape: traits.Removals, Rank: 10, Expires: true}))
	again, err := c.Sources.ByID(ctx, sources[2].ID)
	require.NoError(t, err)
	assert.True(t, again.Traits.Expires)
	assert.True(t, sources[1].Renew, "the store of points in time is to be read anew")
	assert.Contains(t, sources[1].Trouble, "read anew", "and the Desk says so")
	known := func(src int, dir string) func(string) entry.Mark {
		marks, err := c.Surveys.Begin(ctx, sources[src], time.Unix(0, 100), Following{}).Marks(ctx, dir)
		require.NoError(t, err)
		return marks
	}
	sources[2].Recheck = false // else all is told anew
	at := entry.At(written)
	assert.Equal(
		t,
		entry.Mark{
			Type:    entry.File,
			Size:    12,
			Written: at,
			Mode:    entry.Is(fs.FileMode(0o644)),
			UID:     entry.Is(int64(1001)),
			GID:     entry.Is(int64(1002)),
			File:    entry.Identity{Number: 35, Changed: at},
		},
		known(0, "")("quote"),
	)
	item := entry.Mark{File: entry.Identity{Number: 35*36 + 35, Changed: at}, Record: entry.Identity{Number: 1, Changed: at}}
	assert.Equal(t, item, known(2, "files")("gone"))
	item.Inside = 77
	assert.Equal(t, item, known(2, "files")("folder"))

	require.NoError(t, c.Surveys.Renew(ctx, sources[1]))
	_, err = c.Everything().Copies.ByID(ctx, 2)
	require.ErrorIs(t, err, ErrNotFound)
	assert.ErrorContains(t, err, "read anew", "until its store is")
	sources[1].Renew = false
	d := c.Surveys.Begin(ctx, sources[1], time.Unix(0, 100), Following{})
	for n, point := range []string{"b", "c"} {
		require.NoError(t, d.Begin(sighting.Capture{Name: point, At: time.Unix(0, int64(20+10*n))}))
		require.NoError(
			t,
			d.Sight(sighting.Sighting{At: sighting.Locator{Capture: point, Name: "quote"}, Mark: entry.Mark{Size: int64(n + 1)},
				Origin: "/h/quote", Type: entry.File, Readable: true}),
		)
	}
	_, err = d.End(nil)
	require.NoError(t, err)
	now, err := c.Everything().Copies.ByID(ctx, 2)
	require.NoError(t, err, "a copy that a receipt names still leads to what its number stood for")
	assert.Equal(t, int64(30), now.Captured.UnixNano(), "and that was read from the latest point")
	assert.Greater(t, now.ID, int64(6), "no number is given twice")
	_, err = c.Everything().Copies.ByID(ctx, 3)
	assert.ErrorContains(t, err, "read anew")
	thinned, err := c.Everything().Copies.ByID(ctx, 4)
	require.NoError(t, err, "what only points showed that are gone stays as a record")
	assert.False(t, thinned.Readable)
	_, err = c.Everything().Copies.ByID(ctx, 400)
	assert.NotContains(t, err.Error(), "read anew", "what never was is not explained by it")
}

// beforeScopes takes back what migrations from 15 on did.
func beforeScopes(t *testing.T, c *Catalogue) {
	for _, statement := range []string{"ALTER TABLE machines DROP COLUMN way", "ALTER TABLE machines DROP COLUMN stopped", "DROP TABLE sliced_folders", "ALTER TABLE sources DROP COLUMN slice", "ALTER TABLE sources DROP COLUMN steps", "ALTER TABLE sources DROP COLUMN told",
		"ALTER TABLE jobs DROP COLUMN parts", "DROP TABLE persons_apart", "DROP INDEX people_by_person",
		"ALTER TABLE people DROP COLUMN person_id", "DROP TABLE persons", "DROP TABLE technician_machines", "DROP TABLE job_machines", "DROP TABLE receipt_machines",
		"ALTER TABLE technicians DROP COLUMN rights", "ALTER TABLE technicians DROP COLUMN whole", "ALTER TABLE cases DROP COLUMN machine_id",
		"DELETE FROM goose_db_version WHERE version_id >= 15"} {
		_, err := c.f.Write.ExecContext(t.Context(), statement)
		require.NoError(t, err, statement)
	}
}

// What an earlier version believed of stores without asking who may write them is told anew.
func TestWhatWasBelievedIsAskedAgain(t *testing.T) {
	dir, ctx := t.TempDir(), t.Context()
	c, err := Open(ctx, dir)
	require.NoError(t, err)
	beforeScopes(t, c)
	for _, statement := range []string{"INSERT INTO machines (id, name, at, zone, retention_days) VALUES (1, 'loft', '/', 'UTC', 30)",
		"DELETE FROM goose_db_version WHERE version_id >= 13", "DROP INDEX name_chunks_by_source", "ALTER TABLE name_chunks DROP COLUMN source_id"} {
		_, err := c.f.Write.ExecContext(ctx, statement)
		require.NoError(t, err)
	}
	kinds := []string{"live", "snapshots", "trash", "strays", "cloud", "archive", "history"}
	for n, kind := range kinds {
		_, err := c.f.Write.ExecContext(ctx, "INSERT INTO sources (id, machine_id, at_machine_id, kind, at, surveyed_at) VALUES (?, 1, 1, ?, ?, 50)",
			n+1, kind, []byte("/"+kind))
		require.NoError(t, err)
	}
	require.NoError(t, c.Close())
	c, err = Open(ctx, dir)
	require.NoError(t, err)
	defer c.Close()
	sources, err := c.Sources.Of(ctx, "")
	require.NoError(t, err)
	require.Len(t, sources, len(kinds))
	for _, src := range sources {
		assert.Equal(t, src.Kind == "archive" || src.Kind == "history", src.Renew, src.Kind)
		assert.Equal(t, src.Kind == "trash" || src.Kind == "strays" || src.Kind == "cloud", src.Recheck, src.Kind)
	}
}

// Names that an earlier version kept for all sources together are each among those of its source.
func TestNamesArePartedBySource(t *testing.T) {
	dir, ctx := t.TempDir(), t.Context()
	c, err := Open(ctx, dir)
	require.NoError(t, err)
	_, err = c.Machines.Add(ctx, Machine{Name: "loft", At: "/x", Zone: "UTC"})
	require.NoError(t, err)
	var sources []Source
	for _, at := range []string{"/home/ines", "/home/oda"} {
		src, err := c.Sources.Add(ctx, Source{Source: copies.Source{Kind: "trash", Machine: "loft", AtMachine: "loft", At: at}})
		require.NoError(t, err)
		sources = append(sources, src)
		d := c.Surveys.Begin(ctx, src, time.Unix(100, 0), Following{})
		for _, name := range []string{"Keel", "Mast"} {
			require.NoError(t, d.Sight(sighting.Sighting{At: sighting.Locator{Name: name}, Mark: entry.Mark{Size: 1}, Origin: at + "/" + name,
				Type: entry.File, Readable: true}))
		}
		_, err = d.End(nil)
		require.NoError(t, err)
	}
	beforeScopes(t, c)
	for _, statement := range []string{"DROP INDEX name_chunks_by_source", "UPDATE name_chunks SET source_id = 1",
		"ALTER TABLE name_chunks DROP COLUMN source_id", "DELETE FROM goose_db_version WHERE version_id = 14"} {
		_, err := c.f.Write.ExecContext(ctx, statement)
		require.NoError(t, err)
	}
	require.NoError(t, c.Close())

	c, err = Open(ctx, dir)
	require.NoError(t, err)
	defer c.Close()
	named := func(words string) (where []string) {
		found, err := c.Everything().Search.Find(ctx, Query{Words: words, Sort: ByName})
		require.NoError(t, err)
		for _, x := range found.Copies {
			where = append(where, x.Place.Path)
		}
		return where
	}
	assert.Equal(t, []string{"/home/ines/Keel", "/home/oda/Keel"}, named("keel"))
	var chunks int
	require.NoError(t, c.f.Read.QueryRowContext(ctx, "SELECT count(*) FROM name_chunks WHERE source_id IN (1, 2)").Scan(&chunks))
	assert.Equal(t, 2, chunks)
	require.NoError(t, c.RemoveSource(ctx, sources[0].ID))
	assert.Equal(t, []string{"/home/oda/Keel"}, named("keel"))
}
