package compare_test

import (
	"archive/zip"
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
	"image"
	"image/color"
	"image/png"
	"math/rand/v2"
	"runtime"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humble-rewind/internal/core/compare"
	"humble-rewind/internal/say"
)

// packed makes a document's package of members and their contents.
func packed(t testing.TB, members ...string) string {
	var b bytes.Buffer
	w := zip.NewWriter(&b)
	for i := 0; i < len(members); i += 2 {
		f, err := w.Create(members[i])
		require.NoError(t, err)
		_, err = f.Write([]byte(members[i+1]))
		require.NoError(t, err)
	}
	require.NoError(t, w.Close())
	return b.String()
}

func odt(t testing.TB, paragraphs ...string) string {
	body := ""
	for _, p := range paragraphs {
		body += "<text:p>" + p + "</text:p>"
	}
	return packed(
		t,
		"mimetype",
		"application/vnd.oasis.opendocument.text",
		"content.xml",
		`<office:document-content xmlns:office="o" xmlns:text="t"><office:body><office:text>`+body+`</office:text></office:body></office:document-content>`,
	)
}

func ods(t testing.TB, rows ...string) string {
	body := ""
	for _, row := range rows {
		body += "<table:table-row>"
		for _, cell := range strings.Split(row, ",") {
			body += `<table:table-cell><text:p>` + cell + `</text:p></table:table-cell>`
		}
		body += "</table:table-row>"
	}
	return packed(
		t,
		"mimetype",
		"application/vnd.oasis.opendocument.spreadsheet",
		"content.xml",
		`<office:document-content xmlns:office="o" xmlns:text="t" xmlns:table="b"><office:body><office:spreadsheet><table:table table:name="Prices">`+body+
			`<table:table-row table:number-rows-repeated="1048000"><table:table-cell table:number-columns-repeated="16000"/></table:table-row></table:table></office:spreadsheet></office:body></office:document-content>`,
	)
}

func docx(t testing.TB, paragraphs ...string) string {
	body := ""
	for _, p := range paragraphs {
		body += "<w:p><w:r><w:t>" + p + "</w:t></w:r></w:p>"
	}
	return packed(t, "word/document.xml", `<w:document xmlns:w="w"><w:body>`+body+`</w:body></w:document>`)
}

func xlsx(t testing.TB, cells ...string) string {
	var shared, sheet string
	for i, c := range cells {
		address, value, _ := strings.Cut(c, "=")
		shared += "<si><t>" + value + "</t></si>"
		sheet += fmt.Sprintf(
			`<row r="%s"><c r="%s" t="s"><v>%d</v></c></row>`,
			strings.TrimLeft(address, "ABCDEFGHIJKLMNOPQRSTUVWXYZ"),
			address,
			i,
		)
	}
	return packed(
		t,
		"xl/workbook.xml",
		`<workbook xmlns:r="r"><sheets><sheet name="Timber" r:id="rId7"/></sheets></workbook>`,
		"xl/_rels/workbook.xml.rels",
		`<Relationships><Relationship Id="rId7" Target="worksheets/first.xml"/></Relationships>`,
		"xl/sharedStrings.xml",
		`<sst>`+shared+`</sst>`,
		"xl/worksheets/first.xml",
		`<worksheet><sheetData>`+sheet+`</sheetData></worksheet>`,
	)
}

func pictureOf(t testing.TB, width, height int, blot image.Rectangle) string {
	m := image.NewRGBA(image.Rect(0, 0, width, height))
	for y := range height {
		for x := range width {
			c := color.RGBA{uint8(x), uint8(y), 90, 255}
			if image.Pt(x, y).In(blot) {
				c = color.RGBA{250, 250, 250, 255}
			}
			m.SetRGBA(x, y, c)
		}
	}
	var b bytes.Buffer
	require.NoError(t, png.Encode(&b, m))
	return b.String()
}

func of(t testing.TB, nameA, a, nameB, b string) compare.Comparison {
	c, err := compare.Of(
		compare.Side{Name: nameA, Content: strings.NewReader(a), Size: int64(len(a))},
		compare.Side{Name: nameB, Content: strings.NewReader(b), Size: int64(len(b))},
	)
	require.NoError(t, err)
	return c
}

