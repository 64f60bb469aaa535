package catalogue

import (
	"context"
	"database/sql"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"humble-rewind/internal/core/condition"
	"humble-rewind/internal/core/names"
	"humble-rewind/internal/core/traits"
)

// Query says which copies are looked for. Zero fields do not filter.
type Query struct {
	Words         string // each must occur in the name
	Machine       string
	Person        string
	Under         string // a folder's clean path
	Class         string
	State         string // "gone", "present" or "changed"
	Condition     string // of the content, as far as it was examined
	GoneSince     time.Time
	ExpiresBefore time.Time
	Kind          string // of source
	Shape         traits.Shape
	Whole         bool  // not what lies in a folder that is a copy itself
	ItemOf        int64 // what lies directly in this copy of a folder
	Records       bool  // also what only the record is left of
	Sort          Sort
	Limit         int
	Cursor        string
}

// Sort is an order of copies.
type Sort string

// The orders. The zero Sort is ByGone.
const (
	ByGone    Sort = "gone"    // newest deletion first
	ByWritten Sort = "written" // newest first
	ByName    Sort = "name"    // as searched, A to Z
	BySize    Sort = "size"    // largest first
	ByExpiry  Sort = "expires" // soonest first
)

// Found is one page of copies.
type Found struct {
	Copies []Copy
	Total  int
	Exact  bool   // whether Total is the whole count; counting stops at CountLimit
	Next   string // the cursor of the next page; "" where there is none
}

// CountLimit is where counting stops.
const CountLimit = 10000

const defaultLimit = 50

// A sort is a column whose NULLs come last, ordered with the id as a tie-break in the same direction.
type order struct {
	column     string
	descending bool
	text       bool
}

const expiry = "(x.gone_at + 86400000000000 * coalesce(so.retention_days, (SELECT retention_days FROM machines WHERE id = so.machine_id)))"

var orders = map[Sort]order{
	ByGone:    {"x.gone_at", true, false},
	ByWritten: {"x.written_at", true, false},
	ByName:    {"p.folded", false, true},
	BySize:    {"x.size", true, false},
	ByExpiry:  {expiry, false, false},
}

// Find returns a page of copies. An unreadable cursor is ErrCursor.
func (c *Catalogue) Find(ctx context.Context, q Query) (Found, error) {
	if q.Limit <= 0 {
		q.Limit = defaultLimit
	}
	if q.Sort == "" {
		q.Sort = ByGone
	}
	by, ok := orders[q.Sort]
	if !ok {
		return Found{}, fmt.Errorf("no order %q", q.Sort)
	}
	s := search{c: c, by: by}
	if err := s.words(ctx, q.Words); err != nil {
		return Found{}, err
	}
	s.filters(q)
	var found Found
	var err error
	if found.Total, found.Exact, err = s.count(ctx); err != nil {
		return Found{}, err
	}
	if q.Cursor != "" {
		if err := s.after(q.Cursor); err != nil {
			return Found{}, err
		}
	}
	if found.Copies, err = s.page(ctx, q.Limit+1); err != nil {
		return Found{}, err
	}
	if len(found.Copies) > q.Limit {
		found.Copies = found.Copies[:q.Limit]
		if found.Next, err = s.cursor(ctx, found.Copies[q.Limit-1].ID); err != nil {
			return Found{}, err
		}
	}
	return found, nil
}

// search is a query being put together.
type search struct {
	c     *Catalogue
	by    order
	where []string
	args  []any
	names []int64 // places whose names the words may hit, as far as CountLimit+1; nil where there are no words
	plain bool    // nothing but words filters
}

// fewNames is how many names are better looked up one by one than met while walking along the order.
const fewNames = 4000

func (s *search) few() bool { return s.names != nil && len(s.names) <= fewNames }

