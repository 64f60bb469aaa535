package condition

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"compress/bzip2"
	"compress/flate"
	"compress/gzip"
	"compress/zlib"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"path"
	"strings"

	"humble-rewind/internal/core/bounded"
	"humble-rewind/internal/core/place"
)

func isPackage(media string) bool {
	return media == "application/zip" || media == "application/epub+zip" || strings.HasPrefix(media, "application/vnd.oasis.opendocument.")
}

// The media types of Office Open XML by their main part (ECMA-376 part 1).
var officeMain = []struct{ part, media string }{
	{"word/document.xml", "application/vnd.openxmlformats-officedocument.wordprocessingml.document"},
	{"xl/workbook.xml", "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet"},
	{"ppt/presentation.xml", "application/vnd.openxmlformats-officedocument.presentationml.presentation"},
}

// packaged examines a ZIP package: its directory, every member's checksum, and the parts that its kind must have.
func (e *examination) packaged() {
	archive, err := bounded.Zip(e.r, e.Size)
	if e.err != nil {
		return
	}
	if bounded.Beyond(err) {
		e.doubt("It begins as it should, but %s, so that what is in it was not examined.", err)
		return
	}
	if err != nil {
		if bytes.HasPrefix(e.head, []byte("PK\x03\x04\x14\x00")) || e.Media != "application/zip" {
			e.broken(
				"Its table of contents, which stands at the end, is missing or damaged: the file was cut off or its end was overwritten "+
					"(%s).",
				place.Readable(err.Error()),
			)
		} else {
			e.broken("Its table of contents cannot be read: %s.", place.Readable(err.Error()))
		}
		return
	}
	members := map[string]*zip.File{}
	for _, f := range archive.File {
		members[f.Name] = f
	}
	p := &packageCheck{e: e, left: maxUnpacked}
	p.required(members)
	p.members(archive.File)
	if e.State == Sound {
		e.proved("All %d parts of it unpack to what their checksums say.", len(archive.File))
	}
}

type packageCheck struct {
	e         *examination
	left      int64
	encrypted bool
	scanned   map[string]bool // parts read through already
}

func (p *packageCheck) required(members map[string]*zip.File) {
	e := p.e
	p.scanned = map[string]bool{}
	need := func(kind string, parts ...string) {
		for _, part := range parts {
			f := members[part]
			if f == nil {
				e.broken("Its part %q, which every %s has, is missing.", part, kind)
				continue
			}
			if strings.HasSuffix(part, ".xml") || strings.HasSuffix(part, ".rels") {
				p.wellFormed(f)
			}
		}
	}
	switch {
	case strings.HasPrefix(e.Media, "application/vnd.oasis.opendocument."):
		if manifest := members["META-INF/manifest.xml"]; manifest != nil && p.holds(manifest, "encryption-data") {
			p.encrypted = true
			e.doubt("It is protected by a password; what is behind that cannot be examined.")
			return
		}
		need("OpenDocument", "META-INF/manifest.xml", "content.xml")
	case e.Media == "application/epub+zip":
		need("EPUB", "META-INF/container.xml")
	case members["[Content_Types].xml"] != nil || members["_rels/.rels"] != nil:
		for _, m := range officeMain {
			if members[m.part] != nil || hasFolder(members, path.Dir(m.part)) {
				e.Media = m.media
				need("Office Open XML document", "[Content_Types].xml", "_rels/.rels", m.part)
				return
			}
		}
	default:
		for _, m := range officeMain {
			if members[m.part] != nil {
				e.Media = m.media
				need("Office Open XML document", "[Content_Types].xml", "_rels/.rels", m.part)
				return
			}
		}
	}
}

func hasFolder(members map[string]*zip.File, dir string) bool {
	for name := range members {
		if strings.HasPrefix(name, dir+"/") {
			return true
		}
	}
	return false
}

