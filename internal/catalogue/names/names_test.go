package names

import (
	"encoding/binary"
	"hash/crc32"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"humble-rewind/internal/core/copies"

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
	var text Text
	names := map[int64][]string{}
	var others Batch
	for n := range 500 {
		others.Add(int64(10_000+n), "quote marsh wren m a")
	}
	text.Take(2, &others)
	for batch := range 90 {
		var b Batch
		for n := range 200 {
			block := int64(batch*10+n/20+1) << 36
			name := ""
			for range 1 + r.IntN(6) {
				name += pieces[r.IntN(len(pieces))]
			}
			b.Add(block, name)
			names[block] = append(names[block], name)
		}
		again, err := unpackNames(b.runs(), b.text)
		require.NoError(t, err)
		require.Equal(t, b, again)
		text.Take(1, &b)
		if text.chunks[len(text.chunks)-1].text != nil && batch%2 == 0 { // as if it were as long as those that are packed
			last := len(text.chunks) - 1
			text.chunks[last] = text.chunks[last].pack()
		}
	}
	meant := func(source copies.SourceID) bool { return source == 1 }
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
			found, err := text.Search(t.Context(), nil, meant, words, surely)
			require.NoError(t, err)
			got := slices.DeleteFunc(slices.Clone(found.Blocks), func(block int64) bool {
				has, err := found.Has(t.Context(), &Texts{}, block)
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

// Whatever the bytes say, reading them ends, with an error or with what can be packed again.
func FuzzUnpackNames(f *testing.F) {
	var b Batch
	b.Add(1<<36, "quote")
	b.Add(2<<36, "marsh wren")
	packed := b.runs()
	f.Add(packed[:len(packed)-4], b.text)
	f.Fuzz(func(t *testing.T, runs, text []byte) {
		b, err := unpackNames(sum(runs, text), text)
		if err == nil {
			b.Each(func(int64, []byte) {})
			newChunk(1, 1, &b)
		}
	})
}
