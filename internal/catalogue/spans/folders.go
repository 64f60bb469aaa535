package spans

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"hash/fnv"

	"humble-rewind/internal/catalogue/block"
	"humble-rewind/internal/catalogue/file"
	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/problem"
)

// blockSpans is about how many spans that stand one block has.
var blockSpans = 1024 // tests make it small

// A folder with many entries has several blocks, each of a range of names. The first has the position 0; those behind stand far apart,
// so that one can be put between two others.
const (
	positionBits = 36      // of a block's id, below the number of its folder
	spacing      = 1 << 24 // between the positions of blocks of a folder that is new
)

func blockID(folder, position int64) int64 { return folder<<positionBits | position }
func folderOf(block int64) int64           { return block >> positionBits }
func positionOf(block int64) int64         { return block & (1<<positionBits - 1) }

// lastBlock is the greatest id that a block of a folder can have.
func lastBlock(folder int64) int64 { return blockID(folder, 1<<positionBits-1) }

// folder is a folder of a store, without what is in it.
type folder struct {
	id       int64
	source   copies.SourceID
	path     string // in its store
	dir      string // the folder of the machine that its entries come from; "" where each names its own
	standing int64
	parts    int64
	bounds   bounds
}

// placeOf is where a span of the folder came from, or lies.
func (f *folder) placeOf(s *block.Span) string {
	if s.Place != "" {
		return s.Place
	}
	return place.Join(f.dir, s.Name)
}

// bounds say beyond what nothing in a folder is.
type bounds struct {
	greatest            int64 // number
	goneLast, goneFirst sql.NullInt64
	written             sql.NullInt64
	largest             int64
}

// take widens the bounds so that a span is within them.
func (b *bounds) take(s *block.Span) {
	b.greatest, b.largest = max(b.greatest, int64(s.ID)), max(b.largest, s.Size)
	if gone := instantNanos(s.Gone); gone.Valid {
		if !b.goneLast.Valid || gone.Int64 > b.goneLast.Int64 {
			b.goneLast = gone
		}
		if !b.goneFirst.Valid || gone.Int64 < b.goneFirst.Int64 {
			b.goneFirst = gone
		}
	}
	if at := instantNanos(s.Written); at.Valid && (!b.written.Valid || at.Int64 > b.written.Int64) {
		b.written = at
	}
}

// join widens the bounds so that others are within them.
func (b *bounds) join(o *bounds) {
	b.greatest, b.largest = max(b.greatest, o.greatest), max(b.largest, o.largest)
	if o.goneLast.Valid && (!b.goneLast.Valid || o.goneLast.Int64 > b.goneLast.Int64) {
		b.goneLast = o.goneLast
	}
	if o.goneFirst.Valid && (!b.goneFirst.Valid || o.goneFirst.Int64 < b.goneFirst.Int64) {
		b.goneFirst = o.goneFirst
	}
	if o.written.Valid && (!b.written.Valid || o.written.Int64 > b.written.Int64) {
		b.written = o.written
	}
}

// nameHash tells names of one folder from each other, nearly always: FNV-1a (RFC 9923) in 32 bits.
func nameHash(name string) int64 {
	h := fnv.New32a()
	_, _ = h.Write([]byte(name)) // which never fails
	return int64(h.Sum32())
}

func instantNanos(i entry.Instant) sql.NullInt64 {
	if !i.Known {
		return sql.NullInt64{}
	}
	return file.Nanos(i.Time())
}

const folderColumns = `f.id, f.source_id, f.path, coalesce(d.path, x''), f.standing, f.parts, f.greatest, f.gone_last, f.gone_first,
	f.written, f.largest`

const folderTables = " FROM folders f LEFT JOIN dirs d ON d.id = f.dir_id "

// scanned reads the columns of a folder, and whatever else the row has.
func (f *folder) scan(row interface{ Scan(...any) error }, more ...any) error {
	return row.Scan(append([]any{&f.id, &f.source, &f.path, &f.dir, &f.standing, &f.parts, &f.bounds.greatest, &f.bounds.goneLast,
		&f.bounds.goneFirst, &f.bounds.written, &f.bounds.largest}, more...)...)
}

// folderAt finds a folder of a store; nil where nothing is known of it.
func folderAt(ctx context.Context, q file.Querier, source copies.SourceID, path string) (*folder, error) {
	f := &folder{}
	err := f.scan(q.QueryRowContext(ctx, "SELECT "+folderColumns+folderTables+"WHERE f.source_id = ? AND f.path = ?", source, []byte(path)))
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	return f, err
}

func folderByID(ctx context.Context, q file.Querier, id int64) (*folder, error) {
	f := &folder{}
	err := f.scan(q.QueryRowContext(ctx, "SELECT "+folderColumns+folderTables+"WHERE f.id = ?", id))
	return f, file.NoRows(err)
}

// foldersWhere lists folders.
func foldersWhere(ctx context.Context, q file.Querier, where string, args ...any) ([]*folder, error) {
	rows, err := q.QueryContext(ctx, "SELECT "+folderColumns+folderTables+"WHERE "+where, args...)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var all []*folder
	for rows.Next() {
		f := &folder{}
		if err := f.scan(rows); err != nil {
			return nil, err
		}
		all = append(all, f)
	}
	return all, rows.Err()
}

// part is a block of a folder, without what is in it.
type part struct {
	id              int64
	low             string
	least, greatest int64 // numbers of its spans
}

// partsOf lists the blocks of a folder in the order of names.
func partsOf(ctx context.Context, q file.Querier, folder int64) ([]part, error) {
	rows, err := q.QueryContext(ctx, "SELECT id, low, least, greatest FROM blocks WHERE id BETWEEN ? AND ? ORDER BY id", blockID(folder, 0),
		lastBlock(folder))
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var all []part
	for rows.Next() {
		var p part
		if err := rows.Scan(&p.id, &p.low, &p.least, &p.greatest); err != nil {
			return nil, err
		}
		all = append(all, p)
	}
	return all, rows.Err()
}

// packed is what a block holds, as it is kept.
type packed struct{ now, past []byte }

func load(ctx context.Context, q file.Querier, block int64) (p packed, err error) {
	err = q.QueryRowContext(ctx, "SELECT now, past FROM blocks WHERE id = ?", block).Scan(&p.now, &p.past)
	return p, file.NoRows(err)
}

// damaged says of which folder the records are damaged, and what mends that.
func damaged(f *folder, err error) error {
	return fmt.Errorf("the records of %s in source %s: %w", place.Quote("/"+f.path), f.source, errors.Join(problem.Damaged, err))
}

// SourceOf tells of which source a block is; 0 where it is of none.
func SourceOf(ctx context.Context, q file.Querier, block int64) (source copies.SourceID, err error) {
	err = q.QueryRowContext(ctx, "SELECT source_id FROM folders WHERE id = ?", folderOf(block)).Scan(&source)
	if errors.Is(err, sql.ErrNoRows) {
		return 0, nil
	}
	return source, err
}
