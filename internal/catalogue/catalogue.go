// Package catalogue keeps the records: machines, people, sources, what surveys saw, jobs and receipts, in one SQLite
// file. It is the only package that knows SQL.
//
// What a survey sees is kept as spans: a version of a place in a source is one row from the capture that first showed
// it to the one that last did, however many captures there were between. Nothing that a survey saw is ever deleted when
// it vanishes from its store; only its span ends.
package catalogue

import (
	"context"
	"database/sql"
	"embed"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"net/url"
	"path/filepath"
	"sync"
	"time"

	"github.com/pressly/goose/v3"
	_ "modernc.org/sqlite" // the driver "sqlite"

	"humble-rewind/internal/core/entry"
)

// Sentinels that callers branch on.
var (
	ErrNotFound = errors.New("not in the catalogue")
	ErrTaken    = errors.New("already in the catalogue")
	ErrDamaged  = errors.New("the catalogue is damaged")
	ErrCursor   = errors.New("the cursor is not one that this list gave out")
)

// Catalogue is an open catalogue. It is safe for concurrent use: one connection writes, several read.
type Catalogue struct {
	write *sql.DB
	read  *sql.DB

	mu     sync.Mutex
	stores map[int64]*Store // as they were read last; nil where they may have changed since
}

//go:embed migrations/*.sql
var embedded embed.FS

const readers = 4

// Open opens the catalogue in the folder dir, makes it where there is none, and brings an older one up to date. It
// fails with ErrDamaged where the file is not whole.
func Open(ctx context.Context, dir string) (*Catalogue, error) {
	path := filepath.Join(dir, "catalogue.sqlite")
	write, err := open(path, "_txlock=immediate&_pragma=journal_mode(WAL)&_pragma=synchronous(FULL)&_pragma=temp_store(MEMORY)&_pragma=cache_size(-49152)")
	if err != nil {
		return nil, err
	}
	write.SetMaxOpenConns(1)
	read, err := open(path, "_pragma=query_only(1)&_pragma=cache_size(-10240)")
	if err != nil {
		write.Close()
		return nil, err
	}
	read.SetMaxOpenConns(readers)
	read.SetMaxIdleConns(readers)
	c := &Catalogue{write: write, read: read}
	if err := c.prepare(ctx); err != nil {
		c.Close()
		return nil, fmt.Errorf("open the catalogue %s: %w", path, err)
	}
	return c, nil
}

func open(path, options string) (*sql.DB, error) {
	dsn := (&url.URL{Scheme: "file", Opaque: (&url.URL{Path: path}).EscapedPath()}).String()
	return openWith(dsn + "?_pragma=foreign_keys(1)&_pragma=busy_timeout(10000)&" + options)
}

func openWith(dsn string) (*sql.DB, error) { return sql.Open("sqlite", dsn) }

func (c *Catalogue) prepare(ctx context.Context) error {
	var verdict string
	if err := c.write.QueryRowContext(ctx, "PRAGMA quick_check(1)").Scan(&verdict); err != nil {
		return fmt.Errorf("%w: %w; move it away and survey again to rebuild it (receipts are only in the old one)", ErrDamaged, err)
	}
	if verdict != "ok" {
		return fmt.Errorf("%w: %s; move it away and survey again to rebuild it (receipts are only in the old one)", ErrDamaged, verdict)
	}
	files, err := fs.Sub(embedded, "migrations")
	if err != nil {
		return err
	}
	migrations, err := goose.NewProvider(goose.DialectSQLite3, c.write, files, goose.WithGoMigrations(rewriteMarks), goose.WithDisableGlobalRegistry(true))
	if err != nil {
		return err
	}
	if _, err := migrations.Up(ctx); err != nil {
		return err
	}
	if err := c.makeStaging(ctx); err != nil {
		return err
	}
	return c.FeedNames(ctx) // what a killed survey left
}

// Close closes the catalogue.
func (c *Catalogue) Close() error {
	return errors.Join(c.read.Close(), c.write.Close())
}

// tx runs do in one write transaction.
func (c *Catalogue) tx(ctx context.Context, do func(*sql.Tx) error) error {
	defer c.forgetStores()
	tx, err := c.write.BeginTx(ctx, nil)
	if err != nil {
		return err
	}
	defer tx.Rollback()
	if err := do(tx); err != nil {
		return err
	}
	return tx.Commit()
}

// nanos is how a time is kept; one that cannot be counted so is unknown.
func nanos(t time.Time) sql.NullInt64 {
	return sql.NullInt64{Int64: t.UnixNano(), Valid: entry.Countable(t)}
}

func moment(n sql.NullInt64) time.Time {
	if !n.Valid {
		return time.Time{}
	}
	return time.Unix(0, n.Int64).UTC()
}

func toJSON(v any) string {
	b, err := json.Marshal(v)
	if err != nil {
		panic(err) // only lists and structs of plain fields come here
	}
	return string(b)
}

func fromJSON[T any](text string) (v T, err error) {
	if text == "" {
		return v, nil
	}
	err = json.Unmarshal([]byte(text), &v)
	return v, err
}

// affected turns a change of no rows into ErrNotFound.
func affected(result sql.Result, err error) error {
	if err != nil {
		return err
	}
	if n, err := result.RowsAffected(); err != nil || n == 0 {
		return errors.Join(err, ErrNotFound)
	}
	return nil
}
