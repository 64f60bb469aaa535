package file

import (
	"context"
	"database/sql"
	"database/sql/driver"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"testing"
	"time"

	"humble-rewind/internal/core/problem"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// opened opens a file without migrations in Go.
func opened(t *testing.T, dir string) (*File, error) {
	return Open(t.Context(), filepath.Join(dir, Name), func(*File) error { return nil })
}

func enter(ctx context.Context, f *File, name, note string) error {
	_, err := f.Write.ExecContext(ctx, "INSERT INTO machines (name, at, zone, retention_days, notes) VALUES (?, '/', 'UTC', 30, ?)", name, note)
	return err
}

// filled opens a file and enters some machines in many commits, a checkpoint in between.
func filled(t *testing.T, dir string) *File {
	f, err := opened(t, dir)
	require.NoError(t, err)
	for i := range 70 {
		require.NoError(t, enter(t.Context(), f, fmt.Sprintf("m%d", i), "one note of some length, so that there are pages to damage"))
		if i == 40 {
			require.NoError(t, f.checkpoint(t.Context()))
		}
	}
	return f
}

func everything(t *testing.T, f *File) string {
	rows, err := f.Read.QueryContext(t.Context(), "SELECT name, notes FROM machines ORDER BY name")
	require.NoError(t, err)
	defer rows.Close()
	var all []string
	for rows.Next() {
		var name, note string
		require.NoError(t, rows.Scan(&name, &note))
		all = append(all, name, note)
	}
	require.NoError(t, rows.Err())
	return fmt.Sprint(all)
}

// copyFiles copies a folder's files, as a kill would leave them.
func copyFiles(t *testing.T, from, to string) {
	entries, err := os.ReadDir(from)
	require.NoError(t, err)
	for _, e := range entries {
		content, err := os.ReadFile(filepath.Join(from, e.Name()))
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(filepath.Join(to, e.Name()), content, 0o600))
	}
}

// Of a catalogue that was closed, every changed byte is found; of one that was killed, every one is found or changes nothing.
func TestEveryChangedByteIsFound(t *testing.T) {
	r := rand.New(rand.NewPCG(9, 14))
	for name, killed := range map[string]bool{"closed": false, "killed": true} {
		t.Run(name, func(t *testing.T) {
			whole := t.TempDir()
			c := filled(t, whole)
			want := everything(t, c)
			if killed {
				still := t.TempDir()
				copyFiles(t, whole, still)
				require.NoError(t, c.Close())
				whole = still
			} else {
				require.NoError(t, c.Close())
			}
			despite, unnoticed := 0, 0
			for _, file := range []string{Name, Name, Name + "-wal", Name + "-sums"} {
				info, err := os.Stat(filepath.Join(whole, file))
				if err != nil || info.Size() == 0 {
					continue
				}
				for range 60 {
					dir := t.TempDir()
					copyFiles(t, whole, dir)
					f, err := os.OpenFile(filepath.Join(dir, file), os.O_RDWR, 0)
					require.NoError(t, err)
					at, b := r.Int64N(info.Size()), []byte{0}
					_, err = f.ReadAt(b, at)
					require.NoError(t, err)
					b[0] ^= 1 << r.IntN(8)
					_, err = f.WriteAt(b, at)
					require.NoError(t, err)
					require.NoError(t, f.Close())
					damaged, err := opened(t, dir)
					if err != nil {
						require.ErrorIs(t, err, problem.Damaged)
						continue
					}
					despite++
					if everything(t, damaged) != want {
						unnoticed++
						t.Errorf("byte %d of %s was changed, and nobody noticed", at, file)
					}
					require.NoError(t, damaged.Close())
				}
			}
			t.Logf("%d opened all the same, %d of them with changed records", despite, unnoticed)
			if !killed {
				assert.Zero(t, despite)
			}
			again, err := opened(t, whole)
			require.NoError(t, err, "whole it opens")
			assert.Equal(t, want, everything(t, again))
			require.NoError(t, again.Close())
		})
	}
}

// A file of more than a gibibyte has a page that SQLite never writes: it is not taken for damaged, and any other still is.
func TestAPageThatWasNeverWrittenIsNotDamaged(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, filled(t, dir).Close())
	path := filepath.Join(dir, Name)
	p := pageSums{path: path}
	s, err := readSums(p.inForce())
	require.NoError(t, err)
	never := len(s.pages) - 1
	s.pages[never] = neverWritten
	require.NoError(t, s.write(p.inForce()))
	damage := func(page int) {
		content, err := os.ReadFile(path)
		require.NoError(t, err)
		content[int64(page)*s.pageSize+100] ^= 1
		require.NoError(t, os.WriteFile(path, content, 0o600))
	}
	damage(never)
	_, _, err = p.verify()
	require.NoError(t, err)
	damage(never - 1)
	_, _, err = p.verify()
	assert.ErrorContains(t, err, fmt.Sprintf("page %d of", never))
}

