// Package stray knows the leftovers that programs make beside documents and in places of their own: autosaves, backup
// copies, temporary files, recovery files, and locks.
//
// The rules are data, a line each:
//
//	KIND TRUST PATTERN [in FOLDER] = DOCUMENT
//
// KIND is autosave, backup, temporary, recovery or lock; TRUST is sure, likely or weak. PATTERN is a file name in which
// {name} stands for a whole file name, {stem} and {ext} for what is before and behind its last dot, {bare} for a name without
// any dot, {n} for digits, {x} for anything, and {path:C} for a whole path whose slashes are written as the character C. FOLDER is a
// folder below a person's home, or, with a slash before it, of the machine, in which * stands for one name and ** at the end for whatever is
// below; without it the leftover lies beside its document. DOCUMENT is the
// document's name made of the same parts, in which ? stands for one character, or .* for any extension; a lone * says that
// only content can tell. A # begins a comment, where it is the first thing in a line.
package stray

import (
	"bufio"
	"fmt"
	"io"
	"iter"
	"path"
	"regexp"
	"strings"

	"humble-rewind/internal/core/place"
)

// Kind is what a leftover is.
type Kind string

// The kinds.
const (
	Autosave  Kind = "autosave"
	Backup    Kind = "backup"
	Temporary Kind = "temporary"
	Recovery  Kind = "recovery"
	Lock      Kind = "lock" // holds no content: it says who has the document open
)

// Phrase says what a leftover of the kind is, for the middle of a sentence.
func (k Kind) Phrase() string {
	return map[Kind]string{Autosave: "an autosave", Backup: "a backup copy", Temporary: "a temporary file",
		Recovery: "a recovery file", Lock: "a lock file"}[k]
}

// Trust is how surely the pattern alone tells the document.
type Trust string

// The trusts.
const (
	Sure   Trust = "sure"
	Likely Trust = "likely"
	Weak   Trust = "weak"
)

// Rule is one line of the rules.
type Rule struct {
	Kind     Kind
	Trust    Trust
	Pattern  string
	Folder   string // below a home; "" for beside the document
	Document string
	name     *regexp.Regexp
	folder   *regexp.Regexp
	begins   string // of the folder, up to its first *: cheaper to look at
	head     string // of names: what stands before all that is left open, and behind it
	tail     string
	swap     string // the character that slashes of {path:C} are written as
}

// Rules are tried in their order. The first that fits a file's name says what it is; where the document is known already,
// the first that leads to it.
type Rules []Rule

// Match is a leftover as a rule sees it.
type Match struct {
	Rule   *Rule
	Dir    string // where the document lies; "" where that is not known
	Name   string // of the document, perhaps with ? and .* in it; "" where only content can tell
	Beside bool
}

// Exact returns the document's path where the rule tells it without a doubt.
func (m Match) Exact() (string, bool) {
	if m.Dir == "" || m.Name == "" || strings.Contains(m.Name, "?") || strings.HasSuffix(m.Name, ".*") || m.Rule.Kind == Lock ||
		m.Rule.Trust == Weak {
		return "", false
	}
	return place.Join(m.Dir, m.Name), true
}

// Fits tells whether a document may be the one: its name fits, and it lies where the rule says.
func (m Match) Fits(document string) bool {
	if m.Dir != "" && m.Dir != place.Folder(document) {
		return false
	}
	if m.Name == "" {
		return true
	}
	name := place.Name(document)
	stem, open := strings.CutSuffix(m.Name, ".*")
	if open {
		name = strings.TrimSuffix(name, path.Ext(name))
	} else {
		stem = m.Name
	}
	want, have := []rune(stem), []rune(name)
	if len(want) != len(have) {
		return false
	}
	for i := range want {
		if want[i] != '?' && want[i] != have[i] {
			return false
		}
	}
	return true
}

// Match finds the first rule that a file fits, by its path and the home it lies in ("" for none).
func (rules Rules) Match(file, home string) (Match, bool) {
	for m := range rules.Matches(file, home) {
		return m, true
	}
	return Match{}, false
}

