package signature_test

import (
	"archive/zip"
	"bytes"
	"encoding/binary"
	"image"
	"image/color/palette"
	"image/gif"
	"image/jpeg"
	"image/png"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humble-rewind/internal/core/signature"
)

// contents are of each type one, made by whoever makes them otherwise where that is at hand.
func contents(t testing.TB) map[string][]byte {
	r := rand.New(rand.NewPCG(3, 4))
	p := image.NewPaletted(image.Rect(0, 0, 90, 70), palette.WebSafe)
	for i := range p.Pix {
		p.Pix[i] = byte(r.Uint32() % 200)
	}
	made := func(encode func(*bytes.Buffer) error) []byte {
		var b bytes.Buffer
		require.NoError(t, encode(&b))
		return b.Bytes()
	}
	noise := make([]byte, 5001)
	for i := range noise {
		noise[i] = byte(r.Uint32())
	}
	box := func(kind string, body []byte) []byte {
		return append(append(binary.BigEndian.AppendUint32(nil, uint32(8+len(body))), kind...), body...)
	}
	page := append([]byte("OggS\x00\x06"), append(make([]byte, 20), append([]byte{2, 200, 55}, noise[:255]...)...)...)
	database := append([]byte("SQLite format 3\x00\x10\x00"), make([]byte, 2*4096-18)...)
	database[31], database[27], database[95] = 2, 7, 7
	tiff := append([]byte("II*\x00\x08\x00\x00\x00\x02\x00\x11\x01\x04\x00\x01\x00\x00\x00\x40\x00\x00\x00\x17\x01\x04\x00\x01\x00\x00\x00\xe8\x03\x00\x00\x00\x00\x00\x00"),
		make([]byte, 64-38)...)
	return map[string][]byte{
		"jpg": made(func(b *bytes.Buffer) error { return jpeg.Encode(b, p, nil) }),
		"png": made(func(b *bytes.Buffer) error { return png.Encode(b, p) }),
		"gif": made(func(b *bytes.Buffer) error { return gif.Encode(b, p, nil) }),
		"zip": made(func(b *bytes.Buffer) error {
			w := zip.NewWriter(b)
			f, err := w.Create("Keel.txt")
			if err == nil {
				_, err = f.Write(noise)
			}
			require.NoError(t, err)
			return w.Close()
		}),
		"tif":    append(tiff, noise[:1000]...),
		"pdf":    []byte("%PDF-1.4\n1 0 obj\n<<>>\nendobj\n%%EOF\n2 0 obj\n<<>>\nendobj\n%%EOF\n"),
		"wav":    append(binary.LittleEndian.AppendUint32([]byte("RIFF"), 4+1000), append([]byte("WAVE"), noise[:1000]...)...),
		"mp4":    append(box("ftyp", []byte("isom\x00\x00\x00\x00")), box("mdat", noise)...),
		"ogg":    page,
		"sqlite": database,
		"rtf":    []byte(`{\rtf1 {\b Quote} 116 \} for planks}`),
		"vcf":    []byte("BEGIN:VCARD\r\nFN:Ines\r\nEND:VCARD\r\nBEGIN:VCARD\r\nFN:Oda\r\nEND:VCARD\r\n"),
	}
}

// A content is recognised by how it begins and ends where its structure says, whatever lies behind it; one that was cut off has no end.
func TestAContentEndsWhereItsStructureSays(t *testing.T) {
	for name, content := range contents(t) {
		of, ok := signature.Of(content)
		if !assert.True(t, ok, name) {
			continue
		}
		assert.Equal(t, name, of.Name)
		for _, behind := range [][]byte{make([]byte, 4096), bytes.Repeat([]byte{0x42, 0xff, 0x00}, 3000), {}} {
			drive := append(append(make([]byte, 512), content...), behind...)
			extent, ok := signature.Length(of, bytes.NewReader(drive), 512, int64(len(drive)-512))
			if assert.True(t, ok, "%s before %d bytes", name, len(behind)) {
				assert.EqualValues(t, len(content), extent.Size, "%s before %d bytes", name, len(behind))
				assert.Equal(t, name == "png", extent.Checked, name)
			}
		}
		if name == "pdf" || name == "vcf" {
			continue // they end where they were last added to
		}
		cut := content[:len(content)-1]
		_, ok = signature.Length(of, bytes.NewReader(cut), 0, int64(len(cut)))
		assert.False(t, ok, "%s without its last byte", name)
	}
}

func TestAPictureWithAWrongByteIsNotChecked(t *testing.T) {
	content := contents(t)["png"]
	content[len(content)/2] ^= 1
	of, ok := signature.Of(content)
	require.True(t, ok)
	_, ok = signature.Length(of, bytes.NewReader(content), 0, int64(len(content)))
	assert.False(t, ok)
}

func TestWhatANameSaysOfABeginning(t *testing.T) {
	for _, c := range []struct {
		name, begins string
		fits, told   bool
	}{
		{"Frame.JPG", "\xff\xd8\xff\xe0", true, true},
		{"Frame.jpg", "\x89PNG\r\n\x1a\n", false, true},
		{"Quote 116.odt", "PK\x03\x04", true, true},
		{"Quote 116.odt", "\x00\x00\x00\x00", false, true},
		{"Log.csv", "heel;3.2", false, false},
		{"jpg", "text", false, true},
		{"", "", false, false},
	} {
		fits, told := signature.Fits(c.name, []byte(c.begins))
		assert.Equal(t, [2]bool{c.fits, c.told}, [2]bool{fits, told}, "%s %q", c.name, c.begins)
	}
}

func FuzzLength(f *testing.F) {
	for _, content := range contents(f) {
		f.Add(content)
	}
	f.Fuzz(func(t *testing.T, b []byte) {
		for _, of := range signature.Types {
			if extent, ok := signature.Length(of, bytes.NewReader(b), 0, int64(len(b))); ok && (extent.Size <= 0 || extent.Size > int64(len(b))) {
				t.Fatalf("%s of %d bytes in %d", of.Name, extent.Size, len(b))
			}
		}
	})
}
