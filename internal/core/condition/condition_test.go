package condition_test

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"compress/gzip"
	"compress/zlib"
	"errors"
	"fmt"
	"image"
	"image/color"
	"image/jpeg"
	"image/png"
	"io"
	"math/rand/v2"
	"strings"
	"testing"
	"testing/iotest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humble-rewind/internal/core/condition"
	"humble-rewind/internal/core/remark"
)

func packed(parts ...string) string {
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	for i := 0; i < len(parts); i += 2 {
		method := zip.Deflate
		if parts[i] == "mimetype" {
			method = zip.Store
		}
		w, _ := z.CreateHeader(&zip.FileHeader{Name: parts[i], Method: method})
		_, _ = io.WriteString(w, parts[i+1])
	}
	_ = z.Close()
	return b.String()
}

var planks = func() string {
	var b strings.Builder
	r := rand.New(rand.NewPCG(3, 4))
	for range 60 {
		fmt.Fprintf(&b, "<p>Larch on oak, plank %d of %d, %d coats of paint.</p>", r.IntN(9000), r.IntN(9000), r.IntN(900))
	}
	return b.String()
}()

func contents() map[string]string {
	img := image.NewRGBA(image.Rect(0, 0, 60, 40))
	r := rand.New(rand.NewPCG(1, 2))
	for i := range img.Pix {
		img.Pix[i] = byte(r.Uint32())
	}
	img.Set(1, 1, color.White)
	var pngs, jpegs, tars, gz bytes.Buffer
	_ = png.Encode(&pngs, img)
	_ = jpeg.Encode(&jpegs, img, nil)
	t := tar.NewWriter(&tars)
	for n := range 4 {
		_ = t.WriteHeader(&tar.Header{Name: fmt.Sprintf("%d.txt", n), Size: 900, Mode: 0o644, Format: tar.FormatUSTAR})
		_, _ = t.Write(bytes.Repeat([]byte("x"), 900))
	}
	_ = t.Close()
	z := gzip.NewWriter(&gz)
	_, _ = z.Write(tars.Bytes())
	_ = z.Close()
	var pdf strings.Builder
	pdf.WriteString("%PDF-1.4\n")
	at := pdf.Len()
	pdf.WriteString("1 0 obj\n<< /Type /Catalog >>\nendobj\n")
	second := pdf.Len()
	pdf.WriteString("2 0 obj\n<< /Length 560 >>\nstream\n" + strings.Repeat("0 0 m 10 10 l\n", 40) + "endstream\nendobj\n")
	xref := pdf.Len()
	fmt.Fprintf(
		&pdf,
		"xref\n0 3\n0000000000 65535 f \n%010d 00000 n \n%010d 00000 n \ntrailer\n<< /Size 3 /Root 1 0 R >>\nstartxref\n%d\n%%%%EOF\n",
		at,
		second,
		xref,
	)
	return map[string]string{
		"a.odt": packed(
			"mimetype",
			"application/vnd.oasis.opendocument.text",
			"content.xml",
			"<a>"+planks+"</a>",
			"META-INF/manifest.xml",
			"<m/>",
		),
		"a.docx": packed("[Content_Types].xml", "<t/>", "_rels/.rels", "<r/>", "word/document.xml", "<w>"+planks+"</w>"),
		"a.epub": packed("mimetype", "application/epub+zip", "META-INF/container.xml", "<c/>", "book.xhtml", "<h>"+planks+"</h>"),
		"a.zip": packed(
			"one.txt",
			planks,
			"two.txt",
			planks,
		), "a.png": pngs.String(), "a.jpg": jpegs.String(), "a.tar": tars.String(), "a.tgz": gz.String(), "a.pdf": pdf.String(),
		"a.svg": `<svg xmlns="http://www.w3.org/2000/svg">` + planks + "</svg>", "a.json": `{"planks": [` + strings.Repeat("1, ",
			400) + `2]}`,
		"a.rtf": `{\rtf1\ansi\deff0 {\fonttbl {\f0 Serif;}}` + "\n" + strings.Repeat(`Plank \{oak\}, {\b glued}\par{\bin4 }}{{}`+"\n", 60) + "}\n\x00",
		"a.vcf": strings.Repeat(
			"BEGIN:VCARD\r\nFN:Nell Harrow\r\nEND:VCARD\r\n",
			20,
		), "a.txt": strings.Repeat("Grüße vom Steg. ", 90), "a.csv": strings.Repeat("1,2,3\n", 400),
	}
}

func examine(t *testing.T, name, content string) condition.Verdict {
	t.Helper()
	f, err := condition.Examine(strings.NewReader(content), int64(len(content)))
	require.NoError(t, err)
	return f.For(name)
}

func noise(n int) string {
	r := rand.New(rand.NewPCG(7, uint64(n)))
	b := make([]byte, n)
	for i := range b {
		b[i] = byte(r.Uint32())
	}
	return string(b)
}

