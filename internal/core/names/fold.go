// Package names works on the names of files: how they are searched, and which free name stands beside a taken one.
package names

import (
	"strings"
	"unicode"
	"unicode/utf8"

	"golang.org/x/text/cases"
	"golang.org/x/text/unicode/norm"
)

// Fold returns a name as it is searched: accents and case gone (Unicode compatibility decomposition, marks removed,
// full case folding), letters that do not decompose spelled out, bytes that are not UTF-8 as U+FFFD.
func Fold(name string) string {
	if folded, ok := foldASCII(name); ok {
		return folded
	}
	decomposed := norm.NFKD.String(strings.ToValidUTF8(name, "\uFFFD"))
	var b strings.Builder
	for _, r := range decomposed {
		if unicode.Is(unicode.Mn, r) {
			continue
		}
		if spelled, ok := spellings[unicode.ToLower(r)]; ok {
			b.WriteString(spelled)
			continue
		}
		b.WriteRune(r)
	}
	return cases.Fold().String(b.String())
}

// Has tells whether a folded word occurs in a name as it is searched: strings.Contains(Fold(name), word).
func Has(name, word string) bool {
	if word == "" {
		return true
	}
	first := word[0]
	for i := 0; i < len(name); i++ {
		c := name[i]
		if c >= utf8.RuneSelf {
			return strings.Contains(Fold(name), word)
		}
		if lower(c) == first && i+len(word) <= len(name) && hasAt(name[i:], word) {
			return true
		}
	}
	return false
}

// hasAt tells whether a name begins with a folded word, as far as it is ASCII there.
func hasAt(name, word string) bool {
	for i := 1; i < len(word); i++ {
		if lower(name[i]) != word[i] {
			return false
		}
	}
	return true
}

func lower(c byte) byte {
	if 'A' <= c && c <= 'Z' {
		return c + 'a' - 'A'
	}
	return c
}

// Letters that people type without their stroke or ligature and that Unicode does not take apart.
var spellings = map[rune]string{'ø': "o", 'đ': "d", 'ł': "l", 'æ': "ae", 'œ': "oe", 'þ': "th", 'ð': "d", 'ı': "i", 'ħ': "h"}

func foldASCII(name string) (string, bool) {
	upper := false
	for i := 0; i < len(name); i++ {
		c := name[i]
		if c >= utf8.RuneSelf {
			return "", false
		}
		upper = upper || 'A' <= c && c <= 'Z'
	}
	if !upper {
		return name, true
	}
	return strings.ToLower(name), true
}
