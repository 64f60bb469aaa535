package spans

import (
	"cmp"
	"context"
	"database/sql"
	"errors"
	"fmt"
	"iter"
	"slices"
	"sort"
	"strings"

	"humble-rewind/internal/catalogue/block"
	"humble-rewind/internal/catalogue/file"
	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/core/place"
)

// Under yields everything that sources saw below a folder, place by place: by folder, and in one by name.
func (c Copies) Under(ctx context.Context, folder place.Place) iter.Seq2[*copies.Copy, error] {
	return c.copiesBelow(ctx, folder, true, "")
}

// In yields what sources saw directly in a folder, name by name, beginning behind a name; "" is the beginning.
func (c Copies) In(ctx context.Context, folder place.Place, after string) iter.Seq2[*copies.Copy, error] {
	return c.copiesBelow(ctx, folder, false, after)
}

// FoldersIn returns the names of the folders in a folder in which something was seen, at whatever depth, that come behind a name. They
// have no order.
func (c Copies) FoldersIn(ctx context.Context, folder place.Place, after string) ([]string, error) {
	if r, err := c.look(ctx); err != nil || !r.of(folder.Machine) {
		return nil, err
	}
	low, high := underIt(folder.Path)
	rows, err := c.f.Reads.QueryContext(ctx, "SELECT DISTINCT CASE WHEN instr(rest, x'2f') > 0 THEN substr(rest, 1, instr(rest, x'2f') - 1) "+
		"ELSE rest END AS name FROM (SELECT substr(path, ?4) AS rest FROM dirs WHERE machine_id = (SELECT id FROM machines WHERE name = ?1) "+
		"AND path >= ?2 AND path < ?3) WHERE name > ?5", folder.Machine, low, high, len(low)+1, []byte(after))
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var all []string
	for rows.Next() {
		var name []byte
		if err := rows.Scan(&name); err != nil {
			return nil, err
		}
		all = append(all, string(name))
	}
	return all, rows.Err()
}

// underIt returns the bounds of the paths below a folder: from the first on, and less than the other.
func underIt(path string) (low, high []byte) {
	if path == "/" {
		return []byte("/"), []byte("0")
	}
	return []byte(path + "/"), []byte(path + "0") // '0' is the byte after '/'
}

// below says which folders of a machine are meant, by parameters after the first, the machine's name.
const (
	itself     = "d.machine_id = (SELECT id FROM machines WHERE name = ?1) AND d.path = ?2"
	withDeeper = "d.machine_id = (SELECT id FROM machines WHERE name = ?1) AND d.path >= ?2 AND (d.path = ?2 OR d.path >= ?3) AND d.path < ?4"
)

func (c Copies) copiesBelow(ctx context.Context, of place.Place, deep bool, after string) iter.Seq2[*copies.Copy, error] {
	return func(yield func(*copies.Copy, error) bool) {
		r, err := c.look(ctx)
		if err != nil {
			yield(nil, err)
			return
		}
		if !r.of(of.Machine) {
			return
		}
		u := &under{c: c.room, ctx: ctx, r: r, yield: yield, machine: of.Machine, behind: after}
		where, args := itself, []any{of.Machine, []byte(of.Path)}
		if deep {
			low, high := underIt(of.Path)
			where, args = withDeeper, append(args, low, high)
		}
		if err := u.run(where, args); err != nil && !errors.Is(err, errEnough) {
			yield(nil, err)
		}
	}
}

// errEnough ends the walk of whoever asked.
var errEnough = errors.New("enough")

// under puts together what several stores hold of folders of a machine: block after block, so that little of it is in memory.
type under struct {
	c       *room
	ctx     context.Context
	r       *look
	yield   func(*copies.Copy, error) bool
	machine string
	behind  string // only names that come behind it; "" for all

	apart []located      // whose place is not in their folder's, by folder and name; what is still to come
	batch []*copies.Copy // gathered, for their digests are looked up together

	dir     string
	cursors []*cursor // of the folder at hand
}

