package condition

import (
	"bytes"
	"math/rand/v2"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
)

// What is read a piece at a time is counted as what is looked at character by character, wherever the pieces end.
func TestTextIsCountedWhereverItsPiecesEnd(t *testing.T) {
	random := rand.New(rand.NewPCG(4, 2))
	parts := []string{"timber", " ", "\n", "é", "日", "𝛑", "\xe9", "\xf0\x9f", "\x00", "\x01", ",", "\ufffd"}
	for range 30 {
		var text []byte
		for len(text) < 3*(64<<10) {
			text = append(text, parts[random.IntN(1+random.IntN(len(parts)))]...)
		}
		want := scan{}
		for rest := text; len(rest) > 0; {
			r, n := utf8.DecodeRune(rest)
			switch {
			case r == utf8.RuneError && n == 1:
				want.foreign++
				want.streak++
				want.run = max(want.run, want.streak)
			default:
				want.streak = 0
				if n > 1 {
					want.multi++
				}
			}
			if r == 0 {
				want.zeros++
			}
			if r == 1 {
				want.controls++
			}
			if r == '\n' {
				want.lines++
			}
			rest = rest[n:]
		}
		got := scan{section: bytes.NewReader(text)}
		got.through()
		assert.Equal(t, int64(len(text)), got.bytes)
		assert.Equal(t, []int64{want.foreign, want.multi, want.run, want.zeros, want.controls, int64(want.lines)},
			[]int64{got.foreign, got.multi, got.run, got.zeros, got.controls, int64(got.lines)})
	}
}
