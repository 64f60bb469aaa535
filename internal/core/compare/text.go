package compare

import (
	"maps"
	"slices"
	"strings"
	"unicode"

	"humble-rewind/internal/core/diff"
	"humble-rewind/internal/core/document"
)

// Change says what happened to a block.
type Change string

// The changes.
const (
	Same    Change = "same"
	Added   Change = "added"
	Removed Change = "removed"
	Altered Change = "changed"
	Folded  Change = "folded" // unchanged lines that are left out
)

// Block is a line or paragraph of a comparison, or a row of them left out.
type Block struct {
	Change      Change
	LeftNumber  int // from 1; 0 where it is not in the first
	RightNumber int
	Left, Right string
	LeftWords   []Word // of an altered block
	RightWords  []Word
	Count       int // of the blocks left out
}

// Word is a piece of an altered line.
type Word struct {
	Text   string
	Marked bool // the other line does not have it
}

// lines compares two lists of lines or paragraphs.
func (c *Comparison) lines(left, right []string) {
	var all []Block
	e := &effort{words: maxWords, marks: maxMarks}
	numbers := map[string]int32{}
	runs := diff.Of(numbered(numbers, left), numbered(numbers, right))
	for i := 0; i < len(runs); i++ {
		r := runs[i]
		switch {
		case r.Op == diff.Same:
			for n := r.AStart; n < r.AEnd; n++ {
				all = append(
					all,
					Block{
						Change:      Same,
						LeftNumber:  n + 1,
						RightNumber: r.BStart + n - r.AStart + 1,
						Left:        short(left[n]),
						Right:       short(left[n]),
					},
				)
			}
		case r.Op == diff.Removed && i+1 < len(runs) && runs[i+1].Op == diff.Added:
			all = append(all, c.replaced(left, right, r, runs[i+1], e)...)
			i++
		case r.Op == diff.Removed:
			for n := r.AStart; n < r.AEnd; n++ {
				c.Removed++
				all = append(all, Block{Change: Removed, LeftNumber: n + 1, Left: short(left[n])})
			}
		default:
			for n := r.BStart; n < r.BEnd; n++ {
				c.Added++
				all = append(all, Block{Change: Added, RightNumber: n + 1, Right: short(right[n])})
			}
		}
	}
	c.Blocks = fold(all)
	if n := shownOf(c.Blocks); n < len(c.Blocks) {
		c.Blocks, c.Cut = c.Blocks[:n], true
	}
}

// shownOf is how many blocks are answered: so many, and so much text.
func shownOf(all []Block) int {
	size := 0
	for n := range all {
		size += len(all[n].Left) + len(all[n].Right)
		if n == maxBlocks || n > 0 && size > maxShown {
			return n
		}
	}
	return len(all)
}

// numbered gives equal lines equal numbers, so that comparing two costs the same however long they are.
func numbered(numbers map[string]int32, lines []string) []int32 {
	all := make([]int32, len(lines))
	for i, line := range lines {
		n, known := numbers[line]
		if !known {
			n = int32(len(numbers))
			numbers[line] = n
		}
		all[i] = n
	}
	return all
}

// replaced pairs lines that were removed with lines that took their place, where they are alike.
func (c *Comparison) replaced(left, right []string, removed, added diff.Run, e *effort) (all []Block) {
	b := added.BStart
	for a := removed.AStart; a < removed.AEnd; a++ {
		match := -1
		for n := b; n < min(added.BEnd, b+20); n++ {
			if e.alike(left[a], right[n]) {
				match = n
				break
			}
		}
		if match < 0 {
			c.Removed++
			all = append(all, Block{Change: Removed, LeftNumber: a + 1, Left: short(left[a])})
			continue
		}
		for ; b < match; b++ {
			c.Added++
			all = append(all, Block{Change: Added, RightNumber: b + 1, Right: short(right[b])})
		}
		c.Changed++
		l, r := e.markWords(left[a], right[b])
		all = append(
			all,
			Block{
				Change:      Altered,
				LeftNumber:  a + 1,
				RightNumber: b + 1,
				Left:        short(left[a]),
				Right:       short(right[b]),
				LeftWords:   l,
				RightWords:  r,
			},
		)
		b++
	}
	for ; b < added.BEnd; b++ {
		c.Added++
		all = append(all, Block{Change: Added, RightNumber: b + 1, Right: short(right[b])})
	}
	return all
}