// For picks the rules by which something at a path may be a leftover of a document, told from its name alone: those that name
// documents, where it has the document's name in its own or nearly all of that, and those by which only content tells.
type For struct {
	nameless Rules
	tails    []string
}

// For prepares to look for leftovers of a document that is known under some names.
func (rules Rules) For(documents []string) For {
	const swapped = 2 // letters at the beginning of a name that some programs write others for
	var f For
	for i := range rules {
		if rules[i].Document == "*" {
			f.nameless = append(f.nameless, rules[i])
		}
	}
	for _, d := range documents {
		name := []rune(place.Name(d))
		stem := []rune(strings.TrimSuffix(string(name), path.Ext(string(name))))
		if len(stem) > swapped+1 {
			stem = stem[swapped:]
		}
		f.tails = append(f.tails, string(stem))
	}
	return f
}

// May tells whether what lies at a path may be a leftover of the document.
func (f For) May(lies, home string) bool {
	name := place.Name(lies)
	for _, tail := range f.tails {
		if strings.Contains(name, tail) {
			return true
		}
	}
	_, ok := f.nameless.Match(lies, home)
	return ok
}

// Matches yields what each rule that a file fits makes of it. A name such as plan.odt_0.odt can be read in several ways,
// and only the document tells which is meant.
func (rules Rules) Matches(file, home string) iter.Seq[Match] {
	name, dir := place.Name(file), place.Folder(file)
	return func(yield func(Match) bool) {
		for i := range rules {
			r := &rules[i]
			if r.folder != nil {
				below, ok := place.Below(dir, home)
				if strings.HasPrefix(r.Folder, "/") {
					below, ok = dir, true
				} else if home == "" {
					ok = false
				}
				if !ok || !strings.HasPrefix(below, r.begins) || !r.folder.MatchString(below) {
					continue
				}
			}
			if !strings.HasPrefix(name, r.head) || !strings.HasSuffix(name, r.tail) {
				continue
			}
			parts := r.name.FindStringSubmatch(name)
			if parts == nil {
				continue
			}
			m := Match{Rule: r, Beside: r.folder == nil}
			if m.Beside {
				m.Dir = dir
			}
			r.document(&m, parts)
			if m.Name == name && m.Beside {
				continue // it would be its own leftover
			}
			if !yield(m) {
				return
			}
		}
	}
}

// document works out the document's name and folder from what the pattern's parts stand for.
func (r *Rule) document(m *Match, parts []string) {
	if r.Document == "*" {
		if m.Beside {
			m.Name = ""
		}
		return
	}
	m.Name = r.Document
	for i, part := range r.name.SubexpNames() {
		switch part {
		case "":
		case "path":
			full := strings.ReplaceAll(parts[i], r.swap, "/")
			if clean, err := place.Clean(full); err == nil {
				m.Dir, m.Name = place.Folder(clean), place.Name(clean)
			}
			return
		default:
			m.Name = strings.ReplaceAll(m.Name, "{"+part+"}", parts[i])
		}
	}
}

// ParseError says which line of the rules cannot be understood. Lines count from 1.
type ParseError struct {
	Line int
	Why  string
}

func (e *ParseError) Error() string { return fmt.Sprintf("line %d: %s", e.Line, e.Why) }

const maxRules = 1000

// Parse reads rules. Errors are of type *ParseError, but for those of reading.
func Parse(r io.Reader) (Rules, error) {
	var rules Rules
	lines := bufio.NewScanner(r)
	for n := 1; lines.Scan(); n++ {
		line := strings.TrimSpace(lines.Text())
		if line == "" || line[0] == '#' && (len(line) == 1 || line[1] == ' ' || line[1] == '#') {
			continue
		}
		rule, err := parse(line)
		if err == nil && len(rules) == maxRules {
			err = fmt.Errorf("there are more than %d rules", maxRules)
		}
		if err != nil {
			return nil, &ParseError{n, err.Error()}
		}
		rules = append(rules, rule)
	}
	return rules, lines.Err()
}

var kinds = []Kind{Autosave, Backup, Temporary, Recovery, Lock}

