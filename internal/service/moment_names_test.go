package service

import (
	"bytes"
	"math/rand/v2"
	"net/http/httptest"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
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

// Unknown times are left out, however the answer is cut into pieces.
func TestUnknownTimesAreToldAsNone(t *testing.T) {
	text := "<a>" + string(unknownTime) + "<D:getlastmodified>Thu</D:getlastmodified>" + string(unknownTime) + string(unknownTime[:9])
	want := strings.ReplaceAll(text, string(unknownTime), "")
	for size := 1; size < len(text); size++ {
		answer := httptest.NewRecorder()
		w := &withoutUnknown{ResponseWriter: answer}
		for piece := range bytesChunks([]byte(text), size) {
			n, err := w.Write(piece)
			require.NoError(t, err)
			require.Equal(t, len(piece), n)
		}
		require.NoError(t, w.end())
		assert.Equal(t, want, answer.Body.String())
	}
}

func bytesChunks(b []byte, size int) func(yield func([]byte) bool) {
	return func(yield func([]byte) bool) {
		for r := bytes.NewBuffer(b); r.Len() > 0; {
			if !yield(r.Next(size)) {
				return
			}
		}
	}
}