// How much of two texts is compared word by word: beyond it lines are told as a whole, so that the answer comes in time. maxMarks is in
// steps of finding out what two lines of words and signs share; maxWords in words that are looked for in another line, and a line's
// length besides.
const (
	maxWords = 6_000_000
	maxMarks = 150_000_000
)

// effort is what may still be spent on the words of lines.
type effort struct{ words, marks int }

// alike tells whether two lines are alike, as long as that may still be found out.
func (e *effort) alike(a, b string) bool {
	if e.words -= 8 + min(len(a), maxLine)/4 + min(len(b), maxLine)/4; e.words < 0 {
		return false
	}
	return alike(a, b)
}

// markWords marks the words that only one of two lines has; beyond the bound, all of both.
func (e *effort) markWords(left, right string) (l, r []Word) {
	a, b := split(short(left)), split(short(right))
	edits := min(len(a)+len(b), diff.MaxEdits)
	if e.marks -= edits*edits + len(a) + len(b); e.marks < 0 {
		return []Word{{short(left), true}}, []Word{{short(right), true}}
	}
	return mark(a, b)
}

// alike tells whether two lines have at least two fifths of their words in common.
func alike(a, b string) bool {
	a, b = short(a), short(b)
	count := map[string]int{}
	wordsA, wordsB := strings.Fields(a), strings.Fields(b)
	for _, w := range wordsA {
		count[w]++
	}
	common := 0
	for _, w := range wordsB {
		if count[w] > 0 {
			count[w]--
			common++
		}
	}
	if len(wordsA) <= 2 && len(wordsB) <= 2 {
		return common > 0 || sharesHalf(a, b)
	}
	return common*5 >= max(len(wordsA), len(wordsB))*2
}

// sharesHalf compares short lines letter by letter.
func sharesHalf(a, b string) bool {
	n := 0
	for n < min(len(a), len(b)) && a[n] == b[n] {
		n++
	}
	m := 0
	for m < min(len(a), len(b))-n && a[len(a)-1-m] == b[len(b)-1-m] {
		m++
	}
	return (n+m)*2 >= max(len(a), len(b))
}

// mark marks what only one of two lines has, of words and the spaces and signs between them.
func mark(a, b []string) (l, r []Word) {
	add := func(words []Word, pieces []string, marked bool) []Word {
		if text := strings.Join(pieces, ""); text != "" {
			words = append(words, Word{text, marked})
		}
		return words
	}
	for _, run := range diff.Of(a, b) {
		l = add(l, a[run.AStart:run.AEnd], run.Op != diff.Same)
		r = add(r, b[run.BStart:run.BEnd], run.Op != diff.Same)
	}
	return l, r
}

func split(line string) (pieces []string) {
	start, was := 0, -1
	for i, r := range line {
		kind := 0
		switch {
		case unicode.IsSpace(r):
			kind = 1
		case !unicode.IsLetter(r) && !unicode.IsDigit(r):
			kind = 2 + i // each sign by itself
		}
		if kind != was && i > start {
			pieces = append(pieces, line[start:i])
			start = i
		}
		was = kind
	}
	if start < len(line) {
		pieces = append(pieces, line[start:])
	}
	return pieces
}

func short(line string) string {
	if len(line) > maxLine {
		return strings.ToValidUTF8(line[:maxLine], "") + " …"
	}
	return line
}

