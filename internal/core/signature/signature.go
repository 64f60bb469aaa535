// Package signature knows types of contents by how they begin. Each is told by what the description of its format says of its first bytes.
package signature

import (
	"bytes"
	"strings"
)

// Type is a type of content.
type Type struct {
	Name    string   // as files of it end
	Endings []string // that files of it have, in small letters
	begins  func(head []byte) bool
}

func prefix(texts ...string) func([]byte) bool {
	return func(head []byte) bool {
		for _, text := range texts {
			if bytes.HasPrefix(head, []byte(text)) {
				return true
			}
		}
		return false
	}
}

func at(offset int, texts ...string) func([]byte) bool {
	of := prefix(texts...)
	return func(head []byte) bool { return len(head) > offset && of(head[offset:]) }
}

func both(one, other func([]byte) bool) func([]byte) bool {
	return func(head []byte) bool { return one(head) && other(head) }
}

func either(one, other func([]byte) bool) func([]byte) bool {
	return func(head []byte) bool { return one(head) || other(head) }
}

// Types are those that are known. None of them begins with a block of zeros.
var Types = []Type{
	{"jpg", []string{"jpg", "jpeg", "jpe", "jfif"}, prefix("\xff\xd8\xff")},
	{"png", []string{"png"}, prefix("\x89PNG\r\n\x1a\n")},
	{"gif", []string{"gif"}, prefix("GIF87a", "GIF89a")},
	{"tif", []string{"tif", "tiff", "nef", "cr2", "arw", "dng", "pef", "srw"}, prefix("II*\x00", "MM\x00*")},
	{"orf", []string{"orf"}, prefix("IIRO", "IIRS", "MMOR")},
	{"rw2", []string{"rw2"}, prefix("IIU\x00")},
	{"bmp", []string{"bmp"}, prefix("BM")},
	{"webp", []string{"webp"}, both(prefix("RIFF"), at(8, "WEBP"))},
	{"heic", []string{"heic", "heif", "avif", "cr3"}, at(4, "ftyphei", "ftyphevc", "ftypmif1", "ftypmsf1", "ftypavi", "ftypcrx ")},
	{"pdf", []string{"pdf"}, func(head []byte) bool { return bytes.Contains(head[:min(len(head), 1024)], []byte("%PDF-")) }},
	{"zip", []string{"zip", "odt", "ods", "odp", "odg", "odf", "ott", "ots", "docx", "xlsx", "pptx", "dotx", "epub", "jar", "fcstd", "3mf", "kmz"},
		prefix("PK\x03\x04", "PK\x05\x06", "PK\x07\x08")},
	{"doc", []string{"doc", "xls", "ppt", "msg", "msi", "pub", "vsd"}, prefix("\xd0\xcf\x11\xe0\xa1\xb1\x1a\xe1")},
	{"sqlite", []string{"sqlite", "sqlite3"}, prefix("SQLite format 3\x00")},
	{"gz", []string{"gz", "tgz", "svgz"}, prefix("\x1f\x8b\x08")},
	{"xz", []string{"xz", "txz"}, prefix("\xfd7zXZ\x00")},
	{"bz2", []string{"bz2", "tbz2"}, prefix("BZh")},
	{"zst", []string{"zst"}, prefix("\x28\xb5\x2f\xfd")},
	{"7z", []string{"7z"}, prefix("7z\xbc\xaf\x27\x1c")},
	{"rar", []string{"rar"}, prefix("Rar!\x1a\x07")},
	{"rtf", []string{"rtf"}, prefix("{\\rtf")},
	{"mp3", []string{"mp3"}, either(prefix("ID3"), func(h []byte) bool { return len(h) > 1 && h[0] == 0xff && h[1]&0xe6 == 0xe2 })},
	{"wav", []string{"wav"}, both(prefix("RIFF", "RF64"), at(8, "WAVE"))},
	{"avi", []string{"avi"}, both(prefix("RIFF"), at(8, "AVI "))},
	{"flac", []string{"flac"}, prefix("fLaC")},
	{"ogg", []string{"ogg", "oga", "ogv", "opus"}, prefix("OggS")},
	{"mp4", []string{"mp4", "m4a", "m4v", "mov", "3gp"}, at(4, "ftyp", "moov", "mdat", "wide", "free", "skip")},
	{"mkv", []string{"mkv", "mka", "webm"}, prefix("\x1a\x45\xdf\xa3")},
	{"wmv", []string{"wmv", "wma", "asf"}, prefix("\x30\x26\xb2\x75\x8e\x66\xcf\x11")},
	{"mbox", []string{"mbox"}, prefix("From ")},
	{"vcf", []string{"vcf"}, prefix("BEGIN:VCARD")},
	{"ics", []string{"ics"}, prefix("BEGIN:VCALENDAR")},
	{"dwg", []string{"dwg"}, prefix("AC10")},
	{"ps", []string{"ps", "eps", "ai"}, prefix("%!PS", "%PDF-", "\xc5\xd0\xd3\xc6")},
}

var byEnding = func() map[string][]Type {
	all := map[string][]Type{}
	for _, t := range Types {
		for _, ending := range t.Endings {
			all[ending] = append(all[ending], t)
		}
	}
	return all
}()

// Fits tells whether a content that begins so may be of the type that a name says. told says whether anything is known of that type.
func Fits(name string, head []byte) (fits, told bool) {
	types := byEnding[strings.ToLower(name[strings.LastIndexByte(name, '.')+1:])]
	for _, t := range types {
		if t.begins(head) {
			return true, true
		}
	}
	return false, len(types) > 0
}

// Of tells which type begins so; false where none does.
func Of(head []byte) (Type, bool) {
	for _, t := range Types {
		if t.begins(head) {
			return t, true
		}
	}
	return Type{}, false
}
