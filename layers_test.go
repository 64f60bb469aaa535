package humblerewind

import (
	"go/parser"
	"go/token"
	"io/fs"
	"path"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// layers is the import rule, a layer a line, lowest first: a package may import what stands on its own line after the
// colon, and the packages named there with "…" stand for everything below them. DO NOT CHANGE THIS TO FIX A BUILD: a
// package that wants more is in the wrong place, or its work is.
const layers = `
.                         :
internal/core…            : internal/core…
internal/reach…           : internal/core… internal/reach…
internal/source…          : internal/core… internal/reach… internal/source…
internal/kinds            : internal/core… internal/reach… internal/source…
internal/catalogue        : internal/core…
internal/safekeeping      : internal/core/digest
internal/explain          : internal/core… internal/reach/system internal/catalogue
internal/apart            : internal/core… internal/catalogue
internal/jobs             : internal/catalogue
internal/site             : internal/core… internal/reach internal/source internal/catalogue
internal/contents         : internal/core… internal/reach internal/reach/system internal/source internal/catalogue internal/apart internal/site
internal/trails           : internal/core… internal/reach internal/catalogue internal/site internal/contents
internal/advise           : internal/core… internal/reach internal/source internal/catalogue internal/apart internal/explain internal/site internal/contents internal/trails
internal/drives           : internal/core… internal/reach
internal/survey           : internal/core… internal/source internal/catalogue internal/jobs internal/explain internal/site internal/contents
internal/restore          : internal/core… internal/reach internal/source internal/catalogue internal/jobs internal/explain internal/site internal/contents internal/trails internal/safekeeping
internal/cases            : internal/core… internal/catalogue internal/site internal/trails internal/advise internal/drives internal/restore
internal/service          : api internal/core… internal/reach internal/source internal/catalogue internal/safekeeping internal/explain internal/apart internal/jobs internal/site internal/contents internal/trails internal/advise internal/drives internal/survey internal/restore internal/cases
internal/cli              : api internal/core…
internal/demo             : api internal/source/trash
internal/sitetest         : internal/core… internal/reach internal/source… internal/kinds internal/catalogue internal/safekeeping internal/apart internal/site internal/contents internal/trails internal/advise internal/survey internal/restore
internal/corpus           :
internal/servicetest      : api internal/demo internal/kinds internal/service
internal/browser          :
internal/browser/shots    : internal/browser
internal/e2e              :
internal/bench            : api internal/core… internal/catalogue
api                       :
console                   :
cmd/humble-rewind         : console internal/core/stray internal/cli internal/demo internal/kinds internal/service
`

// impure are standard packages that core must not see: it has no disk, clock, network or database.
var impure = []string{"os", "os/…", "net", "net/…", "io/ioutil", "database/…", "log", "log/…", "syscall", "embed", "runtime/…", "plugin"}

// allowedInCore are the only modules from elsewhere that core may see.
var allowedInCore = []string{"golang.org/x/text/…", "golang.org/x/image/…", "github.com/bmatcuk/doublestar/…"}

func TestPackagesImportOnlyWhatTheirLayerMay(t *testing.T) {
	rules := map[string][]string{}
	for line := range strings.Lines(strings.TrimSpace(layers)) {
		who, may, found := strings.Cut(line, ":")
		require.True(t, found, line)
		rules[strings.TrimSpace(who)] = strings.Fields(may)
	}
	seen := 0
	require.NoError(t, filepath.WalkDir(".", func(file string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() && (d.Name() == "node_modules" || d.Name() == ".git") {
			return filepathSkip(d, err)
		}
		if d.IsDir() || !strings.HasSuffix(file, ".go") || strings.HasSuffix(file, "_test.go") {
			return nil
		}
		seen++
		checkFile(t, rules, filepath.ToSlash(file))
		return nil
	}))
	require.Greater(t, seen, 50, "the walk found too few files to mean anything")
}

func filepathSkip(d fs.DirEntry, err error) error {
	if err != nil {
		return err
	}
	return filepath.SkipDir
}

func checkFile(t *testing.T, rules map[string][]string, file string) {
	pkg := path.Dir(file)
	rule, ok := "", false
	for who := range rules {
		if covers(who, pkg) && len(who) > len(rule) {
			rule, ok = who, true
		}
	}
	if !ok {
		t.Errorf("%s: package %s is in no layer; add a line to layers_test.go and say why in docs/architecture.md", file, pkg)
		return
	}
	parsed, err := parser.ParseFile(token.NewFileSet(), file, nil, parser.ImportsOnly)
	require.NoError(t, err)
	for _, spec := range parsed.Imports {
		imported, err := strconv.Unquote(spec.Path.Value)
		require.NoError(t, err)
		if own, ours := strings.CutPrefix(imported, "humble-rewind/"); ours {
			if !anyCovers(rules[rule], own) {
				t.Errorf("%s imports %s, which the layer of %s may not; the rule is in layers_test.go", file, own, rule)
			}
			continue
		}
		if rule != "internal/core…" {
			continue
		}
		if strings.Contains(strings.SplitN(imported, "/", 2)[0], ".") && !anyCovers(allowedInCore, imported) || anyCovers(impure, imported) {
			t.Errorf("%s imports %s: core is pure computation", file, imported)
		}
	}
}

func anyCovers(rules []string, pkg string) bool {
	for _, rule := range rules {
		if covers(rule, pkg) {
			return true
		}
	}
	return false
}

func covers(rule, pkg string) bool {
	prefix, open := strings.CutSuffix(rule, "…")
	return pkg == rule || open && (pkg == strings.TrimSuffix(prefix, "/") || strings.HasPrefix(pkg, strings.TrimSuffix(prefix, "/")+"/"))
}

func TestCoreHasNoClock(t *testing.T) {
	require.NoError(t, filepath.WalkDir("internal/core", func(file string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || strings.HasSuffix(file, "_test.go") {
			return err
		}
		source, err := readFile(file)
		require.NoError(t, err)
		require.NotContains(t, source, "time.Now(", "%s asks the clock; take the time as an argument", file)
		return nil
	}))
}