func TestAnEmptyOrMissingCatalogueIsNotANewOne(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, filled(t, dir).Close())
	info, err := os.Stat(filepath.Join(dir, Name))
	require.NoError(t, err)
	assert.EqualValues(t, 0o600, info.Mode().Perm())
	for what, damage := range map[string]func(string) error{
		"empty":   func(path string) error { return os.Truncate(path, 0) },
		"cut off": func(path string) error { return os.Truncate(path, info.Size()-4096) },
		"gone":    os.Remove,
	} {
		broken := t.TempDir()
		copyFiles(t, dir, broken)
		require.NoError(t, damage(filepath.Join(broken, Name)))
		_, err := opened(t, broken)
		assert.ErrorIs(t, err, problem.Damaged, what)
	}
}

// Copied away at any moment while it is written and checkpointed, it opens with what was committed by then.
func TestKilledAtAnyMomentItIsWhole(t *testing.T) {
	dir := t.TempDir()
	c := filled(t, dir)
	ctx, stop := context.WithCancel(t.Context())
	done := make(chan struct{})
	go func() {
		defer close(done)
		for i := 0; ctx.Err() == nil; i++ {
			if err := enter(t.Context(), c, fmt.Sprintf("more-%d", i), fmt.Sprint(time.Now())); err != nil {
				t.Error(err)
			}
			if i%7 == 0 {
				if err := c.checkpoint(t.Context()); err != nil {
					t.Error(err)
				}
			}
		}
	}()
	for range 25 {
		still := t.TempDir()
		conn, err := c.Write.Conn(t.Context()) // files are copied one after the other, which no kill does
		require.NoError(t, err)
		c.sums.mu.Lock()
		copyFiles(t, dir, still)
		c.sums.mu.Unlock()
		require.NoError(t, conn.Close())
		killed, err := opened(t, still)
		require.NoError(t, err)
		require.NoError(t, killed.sums.check())
		require.NoError(t, killed.Close())
	}
	stop()
	<-done
	require.NoError(t, c.Close())
}

// drop closes the connections that nobody uses, as the driver does with one whose question was broken off.
func drop(t *testing.T, of *sql.DB) {
	conn, err := of.Conn(t.Context())
	require.NoError(t, err)
	require.ErrorIs(t, conn.Raw(func(any) error { return driver.ErrBadConn }), driver.ErrBadConn)
	_ = conn.Close() // it is gone
	require.Zero(t, of.Stats().OpenConnections)
}

// A question that is broken off takes its connection with it. What was written before is in the log then, and goes into the file with its sums.
func TestAConnectionThatIsLostTakesNothingPastTheSums(t *testing.T) {
	dir := t.TempDir()
	f := filled(t, dir)
	want := everything(t, f)
	drop(t, f.Write)
	require.NoError(t, f.Close())
	f, err := opened(t, dir)
	require.NoError(t, err)
	assert.Equal(t, want, everything(t, f))
	require.NoError(t, enter(t.Context(), f, "late", "entered before all connections were lost"))
	for range readers {
		drop(t, f.Read)
	}
	drop(t, f.Write)
	wrong, err := f.Check(t.Context())
	require.NoError(t, err)
	assert.Empty(t, wrong)
	require.NoError(t, f.Close())
	f, err = opened(t, dir)
	require.NoError(t, err)
	assert.Contains(t, everything(t, f), "entered before all connections were lost")
	require.NoError(t, f.Close())
}

// Where the sums cannot be written down, as on a drive that is full, nothing goes into the file: the log keeps it for the next start.
func TestWhatCannotBeSummedStaysInTheLog(t *testing.T) {
	dir := t.TempDir()
	f := filled(t, dir)
	want := everything(t, f)
	require.NoError(t, os.Mkdir(f.sums.toCome()+"~", 0o700)) // which no file can be written over
	require.Error(t, f.Close())
	require.NoError(t, os.Remove(f.sums.toCome()+"~"))
	f, err := opened(t, dir)
	require.NoError(t, err)
	assert.Equal(t, want, everything(t, f))
	require.NoError(t, f.Close())
}