// holds tells whether a member has an XML element of a name.
func (p *packageCheck) holds(f *zip.File, element string) bool {
	content, err := f.Open()
	if err != nil {
		return false
	}
	defer content.Close()
	decoder := bounded.NewXML(io.LimitReader(content, maxScanned))
	for {
		token, err := decoder.RawToken()
		if err != nil {
			return false
		}
		if start, ok := token.(xml.StartElement); ok && start.Name.Local == element {
			return true
		}
	}
}

// wellFormed reads a part through as XML.
func (p *packageCheck) wellFormed(f *zip.File) {
	if p.scanned[f.Name] || f.Flags&1 != 0 {
		return
	}
	p.scanned[f.Name] = true
	most := min(p.left, maxScanned)
	left, err := readPart(f, most, true)
	if err != nil && left < most {
		left, err = readPart(f, most, false)
	}
	p.left -= most - left
	if bounded.Beyond(err) {
		p.e.doubt("Its part %q was not read to its end: %s.", place.Readable(f.Name), err)
		return
	}
	switch {
	case err != nil && left == most:
		p.e.broken("Its part %q cannot be read: %s.", place.Readable(f.Name), explain(err))
	case err != nil && left > 0 && p.e.err == nil:
		p.e.broken("Its part %q is damaged: %s.", place.Readable(f.Name), explain(err))
	}
}

// readPart reads a part as XML, of most bytes of it, and returns how many are left of those.
func readPart(f *zip.File, most int64, squeeze bool) (left int64, err error) {
	content, err := f.Open()
	if err != nil {
		return most, err
	}
	defer content.Close()
	limited := &io.LimitedReader{R: content, N: most}
	var r io.Reader = limited
	if squeeze {
		r = &squeezed{r: limited}
	}
	err = readXML(r)
	return limited.N, err
}

func explain(err error) string {
	var corrupt flate.CorruptInputError
	switch {
	case errors.Is(err, zip.ErrFormat):
		return "its own header was overwritten"
	case errors.As(err, &corrupt):
		return fmt.Sprintf("its compressed data makes no sense from byte %d on", int64(corrupt))
	case errors.Is(err, zip.ErrChecksum), errors.Is(err, gzip.ErrChecksum), errors.Is(err, zlib.ErrChecksum):
		return "the bytes do not fit their checksum"
	case errors.Is(err, io.ErrUnexpectedEOF):
		return "it ends too early"
	}
	return place.Readable(err.Error())
}

// members reads every part through, which checks its checksum.
func (p *packageCheck) members(files []*zip.File) {
	e := p.e
	damaged, unread := 0, 0
	for n, f := range files {
		if n == maxMembers || p.left <= 0 {
			unread = len(files) - n
			break
		}
		if f.Flags&1 != 0 {
			p.encrypted = true
			continue
		}
		if strings.HasSuffix(f.Name, "/") || p.scanned[f.Name] {
			continue
		}
		err := p.readThrough(f)
		if e.err != nil {
			return
		}
		switch {
		case errors.Is(err, zip.ErrAlgorithm):
			unread++
		case errors.Is(err, errEnough):
			unread++
		case err != nil:
			if damaged++; damaged <= 5 {
				e.broken("Its part %q is damaged: %s.", place.Readable(f.Name), explain(err))
			}
		}
	}
	if damaged > 5 {
		e.broken("%d more of its parts are damaged.", damaged-5)
	}
	if p.encrypted && e.State == Sound {
		e.doubt("It is protected by a password; what is behind that cannot be examined.")
	}
	if unread > 0 {
		e.doubt("%d of its parts are too large, or packed in a way that is not known here, and were not examined.", unread)
	}
}

var errEnough = errors.New("enough was unpacked")

func (p *packageCheck) readThrough(f *zip.File) error {
	content, err := f.Open()
	if err != nil {
		return err
	}
	defer content.Close()
	n, err := io.Copy(io.Discard, io.LimitReader(content, p.left+1))
	if p.left -= n; err == nil && p.left < 0 {
		return errEnough
	}
	return err
}

