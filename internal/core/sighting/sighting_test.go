package sighting_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humble-rewind/internal/core/sighting"
)

func TestARefLeadsBackToItsLocator(t *testing.T) {
	seen := map[sighting.Ref]sighting.Locator{}
	for _, capture := range []string{"", "2026-11-03", "a/b"} {
		for _, dir := range []string{"", "home/ines", "b", "caf\xe9\x00"} {
			for _, name := range []string{"", "x", "b", "/"} {
				l := sighting.Locator{Capture: capture, Dir: dir, Name: name}
				back, err := l.Ref().Locator()
				require.NoError(t, err)
				assert.Equal(t, l, back)
				other, twice := seen[l.Ref()]
				assert.False(t, twice, "%v and %v have one ref", l, other)
				seen[l.Ref()] = l
			}
		}
	}
	assert.Equal(t, "2026-11-03/home/ines/x", sighting.Locator{Capture: "2026-11-03", Dir: "home/ines", Name: "x"}.Path())
}

func FuzzRef(f *testing.F) {
	f.Add(string(sighting.Locator{Capture: "a", Dir: "b", Name: "c"}.Ref()))
	f.Add("\x05ab")
	f.Add("\xff\xff\xff\xff\xff\xff\xff\xff\xff\x01")
	f.Fuzz(func(t *testing.T, bytes string) {
		l, err := sighting.Ref(bytes).Locator()
		if err != nil {
			require.ErrorIs(t, err, sighting.ErrNotRef)
			return
		}
		again, err := l.Ref().Locator()
		require.NoError(t, err)
		require.Equal(t, l, again)
	})
}
