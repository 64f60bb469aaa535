package peek

import (
	"errors"
	"fmt"
	"image"
	_ "image/gif" // formats that pictures come in
	_ "image/jpeg"
	"image/png"
	"io"

	_ "golang.org/x/image/bmp"
	"golang.org/x/image/draw"
	_ "golang.org/x/image/tiff"
	_ "golang.org/x/image/webp"
)

const (
	maxPixels     = 40 << 20 // of a picture that is decoded
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
		p.Shows, p.Note = Nothing, fmt.Sprintf("The file begins like %s, but it cannot be decoded: %v.", p.MediaType, err)
		return p
	}
	p.Width, p.Height = config.Width, config.Height
	if tooLarge(config, size) {
		p.Shows, p.Note = Nothing, fmt.Sprintf("The picture of %d × %d pixels is too large to be drawn here.", p.Width, p.Height)
	}
	return p
}

func tooLarge(c image.Config, size int64) bool {
	return c.Width <= 0 || c.Height <= 0 || c.Width > maxPixels/c.Height || size > maxPictureRaw
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
	if tooLarge(config, size) {
		return nil, fmt.Errorf("%w: %d × %d pixels are too many", ErrNoPicture, config.Width, config.Height)
	}
	picture, _, err := image.Decode(io.NewSectionReader(r, 0, size))
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrNoPicture, err)
	}
	return picture, nil
}