// readXML reads to the end and says what is not well-formed.
func readXML(r io.Reader) error {
	decoder := bounded.NewXML(r)
	decoder.CharsetReader = func(_ string, input io.Reader) (io.Reader, error) { return latin{input}, nil }
	elements := 0
	for {
		token, err := decoder.Token()
		if errors.Is(err, io.EOF) {
			if elements == 0 {
				return errors.New("it holds no element")
			}
			return nil
		}
		if err != nil {
			if syntax, ok := errors.AsType[*xml.SyntaxError](err); ok {
				return fmt.Errorf("not well-formed XML in line %d: %s", syntax.Line, syntax.Msg)
			}
			return err
		}
		if _, ok := token.(xml.StartElement); ok {
			elements++
		}
	}
}

// latin lets any 8-bit encoding pass as characters; only the markup is of interest.
type latin struct{ r io.Reader }

func (l latin) Read(p []byte) (int, error) {
	n, err := l.r.Read(p)
	for i := range p[:n] {
		if p[i] >= 0x80 {
			p[i] = '?'
		}
	}
	return n, err
}

// gzip reads a compressed file through (RFC 1952), and a tar in it by its headers.
func (e *examination) gzip() {
	z, err := gzip.NewReader(e.section())
	if err != nil {
		e.unpacked("gzip", err)
		return
	}
	e.stream("gzip", z)
}

func (e *examination) bzip2() { e.stream("bzip2", bzip2.NewReader(e.section())) }

func (e *examination) stream(format string, r io.Reader) {
	limited := &io.LimitedReader{R: r, N: maxUnpacked}
	head := make([]byte, 512)
	n, err := io.ReadFull(limited, head)
	rest := io.MultiReader(bytes.NewReader(head[:n]), limited)
	if n == 512 && string(head[257:262]) == "ustar" {
		err = readTar(rest)
		if err == nil {
			_, err = io.Copy(io.Discard, rest)
		}
	} else if err == nil || errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) && n < 512 && limited.N > 0 {
		if err == nil {
			_, err = io.Copy(io.Discard, rest)
		} else if _, more := r.Read(make([]byte, 1)); errors.Is(more, io.EOF) {
			err = nil
		} else {
			err = more
		}
	}
	if limited.N <= 0 {
		e.doubt("It unpacks to more than %d MiB; what is beyond that was not examined.", maxUnpacked>>20)
		return
	}
	e.unpacked(format, err)
}

func (e *examination) unpacked(format string, err error) {
	switch {
	case err != nil && errors.Is(err, io.ErrUnexpectedEOF):
		e.broken("It ends in the middle of its compressed data: it was cut off.")
	case err != nil:
		e.broken("It does not unpack as %s: %s.", format, explain(err))
	default:
		e.proved("It unpacks to its end, and its checksums fit.")
	}
}

// tar reads an archive by its headers (POSIX 1003.1, pax).
func (e *examination) tar() {
	if err := readTar(e.section()); err != nil {
		if errors.Is(err, io.ErrUnexpectedEOF) {
			e.broken("It ends in the middle of a member: it was cut off.")
		} else {
			e.broken("It cannot be read as a tar archive: %s.", place.Readable(err.Error()))
		}
		return
	}
	e.proved("Every header in it is right; tar keeps no checksum of what is between them.")
}

func readTar(r io.Reader) error {
	archive := tar.NewReader(r)
	for n := 0; n < maxMembers; n++ {
		_, err := archive.Next()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// xz looks for the end that every stream has (the .xz file format 1.1, section 2.1.2): this program cannot unpack it.
func (e *examination) xz() {
	foot := make([]byte, 2)
	if _, err := e.r.ReadAt(foot, e.Size-2); e.err != nil || err != nil && !errors.Is(err, io.EOF) {
		return
	}
	if string(foot) != "YZ" {
		e.broken("The mark that ends it is missing: it was cut off, or its end was overwritten.")
		return
	}
	e.doubt("Its beginning and its end are right; what is between them was not unpacked.")
}
