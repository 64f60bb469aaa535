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
	"humble-rewind/internal/core/remark"
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
		e.doubt("package-beyond", "why", err)
		return
	}
	if err != nil {
		if bytes.HasPrefix(e.head, []byte("PK\x03\x04\x14\x00")) || e.Media != "application/zip" {
			e.broken("package-cut", "why", place.Readable(err.Error()))
		} else {
			e.broken("package-unread", "why", place.Readable(err.Error()))
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
		e.proved("package-whole", "n", len(archive.File))
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
				e.broken("part-missing", "part", part, "format", kind)
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
			e.doubt("protected")
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
		p.e.doubt("part-beyond", "part", place.Readable(f.Name), "why", err)
		return
	}
	switch {
	case err != nil && left == most:
		p.e.broken("part-unread", "part", place.Readable(f.Name), "why", explain(err))
	case err != nil && left > 0 && p.e.err == nil:
		p.e.broken("part-damaged", "part", place.Readable(f.Name), "why", explain(err))
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

func explain(err error) remark.Remark {
	var corrupt flate.CorruptInputError
	switch {
	case errors.Is(err, zip.ErrFormat):
		return remark.New("member-header")
	case errors.As(err, &corrupt):
		return remark.New("member-nonsense", "at", int64(corrupt))
	case errors.Is(err, zip.ErrChecksum), errors.Is(err, gzip.ErrChecksum), errors.Is(err, zlib.ErrChecksum):
		return remark.New("member-checksum")
	case errors.Is(err, io.ErrUnexpectedEOF):
		return remark.New("member-cut")
	}
	return remark.Said(place.Readable(err.Error()))
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
				e.broken("part-damaged", "part", place.Readable(f.Name), "why", explain(err))
			}
		}
	}
	if damaged > 5 {
		e.broken("parts-damaged", "n", damaged-5)
	}
	if p.encrypted && e.State == Sound {
		e.doubt("protected")
	}
	if unread > 0 {
		e.doubt("parts-unread", "n", unread)
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
		e.doubt("unpacks-beyond", "most", maxUnpacked>>20)
		return
	}
	e.unpacked(format, err)
}

func (e *examination) unpacked(format string, err error) {
	switch {
	case err != nil && errors.Is(err, io.ErrUnexpectedEOF):
		e.broken("packed-cut")
	case err != nil:
		e.broken("packed-not", "format", format, "why", explain(err))
	default:
		e.proved("packed-whole")
	}
}

// tar reads an archive by its headers (POSIX 1003.1, pax).
func (e *examination) tar() {
	if err := readTar(e.section()); err != nil {
		if errors.Is(err, io.ErrUnexpectedEOF) {
			e.broken("tar-cut")
		} else {
			e.broken("tar-not", "why", place.Readable(err.Error()))
		}
		return
	}
	e.proved("tar-whole")
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
		e.broken("xz-cut")
		return
	}
	e.doubt("xz-ends")
}
