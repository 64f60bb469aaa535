package condition

import (
	"bytes"
	"image"
	"image/color"
	"image/jpeg"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func smallJPEG(t testing.TB) []byte {
	img := image.NewYCbCr(image.Rect(0, 0, 40, 24), image.YCbCrSubsampleRatio420)
	for i := range img.Y {
		img.Y[i] = byte(i * 7)
	}
	var b bytes.Buffer
	require.NoError(t, jpeg.Encode(&b, img, nil))
	return b.Bytes()
}

// A page of one colour leaves runs of zero bits where tables are made for it, and is sound; whatever is coded in a way that is not known here is not
// blamed for it.
func TestWhatIsNotKnownOfAJPEGIsNoFault(t *testing.T) {
	grey := image.NewGray(image.Rect(0, 0, 500, 400))
	for i := range grey.Pix {
		grey.Pix[i] = color.Gray{Y: 200}.Y
	}
	var b bytes.Buffer
	require.NoError(t, jpeg.Encode(&b, grey, nil))
	fault, proved := jpegFault(b.Bytes())
	assert.Empty(t, fault)
	assert.True(t, proved)
	whole := smallJPEG(t)
	other := bytes.Replace(whole, []byte{0xff, 0xc0}, []byte{0xff, 0xc9}, 1) // arithmetic coding
	fault, proved = jpegFault(other)
	assert.Empty(t, fault)
	assert.False(t, proved)
}

func FuzzJPEG(f *testing.F) {
	whole := smallJPEG(f)
	f.Add(whole)
	f.Add(whole[:len(whole)/2])
	f.Add(bytes.Replace(whole, []byte{0xff, 0xc0}, []byte{0xff, 0xc2}, 1))
	f.Fuzz(func(t *testing.T, content []byte) {
		if fault, proved := jpegFault(content); proved {
			assert.Empty(t, fault)
		}
	})
}
