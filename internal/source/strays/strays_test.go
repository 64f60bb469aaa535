package strays_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/registry"
	"humble-rewind/internal/sitetest"
)

const home = "/home/ines"

// What a leftover is of is told where its name says so for sure, and left open where only its content can.
func TestLeftoversComeFromWhereTheirNamesSay(t *testing.T) {
	s := sitetest.New(t)
	s.Lay(map[string]string{
		home + "/Plans/Keel.odt":                          "the document itself",
		home + "/Plans/Keel.odt~":                         "a backup",
		home + "/Plans/#Keel.odt#":                        "an autosave",
		home + "/Plans/.~lock.Keel.odt#":                  ",ines,loft,03.11.2026 16:30,;",
		home + "/Plans/tmp430b.tmp":                       "nameless",
		home + "/Plans/~WRD0004":                          "and this",
		home + "/Plans/~Keel.odt":                         "a temporary file",
		home + "/Plans/Keel_backup.odt":                   "another backup",
		home + "/Plans/~WRL0003.tmp":                      "nameless, too",
		home + "/Plans/Ribs.bak/":                         "", // a folder is none
		home + "/.config/office/4/user/backup/Keel_0.odt": "where a program keeps it",
		home + "/.local/share/Trash/files/Keel.odt~":      "what was thrown away is the trash's",
		"/tmp/lu77x.tmp":                                  "of this session",
	})
	src, err := s.AddSource(t.Context(), registry.NewSource{Machine: "loft", Kind: "strays"})
	require.NoError(t, err)
	assert.Equal(t, "/home", src.At, "the session's folder is one more, and not where leftovers usually are")
	s.Survey(src)
	of := map[string]string{}
	for _, c := range s.Find(catalogue.Query{Kind: "strays"}) {
		origin := "?"
		if !c.Lost {
			origin = c.Place.Path
		}
		of[place.Name(c.LiesAt().Path)] = origin
	}
	assert.Equal(t, map[string]string{
		"Keel.odt~":        home + "/Plans/Keel.odt",
		"#Keel.odt#":       home + "/Plans/Keel.odt",
		".~lock.Keel.odt#": "?",
		"tmp430b.tmp":      "?",
		"~WRL0003.tmp":     "?",
		"~WRD0004":         "?",
		"~Keel.odt":        home + "/Plans/Keel.odt",
		"Keel_backup.odt":  home + "/Plans/Keel.odt",
		"Keel_0.odt":       "?",
	}, of)
}

func TestSessionFoldersAreSuggestedBesides(t *testing.T) {
	s := sitetest.New(t)
	s.Lay(map[string]string{"/tmp/lu77x.tmp": "of this session"})
	suggested, err := s.Suggest(t.Context(), "loft")
	require.NoError(t, err)
	at := map[string]bool{}
	for _, found := range suggested {
		if found.Kind == "strays" {
			at[found.At] = found.Besides
		}
	}
	assert.Equal(t, map[string]bool{"/home": false, "/tmp": true}, at, "there is no /var/tmp")
	src, err := s.AddSource(t.Context(), registry.NewSource{Machine: "loft", Kind: "strays", At: "/tmp"})
	require.NoError(t, err)
	s.Survey(src)
	found := s.Find(catalogue.Query{Kind: "strays"})
	require.Len(t, found, 1)
	assert.True(t, found[0].Lost, "only its content can tell whose it is")
}

// A session's folder holds anything. What could be somebody's work is told, within a bound, and the rest only counted.
func TestASessionsFolderIsReadWithinABound(t *testing.T) {
	s := sitetest.New(t)
	lay := map[string]string{"/tmp/lu77x.tmp": "an office program's", "/tmp/deep/er/Keel notes": "a text", "/tmp/Keel.odt~": "a backup",
		"/tmp/build/node_modules/x.odt": "a package's", "/tmp/go-build77/a.txt": "a build's", "/tmp/empty.txt": "", "/tmp/main.o": "a program",
		"/tmp/tool.so": "a program"}
	for n := range 25_000 {
		lay[fmt.Sprintf("/tmp/many/%05d", n)] = "x"
	}
	lay["/tmp/many/Ribs.odt"] = "a document among many"
	s.Lay(lay)
	src, err := s.AddSource(t.Context(), registry.NewSource{Machine: "loft", Kind: "strays", At: "/tmp"})
	require.NoError(t, err)
	result := s.Survey(src)
	told := map[string]bool{}
	for _, c := range s.Find(catalogue.Query{Kind: "strays", Limit: 5000}) {
		told[c.LiesAt().Path] = true
	}
	for path, want := range map[string]bool{"/tmp/lu77x.tmp": true, "/tmp/deep/er/Keel notes": true, "/tmp/Keel.odt~": true,
		"/tmp/many/Ribs.odt": true, "/tmp/build/node_modules/x.odt": false, "/tmp/go-build77/a.txt": false, "/tmp/empty.txt": false,
		"/tmp/main.o": false, "/tmp/tool.so": false} {
		assert.Equal(t, want, told[path], path)
	}
	assert.Less(t, result.Found, int64(2100))
	assert.Regexp(t, `2\d,\d{3}|2\d{4} entries of it are left out`, strings.Join(result.Notes, " "))
	again := s.Survey(src)
	assert.Equal(t, []int64{result.Found, 0, 0}, []int64{again.Found, again.Fresh, again.Gone}, "nothing changed")
}
