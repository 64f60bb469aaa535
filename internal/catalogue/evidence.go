package catalogue

import (
	"cmp"
	"context"
	"database/sql"
	"encoding/hex"
	"errors"
	"iter"
	"slices"
	"sort"
	"strings"
	"time"

	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/trail"
)

// Fact is one span as evidence of what stood at a place. Source of Seen is the source's number, not an index.
type Fact struct {
	trail.Seen
	Number int64     // tells hard links and renamed files from equal ones; 0 where it does not
	Stamp  time.Time // the write time as it is recorded; that of Seen is put right by the machine's clock
	Name   string    // its last name
	// Lost tells that no record says where it came from; its place is where it lies.
	Lost bool
}

// Store is a source as the evidence needs it.
type Store struct {
	Source   Source
	Captures []time.Time // complete ones, oldest first
	Held     []time.Time // those that can still be read
	Trail    trail.Source
}

// Last returns the latest complete capture; zero where there is none.
func (s *Store) Last() time.Time {
	if len(s.Captures) == 0 {
		return time.Time{}
	}
	return s.Captures[len(s.Captures)-1]
}

// forgetStores makes Stores read them again.
func (c *Catalogue) forgetStores() {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.stores = nil
}

// Stores returns all sources with their captures, by number. The answer is shared and must not be changed.
func (c *Catalogue) Stores(ctx context.Context) (map[int64]*Store, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.stores != nil {
		return c.stores, nil
	}
	stores, err := c.readStores(ctx)
	if err == nil {
		c.stores = stores
	}
	return stores, err
}

func (c *Catalogue) readStores(ctx context.Context) (map[int64]*Store, error) {
	sources, err := c.Sources(ctx, "")
	if err != nil {
		return nil, err
	}
	stores := make(map[int64]*Store, len(sources))
	for _, src := range sources {
		s := &Store{Source: src}
		if err := c.readCaptures(ctx, s); err != nil {
			return nil, err
		}
		resolution := src.Traits.Resolution
		if resolution == 0 {
			if resolution, err = c.resolution(ctx, src.ID); err != nil {
				return nil, err
			}
		}
		s.Trail = trail.Source{Captures: s.Captures, Shows: src.Traits.Shows(), Live: src.Traits.Live(), Resolution: resolution}
		stores[src.ID] = s
	}
	return stores, nil
}

func (c *Catalogue) readCaptures(ctx context.Context, s *Store) error {
	rows, err := c.read.QueryContext(ctx, "SELECT at, held FROM captures WHERE source_id = ? AND complete ORDER BY at", s.Source.ID)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var at int64
		var held bool
		if err := rows.Scan(&at, &held); err != nil {
			return err
		}
		t := time.Unix(0, at).UTC()
		s.Captures = append(s.Captures, t)
		if held {
			s.Held = append(s.Held, t)
		}
	}
	return rows.Err()
}

// resolution guesses how fine a source's write times are from some of them: file systems keep nanoseconds, seconds, or,
// as FAT does, every other second.
func (c *Catalogue) resolution(ctx context.Context, source int64) (time.Duration, error) {
	const some, few = 300, 20
	var all, odd, fine int
	err := c.read.QueryRowContext(ctx, `SELECT count(*), coalesce(sum(written_at % 2000000000 <> 0), 0), coalesce(sum(written_at %
		1000000000 <> 0), 0) FROM
		(SELECT x.written_at FROM store_dirs d JOIN spans x ON x.store_dir_id = d.id WHERE d.source_id = ? AND x.type = 'file' LIMIT
			?)`, source, some).
		Scan(&all, &odd, &fine)
	switch {
	case err != nil:
		return 0, err
	case fine > 0:
		return time.Nanosecond, nil
	case odd > 0 || all < few:
		return time.Second, nil
	}
	return 2 * time.Second, nil
}

const factColumns = `x.id, x.source_id, x.type, x.size, x.written_at, x.sha256, coalesce(x.target, x''), x.first_at,
	coalesce(x.last_at, 0), x.last_at IS NULL,
	x.gone_at, x.readable, coalesce(x.number, 0), NOT x.origin_known, p.name, d.path, m.name`

