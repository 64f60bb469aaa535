package peek_test

import (
	"archive/zip"
	"bytes"
	"image"
	"image/color"
	"image/png"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humble-rewind/internal/core/peek"
	"humble-rewind/internal/core/remark"
)

func look(t *testing.T, content string) peek.Preview {
	p, err := peek.Look(strings.NewReader(content), int64(len(content)))
	require.NoError(t, err)
	return p
}

func picture(t *testing.T, w, h int) string {
	var b bytes.Buffer
	m := image.NewRGBA(image.Rect(0, 0, w, h))
	m.Set(0, 0, color.RGBA{200, 10, 10, 255})
	require.NoError(t, png.Encode(&b, m))
	return b.String()
}

func document(t *testing.T, content string) string {
	var b bytes.Buffer
	w := zip.NewWriter(&b)
	for _, f := range [][2]string{{"mimetype", "application/vnd.oasis.opendocument.text"}, {"content.xml", content}} {
		e, err := w.CreateHeader(&zip.FileHeader{Name: f[0], Method: zip.Store})
		require.NoError(t, err)
		_, err = e.Write([]byte(f[1]))
		require.NoError(t, err)
	}
	require.NoError(t, w.Close())
	return b.String()
}

func TestTextIsShownInWhateverEncodingItIs(t *testing.T) {
	utf16 := "\xff\xfe" + "o\x00i\x00\n\x00x\x00"
	for name, c := range map[string]struct {
		content, encoding string
		lines             []string
	}{
		"UTF-8":                      {"Inês\r\nOda\n", "UTF-8", []string{"Inês", "Oda"}},
		"UTF-8 with its mark":        {"\ufeffa\rb", "UTF-8", []string{"a", "b"}},
		"UTF-16":                     {utf16, "UTF-16", []string{"oi", "x"}},
		"Windows-1252":               {"Caf\xe9 \x96 opening hours and more", "Windows-1252", []string{"Café – opening hours and more"}},
		"cut in the middle of an é?": {strings.Repeat("é", 40000), "UTF-8", nil},
	} {
		p := look(t, c.content)
		assert.Equal(t, peek.Text, p.Shows, name)
		assert.Equal(t, c.encoding, p.Encoding, name)
		if c.lines != nil {
			assert.Equal(t, c.lines, p.Lines, name)
		} else {
			assert.True(t, p.Cut, name)
			assert.NotContains(t, p.Lines[0], "\ufffd", name)
		}
	}
}

func TestContentDecidesWhatItIs(t *testing.T) {
	for want, content := range map[string]string{
		"image/png":                "\x89PNG\r\n\x1a\n....",
		"image/svg+xml":            `<?xml version="1.0"?><svg xmlns="http://www.w3.org/2000/svg"/>`,
		"text/vcard":               "BEGIN:VCARD\r\nVERSION:4.0\r\n",
		"application/pdf":          "%PDF-1.4\n\x00\x01",
		"application/zip":          "PK\x03\x04\x00\x00",
		"application/octet-stream": "\x00\x01\x02\x03readable run\x00",
		"application/x-empty":      "",
		"text/plain":               "BM is how this sentence begins",
	} {
		assert.Equal(t, want, look(t, content).MediaType)
	}
	assert.Equal(t, []string{"readable run"}, look(t, "\x00\x01\x02\x03readable run\x00ab\x00").Lines)
	assert.Equal(t, "empty-file", look(t, "").Note.Code)
	assert.Equal(t, remark.New("zeros", "n", 100), look(t, strings.Repeat("\x00", 100)).Note)
}

func TestDocumentsShowTheirParagraphs(t *testing.T) {
	whole := document(
		t,
		`<o><p>Oars &amp; mast</p><table-row><table-cell><p>a</p></table-cell><table-cell><p>b</p></table-cell></table-row><h>End</h></o>`,
	)
	assert.Equal(t, []string{"Oars & mast", "a\tb", "End"}, look(t, whole).Lines)
	damaged := document(t, `<o><p>what can still be read</p><p>cut`)
	p := look(t, damaged)
	assert.Equal(t, []string{"what can still be read"}, p.Lines)
	assert.True(t, p.Cut)
	assert.Equal(t, peek.Strings, look(t, whole[:len(whole)/2]).Shows, "half a document is not a document")
}

func TestPicturesAreDrawnAnewAndNeverTooLarge(t *testing.T) {
	content := picture(t, 3200, 20)
	p := look(t, content)
	assert.Equal(t, []int{3200, 20}, []int{p.Width, p.Height})
	var drawn bytes.Buffer
	require.NoError(t, peek.Render(strings.NewReader(content), int64(len(content)), &drawn))
	got, err := png.DecodeConfig(&drawn)
	require.NoError(t, err)
	assert.Equal(t, 1600, got.Width)

	bomb := []byte(picture(t, 1, 1))
	copy(bomb[16:24], "\x00\x01\x86\xa0\x00\x01\x86\xa0") // says 100,000 × 100,000; its checksum no longer fits, which alone would do
	assert.ErrorIs(t, peek.Render(bytes.NewReader(bomb), int64(len(bomb)), &drawn), peek.ErrNoPicture)
	assert.Equal(t, peek.Nothing, look(t, content[:30]).Shows, "cut off before it says how large it is")
}

func FuzzLook(f *testing.F) {
	f.Add([]byte("plain text\n"))
	f.Add([]byte("\x89PNG\r\n\x1a\n\x00\x00\x00\rIHDR"))
	f.Add([]byte("PK\x03\x04"))
	f.Add([]byte("\xff\xfea\x00"))
	f.Fuzz(func(t *testing.T, content []byte) {
		p, err := peek.Look(bytes.NewReader(content), int64(len(content)))
		if err != nil {
			t.Fatalf("content cannot be an error: %v", err)
		}
		if p.Shows == peek.Picture && p.MediaType != "image/svg+xml" && p.Width*p.Height < 1<<20 {
			var out bytes.Buffer
			_ = peek.Render(bytes.NewReader(content), int64(len(content)), &out) // must only not panic
		}
	})
}
