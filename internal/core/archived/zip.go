package archived

import (
	"archive/zip"
	"context"
	"encoding/binary"
	"errors"
	"io"
	"io/fs"
	"slices"
	"unicode/utf8"

	"humble-rewind/internal/core/entry"
)

// content is an archive that can be read at any offset.
type content struct {
	io.ReaderAt
	Size int64
}

// Zip tells the members of a zip: those of its directory or, where that is missing, those that have a head of their own.
func Zip(ctx context.Context, r io.ReaderAt, size int64, each func(Head) error) (Told, error) {
	at := content{r, size}
	d, err := readDirectory(ctx, at)
	if errors.Is(err, zip.ErrFormat) {
		return lost(ctx, at, each)
	}
	if err != nil {
		return Told{}, err
	}
	for n := 0; n < len(d.starts); {
		files, offsets, err := d.files(n)
		if err != nil {
			return Told{}, err
		}
		for i, f := range files {
			if err := each(zipHead(f, offsets[i])); err != nil {
				return Told{}, err
			}
		}
		if n += len(files); ctx.Err() != nil {
			return Told{}, ctx.Err()
		}
	}
	return Told{}, nil
}

// backslashed are the systems (APPNOTE 4.4.2) on which some packers write backslashes between names: no name there holds one.
var backslashed = []uint16{0, 10, 11, 14}

// FlagEncrypted is the bit of a member's flags (APPNOTE 4.4.4) which says that it is.
const FlagEncrypted = 1 << 0

// flagDescriptor is the one which says that checksum and sizes follow the content.
const flagDescriptor = 1 << 3

// MethodAES is the method of members under the AES encryption.
const MethodAES = 99

func zipHead(f *zip.File, at int64) Head {
	clock := f.ModifiedTime
	h := Head{Name: f.Name, Size: int64(f.UncompressedSize64), Packed: int64(f.CompressedSize64), Written: entry.At(f.Modified), Zoned: hasInstant(f.Extra), At: at,
		Method: f.Method, Flags: f.Flags, CRC32: f.CRC32, Clock: clock, Cryptic: extraOf(f.Extra, 0x9901),
		NotUTF8: f.NonUTF8 && !utf8.ValidString(f.Name), Backslashes: slices.Contains(backslashed, f.CreatorVersion>>8)}
	switch mode := f.Mode(); {
	case f.FileInfo().IsDir():
		h.Kind = Folder
	case mode&fs.ModeSymlink != 0:
		h.Kind, h.Target = Link, targetOf(f)
	case !mode.IsRegular():
		h.Kind = Device
	default:
		h.Kind = File
	}
	return h
}

// extraOf returns an extra field; nil where there is none.
func extraOf(extra []byte, sought uint16) []byte {
	for len(extra) >= 4 {
		id, size := binary.LittleEndian.Uint16(extra), int(binary.LittleEndian.Uint16(extra[2:]))
		if extra = extra[4:]; size > len(extra) {
			return nil
		}
		if id == sought {
			return extra[:size]
		}
		extra = extra[size:]
	}
	return nil
}

// targetOf reads what a link points to, which is its content; "" where that cannot be read. Only a directory tells of links.
func targetOf(f *zip.File) string {
	const longest = 4096 // PATH_MAX
	if f.UncompressedSize64 > longest {
		return ""
	}
	r, err := f.Open()
	if err != nil {
		return ""
	}
	defer r.Close()
	target, err := io.ReadAll(io.LimitReader(r, longest))
	if err != nil {
		return ""
	}
	return string(target)
}

// hasInstant tells whether a member's extra fields give its write time in UTC: the extended timestamp, NTFS's, or the older one of
// Unix (APPNOTE 4.5, and the fields that are registered there).
func hasInstant(extra []byte) bool {
	for len(extra) >= 4 {
		id, size := binary.LittleEndian.Uint16(extra), int(binary.LittleEndian.Uint16(extra[2:]))
		extra = extra[4:]
		if size > len(extra) {
			return false
		}
		switch {
		case id == 0x5455 && size >= 5 && extra[0]&1 != 0, id == 0x000a && size >= 32, id == 0x5855 && size >= 8:
			return true
		}
		extra = extra[size:]
	}
	return false
}
