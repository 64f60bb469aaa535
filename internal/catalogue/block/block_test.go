package block_test

import (
	"cmp"
	"encoding/binary"
	"fmt"
	"hash/crc32"
	"io/fs"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humble-rewind/internal/catalogue/block"
	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/core/entry"
)

// random returns spans as some store could have shown them, and as none could: the form must bear both.
func random(r *rand.Rand, n int) []block.Span {
	some := func(one ...string) string { return one[r.IntN(len(one))] }
	maybe := func(s string) string {
		if r.IntN(4) > 0 {
			return ""
		}
		return s
	}
	instant := func() entry.Instant {
		switch r.IntN(5) {
		case 0:
			return entry.Instant{}
		case 1:
			return entry.Instant{Known: true, Sec: r.Int64() - r.Int64(), Nano: 999_999_999}
		}
		return entry.Instant{Known: true, Sec: 1_790_000_000 + r.Int64N(1000), Nano: r.Int32N(1_000_000_000)}
	}
	types := []entry.Type{"", entry.File, entry.Folder, entry.Link, entry.Other}
	spans := make([]block.Span, n)
	for i := range spans {
		s := &spans[i]
		*s = block.Span{
			ID: copies.ID(r.Int64N(1 << 40)), Name: strings.Repeat(some("plank ", "\xff\n", "é"), r.IntN(40)) + fmt.Sprint(r.IntN(2*n)),
			Type: types[r.IntN(5)], Size: r.Int64N(1<<40) - 1, Written: instant(), First: r.Int64() - r.Int64(), Last: r.Int64() - r.Int64(),
			Person: some("", "ines", "oda"), Readable: r.IntN(2) == 0, Within: r.IntN(2) == 0, OriginKnown: r.IntN(2) == 0,
			Place: maybe(
				"/home/ines/" + some("", "Quotes/") + fmt.Sprint(i),
			), Gone: instant(), Target: maybe("../x"), Claimed: maybe("/etc"),
			Lies: maybe("page 3"), Ref: maybe("\x00\x01"), Number: r.Uint64N(3) * r.Uint64(),
		}
		s.Mark = entry.Mark{Type: types[r.IntN(5)], Size: r.Int64N(1000) - 500, Written: instant(),
			Mode: entry.Maybe[fs.FileMode]{Known: r.IntN(2) == 0, Value: fs.FileMode(r.Uint32())}, UID: entry.Is(r.Int64()),
			GID: entry.Maybe[int64]{}, File: entry.Identity{Number: r.Uint64N(2) * r.Uint64(), Changed: instant()},
			Record: entry.Identity{Number: r.Uint64N(2), Changed: instant()}, Inside: r.Int64N(3)}
		if r.IntN(2) == 0 { // as most are
			s.Mark.Size, s.Mark.Written, s.Mark.File.Number = max(s.Size, 0), s.Written, s.Number
		}
		if r.IntN(5) == 0 {
			s.Last = block.Open
		}
		if r.IntN(9) == 0 {
			s.Mark.Content = entry.ContentID{Kind: entry.GitBlob, Value: "4f"}
			s.Notes = []string{"It has no record.", ""}
		}
	}
	slices.SortFunc(spans, func(a, b block.Span) int {
		return cmp.Or(strings.Compare(a.Name, b.Name), cmp.Compare(a.First, b.First))
	})
	return spans
}

func TestWhatIsPackedComesBack(t *testing.T) {
	r := rand.New(rand.NewPCG(11, 1))
	for n := range 200 {
		spans := random(r, n)
		b := block.Encode(spans)
		read, err := block.Decode(b)
		require.NoError(t, err)
		if n == 0 {
			require.Empty(t, b)
			require.Empty(t, read)
			continue
		}
		require.Equal(t, spans, read)
	}
}

func TestAnyFlippedByteIsNoticed(t *testing.T) {
	b := block.Encode(random(rand.New(rand.NewPCG(11, 2)), 50))
	for i := range b {
		b[i] ^= 0x41
		_, err := block.Decode(b)
		require.ErrorIs(t, err, block.ErrDamaged, "byte %d", i)
		b[i] ^= 0x41
	}
	_, err := block.Decode(b[:len(b)-1])
	assert.ErrorIs(t, err, block.ErrDamaged)
}

// live returns spans as a machine's own files have them.
func live() []block.Span {
	spans := make([]block.Span, 1000)
	for i := range spans {
		at := entry.Instant{Known: true, Sec: 1_790_000_000 + int64(i*i%977), Nano: int32(i) * 1_000}
		spans[i] = block.Span{ID: copies.ID(500 + i), Name: fmt.Sprintf("plank %04d.txt", i), Type: entry.File, Size: int64(i), Written: at,
			Number: uint64(7000 + i), First: 100, Last: block.Open, Person: "ines", Readable: true, OriginKnown: true,
			Mark: entry.Mark{Type: entry.File, Size: int64(i), Written: at, Mode: entry.Is(fs.FileMode(0o644)), UID: entry.Is(int64(1001)),
				GID: entry.Is(int64(1001)), File: entry.Identity{Number: uint64(7000 + i), Changed: at}}}
	}
	return spans
}

func TestASpanOfALiveTreeTakesFewBytes(t *testing.T) {
	spans := live()
	assert.Less(t, len(block.Encode(spans))/len(spans), 30)
}

// Whatever the bytes say, reading them ends, with few bytes taken, and what can be read can be packed again.
func FuzzDecode(f *testing.F) {
	r := rand.New(rand.NewPCG(11, 3))
	for n := range 5 {
		b := block.Encode(random(r, n*3+1))
		f.Add(b[:len(b)-4])
	}
	f.Fuzz(func(t *testing.T, body []byte) {
		b := binary.LittleEndian.AppendUint32(slices.Clone(body), crc32.Checksum(body, crc32.MakeTable(crc32.Castagnoli)))
		spans, err := block.Decode(b)
		if err != nil {
			require.ErrorIs(t, err, block.ErrDamaged)
			return
		}
		again, err := block.Decode(block.Encode(spans))
		require.NoError(t, err)
		require.Equal(t, spans, again)
	})
}

func BenchmarkEncode(b *testing.B) {
	spans := live()
	for b.Loop() {
		block.Encode(spans)
	}
	b.ReportMetric(float64(b.Elapsed().Nanoseconds())/float64(b.N)/1000, "ns/span")
}

func BenchmarkDecode(b *testing.B) {
	packed := block.Encode(live())
	for b.Loop() {
		if _, err := block.Decode(packed); err != nil {
			b.Fatal(err)
		}
	}
	b.ReportMetric(float64(b.Elapsed().Nanoseconds())/float64(b.N)/1000, "ns/span")
}