// cursor goes through the spans of a folder of a store in the order of names.
type cursor struct {
	folder *folder
	at     int64 // the block
	list   []block.Span
	next   int
}

func (u *under) run(where string, args []any) error {
	if err := u.gatherApart(where, args); err != nil {
		return err
	}
	// In pieces, so that no reading stays open while others are begun.
	query := "SELECT d.path, f.id, f.source_id, f.path, f.parts, b.now, b.past FROM dirs d CROSS JOIN folders f ON f.dir_id = d.id " +
		"CROSS JOIN blocks b ON b.id = f.id << 36 WHERE " + where + fmt.Sprintf(" AND d.path >= ?%d AND NOT (d.path = ?%d AND f.id <= ?%d)"+
		" ORDER BY d.path, f.id LIMIT %d", len(args)+1, len(args)+1, len(args)+2, piece)
	for after, last := []byte{}, int64(0); ; {
		some, err := u.some(query, append(slices.Clone(args), after, last))
		if err != nil {
			return err
		}
		for _, x := range some {
			if len(u.cursors) > 0 && x.folder.dir != u.dir {
				if err := u.finish(); err != nil {
					return err
				}
			}
			if err := u.seek(x); err != nil {
				return err
			}
			u.dir = x.folder.dir
			after, last = []byte(u.dir), x.folder.id
			u.cursors = append(u.cursors, x)
		}
		if len(some) < piece {
			break
		}
	}
	if err := u.finish(); err != nil {
		return err
	}
	for len(u.apart) > 0 {
		if err := u.takeApart(); err != nil {
			return err
		}
	}
	return u.flush()
}

// piece is how many folders of stores are read at once.
const piece = 300

// some reads folders of stores with their first blocks.
func (u *under) some(query string, args []any) ([]*cursor, error) {
	rows, err := u.c.f.Reads.QueryContext(u.ctx, query, args...)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var all []*cursor
	var now, past sql.RawBytes
	for rows.Next() {
		f := &folder{}
		if err := rows.Scan(&f.dir, &f.id, &f.source, &f.path, &f.parts, &now, &past); err != nil {
			return nil, err
		}
		x := &cursor{folder: f, at: blockID(f.id, 0)}
		if err := x.take(now, past); err != nil {
			return nil, err
		}
		all = append(all, x)
	}
	return all, rows.Err()
}

// take takes up a block.
func (x *cursor) take(now, past []byte) (err error) {
	x.next = 0
	if x.list, err = block.Decode(past); err == nil {
		standing, failed := []block.Span(nil), error(nil)
		if standing, failed = block.Decode(now); len(x.list) == 0 {
			x.list = standing
		} else {
			x.list = append(x.list, standing...)
			sortSpans(x.list)
		}
		err = failed
	}
	if err != nil {
		return damaged(x.folder, err)
	}
	return nil
}

// seek leaves out names that are not wanted, without reading most of them.
func (u *under) seek(x *cursor) error {
	if u.behind == "" {
		return nil
	}
	if x.folder.parts > 1 {
		var now, past []byte
		err := u.c.f.Reads.QueryRowContext(u.ctx, "SELECT id, now, past FROM blocks WHERE id BETWEEN ? AND ? AND low <= ? ORDER BY id DESC LIMIT 1",
			x.at, lastBlock(x.folder.id), []byte(u.behind)).Scan(&x.at, &now, &past)
		if err == nil {
			err = x.take(now, past)
		}
		if err != nil {
			return err
		}
	}
	x.next = sort.Search(len(x.list), func(i int) bool { return x.list[i].Name > u.behind })
	return nil
}