// show writes what differs so that it can be read.
func show(c compare.Comparison) string {
	var parts []string
	marked := func(words []compare.Word) string {
		s := ""
		for _, w := range words {
			if w.Marked {
				s += "«" + w.Text + "»"
			} else {
				s += w.Text
			}
		}
		return s
	}
	for _, b := range c.Blocks {
		switch b.Change {
		case compare.Altered:
			parts = append(parts, fmt.Sprintf("%d:%s / %d:%s", b.LeftNumber, marked(b.LeftWords), b.RightNumber, marked(b.RightWords)))
		case compare.Added:
			parts = append(parts, fmt.Sprintf("+%d:%s", b.RightNumber, b.Right))
		case compare.Removed:
			parts = append(parts, fmt.Sprintf("-%d:%s", b.LeftNumber, b.Left))
		case compare.Folded:
			parts = append(parts, fmt.Sprintf("(%d)", b.Count))
		}
	}
	for _, cell := range c.Cells {
		parts = append(parts, fmt.Sprintf("%s!%s %q %q", cell.Sheet, cell.Address, cell.Left, cell.Right))
	}
	for _, e := range c.Entries {
		parts = append(parts, fmt.Sprintf("%s %s", e.Change, e.Path))
	}
	return string(c.By) + " " + strings.Join(parts, " | ")
}

func TestContentsAreComparedInTheirOwnTerms(t *testing.T) {
	long := strings.Repeat("alike\n", 20)
	for _, c := range []struct{ nameA, a, nameB, b, want string }{
		{"a.txt", "same", "b.txt", "same", "nothing "},
		{"a.txt", long + "the old oak keel\nend\n", "a.txt", long + "the new oak keel\nend\nmore\n",
			"lines (17) | 21:the «old» oak keel / 21:the «new» oak keel | +23:more"},
		{"a.odt", odt(t, "Quote", "Price: 18,200."), "a.odt", odt(t, "Quote", "Price: 21,700.", "New"),
			"paragraphs 2:Price: «18»,«200». / 2:Price: «21»,«700». | +3:New"},
		{"a.docx", docx(t, "One", "Two words"), "a.docx", docx(t, "One", "Two other words"), "paragraphs 2:Two words / 2:Two «other " +
			"»words"},
		{"a.ods", ods(t, "larch,12", "oak,15"), "a.ods", ods(t, "larch,12", "oak,17"), `cells Prices!B2 "15" "17"`},
		{"a.xlsx", xlsx(t, "A1=larch", "C3=12"), "a.xlsx", xlsx(t, "A1=larch", "C3=13", "D4=x"),
			`cells Timber!C3 "12" "13" | Timber!D4 "" "x"`},
		{"a.csv", "wood;price\nash;3\n", "a.csv", "wood;price\nash;4\n", `cells !B2 "3" "4"`},
		{"a.zip", packed(t, "x", "1", "y", "2"), "a.zip", packed(t, "x", "1", "z", "3"), "listing removed y | added z"},
		{"a.bin", "\x00\x01\x02\x03", "a.bin", "\x00\x01\x07\x03", "bytes "},
		{"a.odt", odt(t, "Quote"), "a.odt", "not a document at all", "bytes "},
	} {
		assert.Equal(t, c.want, show(of(t, c.nameA, c.a, c.nameB, c.b)), "%s and %s", c.nameA, c.nameB)
	}
	assert.EqualValues(t, 2, of(t, "a", "\x00\x01\x02", "b", "\x00\x01\x07").Differs)
	assert.Equal(t, "first-begins", of(t, "a", "\x00\x01", "b", "\x00\x01\x07").Summary.Code)
}

func TestPicturesAreComparedByRegion(t *testing.T) {
	plain, blotted := pictureOf(t, 200, 100, image.Rectangle{}), pictureOf(t, 200, 100, image.Rect(40, 40, 60, 60))
	c := of(t, "a.png", plain, "a.png", blotted)
	require.Equal(t, compare.Pictures, c.By)
	assert.Equal(t, []image.Rectangle{image.Rect(32, 32, 64, 64)}, c.Picture.Regions)
	assert.InDelta(t, 0.02, c.Picture.Share, 0.001)
	c = of(t, "a.png", plain, "a.png", pictureOf(t, 80, 100, image.Rectangle{}))
	assert.Equal(t, "200 × 100 pixels against 80 × 100.", say.Speaker{}.Remark(c.Summary))
}

