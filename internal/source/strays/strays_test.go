package strays_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/site"
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
	src, err := s.AddSource(t.Context(), site.NewSource{Machine: "loft", Kind: "strays"})
	require.NoError(t, err)
	assert.Equal(t, "/home", src.At, "the session's folder is one more, and not where leftovers usually are")
	s.Survey(src)
	of := map[string]string{}
	for _, c := range s.Find(catalogue.Query{Kind: "strays"}) {
		origin := "?"
		if c.OriginKnown {
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
	src, err := s.AddSource(t.Context(), site.NewSource{Machine: "loft", Kind: "strays", At: "/tmp"})
	require.NoError(t, err)
	s.Survey(src)
	found := s.Find(catalogue.Query{Kind: "strays"})
	require.Len(t, found, 1)
	assert.False(t, found[0].OriginKnown, "only its content can tell whose it is")
}
