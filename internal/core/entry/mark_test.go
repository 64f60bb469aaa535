package entry_test

import (
	"encoding/binary"
	"encoding/json"
	"io/fs"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humble-rewind/internal/core/entry"
)

var (
	first = time.Date(1970, 1, 1, 0, 0, 0, 0, time.UTC)
	last  = time.Date(2101, 1, 1, 0, 0, 0, 0, time.UTC)
)

func between(r *rand.Rand) time.Time {
	return first.Add(time.Duration(r.Int64N(int64(last.Sub(first)))))
}

func random(r *rand.Rand) entry.Mark {
	return entry.Mark{
		Type: entry.File, Size: r.Int64N(1 << 40), Written: entry.At(between(r)),
		Mode: entry.Is(fs.FileMode(r.Uint32N(0o1000)) | fs.ModeSetuid),
		UID:  entry.Is(r.Int64N(70000)), GID: entry.Maybe[int64]{Known: r.IntN(2) == 0},
		File: entry.Identity{
			Number:  r.Uint64(),
			Changed: entry.At(between(r)),
		}, Record: entry.Identity{Number: r.Uint64(), Changed: entry.At(between(r))},
		Inside: r.Int64N(1 << 30), Content: entry.ContentID{Kind: entry.GitBlob, Value: "4f"},
	}
}

// A change of any field that a kind of tree keeps is seen, at every write time and however small it is; and no other.
func TestAChangeOfAFieldIsSeenWhateverTheTimesAre(t *testing.T) {
	r := rand.New(rand.NewPCG(9, 1))
	changes := map[string]struct {
		change func(*entry.Mark)
		by     entry.Keeps // from which on it is seen
	}{
		"size":         {func(m *entry.Mark) { m.Size++ }, entry.Likeness},
		"write time":   {func(m *entry.Mark) { m.Written = entry.At(m.Written.Time().Add(1)) }, entry.Likeness},
		"mode":         {func(m *entry.Mark) { m.Mode.Value ^= 0o100 }, entry.Likeness},
		"owner":        {func(m *entry.Mark) { m.UID.Value++ }, entry.Likeness},
		"group":        {func(m *entry.Mark) { m.GID.Value++ }, entry.Likeness},
		"no owner":     {func(m *entry.Mark) { m.UID.Known = false }, entry.Likeness},
		"content":      {func(m *entry.Mark) { m.Content.Value += "0" }, entry.Likeness},
		"record":       {func(m *entry.Mark) { m.Record.Number++ }, entry.Likeness},
		"what is in":   {func(m *entry.Mark) { m.Inside++ }, entry.Likeness},
		"which file":   {func(m *entry.Mark) { m.File.Number++ }, entry.SameFile},
		"change time":  {func(m *entry.Mark) { m.File.Changed = entry.At(m.File.Changed.Time().Add(1)) }, entry.All},
		"unknown time": {func(m *entry.Mark) { m.File.Changed = entry.Instant{} }, entry.All},
	}
	for range 20_000 {
		m := random(r)
		for what, c := range changes {
			changed := m
			c.change(&changed)
			for _, by := range []entry.Keeps{entry.Likeness, entry.SameFile, entry.All} {
				require.Equal(t, by < c.by, m.Same(changed, by), "%s of %v by %d", what, m, by)
				require.Equal(
					t,
					by < c.by,
					string(m.AppendKept(nil, by)) == string(changed.AppendKept(nil, by)),
					"%s of %v by %d",
					what,
					m,
					by,
				)
				require.True(t, m.Same(m, by))
			}
		}
		read, err := entry.ParseMark(m.Append(nil))
		require.NoError(t, err)
		require.Equal(t, m, read)
	}
}