const factTables = ` CROSS JOIN dirs d ON d.id = p.dir_id CROSS JOIN machines m ON m.id = d.machine_id`

// facts reads spans; the last capture of one that is open is its source's latest.
func (c *Catalogue) facts(ctx context.Context, stores map[int64]*Store, query string, args ...any) iter.Seq2[Fact, error] {
	return func(yield func(Fact, error) bool) {
		rows, err := c.read.QueryContext(ctx, query, args...)
		if err != nil {
			yield(Fact{}, err)
			return
		}
		defer rows.Close()
		for rows.Next() {
			var f Fact
			var written, gone sql.NullInt64
			var source, first, last int64
			var sha []byte
			var dir, machine string
			err := rows.Scan(
				&f.Copy,
				&source,
				&f.Type,
				&f.Size,
				&written,
				&sha,
				&f.Target,
				&first,
				&last,
				&f.Open,
				&gone,
				&f.Readable,
				&f.Number,
				&f.Lost,
				&f.Name,
				&dir,
				&machine,
			)
			f.Source, f.Place = int(source), place.Place{Machine: machine, Path: place.Join(dir, f.Name)}
			f.Written, f.Gone, f.SHA256 = moment(written), moment(gone), hex.EncodeToString(sha)
			f.First, f.Last = time.Unix(0, first).UTC(), time.Unix(0, last).UTC()
			f.Stamp = f.Written
			if s := stores[source]; s != nil {
				if f.Open {
					f.Last = s.Last()
				}
				for _, t := range []*time.Time{&f.Written, &f.Gone} { // both were written down by the machine's clock
					if !t.IsZero() {
						*t = t.Add(-s.Source.ClockAhead)
					}
				}
			}
			if f.Last.Before(f.First) {
				f.Last = f.First
			}
			if !yield(f, err) {
				return
			}
		}
		if err := rows.Err(); err != nil {
			yield(Fact{}, err)
		}
	}
}

// collect reads all of a sequence.
func collect(all iter.Seq2[Fact, error]) ([]Fact, error) {
	var facts []Fact
	for f, err := range all {
		if err != nil {
			return nil, err
		}
		facts = append(facts, f)
	}
	return facts, nil
}

// FactsOf returns everything that sources saw at a place, by the captures that first showed it.
func (c *Catalogue) FactsOf(ctx context.Context, stores map[int64]*Store, p place.Place) ([]Fact, error) {
	all, err := collect(c.facts(ctx, stores, "SELECT "+factColumns+` FROM places p`+factTables+` CROSS JOIN spans x ON x.place_id = p.id
		WHERE p.id = (SELECT id FROM places WHERE name = ? AND dir_id = (SELECT id FROM dirs WHERE path = ? AND machine_id = (SELECT id
			FROM machines WHERE name = ?)))
		AND x.origin_known`, []byte(p.Name()), []byte(place.Folder(p.Path)), p.Machine))
	slices.SortFunc(
		all,
		func(a, b Fact) int { return cmp.Or(a.First.Compare(b.First), cmp.Compare(a.Copy, b.Copy)) },
	) // cheaper here than in SQLite
	return all, err
}

// TypesAt returns of which types sources saw something at a place.
func (c *Catalogue) TypesAt(ctx context.Context, p place.Place) ([]entry.Type, error) {
	rows, err := c.read.QueryContext(
		ctx,
		`SELECT DISTINCT type FROM spans WHERE origin_known AND place_id = (SELECT id FROM places WHERE name = ?
		AND dir_id = (SELECT id FROM dirs WHERE path = ? AND machine_id = (SELECT id FROM machines WHERE name = ?)))`,
		[]byte(p.Name()),
		[]byte(place.Folder(p.Path)),
		p.Machine,
	)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var all []entry.Type
	for rows.Next() {
		var t entry.Type
		if err := rows.Scan(&t); err != nil {
			return nil, err
		}
		all = append(all, t)
	}
	return all, rows.Err()
}