func TestWhatIsWholeIsSoundAndEveryHarmShows(t *testing.T) {
	harms := map[string]func(string) string{
		"cut off":                 func(s string) string { return s[:len(s)*3/5] },
		"its end never written":   func(s string) string { return s[:len(s)*3/5] + strings.Repeat("\x00", len(s)-len(s)*3/5) },
		"encrypted":               func(s string) string { return noise(len(s)) },
		"its beginning encrypted": func(s string) string { return noise(min(512, len(s)/2)) + s[min(512, len(s)/2):] },
		"all zero":                func(s string) string { return strings.Repeat("\x00", len(s)) },
		"emptied":                 func(string) string { return "" },
	}
	// Nothing in these tells where they should end; a tar ends with zeros anyhow.
	endless := map[string]bool{
		"a.tar its end never written": true,
		"a.txt cut off":               true,
		"a.csv cut off":               true,
		"a.json cut off":              true,
		"a.vcf cut off":               true,
	}
	for name, content := range contents() {
		v := examine(t, name, content)
		assert.Equal(t, condition.Sound, v.State, "%s: %v", name, v.Reasons)
		assert.NotEmpty(t, v.Reasons, name)
		assert.Empty(t, v.Rename, name)
		for harm, do := range harms {
			v := examine(t, name, do(content))
			if endless[name+" "+harm] {
				continue
			}
			assert.Equal(t, condition.Broken, v.State, "%s %s: %v", name, harm, v.Reasons)
			assert.NotEmpty(t, v.Reasons, "%s %s", name, harm)
		}
	}
}

func TestOneByteInTheMiddleShowsWhereTheFormatHasChecks(t *testing.T) {
	for _, name := range []string{"a.odt", "a.docx", "a.epub", "a.zip", "a.png", "a.tgz"} {
		content := []byte(contents()[name])
		content[len(content)/2] ^= 0x41
		assert.Equal(t, condition.Broken, examine(t, name, string(content)).State, name)
	}
	pdf := contents()["a.pdf"]
	assert.Equal(
		t,
		condition.Broken,
		examine(t, "a.pdf", strings.Replace(pdf, "/Type /Catalog", "/Type", 1)).State,
		"everything behind what was lost has moved",
	)
}

func TestTheStreamsOfAPDFAreReadThrough(t *testing.T) {
	var page bytes.Buffer
	z := zlib.NewWriter(&page)
	_, _ = fmt.Fprintf(z, "BT /F1 12 Tf <%x> Tj ET\n", noise(3000))
	_ = z.Close()
	streams := map[string]string{
		"deflated":         "<< /Length " + fmt.Sprint(page.Len()) + " /Filter /FlateDecode >>\nstream\n" + page.String() + "\nendstream",
		"plain":            "<< /Length 12800 >>\nstream\n" + strings.Repeat("BT /F1 12 Tf (Sheer line) Tj ET\n", 400) + "endstream",
		"length elsewhere": "<< /Length 9 0 R /Filter /FlateDecode >>\nstream\r\n" + page.String() + "\nendstream",
		"of its own kind":  "<< /Length 900 /Filter /DCTDecode /Subtype /Image >>\nstream\n" + noise(900) + "\nendstream",
	}
	for name, stream := range streams {
		content := "%PDF-1.7\n7 0 obj\n" + stream + "\nendobj\n"
		content += fmt.Sprintf(
			"8 0 obj\n<< /Type /XRef /Length 4 >>\nstream\nabcd\nendstream\nendobj\nstartxref\n%d\n%%%%EOF\n",
			len(content),
		)
		v := examine(t, "a.pdf", content)
		assert.Equal(t, condition.Sound, v.State, "%s: %v", name, v.Reasons)
		stated := strings.Replace(content, "/Length ", "/Length 1", 1)
		stated = strings.Replace(
			stated,
			fmt.Sprintf("startxref\n%d", strings.Index(content, "8 0 obj")),
			fmt.Sprintf("startxref\n%d", strings.Index(stated, "8 0 obj")),
			1,
		)
		assert.NotEqual(t, condition.Broken, examine(t, "a.pdf", stated).State, "%s: a wrong length is put up with", name)
		harmed := []byte(content)
		middle := len(stream) / 2
		clear(harmed[middle : middle+512])
		if name == "of its own kind" {
			continue
		}
		v = examine(t, "a.pdf", string(harmed))
		assert.Equal(t, condition.Broken, v.State, "%s: %v", name, v.Reasons)
		assert.Equal(t, "streams-damaged", v.Reasons[0].Code, name)
		assert.Equal(t, 1, v.Reasons[0].Values["n"], name)
		lost := content[:middle] + content[middle+7:]
		assert.Equal(t, condition.Broken, examine(t, "a.pdf", lost).State, "%s: bytes lost", name)
	}
}

