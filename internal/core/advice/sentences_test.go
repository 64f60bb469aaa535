package advice

import (
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Every code that is used has its sentence, and every sentence is used.
func TestEveryReasonHasItsSentenceAndIsSaid(t *testing.T) {
	var source strings.Builder
	for _, dir := range []string{".", "../../advise"} {
		files, err := filepath.Glob(filepath.Join(dir, "*.go"))
		require.NoError(t, err)
		for _, f := range files {
			if strings.HasSuffix(f, "_test.go") || strings.HasSuffix(f, "sentences.go") {
				continue
			}
			content, err := os.ReadFile(f)
			require.NoError(t, err)
			source.Write(content)
		}
	}
	said := source.String()
	for _, m := range regexp.MustCompile(`Reason\("([a-z-]+)"`).FindAllStringSubmatch(said, -1) {
		assert.NotEmpty(t, sentences[m[1]], "%s has no sentence", m[1])
	}
	for code := range sentences {
		assert.True(t, strings.Contains(said, `"`+code+`"`), "nothing says %s", code)
	}
}

// A sentence takes what it speaks of, in the form in which it is read out, and the values are handed on plainly.
func TestAReasonIsASentenceAndItsValues(t *testing.T) {
	s := Speaker{Now: time.Date(2026, 11, 20, 16, 0, 0, 0, time.UTC), Zone: time.UTC}
	for _, c := range []struct {
		code  string
		pairs []any
		text  string
	}{
		{"only-record", nil, "Only the record of it is left; its content is nowhere any more."},
		{"newer-broken", []any{"n", 1}, "The only newer version is broken."},
		{"newer-broken", []any{"n", 4}, "All 4 newer versions were examined, and all of them are broken."},
		{"too-small", []any{"size", Size(90), "least", Size(5000)}, "It has 90 bytes; it should have 4 KiB at least."},
		{"lacks-words", []any{"words", Words{"oak", "larch"}}, "It lacks “oak” and “larch”, which must be in it."},
		{"small-window", []any{"window", 10 * time.Minute, "event", "it was gone"},
			"It was last seen 10 minutes before it was gone. A save in between would be missing."},
		{"entry-goes-on", []any{"share", Share(0.874)},
			"It was saved at the same time, but goes on from what was there (87 % of it is kept), and is not broken."},
		{"sound", []any{"why", []string(nil)}, "It was examined and is sound."},
		{"came-late", []any{"at", s.Now.Add(-49 * time.Hour)}, "It came on Wed 18 Nov, 15:00, after the loss was noticed."},
	} {
		assert.Equal(t, c.text, s.Reason(c.code, c.pairs...).Text)
	}
	r := s.Reason("small-window", "window", 10*time.Minute, "event", "it was gone")
	assert.EqualValues(t, 600, r.Values["window"])
	assert.Equal(t, 0.5, s.Reason("leftover-shares", "share", Share(0.5)).Values["share"])
}
