package condition_test

import (
	"bytes"
	"fmt"
	"image"
	"image/color"
	"image/jpeg"
	"image/png"
	"math"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"humble-rewind/internal/core/condition"
)

// photograph is a picture of soft shapes with some grain, as cameras make them.
func photograph(seed uint64, wide, high int) *image.RGBA {
	r := rand.New(rand.NewPCG(seed, 3))
	img := image.NewRGBA(image.Rect(0, 0, wide, high))
	a, b, c := r.Float64()*6, r.Float64()*6, r.Float64()*9+2
	for y := range high {
		for x := range wide {
			u, v := float64(x)/float64(wide), float64(y)/float64(high)
			light := 120 + 60*math.Sin(a+c*u) + 50*math.Cos(b+c*v*u) + 8*r.Float64()
			img.Set(x, y, color.RGBA{byte(light), byte(light * 0.8), byte(250 - light), 255})
		}
	}
	return img
}

func jpegOf(img image.Image, quality int) []byte {
	var b bytes.Buffer
	_ = jpeg.Encode(&b, img, &jpeg.Options{Quality: quality}) // into memory
	return b.Bytes()
}

func examined(content []byte, name string) condition.Verdict {
	found, err := condition.Examine(bytes.NewReader(content), int64(len(content)))
	if err != nil {
		panic(err)
	}
	return found.For(name)
}

func random(r *rand.Rand, n int) []byte {
	b := make([]byte, n)
	for i := range b {
		b[i] = byte(r.Uint32())
	}
	return b
}

// Decoders put up with nearly anything in the compressed data of a JPEG; its own redundancy does not.
func TestBytesOverwrittenInAJPEGShow(t *testing.T) {
	r := rand.New(rand.NewPCG(8, 8))
	missed, tries := map[string]int{}, 0
	for n := range 60 {
		sound := jpegOf(photograph(uint64(n), 60+r.IntN(300), 50+r.IntN(200)), 40+r.IntN(58))
		assert.Equal(t, condition.Sound, examined(sound, "a.jpg").State, "picture %d: %v", n, examined(sound, "a.jpg").Reasons)
		scan := bytes.Index(sound, []byte{0xff, 0xda}) + 14
		tries++
		for _, damage := range []struct {
			what string
			do   func(b []byte, at int) []byte
		}{
			{"zero", func(b []byte, at int) []byte { clear(b[at : at+64]); return b }},
			{"noise", func(b []byte, at int) []byte { copy(b[at:], random(r, 64)); return b }},
			{"missing", func(b []byte, at int) []byte { return append(b[:at:at], b[at+64:]...) }},
			{"another", func(b []byte, at int) []byte { copy(b[at:], strings.Repeat("a plank of larch ", 4)); return b }},
		} {
			at := scan + r.IntN(len(sound)-scan-120)
			if examined(damage.do(bytes.Clone(sound), at), "a.jpg").State != condition.Broken {
				missed[damage.what]++
			}
		}
	}
	for what, n := range missed {
		assert.LessOrEqual(t, n*20, tries, "%s: %d of %d were not seen", what, n, tries)
	}
}

// What was never written leaves one colour; margins and paper do not count.
func TestALowerPartOfOneColourIsDoubtedOnlyAfterABreak(t *testing.T) {
	img := photograph(5, 200, 160)
	grey := func(from int, c color.RGBA) image.Image {
		cut := image.NewRGBA(img.Rect)
		copy(cut.Pix, img.Pix)
		for y := from; y < 160; y++ {
			for x := range 200 {
				cut.Set(x, y, c)
			}
		}
		return cut
	}
	assert.Equal(t, condition.Doubtful, examined(jpegOf(grey(104, color.RGBA{128, 128, 128, 255}), 85), "a.jpg").State)
	var b bytes.Buffer
	assert.NoError(t, png.Encode(&b, grey(90, color.RGBA{0, 0, 0, 255})))
	assert.Equal(t, condition.Doubtful, examined(b.Bytes(), "a.png").State)

	page := image.NewRGBA(image.Rect(0, 0, 200, 160)) // a page of writing, its lower half empty
	for y := range 160 {
		for x := range 200 {
			c := color.RGBA{255, 255, 255, 255}
			if y > 10 && y < 80 && x > 10 && x < 190 && y%10 < 6 && (x*7+y*3)%5 < 2 {
				c = color.RGBA{20, 20, 30, 255}
			}
			page.Set(x, y, c)
		}
	}
	assert.Equal(t, condition.Sound, examined(jpegOf(page, 85), "a.jpg").State)
	b.Reset()
	assert.NoError(t, png.Encode(&b, page))
	assert.Equal(t, condition.Sound, examined(b.Bytes(), "a.png").State)
}

