package trash

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

func TestParseRecord(t *testing.T) {
	wall := time.Date(2026, 3, 4, 17, 0, 5, 0, time.UTC)
	for name, c := range map[string]struct {
		text, path string
		wall       time.Time
		problem    string
	}{
		"as specified": {"[Trash Info]\nPath=/home/ines/a%20b\nDeletionDate=2026-03-04T17:00:05\n", "/home/ines/a b",
			wall, ""},
		"keys the other way round":  {"[Trash Info]\nDeletionDate=2026-03-04T17:00:05\nPath=x\n", "x", wall, ""},
		"other lines and line ends": {"[Trash Info]\r\nX-Note=1\r\nPath=x\r\n# no\r\nDeletionDate=2026-03-04T17:00:05\r\n", "x", wall, ""},
		"the first occurrence": {"[Trash " +
			"Info]\nPath=first\nPath=second\nDeletionDate=2026-03-04T17:00:05\nDeletionDate=2027-01-01T00:00:00\n", "first", wall, ""},
		"any bytes":                  {"[Trash Info]\nPath=%FF%0a%25\nDeletionDate=2026-03-04T17:00:05\n", "\xff\n%", wall, ""},
		"bytes that are not encoded": {"[Trash Info]\nPath=caf\xe9\nDeletionDate=2026-03-04T17:00:05\n", "caf\xe9", wall, ""},
		"no header":                  {"Path=x\nDeletionDate=2026-03-04T17:00:05\n", "", time.Time{}, "does not begin with"},
		"empty":                      {"", "", time.Time{}, "does not begin with"},
		"no path":                    {"[Trash Info]\nDeletionDate=2026-03-04T17:00:05\n", "", wall, "does not say where it came from"},
		"no date":                    {"[Trash Info]\nPath=x\n", "x", time.Time{}, "does not say when"},
		"a broken escape":            {"[Trash Info]\nPath=a%zz\nDeletionDate=2026-03-04T17:00:05\n", "", wall, "not an escape"},
		"an escape cut off":          {"[Trash Info]\nPath=a%4\nDeletionDate=2026-03-04T17:00:05\n", "", wall, "not an escape"},
		"a date in words":            {"[Trash Info]\nPath=x\nDeletionDate=last Tuesday\n", "x", time.Time{}, "cannot be read"},
	} {
		r := parseRecord([]byte(c.text))
		assert.Equal(t, c.path, r.Path, name)
		assert.Equal(t, c.wall, r.Wall, name)
		if c.problem == "" {
			assert.Empty(t, r.Problems, name)
		} else {
			assert.Contains(t, strings.Join(r.Problems, " "), c.problem, name)
		}
	}
}

func TestOriginIsTrustedOnlyWhereTheSpecificationAllowsIt(t *testing.T) {
	for _, c := range []struct {
		recorded, base string
		absolute       bool
		want           string
	}{
		{"/home/ines/a", "/home/ines/.local/share", true, "/home/ines/a"},
		{"a/b", "/media/card", false, "/media/card/a/b"},
		{"a/b", "/home/ines/.local/share", true, "/home/ines/.local/share/a/b"},
		{"/etc/passwd", "/media/card", false, ""},
		{"../../etc/passwd", "/media/card", false, ""},
		{"a/../../b", "/media/card", false, ""},
		{"/home/ines/../oda/x", "/x", true, ""},
		{"/", "/x", true, ""},
		{".", "/media/card", false, ""},
		{"a\x00b", "/media/card", false, ""},
	} {
		got, problem := origin(c.recorded, c.base, c.absolute)
		assert.Equal(t, c.want, got, c.recorded)
		assert.Equal(t, c.want == "", problem != "", "%s: a distrusted path says why", c.recorded)
	}
}

func FuzzParseRecord(f *testing.F) {
	f.Add([]byte("[Trash Info]\nPath=/home/ines/a%20b\nDeletionDate=2026-03-04T17:00:05\n"))
	f.Add([]byte("[Trash Info]\nPath=../%2e%2e/x\nDeletionDate=\n"))
	f.Fuzz(func(t *testing.T, data []byte) {
		r := parseRecord(data)
		if r.Path == "" && len(r.Problems) == 0 {
			t.Error("a path is lost without a word")
		}
		if path, _ := origin(r.Path, "/media/card", false); path != "" && !strings.HasPrefix(path, "/media/card/") {
			t.Errorf("%q leads to %q, out of its drive", r.Path, path)
		}
		if decoded, err := decodePercent(EncodePercent(r.Path)); err != nil || decoded != r.Path {
			t.Errorf("%q is encoded to what decodes to %q, %v", r.Path, decoded, err)
		}
	})
}

func FuzzSizes(f *testing.F) {
	f.Add([]byte("12 34 a%20b\n56 78 c\n"), "a b")
	f.Fuzz(func(t *testing.T, content []byte, name string) {
		if i := indexSizes(sizeLines(content)).at[name]; i > 0 && i >= len(sizeLines(content)) {
			t.Errorf("line %d of %d", i, len(sizeLines(content)))
		}
	})
}