// hugePicture is a PNG whose header promises 100,000 by 100,000 pixels.
func hugePicture(note string) string {
	header := binary.BigEndian.AppendUint32(binary.BigEndian.AppendUint32([]byte("IHDR"), 100_000), 100_000)
	header = append(header, 8, 6, 0, 0, 0)
	chunk := append(binary.BigEndian.AppendUint32(nil, 13), header...)
	chunk = binary.BigEndian.AppendUint32(chunk, crc32.ChecksumIEEE(header))
	return "\x89PNG\r\n\x1a\n" + string(chunk) + note
}

func TestHostileContentsStayWithinBounds(t *testing.T) {
	bomb := func(end string) string { // unpacks to three hundred megabytes of one paragraph
		var b bytes.Buffer
		w := zip.NewWriter(&b)
		f, err := w.Create("content.xml")
		require.NoError(t, err)
		piece := []byte(strings.Repeat("boom", 1<<18))
		for range 300 {
			_, err = f.Write(piece)
			require.NoError(t, err)
		}
		_, err = f.Write([]byte(end))
		require.NoError(t, errors.Join(err, w.Close()))
		return b.String()
	}
	entities := packed(t, "content.xml", `<!DOCTYPE x [<!ENTITY a "aaaaaaaaaa"><!ENTITY b "&a;&a;&a;&a;">]><x>&b;</x>`)
	deep := packed(t, "word/document.xml", strings.Repeat("<p>", 200_000))
	repeated := packed(
		t,
		"mimetype",
		"application/vnd.oasis.opendocument.spreadsheet",
		"content.xml",
		`<o xmlns:table="b" xmlns:text="t"><spreadsheet><table:table><table:table-row table:number-rows-repeated="1000000"><table:table-cell table:number-columns-repeated="1000000"><text:p>x</text:p></table:table-cell></table:table-row></table:table></spreadsheet></o>`,
	)
	for name, pair := range map[string][2]string{
		"a paragraph of 300 MB": {bomb("a"), odt(t, "x")},
		"entities":              {entities, odt(t, "x")},
		"nesting":               {deep, docx(t, "x")},
		"repeated cells":        {repeated, ods(t, "x")},
		"a huge picture":        {hugePicture(""), hugePicture("x")},
	} {
		var before, after runtime.MemStats
		runtime.ReadMemStats(&before)
		c := of(t, "a", pair[0], "b", pair[1])
		runtime.ReadMemStats(&after)
		assert.True(t, c.Summary.Any(), name)
		assert.Less(t, (after.TotalAlloc-before.TotalAlloc)>>20, uint64(1200), "%s: MiB in all, however much it unpacks to", name)
	}
}

func FuzzOf(f *testing.F) {
	f.Add("a.csv", []byte("a,b\n1,2\n"), []byte("a,b\n1,3\n"))
	f.Add("a.odt", []byte(odt(f, "one", "two")), []byte(odt(f, "one", "three")))
	f.Add("a.ods", []byte(ods(f, "a,b")), []byte(ods(f, "a,c")))
	f.Add("a.docx", []byte(docx(f, "one")), []byte(docx(f, "two")))
	f.Add("a.xlsx", []byte(xlsx(f, "A1=x")), []byte(xlsx(f, "A1=y")))
	f.Add("a.png", []byte(pictureOf(f, 20, 20, image.Rectangle{})), []byte(pictureOf(f, 20, 20, image.Rect(2, 2, 9, 9))))
	f.Fuzz(func(t *testing.T, name string, a, b []byte) {
		c, err := compare.Of(
			compare.Side{Name: name, Content: bytes.NewReader(a), Size: int64(len(a))},
			compare.Side{Name: name, Content: bytes.NewReader(b), Size: int64(len(b))},
		)
		if err != nil {
			t.Fatal(err)
		}
		if bytes.Equal(a, b) != (c.By == compare.Nothing) {
			t.Fatalf("equal contents differ, or others do not: %v", c.By)
		}
		if !c.Summary.Any() {
			t.Fatal("nothing is said")
		}
	})
}

func BenchmarkLines(b *testing.B) {
	r := rand.New(rand.NewPCG(1, 1))
	var left, right strings.Builder
	for i := range 20_000 {
		line := fmt.Sprintf("line %d of a long list of timber and nails\n", i)
		left.WriteString(line)
		if r.IntN(100) > 0 {
			right.WriteString(line)
		}
	}
	for b.Loop() {
		of(b, "a.txt", left.String(), "b.txt", right.String())
	}
}