func TestAStripeOfNoiseInTextShowsWhateverItsEncoding(t *testing.T) {
	r := rand.New(rand.NewPCG(4, 4))
	for name, line := range map[string]string{
		"plain":   "Planking and frames in larch on oak, fastened with copper.\n",
		"table":   "12,larch,4.50,plank\n",
		"latin-1": "Das Kielschwein, f\xfcr den Mast, ist gerissen; \xe4ndern.\n",
		"utf-8":   "Die Beplankung ist aus Lärche, für Eiche fehlt das Maß.\n",
	} {
		text := []byte(strings.Repeat(line, 60))
		assert.NotEqual(t, condition.Broken, examined(text, "a.txt").State, name)
		for range 40 {
			at := r.IntN(len(text) - 80)
			torn := bytes.Clone(text)
			copy(torn[at:], random(r, 48))
			assert.Equal(t, condition.Broken, examined(torn, "a.txt").State, "%s at %d", name, at)
		}
	}
	forms := strings.Repeat("A page.\f\tand a \x1b[1mmark\x1b[0m\n", 50)
	assert.Equal(t, condition.Sound, examined([]byte(forms), "a.txt").State)
}

// plainPDF is a page that is not packed, with a picture as it is.
func plainPDF(picture []byte) []byte {
	page := strings.Repeat("BT /F1 11 Tf 40 700 Td (A plank of larch \\(two\\)) Tj ET\n0.5 w 10 10 m 200 300 l S\n", 30)
	var b bytes.Buffer
	b.WriteString("%PDF-1.4\n%\xe2\xe3\xcf\xd3\n")
	var at []int
	for n, object := range []string{"<< /Type /Catalog /Pages 2 0 R >>", "<< /Type /Pages /Kids [3 0 R] /Count 1 >>",
		"<< /Type /Page /Parent 2 0 R /Contents 4 0 R >>\n" + strings.Repeat("% a long comment, to be overwritten\n/A (text) ", 1),
		fmt.Sprintf("<< /Length %d >>\nstream\n%s\nendstream", len(page), page),
		fmt.Sprintf("<< /Type /XObject /Subtype /Image /Filter /DCTDecode /Length %d >>\nstream\n%s\nendstream", len(picture), picture)} {
		at = append(at, b.Len())
		fmt.Fprintf(&b, "%d 0 obj\n%s\nendobj\n", n+1, object)
	}
	reference := b.Len()
	fmt.Fprintf(&b, "xref\n0 %d\n0000000000 65535 f \n", len(at)+1)
	for _, offset := range at {
		fmt.Fprintf(&b, "%010d 00000 n \n", offset)
	}
	fmt.Fprintf(&b, "trailer\n<< /Size %d /Root 1 0 R >>\nstartxref\n%d\n%%%%EOF\n", len(at)+1, reference)
	return b.Bytes()
}

func TestBytesOverwrittenInAPDFShow(t *testing.T) {
	r := rand.New(rand.NewPCG(6, 6))
	sound := plainPDF(jpegOf(photograph(2, 160, 120), 80))
	assert.Equal(t, condition.Sound, examined(sound, "a.pdf").State, "%v", examined(sound, "a.pdf").Reasons)
	page := bytes.Index(sound, []byte("stream\n")) + 20
	picture := bytes.Index(sound, []byte{0xff, 0xda}) + 40
	for what, damage := range map[string]func(b []byte){
		"noise in the page":    func(b []byte) { copy(b[page+200:], random(r, 48)) },
		"zeros in the page":    func(b []byte) { clear(b[page+200 : page+240]) },
		"noise in the picture": func(b []byte) { copy(b[picture+200:], random(r, 64)) },
		"zeros in the picture": func(b []byte) { clear(b[picture+200 : picture+264]) },
	} {
		torn := bytes.Clone(sound)
		damage(torn)
		assert.Equal(t, condition.Broken, examined(torn, "a.pdf").State, what)
	}
}
