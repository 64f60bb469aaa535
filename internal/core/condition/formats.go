package condition

import (
	"bufio"
	"bytes"
	"compress/zlib"
	"encoding/binary"
	"errors"
	"hash/crc32"
	"image"
	"image/gif"
	"image/jpeg"
	"io"

	"image/png" // formats that are decoded

	"golang.org/x/image/bmp"
	"golang.org/x/image/tiff"
	_ "golang.org/x/image/webp"

	"humble-rewind/internal/core/peek"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/remark"
)

// picture decodes a picture, as far as its size allows.
func (e *examination) picture() {
	if e.Media == "image/png" && !e.pngChunks() {
		return
	}
	config, _, err := image.DecodeConfig(e.section())
	if e.err != nil {
		return
	}
	if err != nil {
		e.decodeError(err)
		return
	}
	weight, _ := peek.Weight(e.r, e.Size)
	if config.Width <= 0 || config.Height <= 0 || weight > peek.MaxDecoded || e.Size > maxPicture {
		if e.Media == "image/png" && e.inflates() {
			e.proved("picture-checksums", "width", config.Width, "height", config.Height)
			return
		}
		e.doubt("picture-large", "width", config.Width, "height", config.Height)
		return
	}
	var drawn image.Image
	if e.Media == "image/gif" {
		var all *gif.GIF
		if all, err = gif.DecodeAll(e.section()); err == nil && len(all.Image) == 1 {
			drawn = all.Image[0]
		}
	} else {
		drawn, _, err = image.Decode(bufio.NewReader(e.section()))
	}
	if e.err != nil {
		return
	}
	if err != nil {
		e.decodeError(err)
		return
	}
	if e.Media == "image/jpeg" && !e.entropy() {
		return
	}
	if drawn != nil {
		if rows := flatBelow(drawn); rows > 0 {
			e.doubt("picture-flat", "rows", rows, "of", config.Height)
			return
		}
	}
	e.proved("picture-decodes", "width", config.Width, "height", config.Height)
}

// entropy follows the compressed data of a JPEG, which decoders put up with whatever it holds.
func (e *examination) entropy() bool {
	if e.Size > maxEntropy {
		return true
	}
	content := make([]byte, e.Size)
	if _, err := io.ReadFull(e.section(), content); err != nil {
		return false
	}
	fault, _ := jpegFault(content)
	if fault.Any() {
		e.broken("picture-overwritten", "why", fault)
		return false
	}
	return true
}

func (e *examination) decodeError(err error) {
	switch {
	case unsupported(err):
		e.doubt("picture-unknown", "why", place.Readable(err.Error()))
	case errors.Is(err, io.ErrUnexpectedEOF), errors.Is(err, io.EOF):
		e.broken("picture-cut")
	default:
		e.broken("picture-not", "why", place.Readable(err.Error()))
	}
}

// unsupported tells whether a picture uses what its format allows and the decoders do not know.
func unsupported(err error) bool {
	_, inJPEG := errors.AsType[jpeg.UnsupportedError](err)
	_, inPNG := errors.AsType[png.UnsupportedError](err)
	_, inTIFF := errors.AsType[tiff.UnsupportedError](err)
	return inJPEG || inPNG || inTIFF || errors.Is(err, bmp.ErrUnsupported)
}

// inflates unpacks a PNG's picture data without keeping it, which its checksum proves whole.
func (e *examination) inflates() bool {
	z, err := zlib.NewReader(&pngData{r: e.r, at: 8})
	if err != nil {
		return false
	}
	_, err = io.Copy(io.Discard, io.LimitReader(z, maxInflated))
	return err == nil
}

// maxInflated bounds how much of a picture is unpacked, in bytes.
const maxInflated = 1 << 30

// pngData reads the data of a PNG's IDAT chunks one after the other.
type pngData struct {
	r    io.ReaderAt
	at   int64 // of the next chunk
	from int64 // what is left of the present one
	left int64
}

