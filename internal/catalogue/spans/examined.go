package spans

import (
	"cmp"
	"context"
	"database/sql"
	"errors"
	"maps"
	"slices"
	"time"

	"humble-rewind/internal/catalogue/block"
	"humble-rewind/internal/catalogue/file"
	"humble-rewind/internal/core/condition"
	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/core/digest"
	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/fileclass"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/problem"
)

// Findings returns what was found when a content was examined; problem.NotKnown where it was not.
func (c Contents) Findings(ctx context.Context, sha256 digest.Sum) (condition.Findings, error) {
	if may, err := c.examined.may(ctx, c.room, sha256); err != nil || !may {
		if err == nil {
			err = problem.NotKnown
		}
		return condition.Findings{}, err
	}
	var text string
	if err := c.f.Reads.QueryRowContext(ctx, "SELECT findings FROM examined WHERE sha256 = ?", sha256.Bytes()).Scan(&text); err != nil {
		return condition.Findings{}, file.NoRows(err)
	}
	return file.FromJSON[condition.Findings](text)
}

// Examined is what examining a copy's content found.
type Examined struct {
	Copy     copies.ID
	Name     string // under which it was found; "": to be looked up
	SHA256   digest.Sum
	Findings condition.Findings
}

// contentRow is what is known of the content of a span.
type contentRow struct {
	sha256    digest.Sum
	condition condition.State // "" while unread
}

// contentsOf returns what is known of the contents of copies, by their numbers.
func (c *room) contentsOf(ctx context.Context, ids []copies.ID) (map[copies.ID]contentRow, error) {
	if len(ids) == 0 {
		return nil, nil
	}
	var any bool
	if err := c.f.Reads.QueryRowContext(ctx, "SELECT EXISTS (SELECT 1 FROM contents WHERE span_id BETWEEN ? AND ?)", int64(slices.Min(ids)),
		int64(slices.Max(ids))).Scan(&any); err != nil || !any {
		return nil, err
	}
	all := make(map[copies.ID]contentRow, len(ids))
	for some := range slices.Chunk(ids, 5000) {
		rows, err := c.f.Reads.QueryContext(ctx, "SELECT span_id, sha256, coalesce(condition, '') FROM contents WHERE span_id IN (SELECT "+
			"value FROM json_each(?))", file.ToJSON(some))
		if err != nil {
			return nil, err
		}
		for rows.Next() {
			var id int64
			var sum sql.RawBytes
			var state string
			if err := rows.Scan(&id, &sum, &state); err != nil {
				return nil, errors.Join(err, rows.Close())
			}
			all[copies.ID(id)] = contentRow{digest.From(sum), condition.State(state)}
		}
		if err := errors.Join(rows.Err(), rows.Close()); err != nil {
			return nil, err
		}
	}
	return all, nil
}

// findingsOf returns what examining the contents of copies found, by their digests.
func (c *room) findingsOf(ctx context.Context, all []*copies.Copy) (map[digest.Sum]condition.Findings, error) {
	var sums []digest.Sum
	for _, x := range all {
		if x.Condition != condition.Unread {
			sums = append(sums, x.SHA256)
		}
	}
	if len(sums) == 0 {
		return nil, nil
	}
	found := map[digest.Sum]condition.Findings{}
	return found, eachFindings(ctx, c.f.Reads, sums, func(sum digest.Sum, f condition.Findings) { found[sum] = f })
}

// eachFindings calls see with what examining some contents found, as far as they were.
func eachFindings(ctx context.Context, q file.Querier, sums []digest.Sum, see func(digest.Sum, condition.Findings)) error {
	rows, err := q.QueryContext(ctx, "SELECT sha256, findings FROM examined WHERE sha256 IN (SELECT unhex(value) FROM json_each(?))",
		hexOf(sums))
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var sum []byte
		var text string
		if err := rows.Scan(&sum, &text); err != nil {
			return err
		}
		found, err := file.FromJSON[condition.Findings](text)
		if err != nil {
			return err
		}
		see(digest.From(sum), found)
	}
	return rows.Err()
}

