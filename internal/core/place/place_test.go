package place_test

import (
	"os/exec"
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humble-rewind/internal/core/place"
)

func TestParse(t *testing.T) {
	for text, want := range map[string]place.Place{
		"store:/srv/yard":              {Machine: "store", Path: "/srv/yard"},
		"store:/srv//yard/./x/":        {Machine: "store", Path: "/srv/yard/x"},
		"store:/":                      {Machine: "store", Path: "/"},
		"store:/a:b":                   {Machine: "store", Path: "/a:b"},
		"store:/caf\xe9 \n...":         {Machine: "store", Path: "/caf\xe9 \n..."},
		"drawing-loft:/home/x/..y/z..": {Machine: "drawing-loft", Path: "/home/x/..y/z.."},
	} {
		got, err := place.Parse(text)
		assert.NoError(t, err, text)
		assert.Equal(t, want, got)
	}
	for _, text := range []string{"", "store", "/srv", ":/srv", "store:srv", "store:/a/../b", "store:/a\x00b", "a/b:/c"} {
		_, err := place.Parse(text)
		assert.ErrorIs(t, err, place.ErrNotPlace, "%q", text)
	}
}

func TestPathsAreTakenApartAndPutTogether(t *testing.T) {
	assert.Equal(t, "/", place.Folder("/a"))
	assert.Equal(t, "/a", place.Folder("/a/b"))
	assert.Equal(t, "b", place.Name("/a/b"))
	assert.Equal(t, "/b", place.Join("/", "b"))
	assert.True(t, place.Under("/a/b", "/a"))
	assert.True(t, place.Under("/a", "/a"))
	assert.False(t, place.Under("/ab", "/a"), "a name that begins alike is not below")
	rest, ok := place.Below("/a/b/c", "/a")
	assert.True(t, ok)
	assert.Equal(t, "b/c", rest)
	rest, _ = place.Below("/b", "/")
	assert.Equal(t, "b", rest)
}

func TestReadableShowsNothingThatActs(t *testing.T) {
	assert.Equal(t, "/home/Inês/Quote 1.odt", place.Readable("/home/Inês/Quote 1.odt"))
	assert.Equal(t, `/caf\xe9`, place.Readable("/caf\xe9"))
	assert.Equal(t, `/two\nlines\x1b[2J`, place.Readable("/two\nlines\x1b[2J"))
	assert.Equal(t, `/exe\u{202e}fdp.doc`, place.Readable("/exe\u202efdp.doc"), "a mark that turns the writing round is spelled out")
	assert.Equal(t, `/a\\x0a`, place.Readable(`/a\x0a`), "an escape in the name itself cannot be mistaken for one of ours")
}

func TestQuotePastesBackTheSameBytes(t *testing.T) {
	for _, name := range []string{"plain", "with space", "it's", "caf\xe9", "two\nlines", "$HOME `id` \"x\" \\", "~", "-rf", "*",
		"\u202e", "tab\there", "!", "a\\'b\n"} {
		out, err := exec.Command("bash", "-c", "printf %s "+place.Quote(name)).Output()
		require.NoError(t, err, name)
		assert.Equal(t, name, string(out))
	}
}

func FuzzPlace(f *testing.F) {
	for _, seed := range []string{"store:/srv/yard", "a:/../b", "x:/caf\xe9", "x:/\u202e'\n"} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, text string) {
		if shown := place.Readable(text); !utf8.ValidString(shown) || strings.ContainsAny(shown, "\n\x1b") {
			t.Errorf("Readable(%q) = %q", text, shown)
		}
		p, err := place.Parse(text)
		if err != nil {
			return
		}
		again, err := place.Parse(p.Machine + ":" + p.Path)
		if err != nil || again != p {
			t.Errorf("Parse(%q) = %q, which parses to %q, %v", text, p, again, err)
		}
		if joined := place.Join(place.Folder(p.Path), place.Name(p.Path)); p.Path != "/" && joined != p.Path {
			t.Errorf("Join(Folder, Name) of %q = %q", p.Path, joined)
		}
	})
}
