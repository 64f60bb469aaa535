// Package place names where files are: a machine and a path on it.
//
// Paths are byte strings, as POSIX file systems keep them: any byte but NUL, and the slash between names. They are
// never decoded or normalised; they are made readable only when shown (see [Readable] and [Quote]).
package place

import (
	"errors"
	"fmt"
	"strings"
	"unicode"
	"unicode/utf8"
)

// Place is a path on a machine. The zero Place is no place.
type Place struct {
	Machine string
	Path    string // absolute and clean, see [Clean]
}

// String returns machine:/path with the path as readable text; see [Quote] for a form that can be pasted into a shell.
func (p Place) String() string { return p.Machine + ":" + Readable(p.Path) }

// Name returns the last name of the path, or "/" for the root.
func (p Place) Name() string { return Name(p.Path) }

// Parent is the folder that the place lies in; the root lies in itself.
func (p Place) Parent() Place { return Place{p.Machine, Folder(p.Path)} }

// ErrNotPlace says that a text names no place.
var ErrNotPlace = errors.New("not a place")

// Parse reads machine:/absolute/path. A single trailing slash is dropped; see [EndsInSlash] to ask for it first.
func Parse(text string) (Place, error) {
	machine, path, found := strings.Cut(text, ":")
	if !found || machine == "" {
		return Place{}, fmt.Errorf("%w: %s: write it as machine:/absolute/path", ErrNotPlace, Quote(text))
	}
	if strings.ContainsRune(machine, '/') {
		return Place{}, fmt.Errorf("%w: %s: name the machine before the path, as in machine:/absolute/path", ErrNotPlace, Quote(text))
	}
	path, err := Clean(path)
	if err != nil {
		return Place{}, err
	}
	return Place{machine, path}, nil
}

// EndsInSlash tells whether a path as typed asks for a folder.
func EndsInSlash(path string) bool { return strings.HasSuffix(path, "/") }

// Clean checks an absolute path and returns it without repeated, trailing or "." parts. It refuses what could lead
// elsewhere: relative paths, ".." and NUL bytes. Unlike path.Clean it never resolves "..", because a link before it
// would make the answer wrong.
func Clean(path string) (string, error) {
	if !strings.HasPrefix(path, "/") {
		return "", fmt.Errorf("%w: path %s is not absolute: start it with a slash", ErrNotPlace, Quote(path))
	}
	rest, err := CleanRelative(strings.TrimLeft(path, "/"))
	if err != nil {
		return "", err
	}
	return "/" + rest, nil
}

// CleanRelative is [Clean] for a path that must stay below where it is read from. The empty path is that folder itself.
func CleanRelative(path string) (string, error) {
	if strings.HasPrefix(path, "/") {
		return "", fmt.Errorf("%w: path %s is absolute where a relative one is wanted", ErrNotPlace, Quote(path))
	}
	if strings.ContainsRune(path, 0) {
		return "", fmt.Errorf("%w: path %s holds a NUL byte", ErrNotPlace, Quote(path))
	}
	parts := strings.Split(path, "/")
	kept := parts[:0]
	for _, part := range parts {
		switch part {
		case "", ".":
		case "..":
			return "", fmt.Errorf("%w: path %s climbs with \"..\"", ErrNotPlace, Quote(path))
		default:
			kept = append(kept, part)
		}
	}
	return strings.Join(kept, "/"), nil
}

// Name returns the last name of a clean path, or "/" for the root.
func Name(path string) string {
	if path == "/" {
		return path
	}
	return path[strings.LastIndexByte(path, '/')+1:]
}

// Folder returns the folder that a clean absolute path lies in; the root lies in itself.
func Folder(path string) string {
	i := strings.LastIndexByte(path, '/')
	if i <= 0 {
		return "/"
	}
	return path[:i]
}

// Join puts a name or a clean relative path under a clean absolute folder.
func Join(folder, name string) string {
	switch {
	case name == "":
		return folder
	case folder == "/" || folder == "":
		return folder + name
	}
	return folder + "/" + name
}

