package condition

import (
	"slices"
	"strings"

	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/remark"
)

// A format is what files of some extensions hold.
type format struct {
	extensions string   // the usual one first
	media      []string // what their content may be; those that end in a slash or a dot stand for all that begin so
	what       string
	packed     bool // content that is meant to be as even as noise
}

const oo = "application/vnd.oasis.opendocument."
const ox = "application/vnd.openxmlformats-officedocument."

// formats are those whose content is known by its bytes.
var formats = []format{
	{"odt ott", []string{oo + "text", oo + "text-template"}, "an OpenDocument text", true},
	{"ods ots", []string{oo + "spreadsheet", oo + "spreadsheet-template"}, "an OpenDocument spreadsheet", true},
	{"odp otp", []string{oo + "presentation", oo + "presentation-template"}, "an OpenDocument presentation", true},
	{"odg otg", []string{oo + "graphics", oo + "graphics-template"}, "an OpenDocument drawing", true},
	{"docx docm dotx", []string{ox + "wordprocessingml.document"}, "an Office Open XML text", true},
	{"xlsx xlsm xltx", []string{ox + "spreadsheetml.sheet"}, "an Office Open XML spreadsheet", true},
	{"pptx pptm potx", []string{ox + "presentationml.presentation"}, "an Office Open XML presentation", true},
	{"epub", []string{"application/epub+zip"}, "an EPUB book", true},
	{"pdf", []string{"application/pdf"}, "a PDF document", true},
	{"png", []string{"image/png"}, "a PNG picture", true},
	{"jpg jpeg jpe", []string{"image/jpeg"}, "a JPEG picture", true},
	{"gif", []string{"image/gif"}, "a GIF picture", true},
	{"tif tiff", []string{"image/tiff"}, "a TIFF picture", true},
	{"webp", []string{"image/webp"}, "a WebP picture", true},
	{"bmp", []string{"image/bmp"}, "a BMP picture", true},
	{"svg", []string{"image/svg+xml", "application/xml", "text/plain"}, "an SVG drawing", false},
	{"sqlite sqlite3", []string{"application/vnd.sqlite3"}, "an SQLite database", true},
	{"gz tgz svgz", []string{"application/gzip"}, "gzip-compressed", true},
	{"bz2 tbz", []string{"application/x-bzip2"}, "bzip2-compressed", true},
	{"xz txz", []string{"application/x-xz"}, "xz-compressed", true},
	{"zst", []string{"application/zstd"}, "zstd-compressed", true},
	{"tar", []string{"application/x-tar"}, "a tar archive", true},
	{
		"zip",
		[]string{
			"application/zip",
			"application/epub+zip",
			"application/vnd.oasis.opendocument.",
			"application/vnd.openxmlformats-officedocument.",
		},
		"a ZIP archive",
		true,
	},
	{"rtf", []string{"text/rtf"}, "a rich text", false},
	{"doc dot", []string{"application/x-compound-document", "text/rtf"}, "an older office document", true},
	{"xls ppt msg xlt", []string{"application/x-compound-document"}, "an older office document", true},
	{"mp4 m4v mov m4a", []string{"video/mp4"}, "a recording", true},
	{"mp3", []string{"audio/mpeg", "application/octet-stream"}, "a sound recording", true},
	{"ogg oga opus ogv", []string{"audio/ogg"}, "a recording", true},
	{"flac", []string{"audio/flac"}, "a sound recording", true},
	{"vcf vcard", []string{"text/vcard", "text/"}, "a list of contacts", false},
	{"ics ical ifb", []string{"text/calendar", "text/"}, "a calendar", false},
	{"html htm xhtml", []string{"text/html", "text/", "application/xml"}, "a page", false},
	{"csv tsv", []string{"text/csv", "text/plain"}, "a table", false},
	{"xml fodt fods fodg", []string{"application/xml", "text/", "image/svg+xml"}, "an XML document", false},
	{
		"txt md tex ini conf cfg log json yaml yml toml sh py go c h cpp js ts java rs sql eml mbox ldif dxf step stp iges igs ps " +
			"eps rst org srt css",
		[]string{"text/", "application/xml", "image/svg+xml"},
		"a text",
		false,
	},
}

// formatOf returns the format that a name promises.
func formatOf(name string) (format, string, bool) {
	i := strings.LastIndexByte(name, '.')
	if i <= 0 {
		return format{}, "", false
	}
	ext := strings.ToLower(name[i+1:])
	for _, f := range formats {
		if slices.Contains(strings.Fields(f.extensions), ext) {
			return f, ext, true
		}
	}
	return format{}, ext, false
}

func (f format) allows(media string) bool {
	return slices.ContainsFunc(f.media, func(m string) bool {
		return m == media || (strings.HasSuffix(m, "/") || strings.HasSuffix(m, ".")) && strings.HasPrefix(media, m)
	})
}

// formatFor returns the format that content of a media type has a name for.
func formatFor(media string) (format, bool) {
	for _, f := range formats {
		if slices.Contains(f.media, media) &&
			(f.media[0] == media || media != "application/xml" && media != "text/plain" && media != "application/octet-stream") {
			return f, true
		}
	}
	return format{}, false
}

// For says what the findings mean for a file of a name.
func (f Findings) For(name string) Verdict {
	v := Verdict{State: f.State, Reasons: slices.Clone(f.Reasons), Media: f.Media, Empty: f.Empty(), Noise: f.Noise, Proved: f.Proved}
	promised, ext, known := formatOf(name)
	worse := func(state State, reason remark.Remark) {
		if v.State == Sound || state == Broken {
			v.State = state
		}
		v.Proved = false
		v.Reasons = append([]remark.Remark{reason}, v.Reasons...)
	}
	switch {
	case f.Zero || !known || promised.allows(f.Media):
		if f.Noise && known && !promised.packed {
			worse(Broken, noisy(promised, ext))
		}
		return v
	case f.Media == "application/octet-stream" && f.Noise:
		worse(Broken, noisy(promised, ext))
		return v
	case f.Media == "application/octet-stream":
		worse(
			Broken,
			remark.New("begins-otherwise", "what", promised.what, "ext", ext),
		)
		return v
	}
	actual, ok := formatFor(f.Media)
	isText := strings.HasPrefix(f.Media, "text/") && f.Media != "text/rtf"
	if !ok && isText {
		actual = format{extensions: "txt", what: "a text"}
	} else if !ok {
		actual = format{what: "of another kind (" + f.Media + ")"}
	}
	if isText && promised.packed {
		worse(Doubtful, remark.New("plain-text", "what", promised.what))
	}
	if extensions := strings.Fields(actual.extensions); len(extensions) > 0 && f.State != Broken {
		v.Rename = renamed(name, extensions[0])
		if !isText || !promised.packed {
			v.Reasons = append(
				[]remark.Remark{remark.New("named-otherwise", "is", actual.what, "what", promised.what, "name", place.Readable(v.Rename))},
				v.Reasons...)
		}
	}
	return v
}

func noisy(promised format, ext string) remark.Remark {
	return remark.New("noise", "what", promised.what, "ext", ext)
}

// renamed gives a name another extension; one that it has below its last is what it had before somebody added to it.
func renamed(name, ext string) string {
	stem := name[:strings.LastIndexByte(name, '.')]
	if strings.HasSuffix(strings.ToLower(stem), "."+ext) {
		return stem
	}
	return stem + "." + ext
}
