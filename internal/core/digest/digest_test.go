package digest_test

import (
	"errors"
	"strings"
	"testing"
	"testing/iotest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humble-rewind/internal/core/digest"
)

func TestDigestsAreThoseOfTheStandard(t *testing.T) {
	// FIPS 180-4 and its examples.
	for content, sum := range map[string]string{
		"":                             "e3b0c44298fc1c149afbf4c8996fb92427ae41e4649b934ca495991b7852b855",
		"abc":                          "ba7816bf8f01cfea414140de5dae2223b00361a396177a9cb410ff61f20015ad",
		strings.Repeat("a", 1_000_000): "cdc76e5c9914fb9281a1c7e284d73e67f1809a48a497200e046d39ccc7112cd0",
	} {
		d, n, err := digest.Of(iotest.HalfReader(strings.NewReader(content)))
		require.NoError(t, err)
		assert.EqualValues(t, len(content), n)
		assert.Equal(t, sum, d.Hex())
		assert.Equal(t, d.Value(), digest.Parse(sum))
		assert.Equal(t, d.Value(), digest.From(d.Value().Bytes()))
	}
	for _, none := range []digest.Sum{{}, digest.Parse("ba78"), digest.Parse("not hex"), digest.From(make([]byte, 31))} {
		assert.False(t, none.Known())
		assert.Empty(t, none.Hex())
		assert.Nil(t, none.Bytes())
	}
	_, _, err := digest.Of(iotest.ErrReader(errors.New("torn")))
	assert.ErrorContains(t, err, "torn")
}
