package signature

import (
	"bytes"
	"io"
)

// Extent is how far a content goes that begins somewhere, by its own structure.
type Extent struct {
	Size int64 // bytes
	// Checked says that checksums in it were right to its end; else its structure holds together, and no more is known.
	Checked bool
}

// mostRead is how much of a content is read to find its end, where its structure does not say how far it is.
const mostRead = 256 << 20

// Length finds where a content of a type ends that begins at an offset; it may have so many bytes at the most. It is false where its
// structure does not hold together, or does not tell.
func Length(t Type, drive io.ReaderAt, at, most int64) (Extent, bool) {
	of, ok := lengths[t.Name]
	if !ok || most <= 0 {
		return Extent{}, false
	}
	c := &content{io.NewSectionReader(drive, at, most), most}
	e, ok := of(c)
	return e, ok && e.Size > 0 && e.Size <= most
}

// content is what is read to find its end.
type content struct {
	*io.SectionReader
	most int64
}

func (c *content) bytes(at int64, size int) []byte {
	b := make([]byte, size)
	if at < 0 || at > c.most-int64(size) {
		return nil
	}
	if n, _ := c.ReadAt(b, at); n < size {
		return nil
	}
	return b
}

var lengths = map[string]func(*content) (Extent, bool){
	"jpg": jpeg, "png": png, "gif": gif, "zip": zip, "pdf": pdf, "webp": riff, "wav": riff, "avi": riff, "mp4": boxes, "heic": boxes,
	"sqlite": sqlite, "7z": sevenZip, "bmp": bmp, "doc": compound, "tif": tiff, "rtf": rtf,
	"vcf": lines("END:VCARD", "BEGIN:VCARD"), "ics": lines("END:VCALENDAR", "BEGIN:VCALENDAR"),
	"ogg": ogg, "mkv": matroska,
}

// window is how much is read at once where a mark is looked for.
const window = 256 << 10

// find looks for the first of some bytes from an offset on.
func (c *content) find(from int64, mark []byte) (int64, bool) {
	b := make([]byte, window)
	for at := from; at < min(c.most, from+mostRead); at += window - int64(len(mark)) {
		n, _ := c.ReadAt(b, at)
		if i := bytes.Index(b[:n], mark); i >= 0 {
			return at + int64(i), true
		}
		if n < window {
			break
		}
	}
	return 0, false
}
