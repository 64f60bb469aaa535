package humblerewind

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"humble-rewind/internal/kinds"
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
internal/catalogue/block  : internal/core…
internal/catalogue/file   : internal/core…
internal/catalogue/rows   : internal/core… internal/catalogue/file
internal/catalogue/names  : internal/core… internal/catalogue/file
internal/catalogue/spans  : internal/core… internal/catalogue/block internal/catalogue/file internal/catalogue/rows internal/catalogue/names
internal/catalogue        : internal/core… internal/catalogue/file internal/catalogue/rows internal/catalogue/names internal/catalogue/spans
internal/safekeeping      : internal/core/digest
internal/clouddrive       :
internal/say              : internal/core… internal/reach/system internal/catalogue
internal/apart            : internal/core… internal/catalogue
internal/jobs             : internal/core… internal/catalogue
internal/site             : internal/core… internal/reach internal/source internal/catalogue
internal/registry         : internal/core… internal/reach internal/source internal/catalogue internal/site
internal/contents         : internal/core… internal/reach internal/reach/system internal/source internal/catalogue internal/apart internal/site
internal/past             : internal/core… internal/reach internal/catalogue internal/site internal/contents
internal/choosing         : internal/core… internal/reach internal/source internal/catalogue internal/apart internal/say internal/site internal/contents internal/past
internal/drives           : internal/core… internal/reach
internal/survey           : internal/core… internal/source internal/catalogue internal/jobs internal/say internal/site internal/contents internal/registry
internal/restore/hands    : internal/core… internal/reach internal/source internal/catalogue internal/site
internal/restore/original : internal/core… internal/reach internal/source internal/say internal/contents
internal/restore/journal  : internal/core… internal/reach internal/reach/spool internal/source internal/catalogue internal/say internal/restore/original
internal/restore/target   : internal/core… internal/reach internal/say internal/restore/hands internal/restore/original internal/restore/journal
internal/restore/target/… : internal/core… internal/reach internal/reach/spool internal/catalogue internal/say internal/contents internal/restore/hands internal/restore/original internal/restore/journal internal/restore/target
internal/restore/steps    : internal/core… internal/source internal/catalogue internal/say internal/jobs internal/site internal/safekeeping internal/restore/hands internal/restore/original internal/restore/journal internal/restore/target…
internal/restore          : internal/core… internal/reach internal/source internal/catalogue internal/say internal/jobs internal/contents internal/past internal/restore/hands internal/restore/original internal/restore/journal internal/restore/target internal/restore/steps
internal/cases            : internal/core… internal/catalogue internal/say internal/site internal/past internal/choosing internal/drives internal/restore
internal/moments          : internal/core… internal/reach internal/source internal/catalogue internal/contents internal/past
internal/service          : api internal/core… internal/reach internal/reach/spool internal/reach/system internal/source internal/catalogue internal/safekeeping internal/say internal/apart internal/jobs internal/site internal/contents internal/past internal/choosing internal/drives internal/survey internal/restore internal/restore/steps internal/restore/journal internal/cases internal/moments internal/registry
internal/cli              : api internal/core…
internal/demo             : api internal/clouddrive internal/source…
internal/demo/card        :
internal/sitetest         : internal/core… internal/reach internal/source… internal/kinds internal/catalogue internal/safekeeping internal/apart internal/site internal/contents internal/past internal/choosing internal/survey internal/restore internal/restore/steps internal/registry
internal/corpus           :
internal/servicetest      : api internal/apart internal/demo internal/kinds internal/service
internal/browser          :
internal/browser/shots    : internal/browser
internal/e2e              :
internal/bench            : api internal/browser internal/core… internal/catalogue
api                       :
console                   :
cmd/humble-rewind         : console internal/apart internal/clouddrive internal/core/stray internal/cli internal/demo internal/kinds internal/service
`

// impure are standard packages that core must not see: it has no disk, clock, network or database.
var impure = []string{"os", "os/…", "net", "net/…", "io/ioutil", "database/…", "log", "log/…", "syscall", "embed", "runtime/…", "plugin"}

// allowedInCore are the only modules from elsewhere that core may see.
var allowedInCore = []string{"golang.org/x/text/…", "golang.org/x/image/…", "github.com/bmatcuk/doublestar/…",
	"github.com/hashicorp/golang-lru/v2/simplelru"} // which is a map with a bound

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
		if strings.Contains(strings.SplitN(imported, "/", 2)[0], ".") && !anyCovers(allowedInCore, imported) ||
			anyCovers(impure, imported) {
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

// Only the catalogue knows SQL, and of its rooms no door is so wide that nobody knows what is behind it.
func TestTheCatalogueKeepsItsRooms(t *testing.T) {
	const most = 20 // public methods of one type
	methods := map[string]int{}
	eachFile(t, "internal", func(file string, parsed *ast.File) {
		inside := covers("internal/catalogue…", path.Dir(file))
		for _, spec := range parsed.Imports {
			if spec.Path.Value == `"database/sql"` && !inside && path.Dir(file) != "internal/clouddrive" { // which has records of its own
				t.Errorf("%s imports database/sql; what it asks belongs into a room of the catalogue", file)
			}
		}
		for _, d := range parsed.Decls {
			if f, ok := d.(*ast.FuncDecl); ok && inside && f.Recv != nil && f.Name.IsExported() {
				of := f.Recv.List[0].Type
				if star, ok := of.(*ast.StarExpr); ok {
					of = star.X
				}
				if name, ok := of.(*ast.Ident); ok {
					methods[path.Dir(file)+"."+name.Name]++
				}
			}
		}
	})
	require.Greater(t, len(methods), 15)
	for of, n := range methods {
		if n > most {
			t.Errorf("%s has %d public methods; part it", of, n)
		}
	}
}

// Whoever reads for somebody reads through the view of his scope. What somebody may not know is taken from nowhere else: there is no other way
// to copies than a view, the view of everything is had by those alone who are nobody's, and where answers are made rows are read through
// views too.
func TestWhoReadsForSomebodyHasAView(t *testing.T) {
	nobodys := []string{"internal/catalogue/export.go", "internal/service/service.go", "internal/service/access.go", "internal/sitetest/sitetest.go"}
	reads := map[string]bool{}
	eachFile(t, "internal/catalogue/rows", func(file string, parsed *ast.File) {
		if path.Base(file) != "view.go" {
			return
		}
		for _, d := range parsed.Decls {
			if f, ok := d.(*ast.FuncDecl); ok && f.Recv != nil && f.Name.IsExported() && f.Name.Name != "View" {
				reads[f.Name.Name] = true
			}
		}
	})
	require.True(t, reads["ByID"] && reads["Named"] && reads["Before"] && reads["Matching"], "%v", reads)
	answers := []string{"internal/service", "internal/past", "internal/choosing", "internal/cases", "internal/moments", "internal/restore"}
	everything := 0
	eachFile(t, "internal", func(file string, parsed *ast.File) {
		ast.Inspect(parsed, func(n ast.Node) bool {
			call, ok := n.(*ast.CallExpr)
			if !ok {
				return true
			}
			called, ok := call.Fun.(*ast.SelectorExpr)
			if !ok {
				return true
			}
			if called.Sel.Name == "Everything" {
				if everything++; !slices.Contains(nobodys, file) && !covers("internal/catalogue…", path.Dir(file)) {
					t.Errorf("%s reads everything; take the view of whoever asks", file)
				}
			}
			room, ok := called.X.(*ast.SelectorExpr)
			if !ok || !reads[called.Sel.Name] || !slices.Contains(answers, path.Dir(file)) {
				return true
			}
			if of, ok := room.X.(*ast.SelectorExpr); ok && strings.EqualFold(of.Sel.Name, "catalogue") && !slices.Contains(settled, file+" "+room.Sel.Name) {
				t.Errorf("%s reads %s.%s of the whole catalogue; take the view of whoever asks", file, room.Sel.Name, called.Sel.Name)
			}
			return true
		})
	})
	require.Positive(t, everything)
}

// settled are rows that are read for nobody: jobs and receipts that go on by themselves, and sources that are surveyed at a start.
var settled = []string{"internal/service/service.go Sources", "internal/restore/worker.go Receipts"}

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

// clients type what technicians type, and so name kinds as they do.
var clients = []string{"internal/bench"}

// Nothing but a kind's own package knows its name: what the rest of the program does with a store goes by its traits.
func TestNothingElseNamesAKind(t *testing.T) {
	rules, _ := kinds.Leftovers()
	names := map[string]bool{}
	for _, kind := range kinds.All(rules) {
		names[kind.Name()] = true
	}
	require.Greater(t, len(names), 4)
	eachFile(t, ".", func(file string, parsed *ast.File) {
		pkg := path.Dir(file)
		if covers("internal/source…", pkg) || covers("cmd…", pkg) || slices.Contains(clients, pkg) {
			return
		}
		imports := map[*ast.BasicLit]bool{}
		for _, spec := range parsed.Imports {
			imports[spec.Path] = true
		}
		ast.Inspect(parsed, func(n ast.Node) bool {
			if lit, ok := n.(*ast.BasicLit); ok && lit.Kind == token.STRING && !imports[lit] {
				if said, err := strconv.Unquote(lit.Value); err == nil && names[said] {
					t.Errorf("%s names the kind %q; ask for its traits instead, see docs/adding.md", file, said)
				}
			}
			return true
		})
	})
	require.NoError(t, filepath.WalkDir("console/src", func(file string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || strings.Contains(file, ".test.") || strings.HasSuffix(file, "schema.d.ts") {
			return err
		}
		source, err := readFile(file)
		require.NoError(t, err)
		for name := range names {
			for _, quote := range []string{`"`, "'", "`"} {
				require.NotContains(t, source, quote+name+quote, "%s names a kind; ask the API for its shape instead", file)
			}
		}
		return nil
	}))
}

