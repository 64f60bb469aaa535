package archive

import (
	"archive/zip"
	"bufio"
	"bytes"
	"compress/flate"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"time"
	"unicode/utf8"

	"humble-rewind/internal/core/place"
	"humble-rewind/internal/reach"
)

// A zip whose directory is lost, as of a copy that was broken off, is read from the heads that stand before its members (APPNOTE 4.3.7).

// Of a member's own head.
const (
	headMark   = 0x04034b50
	headSize   = 30
	afterMark  = 0x08074b50 // of what follows a content whose head did not know its size
	maxSkipped = 64 << 20   // bytes in all that are passed over in search of the next head
)

// errNoDirectory says that a zip has no directory.
var errNoDirectory = errors.New("its directory is missing")

// recoverZip finds out the members by their own heads.
func (o *opened) recoverZip(ctx context.Context) error {
	left := passed{}
	skipped := int64(0)
	var found heads
	o.begins = []int64{}
	why := ""
	for at := int64(0); at+headSize <= o.at.Size && why == ""; {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		next, err := o.nextHead(at)
		if err != nil {
			return err
		}
		if skipped += next - at; next < 0 || skipped > maxSkipped {
			break
		}
		f, begins, err := o.head(next)
		if err != nil {
			at = next + 4 // it was no head
			continue
		}
		if at, err = o.pastContent(ctx, f, begins); err != nil {
			if ctx.Err() != nil {
				return ctx.Err()
			}
			why = err.Error()
			continue
		}
		if err := o.takeZip(len(found), f, left); err != nil {
			return err
		}
		if len(found) == maxMembers {
			return errTooMany
		}
		f.Name, f.Extra = "", nil // which is known by now
		found, o.begins = append(found, &f.FileHeader), append(o.begins, begins)
	}
	o.zip = found
	if len(found) == 0 {
		return fmt.Errorf("%w (%w, and no member has a head of its own)", errDamaged, errNoDirectory)
	}
	o.notes = append(o.notes, fmt.Sprintf("%s: its directory is missing; it was read from the heads of its members, of which some may be "+
		"missing or may have been removed from it.", place.Readable(o.called)))
	if why != "" {
		o.notes = append(o.notes, fmt.Sprintf("%s: it cannot be read to its end: %s.", place.Readable(o.called), why))
	}
	o.settle(left)
	return nil
}

// heads are what stood before members that were found by that.
type heads []*zip.FileHeader

func (h heads) file(number int) (*zip.File, error) { return &zip.File{FileHeader: *h[number]}, nil }

// nextHead finds the next head from a position on; -1 where there is none.
func (o *opened) nextHead(from int64) (int64, error) {
	mark := binary.LittleEndian.AppendUint32(nil, headMark)
	piece := make([]byte, 64<<10)
	for skipped := int64(0); skipped <= maxSkipped; {
		n, err := o.at.ReadAt(piece, from)
		if i := bytes.Index(piece[:n], mark); i >= 0 {
			return from + int64(i), nil
		}
		if err == io.EOF || n < len(mark) {
			return -1, nil
		}
		if err != nil {
			return -1, err
		}
		step := int64(n - len(mark) + 1)
		from, skipped = from+step, skipped+step
	}
	return -1, nil
}

