package corpus

import (
	"archive/zip"
	"bytes"
	"compress/gzip"
	"compress/zlib"
	"crypto/sha256"
	"database/sql"
	"encoding/csv"
	"errors"
	"fmt"
	"image"
	"image/color"
	"image/png"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"

	_ "modernc.org/sqlite"
)

// kind makes and damages contents of one format.
type kind struct {
	name  string
	ext   string
	of    func(lines []string) []byte
	exact bool // damage inside it shows
	words bool // its text can be read
}

// kinds are the formats that most families are played with.
var kinds = []kind{
	{"text", ".txt", func(lines []string) []byte { return []byte(strings.Join(lines, "\n") + "\n") }, false, true},
	{"OpenDocument text", ".odt", odt, true, true},
	{"Office Open XML text", ".docx", docx, true, true},
	{"table", ".csv", table, false, true},
	{"picture", ".png", picture, true, false},
	{"PDF document", ".pdf", pdf, true, false},
	{"compressed text", ".gz", compressed, true, false},
}

var vocabulary = strings.Fields(
	`plank frame keel garboard strake larch oak copper rivet clench batten mould station sheer stem transom thwart
	rudder tiller mast spar sail oar paint varnish steam scarf joint slip tide launch yard loft offset waterline buttock bevel rabbet deadwood apron knee
	breasthook gunwale riser stringer floor bilge ceiling caulk cotton pitch tar linen rope block cleat pintle gudgeon centreboard ballast trim`,
)

// prose writes numbered lines that are like nothing that another seed gives.
func prose(seed uint64, from, to int) []string {
	var lines []string
	for n := from; n < to; n++ {
		r := rand.New(rand.NewPCG(seed, uint64(n)))
		words := []string{fmt.Sprintf("%d-%d", seed, n)}
		for range 9 {
			words = append(words, vocabulary[r.IntN(len(vocabulary))])
		}
		lines = append(lines, strings.Join(words, " "))
	}
	return lines
}

func archive(parts ...string) []byte {
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	for i := 0; i < len(parts); i += 2 {
		h := &zip.FileHeader{Name: parts[i], Method: zip.Deflate}
		if parts[i] == "mimetype" {
			h.Method = zip.Store
		}
		w, _ := z.CreateHeader(h) // into memory
		_, _ = w.Write([]byte(parts[i+1]))
	}
	_ = z.Close()
	return b.Bytes()
}

func odt(lines []string) []byte {
	var text strings.Builder
	for _, l := range lines {
		text.WriteString("<text:p>" + l + "</text:p>")
	}
	return archive(
		"mimetype",
		"application/vnd.oasis.opendocument.text",
		"content.xml",
		`<?xml version="1.0" encoding="UTF-8"?><office:document-content xmlns:office="urn:oasis:names:tc:opendocument:xmlns:office:1.0" xmlns:text="urn:oasis:names:tc:opendocument:xmlns:text:1.0"><office:body><office:text>`+text.String()+`</office:text></office:body></office:document-content>`,
		"META-INF/manifest.xml",
		`<?xml version="1.0" encoding="UTF-8"?><manifest:manifest xmlns:manifest="urn:oasis:names:tc:opendocument:xmlns:manifest:1.0"/>`,
	)
}

func docx(lines []string) []byte {
	var text strings.Builder
	for _, l := range lines {
		text.WriteString("<w:p><w:r><w:t>" + l + "</w:t></w:r></w:p>")
	}
	return archive("[Content_Types].xml", `<?xml version="1.0"?><Types/>`, "_rels/.rels", `<?xml version="1.0"?><Relationships/>`,
		"word/document.xml", `<?xml version="1.0"?><w:document xmlns:w="urn:w"><w:body>`+text.String()+`</w:body></w:document>`)
}

func table(lines []string) []byte {
	var b bytes.Buffer
	w := csv.NewWriter(&b)
	for _, l := range lines {
		_ = w.Write(strings.Fields(l)) // into memory
	}
	w.Flush()
	return b.Bytes()
}

