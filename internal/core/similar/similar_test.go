package similar_test

import (
	"bytes"
	"compress/gzip"
	"image"
	"image/color"
	"image/draw"
	"image/png"
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

func packed(s string) []byte {
	var b bytes.Buffer
	z := gzip.NewWriter(&b)
	_, _ = z.Write([]byte(s))
	_ = z.Close()
	return b.Bytes()
}

// drawing has a frame of its own colour, on white, and a mark.
func drawing(seed uint64, mark int) []byte {
	img := image.NewRGBA(image.Rect(0, 0, 400, 300))
	r := rand.New(rand.NewPCG(seed, 9))
	draw.Draw(img, img.Bounds(), image.White, image.Point{}, draw.Src)
	for range 60 {
		at := image.Pt(r.IntN(360), r.IntN(260))
		draw.Draw(
			img,
			image.Rectangle{at, at.Add(image.Pt(3+r.IntN(30), 3+r.IntN(30)))},
			image.NewUniform(color.RGBA{byte(r.Uint32()), byte(r.Uint32()), 90, 255}),
			image.Point{},
			draw.Src,
		)
	}
	draw.Draw(img, image.Rect(mark, 20, mark+30, 40), image.Black, image.Point{}, draw.Src)
	var b bytes.Buffer
	_ = png.Encode(&b, img)
	return b.Bytes()
}

func TestPackedContentsAreComparedByWhatIsInThem(t *testing.T) {
	draft := strings.Repeat("Planking and frames in larch on oak, fastened with copper. ", 20)
	assert.Greater(t, share(packed(draft), packed("A first line. "+draft)), 0.9)
	assert.Less(t, share(packed(draft), packed("The harbour asks for a ferry of twelve seats.")), 0.2)
	assert.Greater(t, share(drawing(1, 10), drawing(1, 200)), 0.7, "one mark moved")
	assert.Less(t, share(drawing(1, 10), drawing(2, 10)), 0.3, "white paper makes no two drawings alike")
}
