package archived

import (
	"archive/zip"
	"bufio"
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
)

// A zip's directory (APPNOTE 4.3.12 to 4.3.16) may be of many members, of which hardly any is ever read. So it is taken apart by the
// standard library in parts, of which nothing is held but where each member's record stands.
const (
	recordMark = 0x02014b50
	recordHead = 46
	endMark    = 0x06054b50
	endSize    = 22
	largeMark  = 0x06064b50 // of the end of a directory with larger numbers (zip64)
	largeSize  = 56
	pointMark  = 0x07064b50 // of what says where that stands
	pointSize  = 20
	maxComment = 1<<16 - 1
	// maxDirectory is the largest directory, in bytes, that is read.
	maxDirectory = 48 << 20
	// partSize is about how much of it is taken apart at once.
	partSize = 256 << 10
)

// directory is the directory of a zip.
type directory struct {
	at     content
	begins int64   // where it begins
	base   int64   // what stands before the zip, as a program that unpacks it
	starts []int64 // where the records of members begin
	ends   int64   // the last of them
}

// readDirectory finds out where the records of all members stand. The error is zip.ErrFormat where there is no directory.
func readDirectory(ctx context.Context, at content) (*directory, error) {
	d := &directory{at: at}
	records, err := d.findEnd()
	if err != nil {
		return nil, err
	}
	r := bufio.NewReaderSize(io.NewSectionReader(at, d.begins, at.Size-d.begins), 64<<10)
	for d.ends = d.begins; ; {
		head, err := r.Peek(recordHead)
		if err != nil && err != io.EOF {
			return nil, err
		}
		length := recordLength(head)
		if length == 0 || d.ends+length > at.Size {
			break
		}
		if len(d.starts) == MaxMembers || d.ends+length-d.begins > maxDirectory {
			return nil, ErrTooMany
		}
		if len(d.starts)%1000 == 0 && ctx.Err() != nil {
			return nil, ctx.Err()
		}
		d.starts, d.ends = append(d.starts, d.ends), d.ends+length
		if _, err := r.Discard(int(length)); err != nil {
			return nil, err
		}
	}
	if uint16(len(d.starts)) != uint16(records) { // of which some packers write only the lower half
		return nil, zip.ErrFormat
	}
	return d, nil
}

// recordLength is how long a record is that begins so; 0 where none does.
func recordLength(head []byte) int64 {
	if len(head) < recordHead || binary.LittleEndian.Uint32(head) != recordMark {
		return 0
	}
	u16 := binary.LittleEndian.Uint16
	return recordHead + int64(u16(head[28:])) + int64(u16(head[30:])) + int64(u16(head[32:]))
}

// findEnd reads the end of the directory, which says where it begins.
func (d *directory) findEnd() (records uint64, err error) {
	tail := make([]byte, min(d.at.Size, endSize+maxComment))
	from := d.at.Size - int64(len(tail))
	if _, err := d.at.ReadAt(tail, from); err != nil && err != io.EOF {
		return 0, err
	}
	i := bytes.LastIndex(tail[:max(0, len(tail)-endSize+4)], binary.LittleEndian.AppendUint32(nil, endMark))
	if i < 0 || int(binary.LittleEndian.Uint16(tail[i+20:])) > len(tail)-i-endSize {
		return 0, zip.ErrFormat
	}
	b, stands := tail[i:], from+int64(i)
	records = uint64(binary.LittleEndian.Uint16(b[10:]))
	size, offset := uint64(binary.LittleEndian.Uint32(b[12:])), uint64(binary.LittleEndian.Uint32(b[16:]))
	if records == 1<<16-1 || size == 1<<32-1 || offset == 1<<32-1 {
		if large, at, err := d.largeEnd(stands); err != nil {
			return 0, err
		} else if large != nil {
			u64 := binary.LittleEndian.Uint64
			records, size, offset, stands = u64(large[32:]), u64(large[40:]), u64(large[48:]), at
		}
	}
	if size > uint64(stands) || offset > uint64(stands) {
		return 0, zip.ErrFormat
	}
	d.begins = stands - int64(size)
	if d.base = d.begins - int64(offset); d.base < 0 {
		return 0, zip.ErrFormat
	}
	if d.base > 0 { // or its size is told wrong, and it begins where it says
		head := make([]byte, recordHead)
		if _, err := d.at.ReadAt(head, int64(offset)); err == nil && recordLength(head) > 0 {
			d.begins, d.base = int64(offset), 0
		}
	}
	return records, nil
}