// FactsIn returns what sources saw directly in a folder.
func (c *Catalogue) FactsIn(ctx context.Context, stores map[int64]*Store, folder place.Place) ([]Fact, error) {
	return collect(
		c.facts(
			ctx,
			stores,
			"SELECT "+factColumns+` FROM dirs d0 CROSS JOIN places p ON p.dir_id = d0.id`+factTables+` CROSS JOIN spans x ON x.place_id
				= p.id
		WHERE d0.path = ? AND d0.machine_id = (SELECT id FROM machines WHERE name = ?) AND x.origin_known ORDER BY p.id, x.id`,
			[]byte(folder.Path),
			folder.Machine,
		),
	)
}

// NamedIn returns the paths of what was ever seen of a machine directly in some folders under some names.
func (c *Catalogue) NamedIn(ctx context.Context, machine string, folders, names []string) (paths []string, err error) {
	rows, err := c.read.QueryContext(
		ctx,
		`SELECT DISTINCT d.path, p.name FROM dirs d JOIN places p ON p.dir_id = d.id JOIN spans x ON x.place_id = p.id
		WHERE d.machine_id = (SELECT id FROM machines WHERE name = ?) AND x.origin_known AND d.path IN (`+marks(len(folders))+`) AND
			p.name IN (`+marks(len(names))+`)`,
		append(append([]any{machine}, blobs(folders)...), blobs(names)...)...)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var dir, name string
		if err := rows.Scan(&dir, &name); err != nil {
			return nil, err
		}
		paths = append(paths, place.Join(dir, name))
	}
	return paths, rows.Err()
}

// marks writes n parameters.
func marks(n int) string { return strings.TrimSuffix(strings.Repeat("?,", n), ",") }

// blobs are names and paths as they are stored.
func blobs(all []string) []any {
	args := make([]any, len(all))
	for i, s := range all {
		args[i] = []byte(s)
	}
	return args
}

// FactsUnder yields everything that sources saw below a folder, place by place.
func (c *Catalogue) FactsUnder(ctx context.Context, stores map[int64]*Store, folder place.Place) iter.Seq2[Fact, error] {
	low, high := []byte(folder.Path+"/"), []byte(folder.Path+"0") // '0' is the byte after '/'
	if folder.Path == "/" {
		low, high = []byte("/"), []byte("0")
	}
	return c.facts(
		ctx,
		stores,
		"SELECT "+factColumns+` FROM dirs d0 CROSS JOIN places p ON p.dir_id = d0.id`+factTables+` CROSS JOIN spans x ON x.place_id = p.id
		WHERE d0.machine_id = (SELECT id FROM machines WHERE name = ?1) AND (d0.path = ?2 OR d0.path >= ?3 AND d0.path < ?4) AND
			x.origin_known ORDER BY d0.path, p.name`,
		folder.Machine,
		[]byte(folder.Path),
		low,
		high,
	)
}

// Twins returns spans elsewhere of files with the same size and write time, at most limit.
func (c *Catalogue) Twins(ctx context.Context, stores map[int64]*Store, f Fact, limit int) ([]Fact, error) {
	if f.Stamp.IsZero() || f.Size <= 0 {
		return nil, nil
	}
	return collect(c.facts(ctx, stores, "SELECT "+factColumns+` FROM spans x CROSS JOIN places p ON p.id = x.place_id`+factTables+`
		WHERE x.written_at = ? AND x.size = ? AND x.type = 'file' AND x.origin_known AND (d.path <> ? OR p.name <> ? OR m.name <> ?)
			LIMIT ?`,
		f.Stamp.UnixNano(), f.Size, []byte(place.Folder(f.Place.Path)), []byte(f.Place.Name()), f.Place.Machine, limit))
}

// LinksTo returns links that point to a path, by what they are recorded to hold.
func (c *Catalogue) LinksTo(ctx context.Context, stores map[int64]*Store, machine, path string) ([]Fact, error) {
	return collect(c.facts(ctx, stores, "SELECT "+factColumns+` FROM spans x CROSS JOIN places p ON p.id = x.place_id`+factTables+`
		WHERE x.target = ? AND x.type = 'link' AND m.name = ? AND x.origin_known LIMIT 100`, []byte(path), machine))
}

