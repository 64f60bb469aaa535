package catalogue

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/sighting"
)

// filled opens a catalogue and enters some machines and cases in many commits, a checkpoint in between.
func filled(t *testing.T, dir string) *Catalogue {
	c, err := Open(t.Context(), dir)
	require.NoError(t, err)
	enter := func(n int) {
		for i := range n {
			_, err := c.AddMachine(t.Context(), Machine{Name: fmt.Sprintf("m%d-%d", n, i), At: "/", Zone: "UTC",
				Notes: []string{"one note of some length, so that there are pages to damage", fmt.Sprint(i)}})
			require.NoError(t, err)
		}
	}
	enter(40)
	require.NoError(t, c.checkpoint(t.Context()))
	enter(30)
	return c
}

func everything(t *testing.T, c *Catalogue) string {
	all, err := c.Machines(t.Context())
	require.NoError(t, err)
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
			opened, unnoticed := 0, 0
			for _, file := range []string{File, File, File + "-wal", File + "-sums"} {
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
					damaged, err := Open(t.Context(), dir)
					if err != nil {
						require.ErrorIs(t, err, ErrDamaged)
						continue
					}
					opened++
					if everything(t, damaged) != want {
						unnoticed++
						t.Errorf("byte %d of %s was changed, and nobody noticed", at, file)
					}
					require.NoError(t, damaged.Close())
				}
			}
			t.Logf("%d opened all the same, %d of them with changed records", opened, unnoticed)
			if !killed {
				assert.Zero(t, opened)
			}
			again, err := Open(t.Context(), whole)
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
	path := filepath.Join(dir, File)
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
	info, err := os.Stat(filepath.Join(dir, File))
	require.NoError(t, err)
	assert.EqualValues(t, 0o600, info.Mode().Perm())
	for what, damage := range map[string]func(string) error{
		"empty":   func(path string) error { return os.Truncate(path, 0) },
		"cut off": func(path string) error { return os.Truncate(path, info.Size()-4096) },
		"gone":    os.Remove,
	} {
		broken := t.TempDir()
		copyFiles(t, dir, broken)
		require.NoError(t, damage(filepath.Join(broken, File)))
		_, err := Open(t.Context(), broken)
		assert.ErrorIs(t, err, ErrDamaged, what)
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
			if _, err := c.AddMachine(t.Context(), Machine{Name: fmt.Sprintf("more-%d", i), At: "/", Zone: "UTC",
				Notes: []string{fmt.Sprint(time.Now())}}); err != nil {
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
		conn, err := c.write.Conn(t.Context()) // files are copied one after the other, which no kill does
		require.NoError(t, err)
		c.sums.mu.Lock()
		copyFiles(t, dir, still)
		c.sums.mu.Unlock()
		require.NoError(t, conn.Close())
		killed, err := Open(t.Context(), still)
		require.NoError(t, err)
		require.NoError(t, killed.sums.check())
		require.NoError(t, killed.Close())
	}
	stop()
	<-done
	require.NoError(t, c.Close())
}

// What technicians did comes back from the daily copy; what surveys saw is to be read anew, and no number is given twice.
func TestADamagedCatalogueIsRebuiltFromTheDailyCopy(t *testing.T) {
	dir, ctx := t.TempDir(), t.Context()
	c := filled(t, dir)
	src, err := c.AddSource(ctx, Source{Source: copies.Source{Kind: "trash", Machine: "m40-1", AtMachine: "m40-1", At: "/home"}})
	require.NoError(t, err)
	d := c.Survey(ctx, src, time.Unix(100, 0), Following{})
	require.NoError(t, d.Sight(sighting.Sighting{At: sighting.Locator{Name: "quote"}, Mark: entry.Mark{Size: 1}, Origin: "/home/quote",
		Type: entry.File, Readable: true}))
	_, err = d.End(nil)
	require.NoError(t, err)
	r, err := c.BeginReceipt(ctx, Receipt{At: time.Unix(200, 0), By: "technician"}, func(put func([]ReceiptItem) error) error {
		return put([]ReceiptItem{{Copy: 1, Outcome: ItemDone, Work: []byte("{}")}})
	})
	require.NoError(t, err)
	require.NoError(t, c.CopyRecords(ctx))
	require.NoError(t, c.CopyRecords(ctx), "and over an older one")
	want := everything(t, c)
	require.NoError(t, c.Close())
	require.NoError(t, os.Truncate(filepath.Join(dir, File), 5000))
	_, err = Open(ctx, dir)
	require.ErrorIs(t, err, ErrDamaged)

	aside, from, err := Rebuild(ctx, dir, time.Now())
	require.NoError(t, err)
	assert.WithinDuration(t, time.Now(), from, time.Minute)
	assert.FileExists(t, filepath.Join(aside, File), "the damaged one is kept")
	c, err = Open(ctx, dir)
	require.NoError(t, err)
	defer c.Close()
	assert.Equal(t, want, everything(t, c))
	items, err := c.Items(ctx, r.ID, 0, 0)
	require.NoError(t, err)
	assert.Len(t, items, 1)
	_, err = c.Copy(ctx, 1)
	assert.ErrorContains(t, err, "read anew")
	problem, err := c.Check(ctx, nil)
	require.NoError(t, err)
	assert.Empty(t, problem)
}
