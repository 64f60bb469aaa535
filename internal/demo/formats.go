package demo

import (
	"archive/zip"
	"bytes"
	"encoding/csv"
	"fmt"
	"hash/crc32"
	"hash/fnv"
	"html"
	"image"
	"image/color"
	"image/jpeg"
	"image/png"
	"math"
	"math/rand/v2"
	"strings"
	"sync"
	"time"
)

// random returns a source that gives the same numbers for the same words every time.
func random(words ...string) *rand.Rand {
	h := fnv.New64a()
	for _, w := range words {
		h.Write([]byte(w + "\x00"))
	}
	return rand.New(rand.NewPCG(h.Sum64(), 1954))
}

// hull is a boat as its offsets: half-breadths in millimetres by station (bow to stern) and waterline (keel to sheer).
type hull struct {
	name     string
	stations int
	lines    int
	length   float64 // millimetres
	half     [][]float64
}

func newHull(name string, revision int) hull {
	r := random("hull", name)
	h := hull{name: name, stations: 11, lines: 7, length: 4800 + 200*float64(r.IntN(14))}
	beam := h.length * (0.30 + 0.04*r.Float64()) / 2
	for s := range h.stations {
		along := float64(s) / float64(h.stations-1)
		row := make([]float64, h.lines)
		for l := range h.lines {
			up := float64(l) / float64(h.lines-1)
			full := math.Pow(math.Sin(math.Pi*math.Min(1, along*0.86+0.02)), 0.7)
			row[l] = math.Round(beam * full * math.Pow(up, 0.5-0.25*along) * (1 + 0.004*float64(revision)))
		}
		h.half = append(h.half, row)
	}
	return h
}

func (h hull) table() [][]string {
	head := []string{"station"}
	for l := range h.lines {
		head = append(head, fmt.Sprintf("WL%d", l))
	}
	rows := [][]string{head}
	for s, half := range h.half {
		row := []string{fmt.Sprint(s)}
		for _, v := range half {
			row = append(row, fmt.Sprintf("%.0f", v))
		}
		rows = append(rows, row)
	}
	return rows
}

// offsetsCSV is a table of offsets as RFC 4180 has it.
func offsetsCSV(h hull) []byte {
	var b bytes.Buffer
	w := csv.NewWriter(&b)
	w.UseCRLF = true
	_ = w.WriteAll(h.table()) // into memory
	return b.Bytes()
}

// linesSVG is the body plan and sheer of a hull, as SVG 1.1.
func linesSVG(h hull, revision int) []byte {
	var b strings.Builder
	fmt.Fprintf(&b, `<?xml version="1.0" encoding="UTF-8"?>
<svg xmlns="http://www.w3.org/2000/svg" width="900" height="420" viewBox="0 0 900 420">
<title>%s, lines, revision %d</title>
<rect width="900" height="420" fill="#fbfaf6"/>
<g fill="none" stroke="#1d3a4a" stroke-width="1.4">
`, html.EscapeString(h.name), revision)
	scale := 820 / h.length
	for l := range h.lines {
		var points []string
		for s, half := range h.half {
			points = append(points, fmt.Sprintf("%.1f,%.1f", 40+820*float64(s)/float64(h.stations-1), 205-half[l]*scale))
		}
		fmt.Fprintf(&b, "<polyline points=\"%s\"/>\n", strings.Join(points, " "))
	}
	for s, half := range h.half {
		side := 1.0
		if s > h.stations/2 {
			side = -1
		}
		var points []string
		for l, v := range half {
			points = append(points, fmt.Sprintf("%.1f,%.1f", 450+side*v*scale, 395-float64(l)*24))
		}
		fmt.Fprintf(&b, "<polyline points=\"%s\" stroke=\"#7a4b2a\"/>\n", strings.Join(points, " "))
	}
	fmt.Fprintf(&b, "</g>\n<path d=\"M40 205H860M450 230V400\" stroke=\"#999\" stroke-dasharray=\"6 4\"/>\n")
	fmt.Fprintf(
		&b,
		"<text x=\"40\" y=\"30\" font-family=\"sans-serif\" font-size=\"18\">%s · lines · rev %d · LOA %.2f m</text>\n</svg>\n",
		html.EscapeString(h.name),
		revision,
		h.length/1000,
	)
	return []byte(b.String())
}

