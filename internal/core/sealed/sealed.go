// Package sealed knows folders that only make sense whole: containers of encrypted files, databases that are kept in many
// files, repositories. What is in such a folder fits together only as it was at one moment, so it is brought back as one,
// from one source, or not at all.
//
// Such a folder is known by the files that the programs which write it keep at its top, or, where those are missing, by
// names that mean nothing to anybody.
package sealed

import (
	"fmt"
	"path"
	"slices"
	"strings"
)

// A mark is what lies at the top of a sealed folder. All of its names must be there.
type mark struct {
	names []string // a name, or a pattern as path.Match has it
	what  string   // for the middle of a sentence
}

var marks = []mark{
	{[]string{"gocryptfs.conf"}, "a folder of encrypted files"},
	{[]string{".encfs6.xml"}, "a folder of encrypted files"},
	{[]string{"cryfs.config"}, "a folder of encrypted files"},
	{[]string{"PG_VERSION", "base"}, "the folder of a database"},
	{[]string{"ibdata1"}, "the folder of a database"},
	{[]string{"CURRENT", "MANIFEST-*"}, "the folder of a database"},
	{[]string{"HEAD", "objects", "refs"}, "a repository's own folder"},
}

// Marks are the names that are looked for, without those that are patterns.
func Marks() (names []string) {
	for _, m := range marks {
		for _, n := range m.names {
			if !strings.Contains(n, "*") {
				names = append(names, n)
			}
		}
	}
	return names
}

// Of says why a folder with these paths in it, relative to it, is sealed, for behind "it is"; "" where nothing says that it
// is.
func Of(paths []string) string {
	top := map[string]bool{}
	for _, p := range paths {
		name, _, _ := strings.Cut(p, "/")
		top[name] = true
	}
	if why := Marked(top); why != "" {
		return why
	}
	return nameless(paths)
}

// Marked is Of for a folder with these names at its top; "" where none of them marks it.
func Marked(top map[string]bool) string {
	for _, m := range marks {
		if found, ok := m.in(top); ok {
			return fmt.Sprintf("%s: it holds %s", m.what, strings.Join(found, " and "))
		}
	}
	return ""
}

// in returns the names by which the mark is there.
func (m mark) in(top map[string]bool) (found []string, ok bool) {
	for _, pattern := range m.names {
		if top[pattern] {
			found = append(found, pattern)
			continue
		}
		if !strings.Contains(pattern, "*") {
			return nil, false
		}
		var fits []string
		for name := range top {
			if ok, _ := path.Match(pattern, name); ok {
				fits = append(fits, name)
			}
		}
		if len(fits) == 0 {
			return nil, false
		}
		found = append(found, slices.Min(fits))
	}
	return found, true
}

// What makes the names of a folder meaningless.
const (
	fewest   = 8   // files
	shortest = 20  // letters of a name
	most     = 0.9 // of the names
)

// nameless says so where nearly all names are long rows of letters and digits without an extension.
func nameless(paths []string) string {
	n := 0
	for _, p := range paths {
		if meaningless(path.Base(p)) {
			n++
		}
	}
	if len(paths) < fewest || float64(n) < most*float64(len(paths)) {
		return ""
	}
	return fmt.Sprintf("most likely a folder of encrypted files: the names of %d of its %d files mean nothing", n, len(paths))
}

// Meaningless tells whether a name reads like the output of a program, as the names in folders of encrypted files do.
func Meaningless(name string) bool { return meaningless(name) }

// meaningless tells whether a name reads like the output of a program: letters and digits in turn, and no word parted from
// another.
func meaningless(name string) bool {
	if len(name) < shortest || strings.ContainsAny(name, ". ") {
		return false
	}
	turns, last := 0, class(name[0])
	for i := range len(name) {
		switch c := class(name[i]); {
		case c == other:
			return false
		case c != last:
			turns++
			last = c
		}
	}
	const often = 4 // letters from one turn to the next, on average
	return turns*often >= len(name)
}

type letters int

const (
	other letters = iota
	digit
	lower
	upper
)

func class(c byte) letters {
	switch {
	case c >= '0' && c <= '9' || c == '-' || c == '_' || c == '=' || c == '+':
		return digit
	case c >= 'a' && c <= 'z':
		return lower
	case c >= 'A' && c <= 'Z':
		return upper
	}
	return other
}

// Logs are the endings of the files that a database keeps beside its own, and without which it is not whole (the SQLite
// database file format, sections 3 and 4).
var Logs = []string{"-wal", "-journal"}
