package moments

import (
	"bytes"
	"net/http/httptest"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

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
