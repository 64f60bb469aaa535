package archived

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

// lost tells the members of a zip without a directory by their own heads.
func lost(ctx context.Context, at content, each func(Head) error) (Told, error) {
	told, found, skipped := Told{Lost: true}, 0, int64(0)
	for from := int64(0); from+headSize <= at.Size && told.Why == ""; {
		if ctx.Err() != nil {
			return told, ctx.Err()
		}
		next, err := at.nextHead(from)
		if err != nil {
			return told, err
		}
		if skipped += next - from; next < 0 || skipped > maxSkipped {
			break
		}
		f, begins, err := at.head(next)
		if err != nil {
			from = next + 4 // it was no head
			continue
		}
		if from, err = at.pastContent(ctx, f, begins); err != nil {
			if ctx.Err() != nil {
				return told, ctx.Err()
			}
			told.Why = err.Error()
			continue
		}
		if found++; found > MaxMembers {
			return told, ErrTooMany
		}
		if err := each(zipHead(f, begins)); err != nil {
			return told, err
		}
	}
	if found == 0 {
		return told, fmt.Errorf("%w (%w, and no member has a head of its own)", ErrDamaged, errNoDirectory)
	}
	return told, nil
}

// nextHead finds the next head from a position on; -1 where there is none.
func (o content) nextHead(from int64) (int64, error) {
	mark := binary.LittleEndian.AppendUint32(nil, headMark)
	piece := make([]byte, 64<<10)
	for skipped := int64(0); skipped <= maxSkipped; {
		n, err := o.ReadAt(piece, from)
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
func (o content) head(at int64) (*zip.File, int64, error) {
	var b [headSize]byte
	if _, err := o.ReadAt(b[:], at); err != nil {
		return nil, 0, err
	}
	u16, u32 := binary.LittleEndian.Uint16, binary.LittleEndian.Uint32
	rest := make([]byte, int(u16(b[26:]))+int(u16(b[28:])))
	if _, err := o.ReadAt(rest, at+headSize); err != nil {
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
	if u32(b[:]) != headMark || len(name) == 0 || h.Method != zip.Store && h.Method != zip.Deflate && h.Method != MethodAES {
		return nil, 0, ErrDamaged
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
func (o content) pastContent(ctx context.Context, f *zip.File, begins int64) (int64, error) {
	if f.Flags&flagDescriptor == 0 || f.CompressedSize64 > 0 {
		if f.CompressedSize64 > uint64(o.Size-begins) {
			return 0, fmt.Errorf("%s ends early", place.Quote(place.Readable(f.Name)))
		}
		end := begins + int64(f.CompressedSize64)
		if f.Flags&flagDescriptor != 0 {
			end += o.descriptor(end, f)
		}
		return end, nil
	}
	if f.Method != zip.Deflate || f.Flags&FlagEncrypted != 0 {
		return 0, fmt.Errorf("where %s ends is told by the directory alone", place.Quote(place.Readable(f.Name)))
	}
	packed := &byteCounter{r: bufio.NewReaderSize(io.NewSectionReader(o, begins, o.Size-begins), 64<<10)}
	r := flate.NewReader(packed)
	defer r.Close()
	sum := crc32.NewIEEE()
	n, err := io.Copy(sum, io.LimitReader(until(ctx, r), (o.Size-begins)*PackedBy+1))
	if err != nil {
		return 0, fmt.Errorf("%s ends early", place.Quote(place.Readable(f.Name)))
	}
	f.CompressedSize64, f.UncompressedSize64, f.CRC32 = uint64(packed.n), uint64(n), sum.Sum32()
	return begins + packed.n + o.descriptor(begins+packed.n, f), nil
}

// descriptor reads the checksum behind a content, and returns how many bytes stand there.
func (o content) descriptor(at int64, f *zip.File) int64 {
	var b [24]byte
	n, _ := o.ReadAt(b[:], at) // fewer at the end
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
