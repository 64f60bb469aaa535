package spans

import (
	"context"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"humble-rewind/internal/catalogue/file"
	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/core/digest"
	"humble-rewind/internal/core/entry"
	fold "humble-rewind/internal/core/names"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/sighting"
)

// WithDigest returns everything that holds a content, at most limit.
func (c Search) WithDigest(ctx context.Context, sum digest.Sum, limit int) ([]*copies.Copy, error) {
	if !sum.Known() {
		return nil, nil
	}
	r, err := c.look(ctx)
	if err != nil {
		return nil, err
	}
	var all []located
	for behind := int64(0); len(all) < limit; { // in pieces: what is out of scope does not count
		ids, err := file.Numbers(c.f.Reads.QueryContext(ctx, "SELECT span_id FROM contents WHERE sha256 = ? AND span_id > ? ORDER BY span_id "+
			"LIMIT ?", sum.Bytes(), behind, limit))
		if err != nil {
			return nil, err
		}
		if len(ids) == 0 {
			break
		}
		sought := make([]copies.ID, len(ids))
		for i, id := range ids {
			sought[i] = copies.ID(id)
		}
		found, err := r.find(ctx, sought)
		if err != nil {
			return nil, err
		}
		for _, id := range sought {
			if l, ok := found[id]; ok && len(all) < limit && r.stores[l.folder.source] != nil {
				all = append(all, l)
			}
		}
		if behind = ids[len(ids)-1]; len(ids) < limit {
			break
		}
	}
	return r.records(ctx, all)
}

// OfSize returns files of a size that stand on machines now, at most limit.
func (c Search) OfSize(ctx context.Context, size int64, limit int) ([]*copies.Copy, error) {
	r, err := c.look(ctx)
	if err != nil {
		return nil, err
	}
	var all []located
	err = c.eachSized(ctx, size, nil, func(folder int64) (bool, error) {
		err := r.eachIn(ctx, folder, func(l *located) bool {
			s := r.stores[l.folder.source]
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
	return r.records(ctx, all)
}

// Named returns what sources saw under just this name, in any folder of any machine, at most limit.
func (c Search) Named(ctx context.Context, name string, limit int) ([]*copies.Copy, error) {
	words := strings.Fields(fold.Fold(place.Readable(name)))
	if len(words) == 0 {
		return nil, nil
	}
	r, err := c.look(ctx)
	if err != nil {
		return nil, err
	}
	s := search{r: r, words: words, by: oldest, limit: limit,
		span: func(l *located) bool { return place.Name(l.placePath()) == name }}
	return s.records(ctx)
}

// oldest is the order in which spans were recorded.
var oldest = order{value: func(*look, *located) rankValue { return rankValue{} }, bound: func(*look, *indexedFolder) rankValue {
	return rankValue{}
}}

// Written returns files that stand on a machine now, were written since a moment and lie at a path that fits, at most limit, the
// newest first.
func (c Search) Written(ctx context.Context, machine string, since time.Time, limit int,
	fits func(path string) bool) ([]*copies.Copy, error) {
	from := since.UnixNano()
	r, err := c.look(ctx)
	if err != nil {
		return nil, err
	}
	s := search{r: r, by: orders[ByWritten], limit: limit,
		source: func(s *copies.Store) bool { return isLive(s) && s.Machine == machine },
		folder: func(f *indexedFolder) bool { return f.written > 0 && notLater(f.written) >= from },
		span: func(l *located) bool {
			at := instantNanos(l.Written)
			return l.Type == entry.File && l.Stands() && at.Valid && at.Int64 >= from && fits(l.placePath())
		}}
	return s.records(ctx)
}

// Like returns what stands on a machine now under a name in which all words occur, at most limit, the one written last first.
func (c Search) Like(ctx context.Context, machine, words string, limit int) ([]*copies.Copy, error) {
	return c.copiesLike(ctx, words, limit, func(s *copies.Store) bool { return isLive(s) && s.Machine == machine },
		func(_ *look, l *located) bool { return l.Stands() })
}

// Lost does so for what the stores of a machine hold without a record of where it came from.
func (c Search) Lost(ctx context.Context, machine, words string, limit int) ([]*copies.Copy, error) {
	return c.copiesLike(ctx, words, limit, func(s *copies.Store) bool { return s.Machine == machine },
		func(r *look, l *located) bool { return !l.OriginKnown && r.readable(l) })
}

// copiesLike returns files under a name in which all words occur. Words of one or two letters alone find nothing: they are in too many.
func (c Search) copiesLike(ctx context.Context, words string, limit int, source func(*copies.Store) bool,
	fits func(*look, *located) bool) ([]*copies.Copy, error) {
	const telling = 3 // letters
	folded := strings.Fields(fold.Fold(words))
	if !slices.ContainsFunc(folded, func(w string) bool { return utf8.RuneCountInString(w) >= telling }) {
		return nil, nil
	}
	r, err := c.look(ctx)
	if err != nil {
		return nil, err
	}
	s := search{r: r, words: folded, by: orders[ByWritten], limit: limit, source: source,
		span: func(l *located) bool { return l.Type == entry.File && fits(r, l) }}
	return s.records(ctx)
}

// OfSource returns what a source holds now, at most limit, the newest first: of that what keep wants, which is asked of each path
// at which something lies.
func (c Search) OfSource(ctx context.Context, source copies.SourceID, limit int,
	keep func(lies string) bool) ([]*copies.Copy, error) {
	r, err := c.look(ctx)
	if err != nil {
		return nil, err
	}
	at := ""
	if s := r.stores[source]; s != nil {
		at = s.At
	}
	s := search{r: r, by: orders[ByWritten], limit: limit,
		source: func(s *copies.Store) bool { return s.ID == source },
		span: func(l *located) bool {
			return l.Type == entry.File && l.Stands() && keep(place.Join(at, sighting.Locator{Dir: l.folder.path, Name: l.Name}.Path()))
		}}
	return s.records(ctx)
}
