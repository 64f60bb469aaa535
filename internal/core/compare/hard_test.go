package compare

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// hard is a text of many lines, some of them long, of few different words.
func hard(seed uint64, lines, long, size, words int) string {
	random := rand.New(rand.NewPCG(seed, 5))
	var b strings.Builder
	for n := range lines {
		if long > 0 && n%max(1, lines/long) == 0 {
			for range size / 3 {
				fmt.Fprintf(&b, "%x- ", random.IntN(words))
			}
		}
		fmt.Fprintf(&b, "%d\n", random.IntN(50))
	}
	return b.String()
}

// However hard two texts are made to be compared, there is an answer, of bounded size and by bounded work; what work may be spent is
// counted, so that a busy machine gives the same.
func TestHardTextsAreComparedMoreCoarsely(t *testing.T) {
	for name, make := range map[string]func(seed uint64) string{
		"many short lines and some very long": func(seed uint64) string { return hard(seed, 59_000, 20, 390_000, 16) },
		"many short lines":                    func(seed uint64) string { return hard(seed, 59_000, 0, 0, 1) },
		"lines of signs":                      func(seed uint64) string { return hard(seed, 2_000, 2_000, 3_900, 16) },
		"lines of words":                      func(seed uint64) string { return hard(seed, 12_000, 12_000, 600, 4000) },
	} {
		t.Run(name, func(t *testing.T) {
			one, other := make(1), make(2)
			c, err := Of(Side{"a.txt", strings.NewReader(one), int64(len(one))}, Side{"b.txt", strings.NewReader(other), int64(len(other))})
			require.NoError(t, err)
			assert.Equal(t, Lines, c.By)
			assert.Positive(t, c.Added+c.Removed+c.Changed)
			shown := 0
			for _, b := range c.Blocks {
				shown += len(b.Left) + len(b.Right)
			}
			assert.LessOrEqual(t, shown, maxShown+4*maxLine)
		})
	}
}
