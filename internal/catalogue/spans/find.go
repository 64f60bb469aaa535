package spans

import (
	"context"
	"database/sql"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"math"
	"slices"
	"strings"
	"time"

	"humble-rewind/internal/catalogue/file"
	"humble-rewind/internal/core/condition"
	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/fileclass"
	"humble-rewind/internal/core/intact"
	fold "humble-rewind/internal/core/names"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/problem"
	"humble-rewind/internal/core/traits"
)

// Query says which copies are looked for. Zero fields do not filter.
type Query struct {
	Words         string // each must occur in the name
	Machine       string
	People        map[string][]string // those of these accounts alone, by machine
	Under         string              // a folder's clean path
	Class         string
	State         string         // "gone", "present" or "changed"
	Condition     string         // of the content, as far as it was examined
	Intact        []intact.State // of traces: those of one of these states
	Named         *bool          // what has a name, or has lost it
	NoLoose       bool           // no traces that have lost their name
	Least, Most   int64          // bytes; Most 0: as many as there are
	GoneSince     time.Time
	ExpiresBefore time.Time
	Kind          string // of source
	Shape         traits.Shape
	Whole         bool      // not what lies in a folder that is a copy itself
	ItemOf        copies.ID // what lies directly in this copy of a folder
	Records       bool      // also what only the record is left of
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
	Copies []Shown
	Total  int
	Exact  bool   // whether Total is the whole count; counting stops at CountLimit
	Next   string // the cursor of the next page; "" where there is none
}

// CountLimit is where counting stops.
const CountLimit = 1000

const defaultLimit = 50

// day is a day of a retention, in nanoseconds.
const day = int64(24 * time.Hour)

// order is an order of copies. What lacks the value comes last; of equal values numbers decide, in the same direction.
type order struct {
	descending bool
	text       bool // it is by a text, not by a number
	value      func(r *look, l *located) rankValue
	// bound is a value that nothing in a folder comes before.
	bound func(r *look, f *indexedFolder) rankValue
}

// rankValue is what copies are ordered by: a number, or a text and the first letters of it.
type rankValue struct {
	known  bool
	number int64
	text   string
}

func known(n sql.NullInt64) rankValue { return rankValue{known: n.Valid, number: n.Int64} }

var orders = map[Sort]order{
	ByGone: {true, false, func(_ *look, l *located) rankValue { return known(instantNanos(l.Gone)) },
		func(_ *look, f *indexedFolder) rankValue {
			return rankValue{known: f.goneLast > 0, number: notLater(f.goneLast)}
		}},
	ByWritten: {true, false, func(_ *look, l *located) rankValue { return known(instantNanos(l.Written)) },
		func(_ *look, f *indexedFolder) rankValue {
			return rankValue{known: f.written > 0, number: notLater(f.written)}
		}},
	BySize: {true, false, func(_ *look, l *located) rankValue { return rankValue{known: true, number: l.Size} },
		func(_ *look, f *indexedFolder) rankValue { return rankValue{known: true, number: int64(f.largest)} }},
	ByExpiry: {false, false, func(r *look, l *located) rankValue {
		n := r.expiry(l)
		return rankValue{known: n != 0, number: n}
	}, func(r *look, f *indexedFolder) rankValue {
		if f.goneFirst <= 1 {
			return rankValue{known: f.goneFirst > 0, number: math.MinInt64}
		}
		return rankValue{known: true, number: notEarlier(f.goneFirst) + day*r.retention(copies.SourceID(f.source))}
	}},
	ByName: {false, true, func(_ *look, l *located) rankValue {
		return rankValue{known: true, text: fold.Fold(place.Name(l.placePath()))}
	},
		func(_ *look, f *indexedFolder) rankValue {
			b := make([]byte, 8)
			for i := range b {
				b[i] = byte(f.name >> (56 - 8*i))
			}
			return rankValue{known: true, text: strings.TrimRight(string(b), "\x00")}
		}},
}

// retention is how many days a source keeps what was deleted.
func (r *look) retention(source copies.SourceID) int64 {
	if s := r.stores[source]; s != nil {
		return int64(s.RetentionDays)
	}
	return 0
}

