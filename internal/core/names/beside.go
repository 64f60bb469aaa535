package names

import (
	"fmt"
	"regexp"
	"strings"
	"time"
	"unicode/utf8"
)

// MaxBytes is the longest name that common file systems keep, in bytes.
const MaxBytes = 255

// marked are the marks that Beside has put at the end of a name.
var marked = regexp.MustCompile(`( \((deleted|from|as of|set aside)( \d{4}-\d\d-\d\d \d\d\.\d\d)?(, \d+)?\))+$`)

// Beside returns a readable name for a copy that is put beside what already stands under name: the time the copy is
// from goes before the extension, "Quote 17 (deleted 2026-11-12 14.05).odt", and a counter where even that is taken.
// The name stays within [MaxBytes], cut where a character ends. What an earlier call put into the name gives way, so that what is
// brought back again and again does not pile up words.
func Beside(name, what string, when time.Time, taken func(string) bool) string {
	stem, ext := split(name)
	if bare := marked.ReplaceAllString(stem, ""); bare != "" {
		stem = bare
	}
	label := what
	if !when.IsZero() {
		label += when.Format(" 2006-01-02 15.04")
	}
	for n := 1; ; n++ {
		mark := " (" + label + ")"
		if n > 1 {
			mark = fmt.Sprintf(" (%s, %d)", label, n)
		}
		candidate := cut(stem, MaxBytes-len(mark)-len(ext)) + mark + ext
		if !taken(candidate) {
			return candidate
		}
	}
}

// split parts a name before its extension, which may be a double one such as .tar.gz. A long tail is no extension.
func split(name string) (stem, ext string) {
	i := strings.LastIndexByte(name, '.')
	if i <= 0 || len(name)-i > 12 {
		return name, ""
	}
	if j := strings.LastIndexByte(name[:i], '.'); j > 0 && name[j:i] == ".tar" {
		i = j
	}
	return name[:i], name[i:]
}

func cut(s string, max int) string {
	if len(s) <= max {
		return s
	}
	for end := max; end > max-utf8.UTFMax && end > 0; end-- {
		if utf8.RuneStart(s[end]) {
			return s[:end]
		}
	}
	return s[:max] // not UTF-8: any byte will do
}
