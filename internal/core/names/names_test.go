package names_test

import (
	"strings"
	"testing"
	"time"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"

	"humble-rewind/internal/core/names"
)

func TestFoldForgetsCaseAndAccents(t *testing.T) {
	for name, want := range map[string]string{
		"Quote 12.ODT": "quote 12.odt", "Orçamento": "orcamento", "ÅNGSTRÖM": "angstrom", "Stra\u00dfe": "strasse",
		"søster Łódź æ":   "soster lodz ae",
		"e\u0301te\u0301": "ete", "ﬁle": "file", "caf\xe9": "caf\ufffd", "日本": "日本",
	} {
		assert.Equal(t, want, names.Fold(name), name)
	}
}

func TestBesideFindsAReadableFreeName(t *testing.T) {
	when := time.Date(2026, 11, 12, 14, 5, 0, 0, time.UTC)
	none := func(string) bool { return false }
	assert.Equal(t, "Quote 17 (deleted 2026-11-12 14.05).odt", names.Beside("Quote 17.odt", "deleted", when, none))
	assert.Equal(t, "moulds (deleted 2026-11-12 14.05).tar.gz", names.Beside("moulds.tar.gz", "deleted", when, none))
	assert.Equal(t, ".profile (deleted 2026-11-12 14.05)", names.Beside(".profile", "deleted", when, none))
	assert.Equal(
		t,
		"Notes v2. Final draft of all (from).",
		names.Beside("Notes v2. Final draft of all.", "from", time.Time{}, none)[:36],
		"a long tail is no extension",
	)
	tried := 0
	got := names.Beside("a.txt", "deleted", when, func(string) bool { tried++; return tried < 3 })
	assert.Equal(t, "a (deleted 2026-11-12 14.05, 3).txt", got)
}

func TestBesideKeepsLongNamesWithinWhatFileSystemsTake(t *testing.T) {
	when := time.Date(2026, 11, 12, 14, 5, 0, 0, time.UTC)
	for _, stem := range []string{strings.Repeat("é", 125), strings.Repeat("x", 251), strings.Repeat("\xa9", 251), strings.Repeat("語",
		83)} {
		got := names.Beside(stem+".odt", "deleted", when, func(string) bool { return false })
		assert.LessOrEqual(t, len(got), names.MaxBytes)
		assert.True(t, strings.HasSuffix(got, ").odt"), got)
		assert.Equal(t, utf8.ValidString(stem), utf8.ValidString(got), "characters are not cut in two")
	}
}

func FuzzFold(f *testing.F) {
	f.Add("Orçamento")
	f.Add("caf\xe9")
	f.Fuzz(func(t *testing.T, name string) {
		folded := names.Fold(name)
		if !utf8.ValidString(folded) {
			t.Errorf("Fold(%q) = %q", name, folded)
		}
		for from := range folded {
			word := folded[from:min(len(folded), from+3)]
			if !names.Has(name, word) {
				t.Errorf("Has(%q, %q) is false", name, word)
			}
		}
		if names.Has(name, "q9z") != strings.Contains(folded, "q9z") {
			t.Errorf("Has(%q, q9z)", name)
		}
		if upper := names.Fold(strings.ToUpper(name)); utf8.ValidString(name) && isLatin(name) && upper != folded {
			t.Errorf("Fold(%q) = %q, but of its capitals %q", name, folded, upper)
		}
	})
}

func isLatin(s string) bool {
	return strings.IndexFunc(s, func(r rune) bool { return r > 0x7f }) < 0
}