// openDocument packs an OpenDocument 1.3 file: its media type first and uncompressed, as part 2, section 3.3 wants it.
func openDocument(mediaType, body string, at time.Time) []byte {
	var b bytes.Buffer
	w := zip.NewWriter(&b)
	add := func(name string, method uint16, content string) {
		header := &zip.FileHeader{Name: name, Method: method, Modified: at}
		create := w.CreateHeader
		if method == zip.Store { // sizes before the content, as readers that look for the media type expect them
			header.CRC32 = crc32.ChecksumIEEE([]byte(content))
			header.CompressedSize64, header.UncompressedSize64 = uint64(len(content)), uint64(len(content))
			create = w.CreateRaw
		}
		f, err := create(header)
		if err == nil {
			_, err = f.Write([]byte(content))
		}
		if err != nil {
			panic(err) // into memory
		}
	}
	const head = `<?xml version="1.0" encoding="UTF-8"?>` + "\n"
	add("mimetype", zip.Store, mediaType)
	add(
		"META-INF/manifest.xml",
		zip.Deflate,
		head+`<manifest:manifest xmlns:manifest="urn:oasis:names:tc:opendocument:xmlns:manifest:1.0" manifest:version="1.3">`+
			`<manifest:file-entry manifest:full-path="/" manifest:version="1.3" manifest:media-type="`+mediaType+`"/>`+
			`<manifest:file-entry manifest:full-path="content.xml" manifest:media-type="text/xml"/>`+
			`<manifest:file-entry manifest:full-path="styles.xml" manifest:media-type="text/xml"/></manifest:manifest>`,
	)
	add(
		"styles.xml",
		zip.Deflate,
		head+`<office:document-styles xmlns:office="urn:oasis:names:tc:opendocument:xmlns:office:1.0" office:version="1.3"><office:styles/></office:document-styles>`,
	)
	add("content.xml", zip.Deflate, head+`<office:document-content xmlns:office="urn:oasis:names:tc:opendocument:xmlns:office:1.0" `+
		`xmlns:text="urn:oasis:names:tc:opendocument:xmlns:text:1.0" xmlns:table="urn:oasis:names:tc:opendocument:xmlns:table:1.0" office:version="1.3"><office:body>`+
		body+`</office:body></office:document-content>`)
	if err := w.Close(); err != nil {
		panic(err)
	}
	return b.Bytes()
}

func textDocument(title string, paragraphs []string, at time.Time) []byte {
	var b strings.Builder
	fmt.Fprintf(&b, `<office:text><text:h text:outline-level="1">%s</text:h>`, html.EscapeString(title))
	for _, p := range paragraphs {
		fmt.Fprintf(&b, "<text:p>%s</text:p>", html.EscapeString(p))
	}
	b.WriteString("</office:text>")
	return openDocument("application/vnd.oasis.opendocument.text", b.String(), at)
}

func spreadsheet(name string, rows [][]string, at time.Time) []byte {
	var b strings.Builder
	fmt.Fprintf(&b, `<office:spreadsheet><table:table table:name="%s">`, html.EscapeString(name))
	for _, row := range rows {
		b.WriteString("<table:table-row>")
		for _, cell := range row {
			fmt.Fprintf(&b, `<table:table-cell office:value-type="string"><text:p>%s</text:p></table:table-cell>`, html.EscapeString(cell))
		}
		b.WriteString("</table:table-row>")
	}
	b.WriteString("</table:table></office:spreadsheet>")
	return openDocument("application/vnd.oasis.opendocument.spreadsheet", b.String(), at)
}

