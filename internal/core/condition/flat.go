package condition

import "image"

// What makes the lower part of a picture look as if it had never been written.
const (
	flatLeast  = 16  // rows
	flatPart   = 10  // at least one in so many of its rows
	flatNear   = 3   // how far a channel may be from the flat colour, of 255
	flatFar    = 48  // how far, all channels together, what is above must be from it
	flatBlock  = 16  // rows, within which pictures that are made of blocks fade from one part to the other
	flatRarely = 100 // at most one in so many of the points above has its colour
)

// flatBelow returns how many of a picture's last rows are one flat colour that the picture above, which breaks off sharply, has next to nowhere;
// 0 where that is not so. Margins, paper and sky are found above as well.
func flatBelow(img image.Image) int {
	b := img.Bounds()
	wide, high := b.Dx(), b.Dy()
	if wide < flatLeast || high < 2*flatLeast {
		return 0
	}
	at := func(x, y int) [3]int {
		r, g, b, _ := img.At(b.Min.X+x, b.Min.Y+y).RGBA()
		return [3]int{int(r >> 8), int(g >> 8), int(b >> 8)}
	}
	apart := func(p, q [3]int) (most, all int) {
		for i := range p {
			d := p[i] - q[i]
			if d < 0 {
				d = -d
			}
			most, all = max(most, d), all+d
		}
		return most, all
	}
	colour := at(wide-1, high-1)
	rows := 0
	for y := high - 1; y >= 0; y-- {
		flat := true
		for x := 0; x < wide && flat; x++ {
			most, _ := apart(at(x, y), colour)
			flat = most <= flatNear
		}
		if !flat {
			break
		}
		rows++
	}
	if rows < flatLeast || rows*flatPart < high || high-rows < flatLeast {
		return 0
	}
	edge := high - rows - 1
	if edge > 2*flatBlock {
		edge -= flatBlock
	}
	far := 0
	for x := range wide {
		if _, all := apart(at(x, edge), colour); all > flatFar {
			far++
		}
	}
	if far*2 < wide {
		return 0
	}
	same, points := 0, 0
	step := max(1, wide*(high-rows)/200_000)
	for i := 0; i < wide*(edge+1); i += step {
		points++
		if most, _ := apart(at(i%wide, i/wide), colour); most <= flatNear {
			same++
		}
	}
	if same*flatRarely > points {
		return 0
	}
	return rows
}