// numbers are names of what only package reach and those below it may look at: what tells one file of a file system from another, and
// what the system says went wrong.
var numbers = []string{"Inode", "Device", "Nlink", "Links", "Ino", "Dev", "Errno", "Stat_t"}

// drives are where the file that stands for a drive is called as the API calls it.
var drives = []string{"internal/service/cases.go", "internal/cli/cases.go"}

func TestNothingElseLooksAtFileNumbersOrErrorNumbers(t *testing.T) {
	ownership := "internal/service/access.go" // whether the data folder is the service's own
	eachFile(t, ".", func(file string, parsed *ast.File) {
		pkg := path.Dir(file)
		if covers("internal/reach…", pkg) || slices.Contains(drives, file) || file == ownership || pkg == "internal/sitetest" {
			return
		}
		ast.Inspect(parsed, func(n ast.Node) bool {
			switch n := n.(type) {
			case *ast.SelectorExpr:
				from, _ := n.X.(*ast.Ident)
				system := from != nil && (from.Name == "syscall" || from.Name == "unix")
				if slices.Contains(numbers, n.Sel.Name) || system && errorNumber.MatchString(n.Sel.Name) {
					t.Errorf("%s looks at %s: that is for package reach, see reach.Seen and package problem", file, n.Sel.Name)
				}
			case *ast.KeyValueExpr:
				if key, ok := n.Key.(*ast.Ident); ok && slices.Contains(numbers, key.Name) {
					t.Errorf("%s sets %s: that is for package reach", file, key.Name)
				}
			}
			return true
		})
	})
}