// hexOf lists digests as json_each reads them.
func hexOf(sums []digest.Sum) string {
	texts := make([]string, len(sums))
	for i, sum := range sums {
		texts[i] = sum.Hex()
	}
	return file.ToJSON(texts)
}

const putDigest = "INSERT INTO contents (span_id, sha256) VALUES (?, ?) " + keepDigest

// keepDigest ends an insertion of digests into contents: what was judged of another content is forgotten.
const keepDigest = "ON CONFLICT DO UPDATE SET sha256 = excluded.sha256, condition = CASE WHEN sha256 IS excluded.sha256 THEN condition END"

// SetDigests keeps the digests of several copies' contents.
func (c Contents) SetDigests(ctx context.Context, digests map[copies.ID]digest.Sum) error {
	if len(digests) == 0 {
		return nil
	}
	texts := make(map[int64]string, len(digests))
	for id, sum := range digests {
		texts[int64(id)] = sum.Hex()
	}
	return c.f.Tx(ctx, func(w *file.Writing) error {
		if err := w.Exec(ctx, "INSERT INTO contents (span_id, sha256) SELECT CAST(key AS INTEGER), unhex(value) FROM json_each(?) WHERE "+
			"true "+keepDigest, file.ToJSON(texts)); err != nil {
			return err
		}
		return c.judging(w).known(ctx, slices.Collect(maps.Values(digests))...)
	})
}

// DigestOf returns the digest of a content that stores name, where it is known of any copy; unknown where it is not.
func (c Contents) DigestOf(ctx context.Context, id entry.ContentID) (digest.Sum, error) {
	var sum []byte
	err := c.f.Reads.QueryRowContext(ctx, "SELECT sha256 FROM contents WHERE named = ? AND sha256 IS NOT NULL LIMIT 1", contentName(id)).
		Scan(&sum)
	if errors.Is(err, sql.ErrNoRows) {
		return digest.Sum{}, nil
	}
	return digest.From(sum), err
}

// SetExamined keeps what examining contents found, with the copies' digests.
func (c Contents) SetExamined(ctx context.Context, all []Examined, at time.Time) error {
	if len(all) == 0 {
		return nil
	}
	err := c.f.Tx(ctx, func(w *file.Writing) error {
		for some := range slices.Chunk(all, 50) { // a statement costs more than its rows
			found, digests := make([]any, 0, 3*len(some)), make([]any, 0, 2*len(some))
			for _, e := range some {
				found = append(found, e.SHA256.Bytes(), file.ToJSON(e.Findings), at.UnixNano())
				digests = append(digests, int64(e.Copy), e.SHA256.Bytes())
			}
			if err := errors.Join(
				w.Exec(ctx, "INSERT INTO examined (sha256, findings, at) VALUES "+file.Tuples(3, len(some))+
					" ON CONFLICT DO UPDATE SET findings = excluded.findings, at = excluded.at", found...),
				w.Exec(ctx, "INSERT INTO contents (span_id, sha256) VALUES "+file.Tuples(2, len(some))+" "+keepDigest, digests...),
			); err != nil {
				return err
			}
		}
		j := c.judging(w)
		findings := make(map[digest.Sum]condition.Findings, len(all))
		for _, e := range all {
			findings[e.SHA256] = e.Findings
			if e.Name != "" {
				j.names[e.Copy] = e.Name
			}
		}
		return j.judge(ctx, findings, true) // once all digests are there, for equal contents are judged together
	})
	if err == nil {
		c.examined.add(all)
	}
	return err
}

// Judged is what is known of a copy's content without reading it.
type Judged struct {
	State  condition.State
	SHA256 digest.Sum
}

// Known returns what is known of copies, by their numbers.
func (c Contents) Known(ctx context.Context, ids []copies.ID) (map[copies.ID]Judged, error) {
	known, err := c.contentsOf(ctx, ids)
	if err != nil {
		return nil, err
	}
	all := make(map[copies.ID]Judged, len(ids))
	for _, id := range ids {
		row := known[id]
		all[id] = Judged{cmp.Or(row.condition, condition.Unread), row.sha256}
	}
	return all, nil
}