// photograph draws a boat on the water under a sky whose light is the picture's own.
func photograph(subject string, width, height int) image.Image {
	r := random("photograph", subject)
	m := image.NewRGBA(image.Rect(0, 0, width, height))
	horizon := height/3 + r.IntN(height/4)
	light := uint8(r.IntN(70))
	for y := range height {
		for x := range width {
			grain := uint8(r.IntN(12))
			c := color.RGBA{150 + light/2, 180 + light/3, 205, 255}
			if y > horizon {
				ripple := uint8(18 * (1 + math.Sin(float64(y*y)/260+float64(x)/23)))
				c = color.RGBA{35 + ripple, 80 + ripple, 98 + ripple, 255}
			}
			c.R, c.G, c.B = c.R+grain, c.G+grain, c.B+grain
			m.SetRGBA(x, y, c)
		}
	}
	paint := color.RGBA{uint8(90 + r.IntN(150)), uint8(40 + r.IntN(80)), uint8(30 + r.IntN(90)), 255}
	centre, long, deep := width/2+r.IntN(width/5)-width/10, width/4+r.IntN(width/8), height/9
	for dy := range deep {
		span := int(float64(long) * math.Sqrt(1-math.Pow(float64(dy)/float64(deep), 2)))
		for x := centre - span; x < centre+span; x++ {
			m.SetRGBA(x, horizon+height/10+dy, paint)
		}
	}
	for y := horizon - height/4; y < horizon+height/10; y++ {
		for x := centre - 2; x <= centre+2; x++ {
			m.SetRGBA(x, y, color.RGBA{70, 50, 35, 255})
		}
	}
	return m
}

// drawn keeps pictures by their subjects: drawing them is most of the work of building a world, and a process may build
// several.
var drawn sync.Map

func picture(key string, encode func(*bytes.Buffer) error) []byte {
	if known, ok := drawn.Load(key); ok {
		return known.([]byte)
	}
	var b bytes.Buffer
	if err := encode(&b); err != nil {
		panic(err) // into memory
	}
	drawn.Store(key, b.Bytes())
	return b.Bytes()
}

func jpegOf(subject string) []byte {
	return picture("jpeg "+subject, func(b *bytes.Buffer) error {
		return jpeg.Encode(b, photograph(subject, 640, 420), &jpeg.Options{Quality: 82})
	})
}

func pngOf(subject string) []byte {
	return picture("png "+subject, func(b *bytes.Buffer) error { return png.Encode(b, photograph(subject, 240, 160)) })
}

// vcards is a contact list of vCard 4.0 (RFC 6350), its lines ended and folded as they must be.
func vcards(people []string) []byte {
	var b strings.Builder
	for i, name := range people {
		given, family, _ := strings.Cut(name, " ")
		lines(&b, "BEGIN:VCARD", "VERSION:4.0", "UID:urn:uuid:"+uuidOf(name), "FN:"+name, "N:"+family+";"+given+";;;",
			fmt.Sprintf("TEL;VALUE=uri:tel:+351-555-01%02d", i), "EMAIL:"+strings.ToLower(given)+"@alderquay.example", "END:VCARD")
	}
	return []byte(b.String())
}

// calendar is an iCalendar of RFC 5545.
func calendar(events []string, from time.Time) []byte {
	var b strings.Builder
	lines(&b, "BEGIN:VCALENDAR", "VERSION:2.0", "PRODID:-//Alder Quay Boatyard//Yard calendar//EN")
	for i, event := range events {
		at := from.AddDate(0, 0, 3*i).UTC()
		lines(&b, "BEGIN:VEVENT", "UID:"+uuidOf(event)+"@alderquay.example", "DTSTAMP:"+from.UTC().Format("20060102T150405Z"),
			"DTSTART:"+at.Format("20060102T090000Z"), "DTEND:"+at.Format("20060102T110000Z"), "SUMMARY:"+event, "END:VEVENT")
	}
	lines(&b, "END:VCALENDAR")
	return []byte(b.String())
}

func lines(b *strings.Builder, all ...string) {
	for _, line := range all {
		b.WriteString(line + "\r\n")
	}
}

func uuidOf(words string) string {
	r := random("uuid", words)
	a, b := r.Uint64(), r.Uint64()
	return fmt.Sprintf("%08x-%04x-4%03x-8%03x-%012x", uint32(a>>32), uint16(a>>16), a&0xfff, b>>52, b&0xffffffffffff)
}