func TestInstantsHoldWhatFileSystemsKeep(t *testing.T) {
	for _, at := range []time.Time{time.Unix(0, 0), time.Unix(-1, 999_999_999), time.Date(1, 1, 1, 0, 0, 0, 1, time.UTC),
		time.Date(12026, 3, 4, 5, 6, 7, 8, time.UTC), time.Unix(1<<40, 7)} {
		assert.True(t, entry.At(at).Time().Equal(at), at)
		text, err := entry.At(at).MarshalText()
		require.NoError(t, err)
		var read entry.Instant
		require.NoError(t, read.UnmarshalText(text))
		assert.Equal(t, entry.At(at), read)
	}
	var older entry.Instant
	require.NoError(t, older.UnmarshalText([]byte("2026-11-03T16:30:00.000000007Z")))
	assert.Equal(t, entry.At(time.Date(2026, 11, 3, 16, 30, 0, 7, time.UTC)), older)
	assert.Error(t, older.UnmarshalText([]byte("yesterday")))
	assert.Zero(t, entry.At(time.Time{}))
	assert.True(t, entry.Instant{}.Time().IsZero())
	assert.NotEqual(t, entry.Instant{}, entry.At(time.Unix(0, 0)), "unknown is not 1970")
}

// What catalogues hold that were written before anything could be unknown is what is marked today.
func TestMarksOfTheVersionBeforeAreTheSame(t *testing.T) {
	at := entry.At(time.Date(2026, 11, 3, 16, 30, 0, 7, time.UTC))
	instant := func(b []byte) []byte { return binary.AppendUvarint(binary.AppendVarint(b, at.Sec), uint64(at.Nano)) }
	before := func(typ byte, mode, uid, gid int64) []byte {
		b := instant(binary.AppendVarint([]byte{1, typ, 1 | 2}, 12))
		b = binary.AppendVarint(binary.AppendVarint(binary.AppendUvarint(b, uint64(mode)), uid), gid)
		b = instant(binary.AppendUvarint(b, 35))
		return append(binary.AppendUvarint(b, 0), 0)
	}
	file, err := entry.ParseMark(before(1, 0o644, 1001, 0))
	require.NoError(t, err)
	assert.Equal(t, entry.Mark{Type: entry.File, Size: 12, Written: at, Mode: entry.Is(fs.FileMode(0o644)), UID: entry.Is(int64(1001)),
		GID: entry.Is(int64(0)), File: entry.Identity{Number: 35, Changed: at}}, file)
	trashed, err := entry.ParseMark(before(0, 0, 0, 0))
	require.NoError(t, err)
	assert.Equal(
		t,
		entry.Mark{Size: 12, Written: at, File: entry.Identity{Number: 35, Changed: at}},
		trashed,
		"of a trash neither mode nor owner was told",
	)

	var like entry.Mark
	require.NoError(
		t,
		json.Unmarshal([]byte(`{"Type":"file","Size":12,"Written":"1793723400.000000007","Mode":420,"UID":0,"GID":5}`), &like),
		"as receipts held it",
	)
	assert.Equal(t, entry.Is(int64(0)), like.UID)
	encoded, err := json.Marshal(like)
	require.NoError(t, err)
	var again entry.Mark
	require.NoError(t, json.Unmarshal(encoded, &again))
	assert.Equal(t, like, again)
	assert.Error(t, json.Unmarshal([]byte(`"AAAA"`), &again))
}

func FuzzParseMark(f *testing.F) {
	r := rand.New(rand.NewPCG(9, 2))
	f.Add(entry.Mark{}.Append(nil))
	f.Add(random(r).Append(nil))
	f.Add([]byte("f 12 c8yd2h2 644 1001 1001 i4 c8yd2h2"))
	f.Fuzz(func(t *testing.T, b []byte) {
		m, err := entry.ParseMark(b)
		if err != nil {
			require.ErrorIs(t, err, entry.ErrNotMark)
			return
		}
		again, err := entry.ParseMark(m.Append(nil))
		require.NoError(t, err)
		require.Equal(t, m, again)
	})
}