var errorNumber = regexp.MustCompile("^E[A-Z]+$")

// Nothing branches on what an error, a sentence or a piece of JSON says in words: neither by what is in it nor by what it is.
func TestNothingBranchesOnText(t *testing.T) {
	eachFile(t, ".", func(file string, parsed *ast.File) {
		ast.Inspect(parsed, func(n ast.Node) bool {
			switch n := n.(type) {
			case *ast.CallExpr:
				fun, ok := n.Fun.(*ast.SelectorExpr)
				if !ok || len(n.Args) == 0 || !slices.Contains([]string{"Contains", "HasPrefix", "HasSuffix", "Index", "EqualFold"}, fun.Sel.Name) {
					return true
				}
				if of := sentence(n.Args[0]); of != "" {
					t.Errorf("%s branches on a sentence: %s", file, of)
				}
				if said := literal(n.Args[len(n.Args)-1]); strings.Contains(said, `":`) {
					t.Errorf("%s branches on a piece of JSON: %s", file, said)
				}
			case *ast.BinaryExpr:
				if n.Op != token.EQL && n.Op != token.NEQ {
					return true
				}
				for _, sides := range [][2]ast.Expr{{n.X, n.Y}, {n.Y, n.X}} {
					if of := sentence(sides[0]); of != "" && literal(sides[1]) != "" {
						t.Errorf("%s compares a sentence: %s with %q", file, of, literal(sides[1]))
					}
				}
			case *ast.SwitchStmt:
				if of := sentence(n.Tag); of != "" {
					t.Errorf("%s switches on a sentence: %s", file, of)
				}
			}
			return true
		})
	})
}

