package peek

import (
	"errors"
	"fmt"
	"image"
	"image/color"
	_ "image/gif" // formats that pictures come in
	_ "image/jpeg"
	"image/png"
	"io"
	"math"

	"humble-rewind/internal/core/remark"

	_ "golang.org/x/image/bmp"
	"golang.org/x/image/draw"
	_ "golang.org/x/image/tiff"
	_ "golang.org/x/image/webp"
)

const (
	// MaxDecoded is the most that decoding a picture may take, in bytes, see [Weight].
	MaxDecoded    = 96 << 20
	maxSide       = 1600     // pixels of a rendering
	maxPictureRaw = 64 << 20 // bytes of a picture file that is decoded
)

// ErrNoPicture says that content cannot be drawn.
var ErrNoPicture = errors.New("not a picture that can be drawn")

func isPicture(mediaType string) bool {
	switch mediaType {
	case "image/png", "image/jpeg", "image/gif", "image/tiff", "image/webp", "image/bmp", "image/svg+xml":
		return true
	}
	return false
}

func lookPicture(r io.ReaderAt, size int64, p Preview) Preview {
	p.Shows = Picture
	if p.MediaType == "image/svg+xml" {
		return p
	}
	config, _, err := image.DecodeConfig(io.NewSectionReader(r, 0, size))
	if err != nil {
		p.Shows, p.Note = Nothing, remark.New("picture-undecoded", "type", p.MediaType, "why", err.Error())
		return p
	}
	p.Width, p.Height = config.Width, config.Height
	if tooLarge(r, size) {
		p.Shows, p.Note = Nothing, remark.New("picture-too-large", "width", p.Width, "height", p.Height)
	}
	return p
}

func tooLarge(r io.ReaderAt, size int64) bool {
	weight, ok := Weight(r, size)
	return !ok || weight <= 0 || weight > MaxDecoded || size > maxPictureRaw
}

// Render draws a picture anew as PNG, scaled down to at most 1600 pixels a side, so that nothing of the original bytes
// reaches whoever looks at it. SVG is not rendered here. Errors wrap [ErrNoPicture].
func Render(r io.ReaderAt, size int64, w io.Writer) error {
	picture, err := Decode(r, size)
	if err != nil {
		return err
	}
	b := picture.Bounds()
	if longest := max(b.Dx(), b.Dy()); longest > maxSide {
		target := image.Rect(0, 0, max(1, b.Dx()*maxSide/longest), max(1, b.Dy()*maxSide/longest))
		scaled := image.NewRGBA(target)
		draw.ApproxBiLinear.Scale(scaled, target, picture, b, draw.Src, nil)
		picture = scaled
	}
	return (&png.Encoder{CompressionLevel: png.BestSpeed}).Encode(w, picture)
}

// Dimensions returns a picture's width and height without decoding it. Errors wrap [ErrNoPicture].
func Dimensions(r io.ReaderAt, size int64) (image.Point, error) {
	config, _, err := image.DecodeConfig(io.NewSectionReader(r, 0, size))
	if err != nil {
		return image.Point{}, fmt.Errorf("%w: %w", ErrNoPicture, err)
	}
	return image.Pt(config.Width, config.Height), nil
}

// Decode decodes a picture, unless it has so many pixels that it would not fit. Errors wrap [ErrNoPicture].
func Decode(r io.ReaderAt, size int64) (image.Image, error) {
	config, _, err := image.DecodeConfig(io.NewSectionReader(r, 0, size))
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrNoPicture, err)
	}
	if tooLarge(r, size) {
		return nil, fmt.Errorf("%w: %d × %d pixels are too many", ErrNoPicture, config.Width, config.Height)
	}
	picture, _, err := image.Decode(io.NewSectionReader(r, 0, size))
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrNoPicture, err)
	}
	return picture, nil
}

// Weight returns roughly how many bytes decoding a picture takes, by what its beginning says; false of what is no picture. A
// progressive JPEG keeps every coefficient besides the samples.
func Weight(r io.ReaderAt, size int64) (bytes int64, ok bool) {
	config, format, err := image.DecodeConfig(io.NewSectionReader(r, 0, size))
	if err != nil {
		return 0, false
	}
	pixels := int64(config.Width) * int64(config.Height)
	if config.Width > 0 && pixels/int64(config.Width) != int64(config.Height) {
		return math.MaxInt64, true
	}
	samples := int64(4)
	switch config.ColorModel {
	case color.RGBA64Model, color.NRGBA64Model:
		samples = 8
	case color.Gray16Model:
		samples = 2
	case color.GrayModel:
		samples = 1
	case color.YCbCrModel, color.NYCbCrAModel:
		samples = 3
	}
	if format == "jpeg" && progressive(r, size) {
		samples *= 5
	}
	if pixels > math.MaxInt64/samples {
		return math.MaxInt64, true
	}
	return pixels * samples, true
}

// progressive tells whether a JPEG's frame is a progressive one (ITU-T T.81, SOF2), by the markers before it.
func progressive(r io.ReaderAt, size int64) bool {
	var head [4]byte
	for at := int64(2); at+4 <= size; {
		if _, err := r.ReadAt(head[:], at); err != nil || head[0] != 0xff {
			return true // what cannot be told is taken for the worse
		}
		switch marker := head[1]; {
		case marker == 0xff:
			at++
			continue
		case marker == 0xc2 || marker == 0xc6 || marker == 0xca || marker == 0xce:
			return true
		case marker >= 0xc0 && marker <= 0xcf && marker != 0xc4 && marker != 0xc8 && marker != 0xcc:
			return false
		}
		at += 2 + int64(head[2])<<8 + int64(head[3])
	}
	return true
}
