package journal_test

import (
	"io/fs"
	"maps"
	"testing"
	"time"

	"github.com/fxamacker/cbor/v2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/reach"
	"humble-rewind/internal/restore/journal"
	"humble-rewind/internal/restore/original"
)

// What is kept of an item comes back as it was: times of any zone and century, and what is no UTF-8.
func TestTheJournalKeepsWhatItIsGiven(t *testing.T) {
	for _, at := range []time.Time{
		{}, time.Date(1901, 12, 13, 20, 45, 52, 0, time.UTC), time.Date(2026, 10, 25, 2, 30, 0, 123456789, time.FixedZone("", 7200)),
		time.Date(9999, 12, 31, 23, 59, 59, 999999999, time.UTC),
	} {
		like := entry.Mark{Type: entry.File, Size: 7, Written: entry.At(at), Mode: entry.Is[fs.FileMode](0o4755), UID: entry.Is(int64(0))}
		was := journal.Work{Ref: []byte("caf\xe9"), Dated: at, DatedBy: "deleted", Like: &like, Made: [][]byte{[]byte("/a\xff")},
			After: original.Identity{Seen: reach.Seen{Device: 1 << 63, Inode: 7, Size: -1, Written: entry.At(at)}, Digest: "target \xff\n"}}
		encoded, err := was.Encode()
		require.NoError(t, err)
		is, err := journal.Decode(encoded)
		require.NoError(t, err)
		assert.True(t, was.Dated.Equal(is.Dated), "%s, not %s", is.Dated, was.Dated)
		was.Dated, is.Dated = time.Time{}, time.Time{}
		assert.Equal(t, was, is)
	}
}

// A part that cannot be read, as of a time that an earlier version wrote with five digits of a year, keeps nothing from being read that
// tells whether the item arrived.
func TestAJournalThatCannotBeReadWholeIsReadAsFarAsItGoes(t *testing.T) {
	was := journal.Work{Ref: []byte("keel"), DatedBy: "deleted", Made: [][]byte{[]byte("/a")}, Leaves: true, After: original.Identity{Digest: "oak"}}
	encoded, err := was.Encode()
	require.NoError(t, err)
	parts := map[string]any{}
	require.NoError(t, cbor.Unmarshal(encoded, &parts))
	for name, unreadable := range map[string]bool{"dated": false, "after": true} {
		spoilt := maps.Clone(parts)
		spoilt[name] = "12026-03-04T17:05:00Z"
		encoded, err := cbor.Marshal(spoilt)
		require.NoError(t, err)
		is, err := journal.Decode(encoded)
		if unreadable {
			assert.ErrorIs(t, err, journal.ErrUnreadable)
			continue
		}
		require.NoError(t, err)
		assert.Equal(t, was, is)
	}
	_, err = journal.Decode([]byte{0xff, 0x00})
	assert.ErrorIs(t, err, journal.ErrUnreadable)
}