// literal is a text as it is written down; "" where an expression is none.
func literal(of ast.Expr) string {
	if lit, ok := of.(*ast.BasicLit); ok && lit.Kind == token.STRING {
		said, _ := strconv.Unquote(lit.Value)
		return said
	}
	return ""
}

// sentences are fields that hold what people read.
var sentences = []string{"Note", "Notes", "Because", "Why", "Detail", "Title", "Trouble", "Doing", "Lies", "Says", "Summary", "Clash", "Costs"}

// sentence is what an expression has people read: such a field, or what an error says; "" where it is none.
func sentence(of ast.Expr) string {
	switch of := of.(type) {
	case *ast.SelectorExpr:
		if slices.Contains(sentences, of.Sel.Name) {
			return of.Sel.Name
		}
	case *ast.IndexExpr:
		return sentence(of.X)
	case *ast.StarExpr:
		return sentence(of.X)
	case *ast.CallExpr:
		if method, ok := of.Fun.(*ast.SelectorExpr); ok && method.Sel.Name == "Error" && len(of.Args) == 0 {
			return "what an error says"
		}
	}
	return ""
}

// eachFile parses all our own code below a folder, tests and what is generated aside.
func eachFile(t *testing.T, root string, see func(file string, parsed *ast.File)) {
	require.NoError(t, filepath.WalkDir(root, func(file string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() && (d.Name() == "node_modules" || d.Name() == ".git") {
			return filepathSkip(d, err)
		}
		if d.IsDir() || !strings.HasSuffix(file, ".go") || strings.HasSuffix(file, "_test.go") || strings.HasSuffix(file, ".gen.go") {
			return nil
		}
		parsed, err := parser.ParseFile(token.NewFileSet(), file, nil, 0)
		require.NoError(t, err)
		see(filepath.ToSlash(file), parsed)
		return nil
	}))
}

// speaksCommands are the packages that may say how something is done from the command line: it, and what shows it.
var speaksCommands = regexp.MustCompile(`^(cmd|internal/(cli|demo|bench|browser|e2e|corpus|servicetest))\b`)

// command is how one is written, or an option of one; served are those of the service itself, which every client may have to name.
var (
	command = regexp.MustCompile(`humble-rewind [a-z]|(?:^|[^a-z-])--[a-z-]+`)
	served  = regexp.MustCompile(`--(?:data|host|listen|rebuild|safekeeping-limit|secrets|token-file)\b|git (?:--[a-z-]+ ?)+`)
)

// Commands are the command line's words: everything else says what is to be done, and each client how.
func TestOnlyTheCommandLineNamesCommands(t *testing.T) {
	seen := 0
	eachFile(t, ".", func(file string, parsed *ast.File) {
		if speaksCommands.MatchString(file) {
			return
		}
		seen++
		ast.Inspect(parsed, func(n ast.Node) bool {
			text, ok := n.(*ast.BasicLit)
			if ok && text.Kind == token.STRING && strings.Contains(text.Value, " ") && command.MatchString(served.ReplaceAllString(text.Value, "")) {
				t.Errorf("%s names a command: %s", file, text.Value)
			}
			return true
		})
	})
	require.Greater(t, seen, 200)
}

