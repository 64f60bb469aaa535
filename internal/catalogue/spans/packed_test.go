package spans

import (
	"context"
	"encoding/binary"
	"fmt"
	"hash/crc32"
	"math/rand/v2"
	"slices"
	"testing"

	"humble-rewind/internal/catalogue/file"
	"humble-rewind/internal/core/problem"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// sum puts the checksum behind a body, so that what is fuzzed is read beyond it.
func sum(body []byte, more ...[]byte) []byte {
	all := slices.Clone(body)
	for _, m := range more {
		all = append(all, m...)
	}
	return binary.LittleEndian.AppendUint32(slices.Clone(body), crc32.Checksum(all, castagnoli))
}

func TestSizesAndWriteTimesLeadToEveryFolderHoweverRunsAreMerged(t *testing.T) {
	c, err := open(t.Context(), t.TempDir())
	require.NoError(t, err)
	defer c.Close()
	r := rand.New(rand.NewPCG(11, 6))
	all := map[[2]int64][]int64{} // folders, by size and each write time within one of theirs
	for range 40 {
		var keys []sizeKey
		for range 1 + r.IntN(3000) {
			k := sizeKey{r.Int64N(60) * r.Int64N(60), r.Int64N(9) - 4, r.Int64N(500) + 1}
			keys = append(keys, k)
			for near := k.written - 1; near <= k.written+1; near++ {
				all[[2]int64{k.size, near}] = append(all[[2]int64{k.size, near}], k.folder)
			}
		}
		require.NoError(t, c.f.Tx(t.Context(), func(w *file.Writing) error { return addKeys(t.Context(), w, keys) }))
	}
	runs, err := keyRuns(t.Context(), c.f.Reads)
	require.NoError(t, err)
	assert.Less(t, len(runs), 2*runsInTier)
	for key, folders := range all {
		var got []int64
		require.NoError(t, c.room.eachSized(t.Context(), key[0], &sizeWritten{key[1] - 1, key[1] + 1}, func(folder int64) (bool, error) {
			got = append(got, folder)
			return true, nil
		}))
		slices.Sort(folders)
		slices.Sort(got)
		require.Equal(t, slices.Compact(folders), got, fmt.Sprint(key))
	}
}

func TestNamesThatAreDamagedAreMadeAgainFromTheBlocks(t *testing.T) {
	h := newHistory(t, 3)
	for range 8 {
		h.survey()
	}
	before := h.answers()
	_, err := h.c.f.Write.ExecContext(t.Context(), "UPDATE name_chunks SET text = x'00'")
	require.NoError(t, err)
	require.NoError(t, h.c.room.readIndex(context.Background()))
	assert.Equal(t, before, h.answers())
	require.NoError(t, h.c.Close())
}

func TestABlockThatIsDamagedIsFoundAndSaid(t *testing.T) {
	h := newHistory(t, 5)
	for range 8 {
		h.survey()
	}
	_, err := h.c.f.Write.ExecContext(
		t.Context(),
		"UPDATE blocks SET now = CAST(substr(now, 1, length(now) - 1) || x'41' AS BLOB) WHERE now IS NOT NULL",
	)
	require.NoError(t, err)
	wrong, err := h.c.Check(t.Context(), nil)
	require.NoError(t, err)
	assert.Contains(t, wrong, "the records of ")
	_, err = h.c.Search.Find(t.Context(), Query{Records: true})
	assert.ErrorIs(t, err, problem.Damaged)
	require.NoError(t, h.c.Close())
}

// Whatever the bytes say, reading them ends, with an error or with what can be packed again.
func FuzzUnpackKeys(f *testing.F) {
	packed := packKeys([]sizeKey{{1, 5, 7}, {1, 6, 2}, {900, -5, 3}})
	f.Add(packed[:len(packed)-4])
	f.Fuzz(func(t *testing.T, body []byte) {
		if keys, err := unpackKeys(sum(body)); err == nil && len(keys) > 0 && slices.IsSortedFunc(keys, sizeKey.compare) &&
			keys[0].size >= 0 {
			again, err := unpackKeys(packKeys(keys))
			require.NoError(t, err)
			require.Equal(t, keys, again)
		}
	})
}