func (d *pngData) Read(p []byte) (int, error) {
	for d.left == 0 {
		var header [8]byte
		if _, err := d.r.ReadAt(header[:], d.at); err != nil || string(header[4:]) == "IEND" {
			return 0, io.EOF
		}
		length := int64(binary.BigEndian.Uint32(header[:4]))
		if string(header[4:]) == "IDAT" {
			d.from, d.left = d.at+8, length
		}
		d.at += 12 + length
	}
	n, err := d.r.ReadAt(p[:min(int64(len(p)), d.left)], d.from)
	d.from, d.left = d.from+int64(n), d.left-int64(n)
	if n > 0 {
		err = nil
	}
	return n, err
}

// pngChunks walks the chunks and their checksums (ISO/IEC 15948, section 5), which says more than a decoder does.
func (e *examination) pngChunks() bool {
	var header [8]byte
	for at := int64(8); ; {
		if _, err := e.r.ReadAt(header[:], at); err != nil {
			if e.err == nil {
				e.broken("picture-ends", "size", e.Size)
			}
			return false
		}
		length, kind := int64(binary.BigEndian.Uint32(header[:4])), string(header[4:])
		if at+12+length > e.Size {
			e.broken("picture-section-cut", "section", place.Readable(kind))
			return false
		}
		sum := crc32.NewIEEE()
		sum.Write(header[4:])
		if _, err := io.Copy(sum, io.NewSectionReader(e.r, at+8, length)); err != nil {
			return false
		}
		var want [4]byte
		if _, err := e.r.ReadAt(want[:], at+8+length); err != nil && e.err != nil {
			return false
		}
		if binary.BigEndian.Uint32(want[:]) != sum.Sum32() {
			e.broken("picture-section-wrong", "section", place.Readable(kind), "at", at)
			return false
		}
		if kind == "IEND" {
			return true
		}
		at += 12 + length
	}
}

// sqlite looks at the header (the SQLite database file format, section 1.3); the database's own check is run elsewhere.
func (e *examination) sqlite() {
	if len(e.head) < 100 {
		e.broken("header-cut")
		return
	}
	page := int64(binary.BigEndian.Uint16(e.head[16:18]))
	if page == 1 {
		page = 65536
	}
	if page < 512 || page&(page-1) != 0 {
		e.broken("database-pages", "page", page)
		return
	}
	pages := int64(binary.BigEndian.Uint32(e.head[28:32]))
	if current := bytes.Equal(e.head[24:28], e.head[92:96]); current && pages > 0 && pages*page > e.Size {
		e.broken("database-cut", "pages", pages, "page", page, "ends", e.Size/page)
		return
	}
	e.doubt("database-header")
}

// boxes walks the boxes of an ISO base media file (ISO/IEC 14496-12, 4.2) and asks for the one that makes it play.
func (e *examination) boxes() {
	var header [16]byte
	movie := false
	for at := int64(0); at < e.Size; {
		n, err := e.r.ReadAt(header[:min(16, e.Size-at)], at)
		if n < 8 {
			if e.err == nil && err != nil {
				e.broken("box-cut")
			}
			return
		}
		length := int64(binary.BigEndian.Uint32(header[:4]))
		kind := string(header[4:8])
		switch {
		case length == 1 && n == 16:
			length = int64(binary.BigEndian.Uint64(header[8:16]))
		case length == 0:
			length = e.Size - at
		}
		if length < 8 || length > e.Size-at {
			e.broken("box-short", "part", place.Readable(kind), "size", length, "ends", e.Size-at)
			return
		}
		movie = movie || kind == "moov" || kind == "meta" || kind == "moof"
		at += length
	}
	if !movie {
		e.broken("box-no-index")
		return
	}
	e.proved("boxes-whole")
}

// riff holds the length that a RIFF file (WAV, AVI) states against what there is.
func (e *examination) riff() {
	if stated := int64(binary.LittleEndian.Uint32(e.head[4:8])) + 8; stated > e.Size {
		e.broken("riff-short", "size", stated, "ends", e.Size)
		return
	}
	e.proved("riff-whole")
}

func atLine(offset int64, lines int) remark.Remark {
	return remark.New("at-line", "byte", offset, "line", lines+1)
}
