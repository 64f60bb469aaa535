package scan

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humble-rewind/internal/core/disk"
)

// plain is a file system of blocks of 4 KiB of which nothing stands.
type plain struct{ disk.Volume }

func (plain) Unit() int64 { return 4096 }
func (plain) Base() int64 { return 0 }

// An erased file whose blocks were given to one that came later, and was erased too, has lost them, though the file system calls them free.
// Of two of the same time neither is believed.
func TestBlocksOfWhatCameLaterAreItsOwn(t *testing.T) {
	day := time.Date(2026, 3, 4, 17, 5, 0, 0, time.UTC)
	entry := func(at, from, blocks int64, written time.Time) disk.Entry {
		return disk.Entry{Name: fmt.Sprint(at), Erased: true, Size: blocks * 4096, Runs: []disk.Run{{At: from * 4096, Size: blocks * 4096}}, Written: written, At: at}
	}
	copied := entry(5, 30, 2, day.AddDate(-1, 0, 0))
	copied.Made = day.AddDate(0, 0, 2) // written long ago, copied onto the drive later
	all := []disk.Entry{
		entry(1, 0, 10, day), entry(2, 8, 4, day.AddDate(0, 0, 1)), // the second took two blocks of the first
		entry(3, 20, 4, day), entry(4, 23, 4, day), // nobody knows
		copied, entry(6, 31, 2, day.AddDate(0, 0, 1)),
		entry(7, 40, 2, day), entry(8, 40, 2, day), // told of twice
	}
	c := newClaims(Volume{Size: 1 << 30}, plain{})
	for _, e := range all {
		require.NoError(t, c.add(e))
	}
	c.settle()
	lost := map[int64]int64{}
	for _, e := range all {
		lost[e.At] = c.taken(&e) / 4096
	}
	assert.Equal(t, map[int64]int64{1: 2, 2: 0, 3: 1, 4: 1, 5: 0, 6: 1, 7: 0, 8: 0}, lost)
}

// Entries that claim far more than there is cost no more than can be paid.
func TestClaimsThatAreTooManyPromiseNothing(t *testing.T) {
	c := newClaims(Volume{Size: 1 << 40}, plain{})
	begun := time.Now()
	huge := disk.Entry{Erased: true, Size: 1 << 40, Runs: []disk.Run{{At: 0, Size: 1 << 40}}}
	for n := range int64(20) {
		e := huge
		e.At, e.Written = n+1, begun.Add(time.Duration(n)*time.Hour)
		require.NoError(t, c.add(e))
	}
	c.settle()
	e := huge
	e.At = 1
	assert.EqualValues(t, 1<<40, c.taken(&e))
}

// Where more was erased than can be held against one another, any of it may have been written over: none is promised.
func TestMorePiecesThanAreComparedPromiseNothing(t *testing.T) {
	c := newClaims(Volume{Size: 1 << 40}, plain{})
	for n := range int64(mostClaimed + 1) {
		require.False(t, c.many)
		require.NoError(t, c.add(disk.Entry{Erased: true, Size: 1, Runs: []disk.Run{{At: n * 4096, Size: 1}}, At: n}))
	}
	assert.True(t, c.many)
	c.settle()
}
