package moments

import (
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/require"
)

// One name is looked up by asking for what comes behind the name before it: whatever names there are, none lies between.
func TestNoNameLiesBetweenANameAndTheOneBeforeIt(t *testing.T) {
	random := rand.New(rand.NewPCG(3, 4))
	name := func() string {
		b := make([]byte, 1+random.IntN(6))
		for i := range b {
			b[i] = byte(1 + random.IntN(255))
		}
		return string(b)
	}
	for range 20_000 {
		of, other := name(), name()
		if random.IntN(2) == 0 {
			other = of[:random.IntN(len(of))] + other
		}
		require.Less(t, before(of), of)
		require.False(t, before(of) < other && other < of, "%q lies between %q and %q", other, before(of), of)
	}
}
