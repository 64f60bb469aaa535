package similar

import (
	"hash/maphash"
	"image"
	"io"

	"humble-rewind/internal/core/peek"
)

// What is compared of pictures.
const (
	side      = 8       // pixels of a block, across and down
	maxPixels = 8 << 20 // of a picture that is compared by what it shows
	shades    = 0xf0    // the bits of a colour that count, so that storing it anew with a little loss does not
)

// blocks cuts a picture into blocks that show something: those of one colour, of which a drawing mostly consists, would
// make every two drawings alike. It returns none of what is no picture.
func blocks(r io.ReaderAt, size int64) (all []uint64) {
	dimensions, err := peek.Dimensions(r, size)
	if err != nil || dimensions.X <= 0 || dimensions.Y <= 0 || dimensions.X > maxPixels/dimensions.Y {
		return nil
	}
	img, err := peek.Decode(r, size)
	if err != nil {
		return nil
	}
	bounds := img.Bounds()
	for y := bounds.Min.Y; y+side <= bounds.Max.Y; y += side {
		for x := bounds.Min.X; x+side <= bounds.Max.X; x += side {
			if block, shows := blockAt(img, x, y); shows {
				all = append(all, maphash.Bytes(seed, block[:]))
			}
		}
	}
	return all
}

// blockAt returns the shades of a block, and whether there is more than one.
func blockAt(img image.Image, x, y int) (block [3 * side * side]byte, shows bool) {
	n := 0
	for dy := range side {
		for dx := range side {
			r, g, b, _ := img.At(x+dx, y+dy).RGBA()
			for i, c := range [3]uint32{r, g, b} {
				block[n] = byte(c>>8) & shades
				shows = shows || block[n] != block[i]
				n++
			}
		}
	}
	return block, shows
}
