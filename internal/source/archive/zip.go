package archive

import (
	"archive/zip"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"
	"time"

	"golang.org/x/text/encoding/charmap"

	"humble-rewind/internal/core/archived"
	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/problem"
	"humble-rewind/internal/core/zonetime"
	"humble-rewind/internal/reach"
)

// readZip reads what a zip says of its members.
func (o *opened) readZip(ctx context.Context) error {
	if err := o.anywhere(ctx); err != nil {
		return err
	}
	left := passed{}
	told, err := o.unpacker.Zip(ctx, o.at, o.at.Size, func(h archived.Head) error { return o.takeZip(h, left) })
	if err != nil {
		return o.misread(err)
	}
	if told.Lost {
		o.notes = append(o.notes, fmt.Sprintf("%s: its directory is missing; it was read from the heads of its members, of which some may be "+
			"missing or may have been removed from it.", place.Readable(o.called)))
	}
	if told.Why != "" {
		o.notes = append(o.notes, fmt.Sprintf("%s: it cannot be read to its end: %s.", place.Readable(o.called), told.Why))
	}
	o.begun = told.Lost
	o.settle(left)
	return nil
}

// misread words why an archive could not be taken apart.
func (o *opened) misread(err error) error {
	if errors.Is(err, problem.Broken) && !errors.Is(err, archived.ErrDamaged) {
		return saidDamaged{err}
	}
	return err
}

// saidDamaged is what was said of a damaged archive where it was taken apart.
type saidDamaged struct{ error }

func (s saidDamaged) Unwrap() error { return archived.ErrDamaged }

// packed is how the content of a zip's member lies in it.
type packed struct {
	at, size int64 // where its own head begins, or its content; bytes
	crc      uint32
	method   uint16
}

func (o *opened) takeZip(h archived.Head, left passed) error {
	n := len(o.heads)
	if n == maxMembers {
		return errTooMany
	}
	o.heads = append(o.heads, packed{h.At, h.Packed, h.CRC32, h.Method})
	name := h.Name
	if h.NotUTF8 {
		name = decoded(name, o.page)
	}
	if h.Backslashes {
		name = strings.ReplaceAll(name, "\\", "/")
	}
	m := member{number: n, size: h.Size, content: entry.ContentID{Kind: entry.CRC32Size, Value: fmt.Sprintf("%08x+%d", h.CRC32, uint64(h.Size))}}
	m.written, m.zoned = h.Written.Time(), h.Zoned
	if !m.zoned && !m.written.IsZero() {
		m.written, _ = zonetime.Resolve(m.written, o.zone, time.Time{})
	}
	m.written = m.written.UTC()
	switch h.Kind {
	case archived.Folder:
		m.typ, m.size, m.content = entry.Folder, 0, entry.ContentID{}
	case archived.Link:
		m.typ, m.target = entry.Link, h.Target
	case archived.File:
		m.typ = entry.File
	default:
		left["are devices, pipes or sockets"]++
		return nil
	}
	switch {
	case m.typ == entry.Folder:
	case h.Flags&archived.FlagEncrypted != 0:
		o.takeCryptic(n, h, &m)
	case h.Method != zip.Store && h.Method != zip.Deflate:
		m.why = fmt.Sprintf("It is packed by method %d, which is not read; only stored and deflated members are.", h.Method)
	case m.size < 0 || h.Packed < 0 || h.At < 0:
		m.why = senselessSize
	}
	return o.take(m, name, left)
}

const senselessSize = "Its size makes no sense."

// takeCryptic takes note of how a member is encrypted.
func (o *opened) takeCryptic(n int, h archived.Head, m *member) {
	if m.size < 0 || h.Packed < 0 || h.At < 0 {
		m.why = senselessSize
		return
	}
	c, ok := crypticOf(h)
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

func (o *opened) stream(ctx context.Context, m member) (io.ReadCloser, error) {
	if o.heads == nil {
		return o.streamTar(ctx, m)
	}
	if c, ok := o.cryptic[m.number]; ok {
		return o.decrypt(ctx, m, c)
	}
	raw, err := o.raw(ctx, m.number)
	if err != nil {
		return nil, err
	}
	return o.plain(ctx, raw, m, o.heads[m.number].method, true)
}

// raw reads a member's bytes as they are packed and encrypted.
func (o *opened) raw(ctx context.Context, number int) (io.Reader, error) {
	h := o.heads[number]
	begins := h.at
	if !o.begun { // its own head stands before it (APPNOTE 4.3.7), whose name and fields may be others than those of the directory
		const mark, size = 0x04034b50, 30
		var b [size]byte
		if _, err := o.at.ReadAt(b[:], h.at); err != nil || binary.LittleEndian.Uint32(b[:]) != mark {
			return nil, fmt.Errorf("%w (its head is not where it is said to be)", errDamaged)
		}
		begins += size + int64(binary.LittleEndian.Uint16(b[26:])) + int64(binary.LittleEndian.Uint16(b[28:]))
	}
	if begins > o.at.Size || h.size > o.at.Size-begins {
		return nil, fmt.Errorf("%w (it ends early)", errDamaged)
	}
	return reach.Until(ctx, io.NewSectionReader(o.at, begins, h.size)), nil
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