// picture draws a row of blocks a line.
func picture(lines []string) []byte {
	img := image.NewRGBA(image.Rect(0, 0, 64, max(1, len(lines))*4))
	for y, l := range lines {
		for x := range 64 {
			c := l[(x/4)%len(l)]
			for k := range 4 {
				img.Set(x, y*4+k, color.RGBA{c, c * 7, byte(x) ^ c, 255})
			}
		}
	}
	var b bytes.Buffer
	_ = png.Encode(&b, img) // into memory
	return b.Bytes()
}

// pdf writes a page of text (ISO 32000-1, 7.5), deflated.
func pdf(lines []string) []byte {
	var page, b bytes.Buffer
	z := zlib.NewWriter(&page)
	fmt.Fprint(z, "BT /F1 11 Tf 40 800 Td\n")
	for _, l := range lines {
		fmt.Fprintf(z, "(%s) Tj 0 -14 Td\n", l)
	}
	fmt.Fprint(z, "ET\n")
	_ = z.Close() // into memory
	b.WriteString("%PDF-1.4\n")
	var at []int
	for n, object := range []string{"<< /Type /Catalog /Pages 2 0 R >>", "<< /Type /Pages /Kids [3 0 R] /Count 1 >>",
		"<< /Type /Page /Parent 2 0 R /Contents 4 0 R >>",
		fmt.Sprintf("<< /Length %d /Filter /FlateDecode >>\nstream\n%s\nendstream", page.Len(), page.String())} {
		at = append(at, b.Len())
		fmt.Fprintf(&b, "%d 0 obj\n%s\nendobj\n", n+1, object)
	}
	reference := b.Len()
	fmt.Fprintf(&b, "xref\n0 %d\n0000000000 65535 f \n", len(at)+1)
	for _, offset := range at {
		fmt.Fprintf(&b, "%010d 00000 n \n", offset)
	}
	fmt.Fprintf(&b, "trailer\n<< /Size %d /Root 1 0 R >>\nstartxref\n%d\n%%%%EOF\n", len(at)+1, reference)
	return b.Bytes()
}

func compressed(lines []string) []byte {
	var b bytes.Buffer
	z := gzip.NewWriter(&b)
	_, _ = z.Write([]byte(strings.Join(lines, "\n") + "\n")) // into memory
	_ = z.Close()
	return b.Bytes()
}

// noise is what encryption leaves.
func noise(seed uint64, size int) []byte {
	r := rand.New(rand.NewPCG(seed, 77))
	b := make([]byte, size)
	for i := range b {
		b[i] = byte(r.Uint32())
	}
	return b
}

// bitten changes bytes in the middle.
func bitten(content []byte) []byte {
	b := bytes.Clone(content)
	at := len(b) / 2
	copy(b[at:min(len(b), at+40)], noise(5, 40))
	return b
}

// cut ends early.
func cut(content []byte) []byte { return bytes.Clone(content[:len(content)*2/3]) }

// zeroed has the end never written.
func zeroed(content []byte) []byte {
	b := bytes.Clone(content)
	clear(b[len(b)/2:])
	return b
}

func sum(content []byte) string { return fmt.Sprintf("%x", sha256.Sum256(content)) }

// database makes an SQLite database with a row a line.
func database(lines []string) []byte {
	dir, err := os.MkdirTemp("", "corpus")
	if err != nil {
		panic(err) // nothing can be played then
	}
	defer os.RemoveAll(dir)
	db, err := sql.Open("sqlite", filepath.Join(dir, "a.db"))
	if err == nil {
		_, err = db.Exec("CREATE TABLE parts (n INTEGER PRIMARY KEY, name TEXT)")
	}
	for _, l := range lines {
		if err == nil {
			_, err = db.Exec("INSERT INTO parts (name) VALUES (?)", l)
		}
	}
	if err = errors.Join(err, db.Close()); err != nil {
		panic(err)
	}
	content, err := os.ReadFile(filepath.Join(dir, "a.db"))
	if err != nil {
		panic(err)
	}
	return content
}