// judging says what findings mean, in one transaction; blocks are read once for all of it.
type judging struct {
	w     *file.Writing
	r     *look
	names map[copies.ID]string // of files whose names are known
}

func (c *room) judging(w *file.Writing) *judging {
	return &judging{w, &look{c: c, q: w, blocks: map[int64]*content{}}, map[copies.ID]string{}}
}

// judge says of every span of some contents, by their digests, what the findings mean under its name; where it is anew, also of those that
// were judged.
func (j *judging) judge(ctx context.Context, findings map[digest.Sum]condition.Findings, anew bool) error {
	rows, err := j.w.QueryContext(ctx, "SELECT span_id, sha256 FROM contents WHERE sha256 IN (SELECT unhex(value) FROM json_each(?)) AND "+
		"(condition IS NULL OR ?)", hexOf(slices.Collect(maps.Keys(findings))), anew)
	if err != nil {
		return err
	}
	defer rows.Close()
	sums := map[copies.ID]digest.Sum{}
	for rows.Next() {
		var id int64
		var sum []byte
		if err := rows.Scan(&id, &sum); err != nil {
			return err
		}
		sums[copies.ID(id)] = digest.From(sum)
	}
	if err := errors.Join(rows.Err(), rows.Close()); err != nil {
		return err
	}
	judged := map[condition.State][]copies.ID{}
	var nameless []copies.ID
	take := func(id copies.ID, name string) {
		state := findings[sums[id]].For(name).State
		judged[state] = append(judged[state], id)
	}
	for id := range sums {
		if name := j.names[id]; name != "" {
			take(id, name)
		} else {
			nameless = append(nameless, id)
		}
	}
	found, err := j.r.find(ctx, nameless)
	if err != nil {
		return err
	}
	for id, l := range found {
		if l.Type == entry.File {
			take(id, place.Name(l.placePath()))
		}
	}
	for state, ids := range judged {
		if err := j.w.Exec(ctx, "UPDATE contents SET condition = ? WHERE span_id IN (SELECT value FROM json_each(?))", string(state),
			file.ToJSON(ids)); err != nil {
			return err
		}
	}
	return nil
}

// known does so for contents that were examined before the digests of some spans were known.
func (j *judging) known(ctx context.Context, sums ...digest.Sum) error {
	all := map[digest.Sum]condition.Findings{}
	err := eachFindings(ctx, j.w, sums, func(sum digest.Sum, f condition.Findings) { all[sum] = f })
	if err != nil || len(all) == 0 {
		return err
	}
	return j.judge(ctx, all, false)
}

// Position is where a walk over the blocks of a source has come; the zero Position is its beginning.
type Position struct{ folder, block int64 }

// Undigested lists readable files of a source whose digests are not known, a few folders at a time, in the order in which they lie
// there. Where none are listed there are no more.
func (c Contents) Undigested(ctx context.Context, source copies.SourceID, from Position, limit int) ([]*copies.Copy, Position, error) {
	return c.lacking(ctx, source, from, limit, func(row contentRow) bool { return !row.sha256.Known() })
}

// UnexaminedIn does so for files that were not examined.
func (c Contents) UnexaminedIn(ctx context.Context, source copies.SourceID, from Position, limit int) ([]*copies.Copy, Position, error) {
	return c.lacking(ctx, source, from, limit, func(row contentRow) bool { return row.condition == "" })
}

// lacking lists files of whose content something is not known.
func (c *room) lacking(ctx context.Context, source copies.SourceID, from Position, limit int, lacks func(contentRow) bool) ([]*copies.Copy,
	Position, error) {
	r, err := c.look(ctx)
	if err != nil {
		return nil, from, err
	}
	var all []*copies.Copy
	for len(all) < limit {
		some, err := c.blocksFrom(ctx, source, from)
		if err != nil {
			return nil, from, err
		}
		if len(some) == 0 {
			return all, from, nil
		}
		for _, b := range some {
			from = Position{b.folder.id, b.id}
			var ids []copies.ID
			var found []located
			for _, spans := range [...][]block.Span{b.now, b.past} {
				for i := range spans {
					if l := (located{spans[i], b.folder}); l.Type == entry.File && r.readable(&l) {
						ids, found = append(ids, l.ID), append(found, l)
					}
				}
			}
			known, err := c.contentsOf(ctx, ids)
			if err != nil {
				return nil, from, err
			}
			for i := range found {
				row := known[found[i].ID]
				if x := r.record(&found[i]); x != nil && lacks(row) {
					x.SHA256, x.Condition = row.sha256, cmp.Or(row.condition, x.Condition)
					all = append(all, x)
				}
			}
			if len(all) >= limit {
				break
			}
		}
	}
	return all, from, nil
}

