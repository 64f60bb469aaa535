package similar_test

import (
	"bytes"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"humble-rewind/internal/core/similar"
)

func share(a, b []byte) float64 {
	return similar.Of(bytes.NewReader(a), int64(len(a)), bytes.NewReader(b), int64(len(b)))
}

func TestWorkedOnContentsAreKnownAgain(t *testing.T) {
	draft := []byte(strings.Repeat("Planking and frames in larch on oak, fastened with copper. ", 20))
	assert.InDelta(t, 1, share(draft, draft), 0.001)
	assert.Greater(t, share(draft, append([]byte("A new first paragraph of a few words.\n"), draft...)), similar.Near)
	assert.Less(t, share(draft, []byte("The harbour asks for a ferry of twelve seats and three views of it.")), 0.2)

	r := rand.New(rand.NewPCG(1, 2))
	picture := make([]byte, 60_000)
	for i := range picture {
		picture[i] = byte(r.Uint32())
	}
	cropped := append(bytes.Clone(picture[:20_000]), picture[20_100:]...)
	assert.Greater(t, share(picture, cropped), 0.9, "what was taken out shifts no other piece")
	assert.Zero(t, share(picture, nil))
	assert.Zero(t, share(picture, draft), "bytes and words have nothing in common")
}