func parse(line string) (Rule, error) {
	var r Rule
	fields := strings.Fields(line)
	left, document, ok := cutLast(line, " = ")
	if !ok || len(fields) < 5 {
		return r, fmt.Errorf("it should read KIND TRUST PATTERN [in FOLDER] = DOCUMENT")
	}
	r.Kind, r.Trust = Kind(fields[0]), Trust(fields[1])
	if r.Kind.Phrase() == "" {
		return r, fmt.Errorf("%q is not a kind; known are %q", fields[0], kinds)
	}
	if r.Trust != Sure && r.Trust != Likely && r.Trust != Weak {
		return r, fmt.Errorf("%q is not a trust; known are sure, likely and weak", fields[1])
	}
	left = strings.TrimSpace(strings.TrimPrefix(strings.TrimSpace(strings.TrimPrefix(left, fields[0])), fields[1]))
	if pattern, folder, ok := cutLast(left, " in "); ok {
		left = strings.TrimSpace(pattern)
		r.Folder = strings.TrimSuffix(strings.TrimSpace(folder), "/")
		any := strings.ReplaceAll(regexp.QuoteMeta(r.Folder), `/\*\*`, `(?:/.*)?`)
		r.begins, _, _ = strings.Cut(r.Folder, "*")
		r.begins = strings.TrimSuffix(r.begins, "/")
		r.folder = regexp.MustCompile(`^(?s:` + strings.ReplaceAll(any, `\*`, `[^/]+`) + `)$`)
	}
	r.Pattern, r.Document = left, strings.TrimSpace(document)
	expression, err := r.expression()
	if err != nil {
		return r, err
	}
	r.name, err = regexp.Compile(expression)
	if first, last := strings.IndexByte(r.Pattern, '{'), strings.LastIndexByte(r.Pattern, '}'); first >= 0 && last > first {
		r.head, r.tail = r.Pattern[:first], r.Pattern[last+1:]
	}
	return r, err
}

func cutLast(s, separator string) (before, after string, found bool) {
	i := strings.LastIndex(s, separator)
	if i < 0 {
		return s, "", false
	}
	return s[:i], s[i+len(separator):], true
}

// expression makes a regular expression of the pattern.
func (r *Rule) expression() (string, error) {
	var b strings.Builder
	b.WriteString(`^(?s:`)
	rest := r.Pattern
	if rest == "" {
		return "", fmt.Errorf("it has no pattern")
	}
	for rest != "" {
		open := strings.IndexByte(rest, '{')
		if open < 0 {
			b.WriteString(regexp.QuoteMeta(rest))
			break
		}
		b.WriteString(regexp.QuoteMeta(rest[:open]))
		part, after, ok := strings.Cut(rest[open+1:], "}")
		if !ok {
			return "", fmt.Errorf("a { has no } behind it")
		}
		rest = after
		switch {
		case part == "name":
			b.WriteString(`(?P<name>.+)`)
		case part == "stem":
			b.WriteString(`(?P<stem>.+?)`)
		case part == "bare":
			b.WriteString(`(?P<bare>[^.]+)`)
		case part == "ext":
			b.WriteString(`(?P<ext>[^.]+)`)
		case part == "n":
			b.WriteString(`[0-9]+`)
		case part == "x":
			b.WriteString(`.*`)
		case strings.HasPrefix(part, "path:") && len(part) > len("path:"):
			r.swap = strings.TrimPrefix(part, "path:")
			swap := regexp.QuoteMeta(r.swap)
			b.WriteString(`(?P<path>` + swap + `.+?)` + `(?:` + swap + `)?`)
		default:
			return "", fmt.Errorf("{%s} stands for nothing", part)
		}
	}
	b.WriteString(`)$`)
	return b.String(), nil
}

// Sessions are the folders in which programs keep what is written for a moment, for a person with a home: the system's own, and hers.
func Sessions(home string) []string {
	all := []string{"/tmp", "/var/tmp"}
	if home != "" {
		all = append(all, place.Join(home, "tmp"), place.Join(home, ".tmp"))
	}
	return all
}
