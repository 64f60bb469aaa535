// Package file is the room of the catalogue that knows how its records lie on the disk: one SQLite file, which one connection writes and
// several read, its migrations, and a checksum of each of its pages. What is in the tables is known to the rooms above it.
package file

import (
	"context"
	"database/sql"
	"embed"
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

	"humble-rewind/internal/core/problem"
)

// File is an open file of records. It is safe for concurrent use.
type File struct {
	Reads *Statements // the readers, for texts that do not depend on what is asked for
	Read  *sql.DB     // the same readers, for others
	Write *sql.DB     // the connection that writes, for what is no transaction
	held  *sql.DB     // open as long as any other, see hold
	sums  *pageSums

	stop     context.CancelFunc // of the checkpoints
	stopped  sync.WaitGroup
	stopOnce sync.Once
	settle   func()
}

// Migrations are those that are written in SQL.
//
//go:embed migrations/*.sql
var Migrations embed.FS

const readers = 4

// Name is what the file is called in its folder. What belongs to it besides begins with that.
const Name = "catalogue.sqlite"

// Open opens the records at a path, makes them where there are none, and brings older ones up to date: by the migrations embedded here, and
// by those given, which are written in Go. It fails with problem.Damaged where the file is not as it was written. loaded is called once
// before anything else.
func Open(ctx context.Context, path string, loaded func(*File) error, migrations ...*goose.Migration) (*File, error) {
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
	f := &File{Write: write, Read: read, Reads: &Statements{db: read}, sums: sums, settle: func() {}}
	if f.held, err = hold(path, write); err != nil {
		return nil, errors.Join(err, read.Close(), write.Close())
	}
	if err := f.prepare(ctx, fresh, unsummed, loaded, migrations); err != nil {
		return nil, errors.Join(err, read.Close(), write.Close(), f.held.Close())
	}
	running, stop := context.WithCancel(context.WithoutCancel(ctx))
	f.stop = stop
	f.stopped.Go(func() { f.checkpoints(running) })
	return f, nil
}

// hold opens one more connection, on which nothing is asked that could be broken off. A connection whose question was is closed, and SQLite
// brings the log into the file by itself when the last one is, behind the back of the sums.
func hold(path string, write *sql.DB) (*sql.DB, error) {
	if err := write.Ping(); err != nil { // which begins the log
		return nil, err
	}
	held, err := open(path, "_pragma=query_only(1)&_pragma=wal_autocheckpoint(0)&_pragma=cache_size(-64)")
	if err != nil {
		return nil, err
	}
	held.SetMaxOpenConns(1)
	var tables int
	if err := held.QueryRow("SELECT count(*) FROM sqlite_master").Scan(&tables); err != nil { // which makes it one that has the log open
		return nil, errors.Join(err, held.Close())
	}
	return held, nil
}

// Dir is the folder that the file is in.
func (f *File) Dir() string { return filepath.Dir(f.sums.path) }

// Path is where the file is.
func (f *File) Path() string { return f.sums.path }

// AfterEach has something called whenever a transaction has ended, whichever way.
func (f *File) AfterEach(settle func()) { f.settle = settle }

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

func (f *File) prepare(ctx context.Context, fresh, unsummed bool, loaded func(*File) error, more []*goose.Migration) error {
	if unsummed { // nothing else tells whether it is whole
		var verdict string
		if err := f.Write.QueryRowContext(ctx, "PRAGMA integrity_check(1)").Scan(&verdict); err != nil {
			return fmt.Errorf("%w: %w", problem.Damaged, err)
		}
		if verdict != "ok" {
			return fmt.Errorf("%w: %s", problem.Damaged, verdict)
		}
	}
	if err := f.sums.noteBoot(); err != nil {
		return err
	}
	files, err := fs.Sub(Migrations, "migrations")
	if err != nil {
		return err
	}
	migrations, err := goose.NewProvider(goose.DialectSQLite3, f.Write, files, goose.WithGoMigrations(more...),
		goose.WithDisableGlobalRegistry(true))
	if err != nil {
		return err
	}
	if _, err := migrations.Up(ctx); err != nil {
		return err
	}
	if err := loaded(f); err != nil {
		return err
	}
	if fresh || unsummed {
		if _, err := f.intoFile(ctx); err != nil {
			return err
		}
		return f.sums.begin()
	}
	return f.checkpoint(ctx)
}

// Close closes the catalogue. Closing it again is no error.
func (f *File) Close() (err error) {
	f.stopOnce.Do(func() {
		f.stop()
		f.stopped.Wait()
		// Readers first, so that nothing keeps the log from going into the file.
		err = errors.Join(f.Read.Close(), f.checkpoint(context.Background()), f.Write.Close())
		if err == nil { // else what is in the log stays there, to be brought into the file by the next start
			err = f.held.Close()
		}
	})
	return err
}

// When the log is brought into the file.
const (
	checkpointEvery = 500 * time.Millisecond
	checkpointAt    = 8 << 20 // bytes of the log
)

// checkpoints brings the log into the file whenever it has grown, until ctx is done.
func (f *File) checkpoints(ctx context.Context) {
	ticker := time.NewTicker(checkpointEvery)
	defer ticker.Stop()
	for {
		select {
		case <-ticker.C:
		case <-ctx.Done():
			return
		}
		if info, err := os.Stat(f.sums.log()); err == nil && info.Size() > checkpointAt {
			_ = f.checkpoint(ctx) // tried again; the log holds everything until then
		}
	}
}

func (f *File) checkpoint(ctx context.Context) error {
	conn, err := f.Write.Conn(ctx) // the only one that writes
	if err != nil {
		return err
	}
	defer conn.Close()
	return f.sums.checkpoint(ctx, func(ctx context.Context) (bool, error) { return intoFile(ctx, conn) })
}

func (f *File) intoFile(ctx context.Context) (bool, error) {
	conn, err := f.Write.Conn(ctx)
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

// Tx runs do in one write transaction.
func (f *File) Tx(ctx context.Context, do func(*Writing) error) error {
	tx, err := f.Write.BeginTx(ctx, nil)
	if err != nil {
		return err
	}
	defer f.settle()
	defer tx.Rollback()
	if err := do(NewWriting(tx)); err != nil {
		return err
	}
	return tx.Commit()
}

// Check looks whether the file is as it was written: every page by its checksum, the whole by SQLite's own check. wrong is "" where it is.
func (f *File) Check(ctx context.Context) (wrong string, err error) {
	if err := f.sums.check(); err != nil {
		return err.Error(), nil
	}
	var verdict string
	if err := f.Read.QueryRowContext(ctx, "PRAGMA integrity_check(1)").Scan(&verdict); err != nil {
		return "", err
	}
	if verdict != "ok" {
		return verdict, nil
	}
	return "", nil
}

// TakeFrom runs statements in one transaction in which the records at another path are attached as "old".
func (f *File) TakeFrom(ctx context.Context, path string, statements []string) error {
	conn, err := f.Write.Conn(ctx)
	if err != nil {
		return err
	}
	defer conn.Close()
	if _, err := conn.ExecContext(ctx, "ATTACH DATABASE ? AS old", path); err != nil {
		return err
	}
	tx, err := conn.BeginTx(ctx, &sql.TxOptions{})
	if err != nil {
		return err
	}
	defer tx.Rollback()
	for _, statement := range statements {
		if _, err := tx.ExecContext(ctx, statement); err != nil {
			return fmt.Errorf("%s: %w", statement, err)
		}
	}
	if err := tx.Commit(); err != nil {
		return err
	}
	_, err = conn.ExecContext(ctx, "DETACH DATABASE old")
	return err
}
