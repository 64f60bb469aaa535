package diff_test

import (
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humble-rewind/internal/core/diff"
)

// show writes runs so that they can be read.
func show(a, b string) string {
	var s strings.Builder
	for _, r := range diff.Of([]byte(a), []byte(b)) {
		s.WriteByte(byte(r.Op))
		if r.Op == diff.Added {
			s.WriteString(b[r.BStart:r.BEnd])
		} else {
			s.WriteString(a[r.AStart:r.AEnd])
		}
	}
	return s.String()
}

func TestWhatDiffersIsFound(t *testing.T) {
	for _, c := range []struct{ a, b, want string }{
		{"", "", ""}, {"larch", "larch", "=larch"}, {"", "oak", "+oak"}, {"oak", "", "-oak"},
		{"oar", "oat", "=oa-r+t"}, {"abcabba", "cbabac", "-ab=c+b=ab-b=a+c"}, {"keel", "heel", "-k+h=eel"},
	} {
		assert.Equal(t, c.want, show(c.a, c.b), "%s to %s", c.a, c.b)
	}
}

// apply rebuilds b from a and the runs.
func check(t require.TestingT, a, b []byte) {
	var made []byte
	x, y := 0, 0
	for _, r := range diff.Of(a, b) {
		require.Equal(t, x, r.AStart)
		require.Equal(t, y, r.BStart)
		switch r.Op {
		case diff.Same:
			require.Equal(t, a[r.AStart:r.AEnd], b[r.BStart:r.BEnd])
			made = append(made, a[r.AStart:r.AEnd]...)
		case diff.Added:
			made = append(made, b[r.BStart:r.BEnd]...)
		}
		x, y = r.AEnd, r.BEnd
	}
	require.Equal(t, len(a), x)
	require.Equal(t, string(b), string(made))
}

func TestRunsTurnOneIntoTheOther(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 5))
	for range 400 {
		letters := 1 + r.IntN(6)
		random := func() []byte {
			b := make([]byte, r.IntN(60))
			for i := range b {
				b[i] = byte('a' + r.IntN(letters))
			}
			return b
		}
		check(t, random(), random())
	}
	// Beyond the bound on the work, too.
	check(t, []byte(strings.Repeat("ab", 3000)), []byte("x"+strings.Repeat("cd", 3000)+"b"))
}

func FuzzOf(f *testing.F) {
	f.Add([]byte("abcabba"), []byte("cbabac"))
	f.Fuzz(func(t *testing.T, a, b []byte) { check(t, a, b) })
}