// fold leaves out what is far from any change.
func fold(all []Block) (kept []Block) {
	near := make([]bool, len(all))
	for i, b := range all {
		if b.Change == Same {
			continue
		}
		for n := max(0, i-context); n <= min(len(all)-1, i+context); n++ {
			near[n] = true
		}
	}
	for i, b := range all {
		if near[i] {
			kept = append(kept, b)
			continue
		}
		if n := len(kept); n > 0 && kept[n-1].Change == Folded {
			kept[n-1].Count++
		} else {
			kept = append(kept, Block{Change: Folded, Count: 1, LeftNumber: b.LeftNumber, RightNumber: b.RightNumber})
		}
	}
	return kept
}

// Cell is a cell that differs.
type Cell struct {
	Sheet       string
	Address     string // such as B7
	Left, Right string
}

// cells compares two spreadsheets sheet by sheet, by name or else by position, and within one row by row where rows were
// put in or taken out, else cell by cell.
func (c *Comparison) cells(left, right document.Document) {
	c.By = Cells
	used := map[int]bool{}
	for i, l := range left.Sheets {
		match := slices.IndexFunc(right.Sheets, func(r document.Sheet) bool { return r.Name == l.Name })
		if match < 0 && i < len(right.Sheets) &&
			!slices.ContainsFunc(left.Sheets, func(s document.Sheet) bool { return s.Name == right.Sheets[i].Name }) {
			match = i
			c.note("sheet-renamed", "sheet", l.Name, "name", right.Sheets[i].Name)
		}
		if match < 0 || used[match] {
			c.note("sheet-only-first", "sheet", l.Name)
			continue
		}
		used[match] = true
		c.rows(l.Name, l.Rows, right.Sheets[match].Rows)
	}
	for i, r := range right.Sheets {
		if !used[i] {
			c.note("sheet-only-second", "sheet", r.Name)
		}
	}
	c.summarize("cell")
}

func (c *Comparison) rows(sheet string, left, right [][]string) {
	join := func(rows [][]string) []string {
		keys := make([]string, len(rows))
		for i, row := range rows {
			keys[i] = strings.Join(row, "\x1f")
		}
		return keys
	}
	runs := diff.Of(join(left), join(right))
	for i := 0; i < len(runs); i++ {
		r := runs[i]
		switch {
		case r.Op == diff.Same:
		case r.Op == diff.Removed && i+1 < len(runs) && runs[i+1].Op == diff.Added:
			n := runs[i+1]
			for k := range max(r.AEnd-r.AStart, n.BEnd-n.BStart) {
				c.row(sheet, left, right, r.AStart+k, r.AEnd, n.BStart+k, n.BEnd)
			}
			i++
		case r.Op == diff.Removed:
			for n := r.AStart; n < r.AEnd; n++ {
				c.row(sheet, left, right, n, r.AEnd, -1, 0)
			}
		default:
			for n := r.BStart; n < r.BEnd; n++ {
				c.row(sheet, left, right, -1, 0, n, r.BEnd)
			}
		}
	}
}

func (c *Comparison) row(sheet string, left, right [][]string, a, endA, b, endB int) {
	var l, r []string
	at := b
	if a >= 0 && a < endA {
		l, at = left[a], a
	}
	if b >= 0 && b < endB {
		r = right[b]
		at = b
	}
	for column := range max(len(l), len(r)) {
		cell := Cell{Sheet: sheet, Address: document.Name(column, at)}
		if column < len(l) {
			cell.Left = l[column]
		}
		if column < len(r) {
			cell.Right = r[column]
		}
		switch {
		case cell.Left == cell.Right:
			continue
		case cell.Left == "":
			c.Added++
		case cell.Right == "":
			c.Removed++
		default:
			c.Changed++
		}
		if len(c.Cells) == maxCells {
			c.Cut = true
			continue
		}
		cell.Left, cell.Right = short(cell.Left), short(cell.Right)
		c.Cells = append(c.Cells, cell)
	}
}

func sortedKeys(maps_ ...map[string]Listed) []string {
	all := map[string]bool{}
	for _, m := range maps_ {
		for key := range m {
			all[key] = true
		}
	}
	return slices.Sorted(maps.Keys(all))
}
