package catalogue

import (
	"context"
	"database/sql"
	"encoding/binary"
	"fmt"
	"hash/crc32"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

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

func TestASearchOfNamesFindsWhatLookingAtEachNameFinds(t *testing.T) {
	r := rand.New(rand.NewPCG(11, 5))
	pieces := []string{"quote ", "marsh", " wren", "é", "日本", "0042", "zq", "\n", "a", ".odt"}
	var text nameText
	index := &folderIndex{}
	names := map[int64][]string{}
	for batch := range 90 {
		var b nameBatch
		for n := range 200 {
			block := blockID(int64(batch*10+n/20+1), 0)
			name := ""
			for range 1 + r.IntN(6) {
				name += pieces[r.IntN(len(pieces))]
			}
			b.add(block, name)
			names[block] = append(names[block], name)
		}
		again, err := unpackNames(b.runs(), b.text)
		require.NoError(t, err)
		require.Equal(t, b, again)
		text.take(&b, index)
		if text.chunks[len(text.chunks)-1].text != nil && batch%2 == 0 { // as if it were as long as those that are packed
			last := len(text.chunks) - 1
			text.chunks[last] = text.chunks[last].pack()
		}
	}
	unsure := false
	for range 300 {
		var words []string
		for range 1 + r.IntN(2) {
			at := pieces[r.IntN(len(pieces))] + pieces[r.IntN(len(pieces))]
			if words = append(words, strings.Fields(at)...); len(words) == 0 {
				words = []string{"m"}
			}
		}
		words = slices.DeleteFunc(words, func(w string) bool { return strings.Contains(w, "\n") })
		if len(words) == 0 {
			continue
		}
		var want []int64
		for block, all := range names {
			if slices.ContainsFunc(all, func(name string) bool {
				return !slices.ContainsFunc(words, func(w string) bool { return !strings.Contains(name, w) })
			}) {
				want = append(want, block)
			}
		}
		slices.Sort(want)
		for _, surely := range []bool{true, false} {
			found, err := text.search(t.Context(), nil, words, surely)
			require.NoError(t, err)
			got := slices.DeleteFunc(slices.Clone(found.blocks), func(block int64) bool {
				has, err := found.has(t.Context(), &nameReading{}, block)
				require.NoError(t, err)
				return !has
			})
			if unsure = unsure || len(found.unsure) > 0; surely {
				require.Empty(t, found.unsure)
			}
			require.Equal(t, want, got, "%q", words)
		}
	}
	assert.True(t, unsure, "what is common was looked for everywhere")
}

func TestSizesAndWriteTimesLeadToEveryFolderHoweverRunsAreMerged(t *testing.T) {
	c, err := Open(t.Context(), t.TempDir())
	require.NoError(t, err)
	defer c.Close()
	r := rand.New(rand.NewPCG(11, 6))
	all := map[[2]int64][]int64{}
	for range 40 {
		var keys []sizeKey
		for range 1 + r.IntN(3000) {
			k := sizeKey{r.Int64N(60) * r.Int64N(60), r.Int64N(9) - 4, r.Int64N(500) + 1}
			keys = append(keys, k)
			all[[2]int64{k.size, k.written}] = append(all[[2]int64{k.size, k.written}], k.folder)
		}
		require.NoError(t, c.tx(t.Context(), func(tx *sql.Tx) error { return addKeys(t.Context(), newWriting(tx), keys) }))
	}
	runs, err := keyRuns(t.Context(), c.reads)
	require.NoError(t, err)
	assert.Less(t, len(runs), 2*runsInTier)
	for key, folders := range all {
		var got []int64
		require.NoError(t, c.eachSized(t.Context(), key[0], &key[1], func(folder int64) (bool, error) {
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
	_, err := h.c.write.ExecContext(t.Context(), "UPDATE name_chunks SET text = x'00'")
	require.NoError(t, err)
	require.NoError(t, h.c.readIndex(context.Background()))
	assert.Equal(t, before, h.answers())
	require.NoError(t, h.c.Close())
}

func TestABlockThatIsDamagedIsFoundAndSaid(t *testing.T) {
	h := newHistory(t, 5)
	for range 8 {
		h.survey()
	}
	_, err := h.c.write.ExecContext(
		t.Context(),
		"UPDATE blocks SET now = CAST(substr(now, 1, length(now) - 1) || x'41' AS BLOB) WHERE now IS NOT NULL",
	)
	require.NoError(t, err)
	problem, err := h.c.Check(t.Context(), nil)
	require.NoError(t, err)
	assert.Contains(t, problem, "the records of ")
	_, err = h.c.Find(t.Context(), Query{Records: true})
	assert.ErrorIs(t, err, ErrDamaged)
	require.NoError(t, h.c.Close())
}

// Whatever the bytes say, reading them ends, with an error or with what can be packed again.
func FuzzUnpackNames(f *testing.F) {
	var b nameBatch
	b.add(1<<36, "quote")
	b.add(2<<36, "marsh wren")
	packed := b.runs()
	f.Add(packed[:len(packed)-4], b.text)
	f.Fuzz(func(t *testing.T, runs, text []byte) {
		b, err := unpackNames(sum(runs, text), text)
		if err == nil {
			b.eachName(func(int64, []byte) {})
			newChunk(1, &b)
		}
	})
}

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