// largeEnd returns the end of a directory with larger numbers, and where it stands; nil where there is none.
func (d *directory) largeEnd(before int64) (end []byte, at int64, err error) {
	b := make([]byte, largeSize)
	if before < pointSize {
		return nil, 0, nil
	}
	if _, err := d.at.ReadAt(b[:pointSize], before-pointSize); err != nil {
		return nil, 0, err
	}
	at = int64(binary.LittleEndian.Uint64(b[8:]))
	if binary.LittleEndian.Uint32(b) != pointMark || at < 0 || at > before-pointSize-largeSize {
		return nil, 0, nil
	}
	if _, err := d.at.ReadAt(b, at); err != nil {
		return nil, 0, err
	}
	if binary.LittleEndian.Uint32(b) != largeMark {
		return nil, 0, zip.ErrFormat
	}
	return b, at, nil
}

// end is where the record of a member ends.
func (d *directory) end(number int) int64 {
	if number+1 < len(d.starts) {
		return d.starts[number+1]
	}
	return d.ends
}

// files reads the records of members in succession, of as many as fit into a part, with where their own heads stand.
func (d *directory) files(from int) ([]*zip.File, []int64, error) {
	to := from + 1
	for to < len(d.starts) && d.end(to)-d.starts[from] <= partSize {
		to++
	}
	return d.some(from, to)
}

// some has the standard library read what it takes for a zip of these members alone.
func (d *directory) some(from, to int) ([]*zip.File, []int64, error) {
	records := make([]byte, d.end(to-1)-d.starts[from])
	if _, err := d.at.ReadAt(records, d.starts[from]); err != nil && err != io.EOF {
		return nil, nil, err
	}
	offsets := make([]int64, to-from)
	for n := range offsets {
		offsets[n] = d.base + headOffset(records[d.starts[from+n]-d.starts[from]:])
	}
	le, count, size := binary.LittleEndian, uint64(to-from), uint64(len(records))
	end := le.AppendUint32(records, largeMark)
	end = le.AppendUint64(end, largeSize-12)
	end = append(end, 45, 0, 45, 0)       // made by and read by version 4.5, which has it first
	end = append(end, make([]byte, 8)...) // the only disk
	for _, n := range []uint64{count, count, size, uint64(d.begins - d.base)} {
		end = le.AppendUint64(end, n)
	}
	end = le.AppendUint32(end, pointMark)
	end = le.AppendUint32(end, 0)
	end = le.AppendUint64(end, uint64(d.begins)+size)
	end = le.AppendUint32(end, 1)
	end = le.AppendUint32(end, endMark)
	end = append(end, 0, 0, 0, 0)
	end = append(end, bytes.Repeat([]byte{0xff}, 12)...) // the larger numbers count
	end = append(end, 0, 0)
	r, err := zip.NewReader(spliced{d.at, d.begins, end}, d.begins+int64(len(end)))
	if err != nil && !errors.Is(err, zip.ErrInsecurePath) {
		return nil, nil, fmt.Errorf("%w (%w)", ErrDamaged, err)
	}
	if len(r.File) != to-from {
		return nil, nil, fmt.Errorf("%w (its directory is of %d members where there are %d)", ErrDamaged, len(r.File), to-from)
	}
	return r.File, offsets, nil
}

// headOffset is where a member's own head stands, from the beginning of the zip, by its record: of large zips in the extra field of larger numbers
// (APPNOTE 4.5.3), behind the sizes that do not fit either.
func headOffset(record []byte) int64 {
	le := binary.LittleEndian
	offset := le.Uint32(record[42:])
	if offset != 1<<32-1 {
		return int64(offset)
	}
	behind := 0
	for _, at := range []int{24, 20} { // the size, and the packed one
		if le.Uint32(record[at:]) == 1<<32-1 {
			behind += 8
		}
	}
	name, extra := int(le.Uint16(record[28:])), int(le.Uint16(record[30:]))
	if recordHead+name+extra > len(record) {
		return -1
	}
	large := extraOf(record[recordHead+name:recordHead+name+extra], 0x0001)
	if len(large) < behind+8 {
		return int64(offset)
	}
	return int64(le.Uint64(large[behind:]))
}

// spliced is the beginning of a file, with something else behind it.
type spliced struct {
	io.ReaderAt
	until  int64
	behind []byte
}

func (s spliced) ReadAt(p []byte, at int64) (n int, err error) {
	if at < 0 {
		return 0, errors.New("a negative offset")
	}
	if at < s.until {
		n, err = s.ReaderAt.ReadAt(p[:min(int64(len(p)), s.until-at)], at)
		if n == len(p) || at+int64(n) < s.until {
			return n, err
		}
	}
	if at+int64(n) >= s.until+int64(len(s.behind)) {
		return n, io.EOF
	}
	n += copy(p[n:], s.behind[at+int64(n)-s.until:])
	if n < len(p) {
		return n, io.EOF
	}
	return n, nil
}
