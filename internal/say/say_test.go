package say

import (
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"humble-rewind/internal/core/remark"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// said are the calls that take a code, and those that begin one.
var (
	saying = regexp.MustCompile(`\b(?:remark\.New|because|cost|say|next|broken|doubt|proved|jpegWrong|\.Note)\("([a-z-]+[a-z])"`)
	begun  = regexp.MustCompile(`remark\.New\("([a-z-]+-)" *\+`)
)

// Every code that is used has its sentence, every sentence is used, and no code is in two tables.
func TestEveryCodeHasItsSentenceAndIsSaid(t *testing.T) {
	var source strings.Builder
	require.NoError(t, filepath.WalkDir("..", func(file string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(file, ".go") || strings.HasSuffix(file, "_test.go") || filepath.Dir(file) == "../say" {
			return err
		}
		content, err := os.ReadFile(file)
		if text := string(content); strings.Contains(text, "core/remark") || strings.Contains(text, "restore/journal") || strings.HasPrefix(file, "../core/") {
			source.Write(content)
		}
		return err
	}))
	code := source.String()
	for _, m := range saying.FindAllStringSubmatch(code, -1) {
		assert.NotEmpty(t, sentences[m[1]], "%s has no sentence", m[1])
	}
	beginnings := begun.FindAllStringSubmatch(code, -1)
	require.NotEmpty(t, beginnings)
	for said := range sentences {
		used := strings.Contains(code, `"`+said+`"`)
		for _, m := range beginnings {
			used = used || strings.HasPrefix(said, m[1])
		}
		assert.True(t, used, "nothing says %s", said)
	}
	assert.Len(t, sentences, 1+len(ofAdvice)+len(ofCases)+len(ofCondition)+len(ofFirstAid)+len(ofPlans)+len(ofContents)+len(ofTrails)+len(ofReceipts)+len(ofPersons), "a code is in two tables")
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
		{"too-small", []any{"size", remark.Size(90), "least", remark.Size(5000)}, "It has 90 bytes; it should have 4.9 KiB at least."},
		{"lacks-words", []any{"words", remark.Words{"oak", "larch"}}, "It lacks “oak” and “larch”, which must be in it."},
		{"small-window", []any{"window", 10 * time.Minute, "event", "it was gone"},
			"It was last seen 10 minutes before it was gone. A save in between would be missing."},
		{"entry-goes-on", []any{"share", remark.Share(0.874)},
			"It was saved at the same time, but goes on from what was there (87 % of it is kept), and is not broken."},
		{"sound", []any{"why", []string(nil)}, "It was examined and is sound."},
		{"came-late", []any{"at", s.Now.Add(-49 * time.Hour)}, "It came on Wed 18 Nov, 15:00, after the loss was noticed."},
	} {
		assert.Equal(t, c.text, s.Remark(remark.New(c.code, c.pairs...)))
	}
	v := s.Values(remark.New("small-window", "window", 10*time.Minute, "share", remark.Share(0.5), "why", remark.New("only-record")).Values)
	assert.Equal(t, map[string]any{"window": int64(600), "share": 0.5, "why": s.Remark(remark.New("only-record"))}, v)
}