// SetDigests keeps the digests of several copies' contents.
func (c *Catalogue) SetDigests(ctx context.Context, digests map[int64][]byte) error {
	if len(digests) == 0 {
		return nil
	}
	ids := make([]int64, 0, len(digests))
	for id := range digests {
		ids = append(ids, id)
	}
	sort.Slice(ids, func(i, j int) bool { return ids[i] < ids[j] })
	return c.tx(ctx, func(tx *sql.Tx) error {
		for _, id := range ids {
			if _, err := tx.ExecContext(ctx, "UPDATE spans SET sha256 = ? WHERE id = ?", digests[id], id); err != nil {
				return err
			}
			if err := judgeKnown(ctx, tx, digests[id]); err != nil {
				return err
			}
		}
		return nil
	})
}

// DigestOfContent returns the digest of a content that stores name, where it is known of any copy; nil where it is not.
func (c *Catalogue) DigestOfContent(ctx context.Context, id entry.ContentID) (sum []byte, err error) {
	err = c.read.QueryRowContext(ctx, "SELECT sha256 FROM spans WHERE content = ? AND sha256 IS NOT NULL LIMIT 1", contentName(id)).
		Scan(&sum)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	return sum, err
}

// Undigested lists readable files of a source whose digest is not known, after the one numbered after.
func (c *Catalogue) Undigested(ctx context.Context, source, after int64, limit int) ([]int64, error) {
	return numbers(
		c.read.QueryContext(
			ctx,
			"SELECT id FROM spans WHERE id > ? AND source_id = ? AND type = 'file' AND readable AND sha256 IS NULL ORDER BY id LIMIT ?",
			after,
			source,
			limit,
		),
	)
}

// FormerHomes lists the homes that people of a machine had before, with when they were last theirs.
func (c *Catalogue) FormerHomes(ctx context.Context, machine string) (map[string]map[string]time.Time, error) {
	rows, err := c.read.QueryContext(
		ctx,
		"SELECT person, home, until FROM former_homes WHERE machine_id = (SELECT id FROM machines WHERE name = ?)",
		machine,
	)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	all := map[string]map[string]time.Time{}
	for rows.Next() {
		var person, home string
		var until int64
		if err := rows.Scan(&person, &home, &until); err != nil {
			return nil, err
		}
		if all[person] == nil {
			all[person] = map[string]time.Time{}
		}
		all[person][home] = time.Unix(0, until).UTC()
	}
	return all, rows.Err()
}

// UpdatePeople takes over who lives on a machine now, and remembers homes that are no longer somebody's.
func (c *Catalogue) UpdatePeople(ctx context.Context, machine Machine, people []Person, at time.Time) error {
	return c.tx(ctx, func(tx *sql.Tx) error {
		for _, p := range people {
			var home string
			err := tx.QueryRowContext(ctx, "SELECT home FROM people WHERE machine_id = ? AND name = ?", machine.ID, p.Name).Scan(&home)
			if err != nil && !errors.Is(err, sql.ErrNoRows) {
				return err
			}
			if err == nil && home != p.Home {
				if _, err := tx.ExecContext(ctx, "INSERT INTO former_homes (machine_id, person, home, until) VALUES (?, ?, ?, ?) ON "+
					"CONFLICT DO UPDATE SET until = excluded.until",
					machine.ID, p.Name, []byte(home), at.UnixNano()); err != nil {
					return err
				}
			}
			if _, err := tx.ExecContext(ctx, `INSERT INTO people (machine_id, name, full_name, uid, home) VALUES (?, ?, ?, ?, ?)
				ON CONFLICT DO UPDATE SET full_name = excluded.full_name, uid = excluded.uid, home = excluded.home`, machine.ID,
				p.Name, p.FullName, p.UID, []byte(p.Home)); err != nil {
				return err
			}
		}
		return nil
	})
}
