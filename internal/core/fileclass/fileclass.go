// Package fileclass sorts files into the classes by which people ask for them: documents, pictures and so on.
//
// The class goes by the extension, because it must be known for millions of names that nobody has read; what a file
// really holds is another question, answered by its content (see package peek).
package fileclass

import "strings"

// Class is what a person would call a file.
type Class string

// The classes.
const (
	Documents    Class = "documents"
	Spreadsheets Class = "spreadsheets"
	Drawings     Class = "drawings"
	Pictures     Class = "pictures"
	Contacts     Class = "contacts"
	Calendars    Class = "calendars"
	Mail         Class = "mail"
	Archives     Class = "archives"
	Sound        Class = "sound"
	Video        Class = "video"
	Programs     Class = "programs"
	Folders      Class = "folders"
	Other        Class = "other"
)

var extensions = map[Class]string{
	Documents:    "odt ott fodt doc docx docm dot dotx rtf txt md tex pdf ps epub odp otp ppt pptx html htm xhtml org rst pages wpd",
	Spreadsheets: "ods ots fods xls xlsx xlsm xlt csv tsv numbers",
	Drawings:     "svg svgz dxf dwg odg otg step stp iges igs stl fcstd skp eps drw",
	Pictures:     "png jpg jpeg jpe gif tif tiff webp bmp heic heif avif raw cr2 cr3 nef arw dng orf rw2 xcf psd kra",
	Contacts:     "vcf vcard ldif",
	Calendars:    "ics ical ifb",
	Mail:         "eml mbox msg pst mbx",
	Archives:     "zip tar gz tgz bz2 xz zst 7z rar cab iso txz tbz",
	Sound:        "mp3 ogg oga opus flac wav m4a aac aif aiff mid",
	Video:        "mp4 mkv mov avi webm m4v mpg mpeg wmv ogv",
	Programs:     "sh py go c h cpp js ts java rs exe msi deb rpm so dll json yaml yml xml ini conf toml sql",
}

var byExtension = func() map[string]Class {
	m := map[string]Class{}
	for class, list := range extensions {
		for _, ext := range strings.Fields(list) {
			m[ext] = class
		}
	}
	return m
}()

// Of returns the class of a file by its name.
func Of(name string) Class {
	i := strings.LastIndexByte(name, '.')
	if i <= 0 {
		return Other
	}
	if class, ok := byExtension[strings.ToLower(name[i+1:])]; ok {
		return class
	}
	return Other
}