// foundBlock is a block with its folder.
type foundBlock struct {
	content
	folder *folder
}

// blocksFrom reads some blocks of a source, in the order of their numbers.
func (c *room) blocksFrom(ctx context.Context, source copies.SourceID, from Position) ([]foundBlock, error) {
	const some = 64
	if err := c.searchable(ctx); err != nil {
		return nil, err
	}
	for {
		first, last := c.index.ofSource(source, from.folder, some)
		if last == 0 {
			return nil, nil
		}
		all, err := c.blocksOf(ctx, source, from.block, first, last, some)
		if err != nil || len(all) > 0 {
			return all, err
		}
		from.folder = last + 1
	}
}

// blocksOf reads at most some blocks of a source behind a block, of the folders from one to another, in the order of their numbers.
func (c *room) blocksOf(ctx context.Context, source copies.SourceID, behind, first, last int64, some int) (all []foundBlock, err error) {
	// Not by the index of sources, which has another order: all of it would be read and sorted each time.
	rows, err := c.f.Reads.QueryContext(ctx, "SELECT "+folderColumns+", b.id, b.now, b.past FROM folders f LEFT JOIN dirs d ON d.id = f.dir_id "+
		"CROSS JOIN blocks b ON b.id BETWEEN max(f.id << 36, ?2 + 1) AND (f.id << 36 | 68719476735) WHERE +f.source_id = ?1 AND "+
		"f.id BETWEEN ?3 AND ?4 ORDER BY f.id, b.id LIMIT ?5", source, behind, first, last, some)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		b := foundBlock{folder: &folder{}}
		if err := b.folder.scan(rows, &b.id, &b.raw.now, &b.raw.past); err != nil {
			return nil, err
		}
		if b.now, err = block.Decode(b.raw.now); err == nil {
			b.past, err = block.Decode(b.raw.past)
		}
		if err != nil {
			return nil, damaged(b.folder, err)
		}
		all = append(all, b)
	}
	return all, rows.Err()
}

// records runs the search.
func (s *search) records(ctx context.Context) ([]*copies.Copy, error) {
	if err := s.run(ctx); err != nil {
		return nil, err
	}
	all := make([]located, len(s.best))
	for i, h := range s.best {
		all[i] = h.located
	}
	return s.r.records(ctx, all)
}

func isLive(s *copies.Store) bool { return s.Traits.Live() }

// documents are the classes whose contents are examined unasked.
var documents = []fileclass.Class{fileclass.Documents, fileclass.Spreadsheets, fileclass.Drawings, fileclass.Pictures, fileclass.Contacts,
	fileclass.Calendars, fileclass.Mail}

// Unexamined lists files that stand on machines now, were written since a moment and were not examined yet, newest
// first.
func (c Contents) Unexamined(ctx context.Context, since time.Time, most int64, limit int) ([]*copies.Copy, error) {
	r, err := c.look(ctx)
	if err != nil {
		return nil, err
	}
	from := since.UnixNano()
	s := search{r: r, by: orders[ByWritten], limit: limit, source: isLive,
		folder: func(f *indexedFolder) bool { return f.written > 0 && notLater(f.written) >= from },
		span: func(l *located) bool {
			at := instantNanos(l.Written)
			return l.Type == entry.File && l.Stands() && at.Valid && at.Int64 >= from && l.Size <= most &&
				slices.Contains(documents, classOf(l))
		},
		content: func(_ *located, known contentRow) (bool, error) { return known.condition == "", nil }}
	return s.records(ctx)
}