// words adds the words. Those of three letters and more go through the trigram index, which only proposes, since it
// knows no positions; where all are shorter, the names themselves are looked through. What is proposed is then held
// against every word.
func (s *search) words(ctx context.Context, words string) error {
	var grams []string
	for _, word := range strings.Fields(names.Fold(words)) {
		s.where = append(s.where, "instr(p.folded, ?) > 0")
		s.args = append(s.args, word)
		grams = append(grams, trigrams(word)...)
	}
	var err error
	switch {
	case len(s.where) == 0:
	case grams != nil:
		s.names, err = numbers(
			s.c.read.QueryContext(ctx, "SELECT rowid FROM names WHERE names MATCH ? LIMIT ?", strings.Join(grams, " AND "), CountLimit+1),
		)
	default:
		s.names, err = numbers(
			s.c.read.QueryContext(
				ctx,
				"SELECT p.id FROM places p WHERE "+strings.Join(s.where, " AND ")+" LIMIT ?",
				append(slices.Clone(s.args), CountLimit+1)...),
		)
	}
	return err
}

// trigrams returns enough of a word's trigrams to cover it, quoted for a query. Overlapping ones would add work and
// hardly narrow.
func trigrams(word string) (quoted []string) {
	letters := []rune(word)
	for i := 0; i+3 <= len(letters); i += 3 {
		quoted = append(quoted, quoteGram(letters[i:i+3]))
	}
	if n := len(letters); n > 3 && n%3 != 0 {
		quoted = append(quoted, quoteGram(letters[n-3:]))
	}
	return quoted
}

func quoteGram(letters []rune) string {
	return `"` + strings.ReplaceAll(string(letters), `"`, `""`) + `"`
}

func (s *search) filters(q Query) {
	add := func(condition string, args ...any) {
		s.where = append(s.where, condition)
		s.args = append(s.args, args...)
		s.plain = false
	}
	s.plain = true
	if !q.Records {
		s.where = append(s.where, "x.readable")
	}
	if q.Machine != "" {
		add("x.source_id IN (SELECT s.id FROM sources s JOIN machines m ON m.id = s.machine_id WHERE m.name = ?)", q.Machine)
	}
	if q.Person != "" {
		add("x.person = ?", q.Person)
	}
	if q.Under != "" && q.Under != "/" {
		// A range rather than a pattern: '0' is the byte after '/'.
		add(
			"p.dir_id IN (SELECT id FROM dirs WHERE path = ? OR path >= ? AND path < ?)",
			[]byte(q.Under),
			[]byte(q.Under+"/"),
			[]byte(q.Under+"0"),
		)
	}
	if q.Class != "" {
		add("x.class = ?", q.Class)
	}
	if q.State != "" {
		add(state+" = ?", q.State)
	}
	switch q.Condition {
	case "":
	case string(condition.Unread):
		add("x.condition IS NULL AND x.type = 'file'")
	default:
		add("x.condition = ?", q.Condition)
	}
	if !q.GoneSince.IsZero() {
		add("x.gone_at >= ?", q.GoneSince.UnixNano())
	}
	if !q.ExpiresBefore.IsZero() {
		// Nothing that was deleted later than the shortest retention before can expire by then; the index serves that.
		add(`x.gone_at < ? - 86400000000000 * (SELECT coalesce(min(nullif(coalesce(so.retention_days, m.retention_days), 0)), 0)
			FROM sources so JOIN machines m ON m.id = so.machine_id)`, q.ExpiresBefore.UnixNano())
		add(expiry+" > x.gone_at AND "+expiry+" < ?", q.ExpiresBefore.UnixNano())
	}
	if q.Shape != "" {
		add("so.shape = ?", string(q.Shape))
	}
	if q.Kind != "" {
		add("so.kind = ?", q.Kind)
	}
	if q.Whole {
		add("NOT x.within")
	}
	if q.ItemOf != 0 {
		add(`x.store_dir_id = (SELECT inside.id FROM spans f JOIN store_dirs fd ON fd.id = f.store_dir_id
			JOIN store_dirs inside ON inside.source_id = fd.source_id
				AND inside.path = CAST(CASE WHEN length(fd.path) = 0 THEN f.store_name ELSE fd.path || '/' || f.store_name END AS BLOB)
			WHERE f.id = ?)`, q.ItemOf)
	}
}

