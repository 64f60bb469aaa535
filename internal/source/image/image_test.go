package image_test

import (
	"bytes"
	"image"
	"image/color"
	"image/jpeg"
	"image/png"
	"io"
	"math/rand/v2"
	"os"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/core/intact"
	"humble-rewind/internal/demo/card"
	"humble-rewind/internal/registry"
	"humble-rewind/internal/sitetest"
	"humble-rewind/internal/survey"
)

var trials = time.Date(2026, 6, 6, 11, 30, 0, 0, time.UTC)

// pictured is a picture of a seed, as bytes of a type.
func pictured(t *testing.T, seed uint64, encode func(io.Writer, image.Image) error) []byte {
	r := rand.New(rand.NewPCG(seed, 7))
	p := image.NewRGBA(image.Rect(0, 0, 160, 120))
	for i := range p.Pix {
		p.Pix[i] = byte(r.Uint32() % 64)
	}
	p.Set(1, 1, color.White)
	var b bytes.Buffer
	require.NoError(t, encode(&b, p))
	return b.Bytes()
}

func asJPEG(w io.Writer, p image.Image) error { return jpeg.Encode(w, p, nil) }

// read reads a copy whole.
func read(t *testing.T, s *sitetest.Site, c catalogue.Shown) []byte {
	opened, err := s.OpenCopy(t.Context(), c.Store.Source, c.Ref())
	require.NoError(t, err)
	defer opened.Close()
	stream, err := opened.File.Stream(t.Context())
	require.NoError(t, err)
	defer stream.Close()
	b, err := io.ReadAll(stream)
	require.NoError(t, err)
	return b
}

// A card that was formatted after the trials: folders and what was in them are found by themselves, contents without a name by their own
// structure, in slices as in one go, and looking at it again changes nothing.
func TestACardThatWasFormatted(t *testing.T) {
	c := card.New(8<<20, "TRIALS", time.UTC)
	log := bytes.Repeat([]byte("heel;3.2;knots;7.1\n"), 100)
	frames := map[string][]byte{}
	for n, name := range []string{"Frame 1.jpg", "Frame 2.jpg"} {
		frames[name] = pictured(t, uint64(n), asJPEG)
		require.NoError(t, c.Put(name, frames[name], trials))
	}
	chart := pictured(t, 9, png.Encode)
	require.NoError(t, c.Put("Chart.png", chart, trials))
	require.NoError(t, c.Put("Log/Heel and speed of the Tern.csv", log, trials))
	require.NoError(t, c.Erase("Frame 2.jpg"))
	c.Format()
	require.NoError(t, c.Put("New.txt", []byte("new"), trials.AddDate(0, 0, 1)))

	for _, due := range []bool{false, true} {
		s := sitetest.New(t)
		s.Lay(map[string]string{"/srv/card.img": string(c.Image())})
		before, err := os.ReadFile(s.Path("/srv/card.img"))
		require.NoError(t, err)
		src, err := s.AddSource(t.Context(), registry.NewSource{Machine: "loft", Kind: "image", At: "/srv/card.img", Zone: "UTC"})
		require.NoError(t, err)
		for again, slices := true, 0; again; slices++ {
			now, err := s.Catalogue.Sources.ByID(t.Context(), src.ID)
			require.NoError(t, err)
			r, err := survey.Run(t.Context(), s.Site, now, time.Now(), survey.Following{Due: func() bool { return due }})
			require.NoError(t, err)
			if again = r.Again; !again && due {
				assert.Positive(t, slices)
			}
		}
		found := map[string]catalogue.Shown{}
		for _, c := range s.Find(catalogue.Query{Kind: "image", Limit: 100}) {
			found[string(read(t, s, c))] = c
		}
		assert.Len(t, found, 3, "the first picture lies under the new file")
		second, ok := found[string(frames["Frame 2.jpg"])]
		require.True(t, ok)
		assert.Equal(t, intact.OnePiece, second.Intact.State)
		assert.True(t, second.Nameless)
		third, ok := found[string(chart)]
		require.True(t, ok)
		assert.Equal(t, intact.Whole, third.Intact.State, "its checksums hold to its end")
		csv, ok := found[string(log)]
		require.True(t, ok)
		assert.Equal(t, "Heel and speed of the Tern.csv", csv.Place.Name())
		assert.True(t, csv.Written.Equal(trials))
		named := true
		assert.Len(t, s.Find(catalogue.Query{Kind: "image", Named: &named, Limit: 10}), 1)
		assert.Len(t, s.Find(catalogue.Query{Kind: "image", Least: int64(len(log)) + 1, Limit: 10}), 2)

		now, err := s.Catalogue.Sources.ByID(t.Context(), src.ID)
		require.NoError(t, err)
		r, err := survey.Run(t.Context(), s.Site, now, time.Now(), survey.Following{})
		require.NoError(t, err)
		assert.Zero(t, r.Fresh+r.Gone)
		after, err := os.ReadFile(s.Path("/srv/card.img"))
		require.NoError(t, err)
		assert.True(t, bytes.Equal(before, after), "nothing is written to it")
	}
}