func TestTheNameIsHeldAgainstTheContent(t *testing.T) {
	all := contents()
	for name, want := range map[string]struct {
		content, rename string
		state           condition.State
	}{
		"map.txt":     {all["a.odt"], "map.odt", condition.Sound},
		"map.odt.txt": {all["a.odt"], "map.odt", condition.Sound},
		"scan.pdf":    {all["a.png"], "scan.png", condition.Sound},
		"Launch.JPG":  {all["a.png"], "Launch.png", condition.Sound},
		"notes.odt":   {all["a.txt"], "notes.txt", condition.Doubtful}, // perhaps what stood there was lost
		"terms.rtf":   {all["a.txt"], "terms.txt", condition.Sound},
		"letter.doc":  {all["a.rtf"], "", condition.Sound}, // as some programs save it
		"letter.odt":  {all["a.rtf"], "letter.rtf", condition.Sound},
		"twice.rtf":   {all["a.rtf"] + "Plank", "", condition.Doubtful},
		"offsets.csv": {all["a.txt"], "", condition.Sound},
		"plan":        {all["a.odt"], "", condition.Sound},
		"backup.zip":  {all["a.docx"], "", condition.Sound},
		"key.bin":     {noise(900), "", condition.Doubtful},
		"half.model":  {"\x01\x02\x03 lines \x00\x00\x07 of some program" + strings.Repeat("\x05ab", 90), "", condition.Doubtful},
		"old.doc":     {"\xd0\xcf\x11\xe0\xa1\xb1\x1a\xe1" + strings.Repeat("ab\x00", 900), "", condition.Doubtful},
		"Windows.txt": {"caf\xe9 am Steg, sch\xf6n und gut " + strings.Repeat("und mehr ", 40), "", condition.Sound},
		"garbled.txt": {"caf\xc3\xa9 am Steg " + strings.Repeat("und ", 1200) + "\xfe\xfe\xfe\xff\xfe" + strings.Repeat("mehr ",
			40), "", condition.Broken},
		"interrupted.md": {strings.Repeat("Planking. ", 500) + strings.Repeat("\x00", 40) + "end", "", condition.Broken},
	} {
		v := examine(t, name, want.content)
		assert.Equal(t, want.state, v.State, "%s: %v", name, v.Reasons)
		assert.Equal(t, want.rename, v.Rename, name)
	}
}

func TestRequiredPartsAndDatabasesAndFaults(t *testing.T) {
	v := examine(t, "a.odt", packed("mimetype", "application/vnd.oasis.opendocument.text", "META-INF/manifest.xml", "<m/>"))
	assert.Equal(t, condition.Broken, v.State)
	assert.Equal(t, remark.New("part-missing", "part", "content.xml", "format", "OpenDocument"), v.Reasons[0])
	v = examine(t, "a.docx", packed("[Content_Types].xml", "<t/>", "_rels/.rels", "<r/>", "word/styles.xml", "<s/>"))
	assert.Contains(t, v.Reasons, remark.New("part-missing", "part", "word/document.xml", "format", "Office Open XML document"))
	v = examine(
		t,
		"a.ods",
		packed("mimetype", "application/vnd.oasis.opendocument.spreadsheet", "content.xml", "<a><b></a>", "META-INF/manifest.xml", "<m/>"),
	)
	assert.Contains(t, v.Reasons[0].Values["why"].(remark.Remark).Values["text"], "not well-formed XML")
	v = examine(
		t,
		"a.odt",
		packed(
			"mimetype",
			"application/vnd.oasis.opendocument.text",
			"content.xml",
			noise(200),
			"META-INF/manifest.xml",
			"<m><encryption-data/></m>",
		),
	)
	assert.Equal(t, condition.Doubtful, v.State, "a password is no damage")

	f := condition.Findings{Media: "application/vnd.sqlite3", State: condition.Doubtful, Size: 4096}
	assert.Equal(t, condition.Sound, f.WithDatabase("ok").For("a.db").State)
	assert.Equal(t, condition.Broken, f.WithDatabase("row 3 missing from index").For("a.db").State)

	faulty := io.NewSectionReader(readerAt{iotest.ErrReader(errors.New("the drive clicks"))}, 0, 5000)
	_, err := condition.Examine(faulty, 5000)
	assert.ErrorContains(t, err, "the drive clicks", "a fault of reading says nothing about the content")
}

type readerAt struct{ io.Reader }

func (r readerAt) ReadAt(p []byte, _ int64) (int, error) { return r.Read(p) }

// Whatever content is, examining it ends with a state and with sentences.
func FuzzExamine(f *testing.F) {
	for name, content := range contents() {
		f.Add(name, []byte(content))
		f.Add(name, []byte(content[:len(content)/2]))
	}
	f.Add("a.db", []byte("SQLite format 3\x00\x10\x00"+strings.Repeat("\x00", 100)))
	f.Add("a.mp4", []byte("\x00\x00\x00\x10ftypisom\x00\x00\x00\x00\x00\x00\x00\x08moov"))
	f.Add("a.wav", []byte("RIFF\xff\x00\x00\x00WAVEfmt "))
	f.Fuzz(func(t *testing.T, name string, content []byte) {
		found, err := condition.Examine(bytes.NewReader(content), int64(len(content)))
		require.NoError(t, err)
		v := found.For(name)
		assert.Contains(t, []condition.State{condition.Sound, condition.Doubtful, condition.Broken}, v.State)
		assert.NotEmpty(t, v.Reasons)
	})
}
