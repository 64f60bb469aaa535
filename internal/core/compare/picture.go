package compare

import (
	"archive/tar"
	"compress/gzip"
	"errors"
	"fmt"
	"image"
	"io"
	"strings"

	"humble-rewind/internal/core/bounded"
	"humble-rewind/internal/core/peek"
	"humble-rewind/internal/core/remark"
)

// Picture says how two pictures differ.
type Picture struct {
	Left, Right image.Point // their sizes in pixels
	// Regions that differ, in pixels of the first where both are of one size; empty otherwise.
	Regions []image.Rectangle
	Share   float64 // of the pixels that differ, 0 to 1
}

// tile is the side of the squares in which pictures are compared, in pixels.
const tile = 16

// visible is from which difference of a colour, of 65535, on a pixel counts as another; less is what saving again does.
const visible = 0x0c00

func (*Comparison) pictures(left, right Side, c *Comparison) bool {
	if !strings.HasPrefix(c.LeftType, "image/") || !strings.HasPrefix(c.RightType, "image/") ||
		strings.Contains(c.LeftType+c.RightType, "svg") {
		return false
	}
	l, errL := peek.Dimensions(left.Content, left.Size)
	r, errR := peek.Dimensions(right.Content, right.Size)
	if errL != nil || errR != nil {
		c.note("not-drawn", "why", errors.Join(errL, errR).Error())
		return false
	}
	c.By, c.Picture = Pictures, &Picture{Left: l, Right: r}
	if l != r {
		c.Summary = remark.New("pixels-differ", "width", l.X, "height", l.Y, "width_second", r.X, "height_second", r.Y)
		return true
	}
	a, errL := peek.Decode(left.Content, left.Size)
	b, errR := peek.Decode(right.Content, right.Size)
	if errL != nil || errR != nil {
		c.Summary = remark.New("pixels-undrawn", "width", l.X, "height", l.Y)
		c.Notes = append(c.Notes, remark.Said(errors.Join(errL, errR).Error()+"."))
		return true
	}
	c.Picture.Regions, c.Picture.Share = regions(a, b)
	c.Summary = remark.New("pixels-some", "width", l.X, "height", l.Y, "share", percent(c.Picture.Share), "n", len(c.Picture.Regions))
	if c.Picture.Share == 0 {
		c.Summary = remark.New("pixels-same", "width", l.X, "height", l.Y)
	}
	return true
}

func percent(share float64) string {
	if share < 0.001 {
		return "less than 0.1 %"
	}
	return fmt.Sprintf("%.1f %%", share*100)
}

// regions compares tile by tile and joins neighbouring tiles that differ.
func regions(a, b image.Image) (found []image.Rectangle, share float64) {
	ba, bb := a.Bounds(), b.Bounds()
	columns, rows := (ba.Dx()+tile-1)/tile, (ba.Dy()+tile-1)/tile
	differs := make([]bool, columns*rows)
	pixels := 0
	for y := range ba.Dy() {
		for x := range ba.Dx() {
			r1, g1, b1, a1 := a.At(ba.Min.X+x, ba.Min.Y+y).RGBA()
			r2, g2, b2, a2 := b.At(bb.Min.X+x, bb.Min.Y+y).RGBA()
			if apart(r1, r2) || apart(g1, g2) || apart(b1, b2) || apart(a1, a2) {
				pixels++
				differs[y/tile*columns+x/tile] = true
			}
		}
	}
	for start := range differs {
		if !differs[start] {
			continue
		}
		box := image.Rectangle{}
		differs[start] = false
		queue := []int{start}
		for len(queue) > 0 {
			at := queue[len(queue)-1]
			queue = queue[:len(queue)-1]
			x, y := at%columns, at/columns
			box = box.Union(image.Rect(x*tile, y*tile, min((x+1)*tile, ba.Dx()), min((y+1)*tile, ba.Dy())))
			for _, n := range [][2]int{{x - 1, y}, {x + 1, y}, {x, y - 1}, {x, y + 1}, {x - 1, y - 1}, {x + 1, y + 1}, {x - 1, y + 1},
				{x + 1, y - 1}} {
				if i := n[1]*columns + n[0]; n[0] >= 0 && n[1] >= 0 && n[0] < columns && n[1] < rows && differs[i] {
					differs[i] = false
					queue = append(queue, i)
				}
			}
		}
		found = append(found, box)
	}
	return found, float64(pixels) / float64(max(1, ba.Dx()*ba.Dy()))
}

func apart(a, b uint32) bool { return max(a, b)-min(a, b) > visible }

func (*Comparison) archives(left, right Side, c *Comparison) bool {
	l, errL := members(left, c.LeftType)
	r, errR := members(right, c.RightType)
	if errL != nil || errR != nil || l == nil || r == nil {
		return false
	}
	listing := OfListings(l, r)
	listing.LeftType, listing.RightType, listing.Differs, listing.Notes = c.LeftType, c.RightType, c.Differs, c.Notes
	*c = listing
	return true
}

// maxUnpacked bounds how much of a packed archive is read to list it.
const maxUnpacked = 512 << 20

// members lists an archive; nil where the content is none.
func members(s Side, mediaType string) (map[string]Listed, error) {
	switch mediaType {
	case "application/zip":
		archive, err := bounded.Zip(s.Content, s.Size)
		if err != nil {
			return nil, err
		}
		all := make(map[string]Listed, len(archive.File))
		for _, f := range archive.File {
			all[f.Name] = Listed{int64(f.UncompressedSize64), fmt.Sprintf("%08x", f.CRC32)}
		}
		return all, nil
	case "application/x-tar":
		return tarMembers(io.NewSectionReader(s.Content, 0, s.Size))
	case "application/gzip":
		unpacked, err := gzip.NewReader(io.NewSectionReader(s.Content, 0, s.Size))
		if err != nil {
			return nil, err
		}
		return tarMembers(io.LimitReader(unpacked, maxUnpacked))
	}
	return nil, nil
}

func tarMembers(r io.Reader) (map[string]Listed, error) {
	all := map[string]Listed{}
	archive := tar.NewReader(r)
	for len(all) < 200_000 {
		h, err := archive.Next()
		if errors.Is(err, io.EOF) {
			return all, nil
		}
		if err != nil {
			return nil, err
		}
		all[h.Name] = Listed{h.Size, h.ModTime.UTC().String() + h.Linkname}
	}
	return all, nil
}