// head reads the head at a position, and returns where the content begins.
func (o *opened) head(at int64) (*zip.File, int64, error) {
	var b [headSize]byte
	if _, err := o.at.ReadAt(b[:], at); err != nil {
		return nil, 0, err
	}
	u16, u32 := binary.LittleEndian.Uint16, binary.LittleEndian.Uint32
	rest := make([]byte, int(u16(b[26:]))+int(u16(b[28:])))
	if _, err := o.at.ReadAt(rest, at+headSize); err != nil {
		return nil, 0, err
	}
	name, extra := rest[:u16(b[26:])], rest[u16(b[26:]):]
	const utf8Marked = 1 << 11
	h := zip.FileHeader{Name: string(name), Flags: u16(b[6:]), Method: u16(b[8:]), CRC32: u32(b[14:]), Extra: extra,
		CompressedSize64: uint64(u32(b[18:])), UncompressedSize64: uint64(u32(b[22:]))}
	//lint:ignore SA1019 they are given as they are packed, for the wall clock that they say
	h.ModifiedTime, h.ModifiedDate = u16(b[10:]), u16(b[12:])
	h.Modified = h.ModTime()
	h.NonUTF8 = h.Flags&utf8Marked == 0 && !isASCII(name)
	if u32(b[:]) != headMark || len(name) == 0 || h.Method != zip.Store && h.Method != zip.Deflate && h.Method != aesMethod {
		return nil, 0, errDamaged
	}
	for extra := extra; len(extra) >= 4; {
		id, size := u16(extra), int(u16(extra[2:]))
		if extra = extra[4:]; size > len(extra) {
			break
		}
		switch {
		case id == 0x0001 && size >= 16: // zip64: both sizes stand there
			h.UncompressedSize64, h.CompressedSize64 = binary.LittleEndian.Uint64(extra), binary.LittleEndian.Uint64(extra[8:])
		case id == 0x5455 && size >= 5 && extra[0]&1 != 0:
			h.Modified = time.Unix(int64(int32(u32(extra[1:]))), 0).UTC()
		}
		extra = extra[size:]
	}
	return &zip.File{FileHeader: h}, at + headSize + int64(len(rest)), nil
}

func isASCII(b []byte) bool {
	for _, c := range b {
		if c >= utf8.RuneSelf {
			return false
		}
	}
	return true
}

// pastContent returns where a member's content and what follows it end. A size that only stands behind the content is found out by
// unpacking it.
func (o *opened) pastContent(ctx context.Context, f *zip.File, begins int64) (int64, error) {
	if f.Flags&flagDescriptor == 0 || f.CompressedSize64 > 0 {
		if f.CompressedSize64 > uint64(o.at.Size-begins) {
			return 0, fmt.Errorf("%s ends early", place.Quote(place.Readable(f.Name)))
		}
		end := begins + int64(f.CompressedSize64)
		if f.Flags&flagDescriptor != 0 {
			end += o.descriptor(end, f)
		}
		return end, nil
	}
	if f.Method != zip.Deflate || f.Flags&flagEncrypted != 0 {
		return 0, fmt.Errorf("where %s ends is told by the directory alone", place.Quote(place.Readable(f.Name)))
	}
	packed := &byteCounter{r: bufio.NewReaderSize(io.NewSectionReader(o.at, begins, o.at.Size-begins), 64<<10)}
	r := flate.NewReader(packed)
	defer r.Close()
	sum := crc32.NewIEEE()
	n, err := io.Copy(sum, io.LimitReader(reach.Until(ctx, r), (o.at.Size-begins)*packedBy+1))
	if err != nil {
		return 0, fmt.Errorf("%s ends early", place.Quote(place.Readable(f.Name)))
	}
	f.CompressedSize64, f.UncompressedSize64, f.CRC32 = uint64(packed.n), uint64(n), sum.Sum32()
	return begins + packed.n + o.descriptor(begins+packed.n, f), nil
}

// descriptor reads the checksum behind a content, and returns how many bytes stand there.
func (o *opened) descriptor(at int64, f *zip.File) int64 {
	var b [24]byte
	n, _ := o.at.ReadAt(b[:], at) // fewer at the end
	rest, length := b[:n], int64(0)
	if len(rest) >= 4 && binary.LittleEndian.Uint32(rest) == afterMark {
		rest, length = rest[4:], 4
	}
	if len(rest) < 12 {
		return length
	}
	if f.CRC32 == 0 || length > 0 {
		f.CRC32 = binary.LittleEndian.Uint32(rest)
	}
	packed, size := binary.LittleEndian.Uint32(rest[4:]), binary.LittleEndian.Uint32(rest[8:])
	if uint64(packed) == f.CompressedSize64 && uint64(size) == f.UncompressedSize64 {
		return length + 12
	}
	return length + 20 // of a zip64
}

// byteCounter counts the bytes that unpacking takes, which takes no more than it needs of what can be read byte by byte.
type byteCounter struct {
	r *bufio.Reader
	n int64
}

func (c *byteCounter) ReadByte() (byte, error) {
	b, err := c.r.ReadByte()
	if err == nil {
		c.n++
	}
	return b, err
}

func (c *byteCounter) Read(p []byte) (int, error) {
	n, err := c.r.Read(p)
	c.n += int64(n)
	return n, err
}