// expiry is when the policy of a span's store removes it, or when it was deleted where that never does; 0 where it was not.
func (r *look) expiry(l *located) int64 {
	gone := instantNanos(l.Gone)
	if !gone.Valid {
		return 0
	}
	return gone.Int64 + day*r.retention(l.folder.source)
}

// rank is where something stands in an order.
type rank struct {
	rankValue
	id int64
}

// before tells whether one comes before another.
func (o order) before(a, b rank) bool {
	switch {
	case a.known != b.known:
		return a.known
	case a.number != b.number:
		return (a.number > b.number) == o.descending
	case a.text != b.text:
		return (a.text > b.text) == o.descending
	}
	return a.id != b.id && (a.id > b.id) == o.descending
}

// Find returns a page of copies. An unreadable cursor is problem.BadCursor.
func (c Search) Find(ctx context.Context, q Query) (Found, error) {
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
	r, err := c.look(ctx)
	if err != nil {
		return Found{}, err
	}
	s := search{r: r, by: by, limit: q.Limit + 1, count: CountLimit, words: strings.Fields(fold.Fold(q.Words))}
	if err := s.filters(ctx, q); err != nil {
		return Found{}, err
	}
	if q.Cursor != "" {
		if err := s.goOn(q.Cursor); err != nil {
			return Found{}, err
		}
	}
	if err := s.run(ctx); err != nil {
		return Found{}, err
	}
	found := Found{Total: min(s.total, CountLimit), Exact: s.total <= CountLimit && !s.more}
	if len(s.best) > q.Limit {
		s.best = s.best[:q.Limit]
		found.Next = s.cursor(s.best[q.Limit-1].rank)
	}
	page := make([]located, len(s.best))
	for i, h := range s.best {
		page[i] = h.located
	}
	all, err := r.records(ctx, page)
	if err == nil {
		found.Copies, err = Copies(c).Shown(ctx, all)
	}
	return found, err
}

// filters turns a query into what sources, folders and spans have to be like.
func (s *search) filters(ctx context.Context, q Query) error {
	r := s.r
	s.source = func(x *copies.Store) bool {
		return (q.Machine == "" || x.Machine == q.Machine) && (q.Kind == "" || x.Kind == q.Kind) &&
			(q.Shape == "" || x.Traits.Shape == q.Shape)
	}
	s.folder = func(f *indexedFolder) bool {
		return (q.GoneSince.IsZero() || f.goneLast > 0 && notLater(f.goneLast) >= q.GoneSince.UnixNano()) &&
			(q.ExpiresBefore.IsZero() || f.goneFirst > 0 && notEarlier(f.goneFirst) < q.ExpiresBefore.UnixNano())
	}
	s.span = func(l *located) bool {
		gone := instantNanos(l.Gone)
		return (q.Records || r.readable(l)) && (q.People == nil || slices.Contains(q.People[r.machineOf(l)], l.Person)) && (!q.Whole || !l.Within) &&
			(q.Class == "" || string(classOf(l)) == q.Class) && (len(q.Intact) == 0 || slices.Contains(q.Intact, l.Intact.State)) &&
			(q.Named == nil || *q.Named != l.Nameless) && !(q.NoLoose && l.Nameless && l.Intact.Known()) &&
			(q.Least == 0 || l.Size >= q.Least) && (q.Most == 0 || l.Size >= 0 && l.Size <= q.Most) &&
			(q.Under == "" || q.Under == "/" || place.Under(place.Folder(l.placePath()), q.Under)) &&
			(q.GoneSince.IsZero() || gone.Valid && gone.Int64 >= q.GoneSince.UnixNano()) &&
			(q.ExpiresBefore.IsZero() || gone.Valid && r.retention(l.folder.source) > 0 && r.expiry(l) < q.ExpiresBefore.UnixNano())
	}
	switch q.Condition {
	case "":
	case string(condition.Unread):
		s.content = func(l *located, known contentRow) (bool, error) {
			return l.Type == entry.File && known.condition == "", nil
		}
	default:
		s.content = func(_ *located, known contentRow) (bool, error) { return string(known.condition) == q.Condition, nil }
		if err := s.only(ctx, "SELECT DISTINCT (SELECT folder_id FROM id_runs WHERE first <= c.span_id ORDER BY first DESC LIMIT 1) FROM "+
			"contents c WHERE c.condition = ?", q.Condition); err != nil {
			return err
		}
	}
	if q.State != "" {
		condition := s.content
		s.content = func(l *located, known contentRow) (bool, error) {
			if condition != nil {
				if ok, err := condition(l, known); !ok || err != nil {
					return false, err
				}
			}
			x := r.record(l)
			if x == nil {
				return false, nil
			}
			x.SHA256 = known.sha256
			state, err := r.state(ctx, x)
			return string(state) == q.State, err
		}
	}
	if q.Under != "" && q.Under != "/" {
		if err := s.only(ctx, `SELECT f.id FROM dirs d CROSS JOIN folders f ON f.dir_id = d.id WHERE d.path = ?1 OR d.path >= ?2 AND d.path < ?3
			UNION SELECT e.block_id >> 36 FROM dirs d CROSS JOIN elsewhere e ON e.dir_id = d.id WHERE d.path = ?1 OR d.path >= ?2 AND
				d.path < ?3`, []byte(q.Under), []byte(q.Under+"/"), []byte(q.Under+"0")); err != nil {
			return err
		}
	}
	if q.ItemOf != 0 {
		return s.itemsOf(ctx, q.ItemOf)
	}
	return nil
}

