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
	"os"
	"path/filepath"
	"sync"
	"time"

	"github.com/pressly/goose/v3"
	_ "modernc.org/sqlite" // the driver "sqlite"

	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/problem"
)

// Problems that callers branch on.
const (
	ErrNotFound = problem.NotKnown
	ErrTaken    = problem.Known
	ErrDamaged  = problem.Damaged
	ErrCursor   = problem.BadCursor
)

// Catalogue is an open catalogue. It is safe for concurrent use: one connection writes, several read.
type Catalogue struct {
	write    *sql.DB
	read     *sql.DB
	reads    *statements // the same readers
	sums     *pageSums
	counters counters
	rewrites rewrites
	known    knownMachines
	index    folderIndex
	text     nameText
	indexed  chan struct{} // closed once names and folders have been read for searches
	indexing error         // why they could not be
	examined examinedSet

	stop     context.CancelFunc // of the checkpoints
	stopped  sync.WaitGroup
	stopOnce sync.Once

	mu     sync.Mutex
	stores map[copies.SourceID]*copies.Store // as they were read last; nil where all may have changed since
	stale  []copies.SourceID                 // those of them that may have
}

//go:embed migrations/*.sql
var embedded embed.FS

const readers = 4

// File is the name of the catalogue in its folder. What belongs to it besides begins with it.
const File = "catalogue.sqlite"

// Open opens the catalogue in the folder dir, makes it where there is none, and brings an older one up to date. It
// fails with ErrDamaged where the file is not as it was written.
func Open(ctx context.Context, dir string) (*Catalogue, error) {
	c, err := openIn(ctx, filepath.Join(dir, File))
	if err != nil {
		return nil, fmt.Errorf("open the catalogue in %s: %w", dir, err)
	}
	return c, nil
}

func openIn(ctx context.Context, path string) (*Catalogue, error) {
	sums := &pageSums{path: path}
	fresh, unsummed, err := sums.verify()
	if err != nil {
		return nil, err
	}
	if err := ownersAlone(path); err != nil {
		return nil, err
	}
	// No checkpoint but ours, which keep the sums.
	write, err := open(
		path,
		"_txlock=immediate&_pragma=journal_mode(WAL)&_pragma=wal_autocheckpoint(0)"+
			"&_pragma=synchronous(FULL)&_pragma=temp_store(MEMORY)&_pragma=cache_size(-49152)",
	)
	if err != nil {
		return nil, err
	}
	write.SetMaxOpenConns(1)
	read, err := open(path, "_pragma=query_only(1)&_pragma=wal_autocheckpoint(0)&_pragma=cache_size(-10240)")
	if err != nil {
		write.Close()
		return nil, err
	}
	read.SetMaxOpenConns(readers)
	read.SetMaxIdleConns(readers)
	c := &Catalogue{write: write, read: read, reads: &statements{db: read}, sums: sums, indexed: make(chan struct{})}
	if err := c.prepare(ctx, fresh, unsummed); err != nil {
		return nil, errors.Join(err, read.Close(), write.Close())
	}
	running, stop := context.WithCancel(context.WithoutCancel(ctx))
	c.stop = stop
	c.stopped.Go(func() { c.checkpoints(running) })
	c.stopped.Go(func() {
		c.indexing = c.readIndex(running)
		close(c.indexed)
	})
	return c, nil
}

// ownersAlone makes sure that nobody else can read a catalogue, new or old. SQLite gives its log the same mode.
func ownersAlone(path string) error {
	f, err := os.OpenFile(path, os.O_RDWR|os.O_CREATE, 0o600)
	if err != nil {
		return err
	}
	return errors.Join(f.Chmod(0o600), f.Close())
}

func open(path, options string) (*sql.DB, error) {
	dsn := (&url.URL{Scheme: "file", Opaque: (&url.URL{Path: path}).EscapedPath()}).String()
	return openWith(dsn + "?_pragma=foreign_keys(1)&_pragma=busy_timeout(10000)&" + options)
}

func openWith(dsn string) (*sql.DB, error) { return sql.Open("sqlite", dsn) }

