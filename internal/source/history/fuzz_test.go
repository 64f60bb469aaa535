package history

import (
	"bufio"
	"bytes"
	"humble-rewind/internal/core/refs"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What git prints of a repository that somebody made to do harm is read, or refused.
func FuzzLog(f *testing.F) {
	id := "aaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaa"
	f.Add([]byte("\x01" + id + "\x00\x001\x002\x00Ines\x00begun\x00\n:000000 100644 " + noObject + " " + id + " A\x00a/b\x00"))
	f.Add([]byte("\x01" + id + "\x00" + id + "\x00-1\x00x\x00\xff\x00\x00\x01"))
	f.Fuzz(func(t *testing.T, printed []byte) {
		l := logReader{see: func(c *commit) {
			require.True(t, refs.IsObject(c.id))
			require.LessOrEqual(t, len(c.message), maxMessage)
			for _, ch := range c.changes {
				require.True(t, isPath([]byte(ch.path)), ch.path)
			}
		}, texts: map[string]string{}, held: new(int64), odd: new(int)}
		_ = l.read(bufio.NewReader(bytes.NewReader(printed)))
	})
}

// The points of a line only go forward, whatever times the commits have, and as many of them as can be believed keep their own.
func TestTimesOnlyGoForward(t *testing.T) {
	now := time.Date(2026, 11, 1, 0, 0, 0, 0, time.UTC)
	at := func(days ...int) (line []*commit) {
		for _, d := range days {
			line = append(line, &commit{committed: now.AddDate(0, 0, d)})
		}
		return line
	}
	for _, c := range []struct {
		days  []int
		wrong int
	}{
		{[]int{-9, -8, -7}, 0}, {[]int{-9, -9, -9}, 0}, {[]int{-9, 70_000, -7, -6}, 1}, {[]int{-9, -40_000, -7, -6}, 1},
		{[]int{70_000, -9, -8}, 1}, {[]int{70_000}, 1}, {[]int{-5, -9, -8, -7, -6}, 1},
	} {
		line := at(c.days...)
		times, wrong := timesOf(line, now)
		assert.Equal(t, c.wrong, wrong, c.days)
		for i := 1; i < len(times); i++ {
			assert.True(t, times[i].After(times[i-1]), "%v: %v", c.days, times)
		}
		kept := 0
		for i := range times {
			if times[i].Sub(line[i].committed).Abs() < time.Second {
				kept++
			}
		}
		assert.Equal(t, len(line)-c.wrong, kept, c.days)
	}
}