// from begins a query at the names where they are few, else at the spans in the order asked for.
func (s *search) from(columns, tables string) (string, []any) {
	where := ""
	if len(s.where) > 0 {
		where = " WHERE " + strings.Join(s.where, " AND ")
	}
	if s.few() {
		return "WITH hit AS MATERIALIZED (SELECT value AS id FROM json_each(?)) SELECT " + columns +
			" FROM hit CROSS JOIN spans x ON x.place_id = hit.id" + tables + where, append([]any{toJSON(s.names)}, s.args...)
	}
	return "SELECT " + columns + " FROM spans x" + tables + where, s.args
}

// countTables joins only what the conditions speak of: counting looks at far more rows than a page shows.
func (s *search) countTables() string {
	conditions := strings.Join(s.where, " ")
	tables := ""
	if strings.Contains(conditions, "p.") {
		tables += " JOIN places p ON p.id = x.place_id"
	}
	if strings.Contains(conditions, "so.") {
		tables += " JOIN sources so ON so.id = x.source_id"
	}
	return tables
}

// count counts as far as CountLimit. Where only words filter and hit more names than that, they need not be walked.
func (s *search) count(ctx context.Context) (int, bool, error) {
	if s.plain && len(s.names) > CountLimit {
		return CountLimit, false, nil
	}
	query, args := s.from("1", s.countTables())
	var n int
	err := s.c.read.QueryRowContext(ctx, "SELECT count(*) FROM ("+query+" LIMIT ?)", append(args, CountLimit+1)...).Scan(&n)
	return min(n, CountLimit), n <= CountLimit, err
}

func (s *search) page(ctx context.Context, limit int) ([]Copy, error) {
	query, args := s.from(copyColumns, copyTables)
	direction := ""
	if s.by.descending {
		direction = " DESC"
	}
	query += " ORDER BY " + s.by.column + direction + " NULLS LAST, x.id" + direction + " LIMIT ?"
	if s.by.descending {
		query = strings.Replace(query, " NULLS LAST", "", 1) // NULL is the least anyhow, and the index is used
	}
	return s.c.copies(ctx, query, append(args, limit))
}

// position is what a cursor holds: the value and id of the last copy of a page.
type position struct {
	Value any   `json:"v"`
	ID    int64 `json:"i"`
}

func (s *search) cursor(ctx context.Context, id int64) (string, error) {
	p := position{ID: id}
	err := s.c.read.QueryRowContext(ctx, "SELECT "+s.by.column+" FROM spans x"+copyTables+" WHERE x.id = ?", id).Scan(&p.Value)
	if err != nil {
		return "", err
	}
	return base64.RawURLEncoding.EncodeToString([]byte(toJSON(p))), nil
}

func (s *search) after(cursor string) error {
	raw, err := base64.RawURLEncoding.DecodeString(cursor)
	if err != nil {
		return ErrCursor
	}
	var p struct {
		Value json.RawMessage `json:"v"`
		ID    *int64          `json:"i"`
	}
	if err := json.Unmarshal(raw, &p); err != nil || p.ID == nil {
		return ErrCursor
	}
	compare := ">"
	if s.by.descending {
		compare = "<"
	}
	var value any
	if string(p.Value) != "null" {
		var number int64
		var text string
		if s.by.text {
			err, value = json.Unmarshal(p.Value, &text), &text
		} else {
			err, value = json.Unmarshal(p.Value, &number), &number
		}
		if err != nil {
			return ErrCursor
		}
	}
	column := s.by.column
	if value == nil {
		s.where = append(s.where, column+" IS NULL AND x.id "+compare+" ?")
		s.args = append(s.args, *p.ID)
		return nil
	}
	s.where = append(s.where, fmt.Sprintf("((%s, x.id) %s (?, ?) OR %s IS NULL)", column, compare, column))
	s.args = append(s.args, value, *p.ID)
	return nil
}

// People lists everybody who has a home on some machine.
func (c *Catalogue) People(ctx context.Context) ([]string, error) {
	rows, err := c.read.QueryContext(ctx, "SELECT DISTINCT name FROM people ORDER BY name")
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var all []string
	for rows.Next() {
		var name string
		if err := rows.Scan(&name); err != nil {
			return nil, err
		}
		all = append(all, name)
	}
	return all, rows.Err()
}

// noRows turns sql.ErrNoRows into ErrNotFound.
func noRows(err error) error {
	if errors.Is(err, sql.ErrNoRows) {
		return ErrNotFound
	}
	return err
}
