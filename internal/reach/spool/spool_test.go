package spool

import (
	"bytes"
	"io"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Whatever is written in whatever pieces reads back, and zeros take no room.
func TestWhatIsWrittenReadsBackAndZerosTakeNoRoom(t *testing.T) {
	room := &Room{dir: t.TempDir()}
	random := rand.New(rand.NewPCG(1, 2))
	for range 200 {
		f, err := room.File(nil)
		require.NoError(t, err)
		var want []byte
		data := int64(0)
		for range random.IntN(8) {
			p := make([]byte, random.IntN(40_000))
			if random.IntN(2) == 0 {
				for i := range p {
					p[i] = byte(1 + random.IntN(255))
				}
				data += int64(len(p))
			}
			n, err := f.Write(p)
			require.NoError(t, err)
			require.Equal(t, len(p), n)
			want = append(want, p...)
		}
		require.NoError(t, f.Whole())
		got, err := io.ReadAll(io.NewSectionReader(f, 0, f.Size()))
		require.NoError(t, err)
		require.True(t, bytes.Equal(want, got))
		assert.LessOrEqual(t, room.all, data+int64(20*piece), "a hole costs at most its ends")
		require.NoError(t, f.Close())
		require.NoError(t, f.Close(), "twice is once")
		assert.Zero(t, room.all)
	}
}

func TestWhatIsKeptToSaveWorkGivesWayByAge(t *testing.T) {
	room := &Room{dir: t.TempDir()}
	dropped := []int{}
	files := make([]*File, 3)
	block := bytes.Repeat([]byte("oak"), 1<<20)
	for n := range files {
		f, err := room.File(func() { dropped = append(dropped, n); files[n].Close() })
		require.NoError(t, err)
		files[n] = f
		_, err = f.Write(block)
		require.NoError(t, err)
	}
	files[0].Used()
	room.mu.Lock()
	room.holds += MostKept - 4*int64(len(block)) + 1 // as if there were more
	room.mu.Unlock()
	_, err := files[2].Write(block)
	require.NoError(t, err)
	assert.Equal(t, []int{1}, dropped, "the one used longest ago")
	_, err = files[2].f.Stat()
	assert.NoError(t, err)
	lasting, err := room.File(nil)
	require.NoError(t, err)
	assert.ErrorIs(t, lasting.Fill(bytes.NewReader(block), 10), ErrLonger)
	require.NoError(t, lasting.Close())
}