func (c *Catalogue) prepare(ctx context.Context, fresh, unsummed bool) error {
	if unsummed { // nothing else tells whether it is whole
		var verdict string
		if err := c.write.QueryRowContext(ctx, "PRAGMA integrity_check(1)").Scan(&verdict); err != nil {
			return fmt.Errorf("%w: %w", ErrDamaged, err)
		}
		if verdict != "ok" {
			return fmt.Errorf("%w: %s", ErrDamaged, verdict)
		}
	}
	if err := c.sums.noteBoot(); err != nil {
		return err
	}
	files, err := fs.Sub(embedded, "migrations")
	if err != nil {
		return err
	}
	migrations, err := goose.NewProvider(goose.DialectSQLite3, c.write, files, goose.WithGoMigrations(rewriteMarks, moveSpans, batchItems),
		goose.WithDisableGlobalRegistry(true))
	if err != nil {
		return err
	}
	if _, err := migrations.Up(ctx); err != nil {
		return err
	}
	if err := c.counters.load(ctx, c.write); err != nil {
		return err
	}
	if fresh || unsummed {
		if _, err := c.intoFile(ctx); err != nil {
			return err
		}
		return c.sums.begin()
	}
	return c.checkpoint(ctx)
}

// Close closes the catalogue. Closing it again is no error.
func (c *Catalogue) Close() (err error) {
	c.stopOnce.Do(func() {
		c.stop()
		c.stopped.Wait()
		// Readers first, so that nothing keeps the log from going into the file.
		err = errors.Join(c.read.Close(), c.checkpoint(context.Background()), c.write.Close())
	})
	return err
}

// When the log is brought into the file.
const (
	checkpointEvery = 500 * time.Millisecond
	checkpointAt    = 8 << 20 // bytes of the log
)

// checkpoints brings the log into the file whenever it has grown, until ctx is done.
func (c *Catalogue) checkpoints(ctx context.Context) {
	ticker := time.NewTicker(checkpointEvery)
	defer ticker.Stop()
	for {
		select {
		case <-ticker.C:
		case <-ctx.Done():
			return
		}
		if info, err := os.Stat(c.sums.log()); err == nil && info.Size() > checkpointAt {
			_ = c.checkpoint(ctx) // tried again; the log holds everything until then
		}
	}
}

func (c *Catalogue) checkpoint(ctx context.Context) error {
	conn, err := c.write.Conn(ctx) // the only one that writes
	if err != nil {
		return err
	}
	defer conn.Close()
	return c.sums.checkpoint(ctx, func(ctx context.Context) (bool, error) { return intoFile(ctx, conn) })
}

func (c *Catalogue) intoFile(ctx context.Context) (bool, error) {
	conn, err := c.write.Conn(ctx)
	if err != nil {
		return false, err
	}
	defer conn.Close()
	return intoFile(ctx, conn)
}

// intoFile copies the log into the file and, where nobody is reading from it, empties it. It tells whether all was copied.
func intoFile(ctx context.Context, conn *sql.Conn) (bool, error) {
	var busy, frames, copied int
	if err := conn.QueryRowContext(ctx, "PRAGMA wal_checkpoint(PASSIVE)").Scan(&busy, &frames, &copied); err != nil {
		return false, err
	}
	if copied < frames {
		return false, nil
	}
	for _, pragma := range []string{"PRAGMA busy_timeout = 20", "PRAGMA wal_checkpoint(TRUNCATE)", "PRAGMA busy_timeout = 10000"} {
		rows, err := conn.QueryContext(ctx, pragma)
		if err != nil {
			return true, err
		}
		if err := rows.Close(); err != nil {
			return true, err
		}
	}
	return true, nil
}

// tx runs do in one write transaction. Whoever changes sources or points in time says so afterwards, see forgetStore.
func (c *Catalogue) tx(ctx context.Context, do func(*sql.Tx) error) error {
	tx, err := c.write.BeginTx(ctx, nil)
	if err != nil {
		return err
	}
	defer c.rewrites.settle()
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