// classOf is what kind of file a span is, by its name.
func classOf(l *located) fileclass.Class {
	if l.Type == entry.Folder {
		return fileclass.Folders
	}
	return fileclass.Of(place.Name(l.placePath()))
}

// only narrows the search to folders that a query lists.
func (s *search) only(ctx context.Context, query string, args ...any) error {
	folders, err := file.Numbers(s.r.q.QueryContext(ctx, query, args...))
	if err != nil {
		return err
	}
	among := make(map[int64]bool, len(folders))
	for _, id := range folders {
		if s.among == nil || s.among[id] {
			among[id] = true
		}
	}
	s.among = among
	return nil
}

// itemsOf narrows the search to what lies directly in a copy of a folder.
func (s *search) itemsOf(ctx context.Context, id copies.ID) error {
	found, err := s.r.find(ctx, []copies.ID{id})
	if err != nil {
		return err
	}
	s.among = map[int64]bool{}
	if l, ok := found[id]; ok {
		f, err := folderAt(ctx, s.r.q, l.folder.source, place.Join("/"+l.folder.path, l.Name)[1:])
		if err != nil {
			return err
		}
		if f != nil {
			s.among[f.id] = true
		}
	}
	return nil
}

// position is what a cursor holds: the value and the number of the last copy of a page.
type position struct {
	Value any   `json:"v"`
	ID    int64 `json:"i"`
}

func (s *search) cursor(last rank) string {
	p := position{ID: last.id}
	switch {
	case s.by.text:
		p.Value = last.text
	case last.known:
		p.Value = last.number
	}
	return base64.RawURLEncoding.EncodeToString([]byte(file.ToJSON(p)))
}

// goOn goes on behind the last copy of a page.
func (s *search) goOn(cursor string) error {
	raw, err := base64.RawURLEncoding.DecodeString(cursor)
	if err != nil {
		return problem.BadCursor
	}
	var p struct {
		Value json.RawMessage `json:"v"`
		ID    *int64          `json:"i"`
	}
	if err := json.Unmarshal(raw, &p); err != nil || p.ID == nil {
		return problem.BadCursor
	}
	at := rank{id: *p.ID}
	if len(p.Value) == 0 {
		return problem.BadCursor
	}
	if string(p.Value) != "null" {
		at.known = true
		if s.by.text {
			err = json.Unmarshal(p.Value, &at.text)
		} else {
			err = json.Unmarshal(p.Value, &at.number)
		}
		if err != nil {
			return problem.BadCursor
		}
	}
	s.after = &at
	return nil
}