// wordless are the packages that say what they find as codes with values: what they hold in words is the end of an error, or names a thing.
var wordless = []string{"internal/core", "internal/past", "internal/choosing", "internal/drives", "internal/contents"}

// spoken is a sentence: some words, and its end.
var spoken = regexp.MustCompile(`^[A-Z][^"]*[a-z]+ [a-z]+ [a-z]+[^"]*\.$`)

// Sentences are those of package say. What to do next stands with the refusal that it belongs to, see problem.Input.
func TestCoreSpeaksInCodes(t *testing.T) {
	for _, root := range wordless {
		eachFile(t, root, func(file string, parsed *ast.File) {
			ast.Inspect(parsed, func(n ast.Node) bool {
				if pair, ok := n.(*ast.KeyValueExpr); ok {
					if key, ok := pair.Key.(*ast.Ident); ok && key.Name == "Next" {
						return false
					}
				}
				if expr, ok := n.(ast.Expr); ok && spoken.MatchString(literal(expr)) {
					t.Errorf("%s has a sentence of its own: %q", file, literal(expr))
				}
				return true
			})
		})
	}
}

// declared are what a kind or a way declares of itself, by the file that says so.
var declared = map[string]string{"internal/core/traits/traits.go": "Traits", "internal/core/traits/way.go": "Way"}

// traitsOf are what such a declaration is called where it is read.
var traitsOf = []string{"Traits", "Way", "WayTo"}

// conforms are the packages that hold kinds and ways to what they declare, which decides nothing.
var conforms = regexp.MustCompile(`^internal/(reach/reachtest|source/sourcetest)\b`)

// What is declared and read by nobody changes nothing: each field of the traits of kinds and ways has a reader outside of tests that decides by
// it, or one of the methods beside it does, which have readers themselves.
func TestEveryTraitIsReadByWhatDecides(t *testing.T) {
	readers := map[string][]string{} // of fields and methods, by name
	eachFile(t, "internal", func(file string, parsed *ast.File) {
		if conforms.MatchString(file) || declared[file] != "" {
			return
		}
		ast.Inspect(parsed, func(n ast.Node) bool {
			read, ok := n.(*ast.SelectorExpr)
			if !ok {
				return true
			}
			of := read.X
			if call, ok := of.(*ast.CallExpr); ok {
				of = call.Fun
			}
			if from, ok := of.(*ast.SelectorExpr); ok && slices.Contains(traitsOf, from.Sel.Name) {
				readers[read.Sel.Name] = append(readers[read.Sel.Name], file)
			}
			return true
		})
	})
	for file, name := range declared {
		parsed, err := parser.ParseFile(token.NewFileSet(), file, nil, 0)
		require.NoError(t, err)
		reads := map[string][]string{} // fields, by the method that reads them
		var fields []string
		ast.Inspect(parsed, func(n ast.Node) bool {
			switch n := n.(type) {
			case *ast.TypeSpec:
				if of, ok := n.Type.(*ast.StructType); ok && n.Name.Name == name {
					for _, f := range of.Fields.List {
						fields = append(fields, f.Names[0].Name)
					}
				}
			case *ast.FuncDecl:
				ast.Inspect(n.Body, func(inside ast.Node) bool {
					if read, ok := inside.(*ast.SelectorExpr); ok {
						reads[n.Name.Name] = append(reads[n.Name.Name], read.Sel.Name)
					}
					return true
				})
			}
			return true
		})
		require.NotEmpty(t, fields)
		for _, field := range fields {
			read := len(readers[field]) > 0
			for method, of := range reads {
				read = read || len(readers[method]) > 0 && slices.Contains(of, field)
			}
			if !read {
				t.Errorf("%s: nobody decides anything by the trait %s", file, field)
			}
		}
	}
}
