// Package peek gives a first look at content: what it is by its bytes, and the part of it that a person can read.
//
// Content is hostile. Nothing here trusts a length, a name or a declared type; everything is bounded by the constants
// of this package, and what comes out is plain text or pixels drawn anew.
package peek

import (
	"bytes"
	"io"
	"strings"
)

// sniffBytes is how much of the beginning tells the type.
const sniffBytes = 4096

type magic struct {
	at        int
	bytes     string
	mediaType string
}

// The signatures, from the formats' own standards; the first that fits counts.
var magics = []magic{
	{0, "\x89PNG\r\n\x1a\n", "image/png"},
	{0, "\xff\xd8\xff", "image/jpeg"},
	{0, "GIF87a", "image/gif"},
	{0, "GIF89a", "image/gif"},
	{0, "II*\x00", "image/tiff"},
	{0, "MM\x00*", "image/tiff"},
	{8, "WEBP", "image/webp"},
	{0, "BM", "image/bmp"},
	{0, "%PDF-", "application/pdf"},
	{0, "PK\x03\x04", "application/zip"},
	{0, "PK\x05\x06", "application/zip"},
	{0, `{\rtf`, "text/rtf"},
	{0, "\x1f\x8b", "application/gzip"},
	{0, "BZh", "application/x-bzip2"},
	{0, "\xfd7zXZ\x00", "application/x-xz"},
	{0, "\x28\xb5\x2f\xfd", "application/zstd"},
	{257, "ustar", "application/x-tar"},
	{0, "SQLite format 3\x00", "application/vnd.sqlite3"},
	{0, "\x7fELF", "application/x-elf"},
	{0, "OggS", "audio/ogg"},
	{0, "fLaC", "audio/flac"},
	{0, "ID3", "audio/mpeg"},
	{4, "ftyp", "video/mp4"},
	{0, "\xd0\xcf\x11\xe0\xa1\xb1\x1a\xe1", "application/x-compound-document"},
}

// Sniff returns the media type of content by its first bytes; empty content is application/x-empty, unknown content
// application/octet-stream.
func Sniff(head []byte) string {
	if len(head) == 0 {
		return "application/x-empty"
	}
	for _, m := range magics {
		if len(head) >= m.at+len(m.bytes) && string(head[m.at:m.at+len(m.bytes)]) == m.bytes {
			if m.mediaType == "application/zip" {
				return zipType(head)
			}
			if m.mediaType == "image/bmp" && !plausibleBMP(head) {
				continue
			}
			return m.mediaType
		}
	}
	if _, ok := textEncoding(head); ok {
		return textType(head)
	}
	return "application/octet-stream"
}

// plausibleBMP asks for the reserved zero bytes, because many texts begin with the letters BM.
func plausibleBMP(head []byte) bool {
	return len(head) >= 18 && bytes.Equal(head[6:10], make([]byte, 4)) && head[14] >= 12 && head[15] == 0
}

// zipType reads the media type that OpenDocument and EPUB store, uncompressed, as their first member "mimetype". Its
// length may stand behind it only, so the type ends where its characters do; a capital P begins what follows.
func zipType(head []byte) string {
	const name = "mimetype"
	if len(head) < 38 || string(head[30:38]) != name || !bytes.Equal(head[8:10], []byte{0, 0}) {
		return "application/zip"
	}
	rest := head[min(len(head), 38+(int(head[28])|int(head[29])<<8)):]
	end := bytes.IndexFunc(rest, func(r rune) bool {
		return !('a' <= r && r <= 'z' || '0' <= r && r <= '9' || strings.ContainsRune("/.+-", r))
	})
	if mediaType := string(rest[:max(0, end)]); strings.HasPrefix(mediaType, "application/") {
		return mediaType
	}
	return "application/zip"
}

func textType(head []byte) string {
	text := strings.ToLower(strings.TrimLeft(strings.TrimPrefix(string(head), "\ufeff"), " \t\r\n"))
	switch {
	case strings.HasPrefix(text, "<svg") || strings.HasPrefix(text, "<?xml") && strings.Contains(text, "<svg"):
		return "image/svg+xml"
	case strings.HasPrefix(text, "<!doctype html") || strings.HasPrefix(text, "<html"):
		return "text/html"
	case strings.HasPrefix(text, "<?xml"):
		return "application/xml"
	case strings.HasPrefix(text, "begin:vcard"):
		return "text/vcard"
	case strings.HasPrefix(text, "begin:vcalendar"):
		return "text/calendar"
	}
	return "text/plain"
}

func readHead(r io.ReaderAt, size int64, max int) ([]byte, error) {
	head := make([]byte, min(size, int64(max)))
	n, err := r.ReadAt(head, 0)
	if err == io.EOF {
		err = nil
	}
	return head[:n], err
}
