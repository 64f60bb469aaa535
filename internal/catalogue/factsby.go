package catalogue

import (
	"context"
	"encoding/hex"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/names"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/sighting"
)

// FactsByDigest returns everything that holds a content, at most limit.
func (c *Catalogue) FactsByDigest(ctx context.Context, stores map[int64]*Store, sha256 string, limit int) ([]Fact, error) {
	sum, err := hex.DecodeString(sha256)
	if err != nil || len(sum) == 0 {
		return nil, err
	}
	ids, err := numbers(c.reads.QueryContext(ctx, "SELECT span_id FROM contents WHERE sha256 = ? ORDER BY span_id LIMIT ?", sum, limit))
	if err != nil {
		return nil, err
	}
	r := c.readingWith(stores)
	found, err := r.find(ctx, ids)
	if err != nil {
		return nil, err
	}
	var all []located
	for _, id := range ids {
		if l, ok := found[id]; ok {
			all = append(all, l)
		}
	}
	return r.facts(ctx, all)
}

// FactsOfSize returns files of a size that stand on machines now, at most limit.
func (c *Catalogue) FactsOfSize(ctx context.Context, stores map[int64]*Store, size int64, limit int) ([]Fact, error) {
	r := c.readingWith(stores)
	var all []located
	err := c.eachSized(ctx, size, nil, func(folder int64) (bool, error) {
		err := r.eachIn(ctx, folder, func(l *located) bool {
			s := stores[l.folder.source]
			if s == nil || !isLive(s) {
				return false
			}
			if l.Type == entry.File && l.Size == size && l.Stands() {
				all = append(all, *l)
			}
			return len(all) < limit
		})
		return len(all) < limit, err
	})
	if err != nil {
		return nil, err
	}
	return r.facts(ctx, all)
}

// FactsNamed returns what sources saw under just this name, in any folder of any machine, at most limit.
func (c *Catalogue) FactsNamed(ctx context.Context, stores map[int64]*Store, name string, limit int) ([]Fact, error) {
	words := strings.Fields(names.Fold(place.Readable(name)))
	if len(words) == 0 {
		return nil, nil
	}
	s := search{r: c.readingWith(stores), words: words, by: oldest, limit: limit,
		span: func(l *located) bool { return place.Name(l.placePath()) == name }}
	return s.facts(ctx)
}

// oldest is the order in which spans were recorded.
var oldest = order{value: func(*reading, *located) rankValue { return rankValue{} }, bound: func(*reading, *indexedFolder) rankValue {
	return rankValue{}
}}

// FactsWritten returns files that stand on a machine now, were written since a moment and lie at a path that fits, at most limit, the
// newest first.
func (c *Catalogue) FactsWritten(ctx context.Context, stores map[int64]*Store, machine string, since time.Time, limit int,
	fits func(path string) bool) ([]Fact, error) {
	from := since.UnixNano()
	s := search{r: c.readingWith(stores), by: orders[ByWritten], limit: limit,
		source: func(s *Store) bool { return isLive(s) && s.Source.Machine == machine },
		folder: func(f *indexedFolder) bool { return f.written > 0 && notLater(f.written) >= from },
		span: func(l *located) bool {
			at := instantNanos(l.Written)
			return l.Type == entry.File && l.Stands() && at.Valid && at.Int64 >= from && fits(l.placePath())
		}}
	return s.facts(ctx)
}

// FactsLike returns what stands on a machine now under a name in which all words occur, at most limit, the one written last first.
func (c *Catalogue) FactsLike(ctx context.Context, stores map[int64]*Store, machine, words string, limit int) ([]Fact, error) {
	return c.factsLike(ctx, stores, words, limit, func(s *Store) bool { return isLive(s) && s.Source.Machine == machine },
		func(_ *reading, l *located) bool { return l.Stands() })
}

// FactsLost does so for what the stores of a machine hold without a record of where it came from.
func (c *Catalogue) FactsLost(ctx context.Context, stores map[int64]*Store, machine, words string, limit int) ([]Fact, error) {
	return c.factsLike(ctx, stores, words, limit, func(s *Store) bool { return s.Source.Machine == machine },
		func(r *reading, l *located) bool { return !l.OriginKnown && r.readable(l) })
}

// factsLike returns files under a name in which all words occur. Words of one or two letters alone find nothing: they are in too many.
func (c *Catalogue) factsLike(ctx context.Context, stores map[int64]*Store, words string, limit int, source func(*Store) bool,
	fits func(*reading, *located) bool) ([]Fact, error) {
	const telling = 3 // letters
	folded := strings.Fields(names.Fold(words))
	if !slices.ContainsFunc(folded, func(w string) bool { return utf8.RuneCountInString(w) >= telling }) {
		return nil, nil
	}
	r := c.readingWith(stores)
	s := search{r: r, words: folded, by: orders[ByWritten], limit: limit, source: source,
		span: func(l *located) bool { return l.Type == entry.File && fits(r, l) }}
	return s.facts(ctx)
}

// FactsOfSource returns what a source holds now, at most limit, the newest first: of that what keep wants, which is asked of each path
// at which something lies.
func (c *Catalogue) FactsOfSource(ctx context.Context, stores map[int64]*Store, source int64, limit int,
	keep func(lies string) bool) ([]Fact, error) {
	at := ""
	if s := stores[source]; s != nil {
		at = s.Source.At
	}
	s := search{r: c.readingWith(stores), by: orders[ByWritten], limit: limit,
		source: func(s *Store) bool { return s.Source.ID == source },
		span: func(l *located) bool {
			return l.Type == entry.File && l.Stands() && keep(place.Join(at, sighting.Locator{Dir: l.folder.path, Name: l.Name}.Path()))
		}}
	return s.facts(ctx)
}
