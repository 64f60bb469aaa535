package exclude_test

import (
	"path"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"humble-rewind/internal/core/exclude"
)

func TestPatternsLeaveOutNamesOrPaths(t *testing.T) {
	for _, c := range []struct {
		pattern, at string
		out         bool
	}{
		{"*.iso", "/home/ines/a.iso", true},
		{"*.iso", "/home/ines/a.isox", false},
		{"a?c", "/x/a\xe9c", true},
		{"/home/*/cache", "/home/ines/cache", true},
		{"/home/*/cache", "/home/ines/deep/cache", false},
		{"/home/**/cache", "/home/ines/deep/er/cache", true},
		{"/home/**/cache", "/home/cache", true},
		{"{a,b}", "/x/a", false},
		{"{a,b}", "/x/{a,b}", true},
		{"[{]x", "/x/{x", true},
		{`\{`, "/x/{", true},
		{"[a-c]*", "/x/bow", true},
	} {
		assert.NoError(t, exclude.Check([]string{c.pattern}), c.pattern)
		got := exclude.By([]string{"nothing", c.pattern}, c.at)
		assert.Equal(t, c.out, got == c.pattern, "%s on %s", c.pattern, c.at)
	}
	assert.Equal(t, "cache", exclude.Within([]string{"cache"}, "/home/ines/cache/deep/x", "/home"))
	assert.Empty(t, exclude.Within([]string{"home"}, "/home/ines/x", "/home"), "the top itself is looked after whatever it is called")
	for _, bad := range []string{"", "[", "a/b", "x[a"} {
		assert.Error(t, exclude.Check([]string{bad}), bad)
	}
}

func TestTrashesAreKnownByTheirPlaces(t *testing.T) {
	for at, is := range map[string]bool{"/home/ines/.local/share/Trash": true, "/media/card/.Trash-1001": true, "/media/card/.Trash": true,
		"/home/ines/Trash": false, "/home/ines/.Trashed": false} {
		assert.Equal(t, is, exclude.Trash(at), at)
	}
	assert.True(t, exclude.InTrash("/media/card/.Trash-1001/files/x", "/media"))
	assert.False(t, exclude.InTrash("/media/card/x", "/media"))
}

// What patterns without two stars and braces mean is what they mean to the standard library.
func FuzzBy(f *testing.F) {
	f.Add("*.iso", "a.iso")
	f.Add("[a-", "a")
	f.Add("a\\", "a")
	f.Fuzz(func(t *testing.T, pattern, name string) {
		if strings.Contains(pattern, "**") || strings.ContainsAny(pattern, "/[{}") || name == "" || strings.ContainsAny(name, "/") ||
			pattern == "" {
			return
		}
		want, err := path.Match(pattern, name)
		if err != nil {
			return
		}
		if got := exclude.By([]string{pattern}, "/x/"+name) != ""; got != want && exclude.Check([]string{pattern}) == nil {
			t.Errorf("%q on %q: %t, and the standard library says %t", pattern, name, got, want)
		}
	})
}