// Under tells whether a clean path is folder or lies below it.
func Under(path, folder string) bool {
	if folder == "/" {
		return true
	}
	rest, ok := strings.CutPrefix(path, folder)
	return ok && (rest == "" || rest[0] == '/')
}

// Below returns path relative to folder, without a leading slash, and whether it lies there.
func Below(path, folder string) (string, bool) {
	if !Under(path, folder) {
		return "", false
	}
	return strings.TrimPrefix(strings.TrimPrefix(path, strings.TrimSuffix(folder, "/")), "/"), true
}

// Readable returns a path as text that a terminal or a page can show safely: bytes that are not UTF-8, control
// characters and marks that change the direction of writing become \xNN or \u{NNNN} escapes, a backslash becomes \\.
// A path of plain printable characters is returned as it is.
func Readable(path string) string {
	if plain(path) {
		return path
	}
	var b strings.Builder
	for i := 0; i < len(path); {
		r, n := utf8.DecodeRuneInString(path[i:])
		switch {
		case r == utf8.RuneError && n == 1:
			fmt.Fprintf(&b, `\x%02x`, path[i])
		case r == '\n':
			b.WriteString(`\n`)
		case r == '\t':
			b.WriteString(`\t`)
		case r == '\\':
			b.WriteString(`\\`)
		case r < 0x80 && !unicode.IsPrint(r):
			fmt.Fprintf(&b, `\x%02x`, r)
		case !showable(r):
			fmt.Fprintf(&b, `\u{%04x}`, r)
		default:
			b.WriteString(path[i : i+n])
		}
		i += n
	}
	return b.String()
}

func plain(s string) bool {
	for i := 0; i < len(s); {
		r, n := utf8.DecodeRuneInString(s[i:])
		if r == utf8.RuneError && n == 1 || r == '\\' || !showable(r) {
			return false
		}
		i += n
	}
	return true
}

// showable leaves out controls, format characters (which hold the direction marks) and unusual spaces.
func showable(r rune) bool {
	return r == ' ' || unicode.IsPrint(r) && !unicode.Is(unicode.Cf, r)
}

// Quote returns a path in a form that can be pasted into bash, zsh or fish and stands for exactly the same bytes:
// bare where that is safe, in single quotes where it is printable, else in $'…' quotes (which fish lacks).
func Quote(path string) string {
	bare := func(r rune) bool {
		return r < utf8.RuneSelf && (unicode.IsLetter(r) || unicode.IsDigit(r)) || strings.ContainsRune("/._-+:,@%=", r)
	}
	if path != "" && strings.IndexFunc(path, func(r rune) bool { return !bare(r) }) < 0 {
		return path
	}
	printable := utf8.ValidString(path) && strings.IndexFunc(path, func(r rune) bool { return !showable(r) }) < 0
	if printable {
		return "'" + strings.ReplaceAll(path, "'", `'\''`) + "'"
	}
	var b strings.Builder
	b.WriteString("$'")
	for i := 0; i < len(path); {
		r, n := utf8.DecodeRuneInString(path[i:])
		switch {
		case r == '\n':
			b.WriteString(`\n`)
		case r == '\t':
			b.WriteString(`\t`)
		case r == '\'' || r == '\\':
			b.WriteByte('\\')
			b.WriteRune(r)
		case r == utf8.RuneError && n == 1 || !showable(r):
			for _, c := range []byte(path[i : i+n]) {
				fmt.Fprintf(&b, `\x%02x`, c)
			}
		default:
			b.WriteString(path[i : i+n])
		}
		i += n
	}
	b.WriteByte('\'')
	return b.String()
}

// Inert returns a text as it may be shown on a line of a terminal, a page or a report: whatever is no letter or space, such as what moves
// a cursor or turns the direction of writing, is a replacement character; lines follow each other behind spaces.
func Inert(text string) string {
	return strings.Map(func(r rune) rune {
		switch {
		case r == '\n' || r == '\r' || r == '\t':
			return ' '
		case showable(r):
			return r
		}
		return utf8.RuneError
	}, strings.ToValidUTF8(text, "\uFFFD"))
}
