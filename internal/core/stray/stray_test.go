package stray_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humble-rewind/internal/core/stray"
	"humble-rewind/internal/source/strays"
)

const home = "/home/tomas"

func TestTheRulesThatComeWithTheProgramNameTheDocument(t *testing.T) {
	for file, want := range map[string]struct {
		kind     stray.Kind
		document string // "" where only the name, or nothing, is known
		fits     string
	}{
		"/srv/a/plan.odt~":                                         {stray.Backup, "/srv/a/plan.odt", "/srv/a/plan.odt"},
		"/srv/a/#plan.txt#":                                        {stray.Autosave, "/srv/a/plan.txt", "/srv/a/plan.txt"},
		"/srv/a/.plan.txt.swp":                                     {stray.Recovery, "/srv/a/plan.txt", "/srv/a/plan.txt"},
		"/srv/a/plan.txt.~12~":                                     {stray.Backup, "/srv/a/plan.txt", "/srv/a/plan.txt"},
		"/srv/a/.~lock.plan.odt#":                                  {stray.Lock, "", "/srv/a/plan.odt"},
		"/srv/a/~$rt list.xlsx":                                    {stray.Lock, "", "/srv/a/Part list.xlsx"},
		"/srv/a/Backup of plan.wbk":                                {stray.Backup, "", "/srv/a/plan.docx"},
		"/srv/a/plan.dwg.bak":                                      {stray.Backup, "/srv/a/plan.dwg", "/srv/a/plan.dwg"},
		"/srv/a/plan.bak":                                          {stray.Backup, "", "/srv/a/plan.dwg"},
		"/srv/a/plan.autosave.svg":                                 {stray.Autosave, "/srv/a/plan.svg", "/srv/a/plan.svg"},
		"/srv/a/~WRL0005.tmp":                                      {stray.Temporary, "", "/srv/a/whatever.doc"},
		home + "/.config/office/4/user/backup/plan_0.odt":          {stray.Autosave, "", home + "/deep/down/plan.odt"},
		home + "/.local/share/writer/autosave/plan-autosave-9.odt": {stray.Autosave, "", "/data/plan.odt"},
		home + "/.emacs.d/backups/!home!tomas!notes!plan.txt~":     {stray.Backup, home + "/notes/plan.txt", home + "/notes/plan.txt"},
		home + "/.local/state/ed/swap/%home%tomas%plan.txt.swp":    {stray.Recovery, home + "/plan.txt", home + "/plan.txt"},
		home + "/.local/share/writer/unsaved/xk81":                 {stray.Autosave, "", "/data/anything.odt"},
	} {
		m, ok := strays.Default.Match(file, home)
		require.True(t, ok, file)
		assert.Equal(t, want.kind, m.Rule.Kind, file)
		document, exact := m.Exact()
		assert.Equal(t, want.document, document, file)
		assert.Equal(t, want.document != "", exact, file)
		assert.True(t, m.Fits(want.fits), file)
		if m.Name != "" {
			assert.False(t, m.Fits("/srv/a/plan two.odt"), file)
		}
	}
	for _, file := range []string{"/srv/a/plan.odt", "/srv/a/notes.txt", home + "/Documents/autosave/plan.odt",
		"/home/other/.local/share/writer/unsaved/x"} {
		_, ok := strays.Default.Match(file, home)
		assert.False(t, ok, file)
	}
}

func TestANameThatCanBeReadInTwoWaysLeadsToEitherDocument(t *testing.T) {
	lies := home + "/.config/office/4/user/backup/plan.odt_0.odt"
	for _, document := range []string{"/data/plan.odt", "/data/plan.odt.odt"} {
		fits := false
		for m := range strays.Default.Matches(lies, home) {
			fits = fits || m.Fits(document)
		}
		assert.True(t, fits, document)
	}
}

func TestATechniciansRulesAreReadAndBadOnesAreNamedByLine(t *testing.T) {
	rules, err := stray.Parse(strings.NewReader("# ours\n\nautosave likely {stem} at night.{ext} in CAD/*/night = {stem}.{ext}\n"))
	require.NoError(t, err)
	m, ok := rules.Match(home+"/CAD/2026/night/hull at night.dxf", home)
	require.True(t, ok)
	assert.True(t, m.Fits("/any/where/hull.dxf"))
	for line, want := range map[string]string{
		"autosave sure {name}~":           "it should read",
		"ghost sure {name}~ = {name}":     `"ghost" is not a kind`,
		"backup perhaps {name}~ = {name}": `"perhaps" is not a trust`,
		"backup sure {whole}~ = {name}":   "{whole} stands for nothing",
		"backup sure {name~ = {name}":     "has no }",
		"backup sure = {name}":            "it should read",
	} {
		_, err := stray.Parse(strings.NewReader("# a comment\n" + line))
		var parse *stray.ParseError
		require.ErrorAs(t, err, &parse, line)
		assert.Equal(t, 2, parse.Line)
		assert.ErrorContains(t, err, want, line)
	}
}

// Rules never fault on any name, and what they take for exact is a clean path.
func FuzzParse(f *testing.F) {
	f.Add("backup sure {name}~ = {name}", "/a/b~")
	f.Add("recovery sure {path:%}.swp in .vim/swap = {name}", "/home/tomas/.vim/swap/%a%b.swp")
	f.Add("lock likely ~${name} = ??{name}", "/a/~$b.odt")
	f.Fuzz(func(t *testing.T, rule, file string) {
		rules, err := stray.Parse(strings.NewReader(rule))
		if err != nil || !strings.HasPrefix(file, "/") {
			return
		}
		if m, ok := rules.Match(file, home); ok {
			if document, exact := m.Exact(); exact {
				assert.True(t, strings.HasPrefix(document, "/"), document)
			}
			m.Fits(file)
		}
	})
}
