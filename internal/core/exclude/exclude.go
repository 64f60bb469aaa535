// Package exclude tells what surveys leave out: by patterns that technicians give, and trash folders, which other sources read.
//
// A pattern without a slash is held against every name, one with a slash against the whole path, a place on the machine. A star
// stands for any run of characters but a slash, two of them between slashes for any number of folders, a question mark for one
// character, brackets for one of several; a backslash takes the next character as it is. Braces are no more than braces. A folder takes
// along what is in it.
package exclude

import (
	"fmt"
	"strings"
	"unicode/utf8"

	"github.com/bmatcuk/doublestar/v4"

	"humble-rewind/internal/core/place"
)

// Check says which pattern cannot be understood.
func Check(patterns []string) error {
	for _, p := range patterns {
		if p == "" || !doublestar.ValidatePattern(literalBraces(p)) {
			return fmt.Errorf("%s is not a pattern", place.Quote(p))
		}
		if strings.Contains(p, "/") && !strings.HasPrefix(p, "/") {
			return fmt.Errorf("pattern %s holds a slash but does not begin with one; write the whole path", place.Quote(p))
		}
	}
	return nil
}

// literalBraces escapes braces, which the library would take for alternatives.
func literalBraces(pattern string) string {
	if !strings.ContainsAny(pattern, "{}") {
		return pattern
	}
	var b strings.Builder
	escaped, class := false, false
	for i := range len(pattern) {
		c := pattern[i]
		if (c == '{' || c == '}') && !escaped && !class {
			b.WriteByte('\\')
		}
		switch {
		case escaped:
			escaped = false
		case c == '\\':
			escaped = true
		case c == '[':
			class = true
		case c == ']':
			class = false
		}
		b.WriteByte(c)
	}
	return b.String()
}

// characters makes a character of its own of each byte that is part of none, in the last places of Unicode's last private plane: the
// library takes all such bytes for the same.
func characters(s string) string {
	if utf8.ValidString(s) {
		return s
	}
	var b strings.Builder
	for i, size := 0, 0; i < len(s); i += size {
		var r rune
		if r, size = utf8.DecodeRuneInString(s[i:]); r == utf8.RuneError && size == 1 {
			const last = 0x10FF00
			r = last + rune(s[i])
		}
		b.WriteRune(r)
	}
	return b.String()
}

// By returns the pattern that leaves out an entry by its path on the machine, which must be clean; "" where none does. What lies in a
// folder that is left out is not looked at: see Within.
func By(patterns []string, at string) string {
	name := place.Name(at)
	for _, p := range patterns {
		subject := name
		if strings.Contains(p, "/") {
			subject = at
		}
		if ok, _ := doublestar.Match(characters(literalBraces(p)), characters(subject)); ok {
			return p
		}
	}
	return ""
}

// Within returns the pattern that leaves out an entry or a folder above it, up to the folder top; "" where none does.
func Within(patterns []string, at, top string) string {
	for ; len(at) > len(top) && at != "/"; at = place.Folder(at) {
		if p := By(patterns, at); p != "" {
			return p
		}
	}
	return ""
}

// Trash tells whether a folder is one that desktops throw things into (freedesktop.org Trash specification 1.0).
func Trash(at string) bool {
	name := place.Name(at)
	return strings.HasSuffix(at, "/.local/share/Trash") || name == ".Trash" || strings.HasPrefix(name, ".Trash-")
}

// InTrash tells whether a path lies in a trash below the folder top.
func InTrash(at, top string) bool {
	for ; len(at) > len(top) && at != "/"; at = place.Folder(at) {
		if Trash(at) {
			return true
		}
	}
	return false
}
