// Package sealed knows folders that only make sense whole: containers of encrypted files, databases that are kept in many
// files, repositories. What is in such a folder fits together only as it was at one moment, so it is brought back as one,
// from one source, or not at all.
//
// Such a folder is known by the files that the programs which write it keep at its top, or, where those are missing, by
// names that mean nothing to anybody.
package sealed

import (
	"fmt"
	"iter"
	"maps"
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
func Marks() []string { return slices.Sorted(maps.Keys(names)) }

// Of says why a folder with these paths in it, relative to it, is sealed, for behind "it is"; "" where nothing says that it
// is.
func Of(paths []string) string {
	var t Tally
	for _, p := range paths {
		t.Add(p)
	}
	return t.Why()
}

// Tally tells a folder by what is met in it, one path after the other, and keeps none of them. Its zero value has met nothing.
type Tally struct {
	top                map[string]bool // the names at its top that may mark it
	paths, meaningless int
}

// Add takes up a path in the folder, relative to it.
func (t *Tally) Add(p string) {
	top, _, _ := strings.Cut(p, "/")
	if !t.top[top] && MayMark(top) {
		if t.top == nil {
			t.top = map[string]bool{}
		}
		t.top[top] = true
	}
	t.paths++
	if Meaningless(path.Base(p)) {
		t.meaningless++
	}
}

// Why says why the folder is sealed, as [Of] does.
func (t *Tally) Why() string {
	if why := Marked(t.top); why != "" {
		return why
	}
	if t.paths < fewest || float64(t.meaningless) < most*float64(t.paths) {
		return ""
	}
	return fmt.Sprintf("most likely a folder of encrypted files: the names of %d of its %d files mean nothing", t.meaningless, t.paths)
}

// MayMark tells whether a name at the top of a folder is one by which sealed folders are known, alone or with others.
func MayMark(name string) bool {
	return names[name] || slices.ContainsFunc(patterns, func(pattern string) bool {
		ok, _ := path.Match(pattern, name)
		return ok
	})
}

// The names of the marks, and those that are patterns.
var names, patterns = func() (names map[string]bool, patterns []string) {
	names = map[string]bool{}
	for _, m := range marks {
		for _, n := range m.names {
			if strings.Contains(n, "*") {
				patterns = append(patterns, n)
			} else {
				names[n] = true
			}
		}
	}
	return names, patterns
}()

// Folders finds the sealed folders among the folders of paths, relative ones, and says why each is. Of those that lie in one another it
// finds the outermost.
func Folders(paths iter.Seq[string]) map[string]string {
	within := map[string]*Tally{}
	for p := range paths {
		dir, name := path.Split(p)
		if within[dir] == nil {
			within[dir] = &Tally{}
		}
		within[dir].Add(name)
	}
	found := map[string]string{}
	for dir, t := range within {
		if why := t.Why(); why != "" && dir != "" {
			found[strings.TrimSuffix(dir, "/")] = why
		}
	}
	maps.DeleteFunc(found, func(dir, _ string) bool { return Over(found, path.Dir(dir)) != "" })
	return found
}

// Over returns which of some folders a path lies in, or is; "" where it lies in none.
func Over(folders map[string]string, p string) string {
	for ; p != "." && p != "/" && p != ""; p = path.Dir(p) {
		if _, ok := folders[p]; ok {
			return p
		}
	}
	return ""
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

// Meaningless tells whether a name reads like the output of a program, as the names in folders of encrypted files do: letters and
// digits in turn, and no word parted from another.
func Meaningless(name string) bool {
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
