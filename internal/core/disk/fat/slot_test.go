package fat

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"humble-rewind/internal/core/disk"
)

// The first letter of a short name is known again by the checksum in the parts of its long one.
func TestTheLostLetterIsSolved(t *testing.T) {
	for first := range 256 {
		name := append([]byte{byte(first)}, "UOTE~1 ODT"...)
		assert.Equal(t, byte(first), lostByte(sum(name), name[1:]))
	}
}

// part is one part of a long name, erased.
func part(text string, check byte) []byte {
	b := make([]byte, sizeSlot)
	b[0], b[11], b[13] = erased, longName, check
	for i, at := range [...]int{1, 3, 5, 7, 9, 14, 16, 18, 20, 22, 24, 28, 30} {
		if i < len(text) {
			b[at] = text[i]
		} else if i > len(text) {
			b[at], b[at+1] = 0xff, 0xff
		}
	}
	return b
}

// A long name is believed where it and the short one prove each other, and not where the parts before an entry are another's.
func TestWhichLongNameAnErasedEntryHas(t *testing.T) {
	slot := append([]byte("\xe5UOTE~1 ODT\x20"), make([]byte, 20)...)
	check := sum([]byte("QUOTE~1 ODT"))
	name, lost, proved := erasedName(slot, [][]byte{part("n.odt", check), part("Quote for Ter", check)})
	assert.Equal(t, "Quote for Tern.odt", name)
	assert.Equal(t, disk.Nothing, lost)
	assert.True(t, proved)
	for what, parts := range map[string][][]byte{
		"none": nil, "of another checksum": {part("Offsets.csv", sum([]byte("OFFSETS CSV")))}, "of another letter": {part("Zuote.odt", check)},
		"nothing but padding": {part("", check)},
	} {
		name, lost, proved = erasedName(slot, parts)
		assert.Equal(t, "_UOTE~1.ODT", name, what)
		assert.Equal(t, disk.FirstLetter, lost, what)
		assert.False(t, proved, what)
	}
}