// name is the name that comes next; false at the end.
func (u *under) name(x *cursor) (string, bool, error) {
	for x.next == len(x.list) {
		if x.folder.parts <= 1 {
			return "", false, nil
		}
		var now, past []byte
		err := u.c.f.Reads.QueryRowContext(u.ctx, "SELECT id, now, past FROM blocks WHERE id > ? AND id <= ? ORDER BY id LIMIT 1", x.at,
			lastBlock(x.folder.id)).Scan(&x.at, &now, &past)
		if errors.Is(err, sql.ErrNoRows) {
			x.folder.parts = 1
			return "", false, nil
		}
		if err == nil {
			err = x.take(now, past)
		}
		if err != nil {
			return "", false, err
		}
	}
	return x.list[x.next].Name, true, nil
}

// finish yields what is in the folder at hand, name by name over all stores.
func (u *under) finish() error {
	for len(u.cursors) > 0 {
		least, left := "", u.cursors[:0]
		for _, x := range u.cursors {
			name, ok, err := u.name(x)
			if err != nil {
				return err
			}
			if ok {
				if len(left) == 0 || name < least {
					least = name
				}
				left = append(left, x)
			}
		}
		if u.cursors = left; len(left) == 0 {
			break
		}
		for len(u.apart) > 0 && before(&u.apart[0], u.dir, least) {
			if err := u.takeApart(); err != nil {
				return err
			}
		}
		for len(u.apart) > 0 && u.apart[0].Place == place.Join(u.dir, least) {
			if err := u.takeApart(); err != nil {
				return err
			}
		}
		for _, x := range u.cursors {
			for ; x.next < len(x.list) && x.list[x.next].Name == least; x.next++ {
				if s := x.list[x.next]; s.Place == "" {
					if err := u.take(&located{s, x.folder}); err != nil {
						return err
					}
				}
			}
		}
	}
	return nil
}

// before tells whether a place comes before a name in a folder.
func before(l *located, dir, name string) bool {
	if d := place.Folder(l.Place); d != dir {
		return d < dir
	}
	return place.Name(l.Place) < name
}

func (u *under) takeApart() error {
	l := u.apart[0]
	u.apart = u.apart[1:]
	return u.take(&l)
}

// enough is how many copies are yielded at once.
const enough = 2000

func (u *under) take(l *located) error {
	if !l.OriginKnown {
		return nil
	}
	if c := u.r.record(l); c != nil {
		u.batch = append(u.batch, c)
	}
	if len(u.batch) < enough {
		return nil
	}
	return u.flush()
}

func (u *under) flush() error {
	if err := u.c.addContents(u.ctx, u.batch); err != nil {
		return err
	}
	for i, c := range u.batch {
		u.batch[i] = nil // whoever wants it keeps it
		if !u.yield(c, nil) {
			return errEnough
		}
	}
	u.batch = u.batch[:0]
	return nil
}

// gatherApart reads what has a place of its own in the folders meant; each block is read once, however many of them it is known for.
func (u *under) gatherApart(where string, args []any) error {
	blocks, err := file.Numbers(
		u.c.f.Reads.QueryContext(u.ctx, "SELECT DISTINCT e.block_id FROM dirs d CROSS JOIN elsewhere e ON e.dir_id = d.id WHERE "+
			where, args...),
	)
	if err != nil || len(blocks) == 0 {
		return err
	}
	of, deep := string(args[1].([]byte)), len(args) > 2
	err = u.r.elsewhere(u.ctx, blocks, nil, func(l *located) {
		dir := place.Folder(l.Place)
		if l.OriginKnown && u.r.machineOf(l) == u.machine && (dir == of || deep && place.Under(dir, of)) &&
			(u.behind == "" || place.Name(l.Place) > u.behind) {
			u.apart = append(u.apart, *l)
		}
	})
	slices.SortStableFunc(u.apart, func(a, b located) int {
		return cmp.Or(
			strings.Compare(place.Folder(a.Place), place.Folder(b.Place)),
			strings.Compare(place.Name(a.Place), place.Name(b.Place)),
		)
	})
	return err
}
