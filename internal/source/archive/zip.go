package archive

import (
	"archive/zip"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"golang.org/x/text/encoding/charmap"

	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/zonetime"
	"humble-rewind/internal/reach"
)

// readZip reads a zip's directory.
func (o *opened) readZip(ctx context.Context) error {
	if err := o.anywhere(ctx); err != nil {
		return err
	}
	d, err := readDirectory(ctx, o.at)
	if errors.Is(err, zip.ErrFormat) {
		return o.recoverZip(ctx)
	}
	if err != nil {
		return err
	}
	left := passed{}
	o.zip = d
	for n := 0; n < len(d.starts); {
		files, err := d.files(n)
		if err != nil {
			return err
		}
		for _, f := range files {
			if err := o.takeZip(n, f, left); err != nil {
				return err
			}
			n++
		}
		if ctx.Err() != nil {
			return ctx.Err()
		}
	}
	o.settle(left)
	return nil
}

func (o *opened) takeZip(n int, f *zip.File, left passed) error {
	name := f.Name
	if f.NonUTF8 && !utf8.ValidString(name) {
		name = decoded(name, o.page)
	}
	if slices.Contains(backslashed, f.CreatorVersion>>8) {
		name = strings.ReplaceAll(name, "\\", "/")
	}
	m := member{number: n, size: int64(f.UncompressedSize64), content: entry.ContentID{Kind: entry.CRC32Size,
		Value: fmt.Sprintf("%08x+%d", f.CRC32, f.UncompressedSize64)}}
	m.written, m.zoned = f.Modified, hasInstant(f.Extra)
	if !m.zoned && !m.written.IsZero() {
		m.written, _ = zonetime.Resolve(m.written, o.zone, time.Time{})
	}
	m.written = m.written.UTC()
	switch mode := f.Mode(); {
	case f.FileInfo().IsDir():
		m.typ, m.size, m.content = entry.Folder, 0, entry.ContentID{}
	case mode&fs.ModeSymlink != 0:
		m.typ = entry.Link
		m.target = targetOf(f) // which what comes without a directory does not tell of
	case !mode.IsRegular():
		left["are devices, pipes or sockets"]++
		return nil
	default:
		m.typ = entry.File
	}
	switch {
	case m.typ == entry.Folder:
	case f.Flags&flagEncrypted != 0:
		o.takeCryptic(n, f, &m)
	case f.Method != zip.Store && f.Method != zip.Deflate:
		m.why = fmt.Sprintf("It is packed by method %d, which is not read; only stored and deflated members are.", f.Method)
	case m.size < 0:
		m.why = senselessSize
	}
	return o.take(m, name, left)
}

const senselessSize = "Its size makes no sense."

// takeCryptic takes note of how a member is encrypted.
func (o *opened) takeCryptic(n int, f *zip.File, m *member) {
	if m.size < 0 {
		m.why = senselessSize
		return
	}
	c, ok := crypticOf(f)
	if !ok {
		m.why = "It is encrypted in a way that is not read; the classic one and AES are."
		return
	}
	c.size = m.size
	if o.cryptic == nil {
		o.cryptic = map[int]cryptic{}
	}
	o.cryptic[n] = c
	m.says = "It is encrypted: the source has to be unlocked with the archive's password before it is read."
	if c.unchecked {
		// Its checksum is not told. What tells it from the same member in an archive that is not encrypted is that it is.
		m.content = entry.ContentID{Kind: entry.EntityTag, Value: "encrypted"}
	}
}

// backslashed are the systems (APPNOTE 4.4.2) on which some packers write backslashes between names: no name there holds one.
var backslashed = []uint16{0, 10, 11, 14}

// targetOf reads what a link points to, which is its content; "" where that cannot be read.
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

func (o *opened) stream(ctx context.Context, m member) (io.ReadCloser, error) {
	if o.zip == nil {
		return o.streamTar(ctx, m)
	}
	f, err := o.zip.file(m.number)
	if err != nil {
		return nil, err
	}
	if c, ok := o.cryptic[m.number]; ok {
		return o.decrypt(ctx, f, m.number, c)
	}
	if o.begins != nil {
		raw, err := o.raw(ctx, f, m.number)
		if err != nil {
			return nil, err
		}
		return newPacked(raw, f, f.Method, true), nil
	}
	r, err := f.Open()
	if err != nil {
		return nil, fmt.Errorf("%w (%w)", errDamaged, err)
	}
	return checked{reach.Until(ctx, r), r}, nil
}

// checked says of what the library finds wrong while it is read that the archive is damaged.
type checked struct {
	io.Reader
	io.Closer
}

func (c checked) Read(p []byte) (int, error) {
	n, err := c.Reader.Read(p)
	if err != nil && err != io.EOF && !errors.Is(err, context.Canceled) && !errors.Is(err, context.DeadlineExceeded) {
		err = fmt.Errorf("%w (%w)", errDamaged, err)
	}
	return n, err
}

// codePages are those of names, by what they are called.
var codePages = map[string]*charmap.Charmap{"cp437": charmap.CodePage437, "cp850": charmap.CodePage850, "cp852": charmap.CodePage852,
	"cp866": charmap.CodePage866, "latin1": charmap.ISO8859_1, "windows1250": charmap.Windows1250, "windows1251": charmap.Windows1251,
	"windows1252": charmap.Windows1252}

func codePageNames() []string { return slices.Sorted(maps.Keys(codePages)) }

func checkCodePage(value string) error {
	if codePages[value] == nil {
		return fmt.Errorf("%q is not a code page that is known; known are %q", value, codePageNames())
	}
	return nil
}

// decoded reads a name by a code page, cp437 where none is given: every byte is a character.
func decoded(name, page string) string {
	p := codePages[page]
	if p == nil {
		p = charmap.CodePage437
	}
	said, err := p.NewDecoder().String(name)
	if err != nil {
		return name
	}
	return said
}
