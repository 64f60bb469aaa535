package choosing

import (
	"cmp"
	"maps"
	"path"
	"slices"
	"strings"
	"time"

	"humble-rewind/internal/core/advice"
	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/names"
	"humble-rewind/internal/core/place"
)

// Bounds of looking for a file elsewhere.
const (
	maxElsewhere = 200
	maxAlike     = 12
)

// elsewhere finds where the file may stand or lie now, outside the places of its trail: the same content, its
// descendants, files of the same name, and what stores hold without a record of where it came from.
func (g *gathering) elsewhere() ([]advice.Elsewhere, error) {
	s := &elsewhereSearch{gathering: g, last: g.contents(), met: map[place.Place]bool{}}
	for _, n := range g.t.Names {
		s.met[n.Place] = true
	}
	for _, look := range s.looks() {
		if err := look(); err != nil {
			return nil, err
		}
	}
	return s.found, nil
}

// elsewhereSearch is a search for a file outside its places. What was found one way is not looked at in another.
type elsewhereSearch struct {
	*gathering
	last  []*copies.Copy // the last contents known, newest first
	met   map[place.Place]bool
	found []advice.Elsewhere
}

// looks are the ways to look that a loss asks for, surest first.
func (s *elsewhereSearch) looks() []func() error {
	lost := s.q.Loss == advice.Misplaced || s.q.Loss == advice.Deleted
	switch {
	case len(s.last) == 0 && lost:
		return []func() error{s.lost, s.sameNameAnywhere}
	case len(s.last) == 0:
		return nil
	case s.q.Loss == advice.Misplaced:
		return []func() error{s.sameDigest, s.twins, s.sameSize, s.sameName, s.cameUp, s.lost}
	case lost:
		return []func() error{s.sameDigest, s.twins, s.lost}
	}
	return []func() error{s.sameDigest}
}

// add takes up a file that stands somewhere now, or that lies in a store without a record of its origin.
func (s *elsewhereSearch) add(f *copies.Copy, e advice.Elsewhere) {
	if s.met[f.Place] || !f.Lost && !(f.Store.Traits.Live() && f.Open) ||
		f.Lost && (!f.Readable || f.Store.Traits.Leftovers) {
		return
	}
	s.met[f.Place] = true
	e.Copy, e.Size, e.SHA256, e.Lost, e.At = s.candidate(f), f.Size, f.SHA256, f.Lost, f.Written
	e.Named = e.Named || f.Place.Name() == s.q.Place.Name()
	if e.Came.IsZero() {
		e.Came = f.First
	}
	s.found = append(s.found, e)
}

// sameDigest finds what is known to hold one of the contents.
func (s *elsewhereSearch) sameDigest() error {
	for n, v := range s.last {
		if !v.SHA256.Known() {
			continue
		}
		seen, err := s.Past.View.Search.WithDigest(s.ctx, v.SHA256, maxElsewhere)
		if err != nil {
			return err
		}
		for _, f := range seen {
			s.add(f, advice.Elsewhere{Back: n + 1})
		}
	}
	return nil
}

// contents are the last contents known of the file, newest first.
func (g *gathering) contents() (last []*copies.Copy) {
	const some = 3
	met := map[int]bool{}
	for n := len(g.t.Versions) - 1; n >= 0 && len(last) < some; n-- {
		v := &g.t.Versions[n]
		if v.Type != entry.File || v.Size == 0 || met[v.Content] {
			continue
		}
		met[v.Content] = true
		f := g.t.Seen[v.Seen[0]]
		for _, i := range v.Seen {
			if g.t.Seen[i].Readable {
				f = g.t.Seen[i]
			}
		}
		then := *f
		then.SHA256 = v.SHA256
		last = append(last, &then)
	}
	return last
}

// twins reads what stands anywhere with the size and the write time of one of the contents, as a file has that was only
// moved, or dragged out of a trash.
func (s *elsewhereSearch) twins() error {
	const some = 20
	for n, v := range s.last {
		seen, err := s.Past.View.Search.Twins(s.ctx, v.Place, v.Size, v.Recorded(), v.Store.Resolution, some)
		if err != nil {
			return err
		}
		for _, f := range seen {
			if f.Open {
				if err := s.compareDigest(f, n); err != nil {
					return err
				}
			}
		}
	}
	return nil
}

// sameSize reads what stands anywhere and has the size of one of the contents: a copy may carry any name and time.
func (s *elsewhereSearch) sameSize() error {
	for n, v := range s.last {
		if !v.SHA256.Known() {
			continue
		}
		seen, err := s.Past.View.Search.OfSize(s.ctx, v.Size, maxElsewhere)
		if err != nil {
			return err
		}
		for _, f := range seen {
			if !f.SHA256.Known() {
				if err := s.compareDigest(f, n); err != nil {
					return err
				}
			}
		}
	}
	return nil
}

// compareDigest takes up a file whose bytes turn out to be one of the contents.
func (s *elsewhereSearch) compareDigest(f *copies.Copy, content int) error {
	v := s.last[content]
	if !v.SHA256.Known() || f.Size != v.Size || f.Size > digestStray {
		return nil
	}
	sum, err := s.digest(s.ctx, f)
	if err == nil && sum == v.SHA256 {
		f.SHA256 = sum
		s.add(f, advice.Elsewhere{Back: content + 1})
	}
	return err
}

// sameName takes up what stands anywhere under the same name.
func (s *elsewhereSearch) sameName() error {
	seen, err := s.Past.View.Search.Named(s.ctx, s.q.Place.Name(), maxElsewhere)
	if err != nil {
		return err
	}
	n := 0
	for _, f := range seen {
		if !f.Open || f.Type != entry.File || s.met[f.Place] || !f.Store.Traits.Live() {
			continue
		}
		if n++; n > maxAlike {
			return nil
		}
		came, err := s.came(f)
		if err != nil {
			return err
		}
		s.add(f, advice.Elsewhere{Came: came})
	}
	return nil
}

// cameUp takes up files of the same type that were written after the last content and were never seen while the file was: one of them
// may be it, under another name and worked on since. Those nearest in size come first.
func (s *elsewhereSearch) cameUp() error {
	last := s.t.Versions[len(s.t.Versions)-1]
	ext := names.Fold(path.Ext(s.q.Place.Name()))
	seen, err := s.Past.View.Search.Written(s.ctx, s.q.Place.Machine, last.Written, maxElsewhere,
		func(p string) bool { return names.Fold(path.Ext(p)) == ext })
	if err != nil {
		return err
	}
	slices.SortStableFunc(seen, func(a, b *copies.Copy) int {
		return cmp.Compare(max(a.Size, last.Size)-min(a.Size, last.Size), max(b.Size, last.Size)-min(b.Size, last.Size))
	})
	n := 0
	for _, f := range seen {
		if s.met[f.Place] {
			continue
		}
		came, err := s.came(f)
		if err != nil {
			return err
		}
		if !came.After(last.LastSeen) {
			continue
		}
		if n++; n > maxAlike {
			return nil
		}
		s.add(f, advice.Elsewhere{Came: came})
	}
	return nil
}

// came is when something was first seen at a copy's place.
func (s *elsewhereSearch) came(f *copies.Copy) (time.Time, error) {
	first := f.First
	seen, err := s.Past.View.Copies.At(s.ctx, f.Place)
	for i := range seen {
		if seen[i].First.Before(first) {
			first = seen[i].First
		}
	}
	return first, err
}

// lost finds what the machine's stores hold under the file's name without a record of where it came from.
func (s *elsewhereSearch) lost() error {
	name := s.q.Place.Name()
	seen, err := s.Past.View.Search.Lost(s.ctx, s.q.Place.Machine, strings.TrimSuffix(name, path.Ext(name)), maxElsewhere)
	if err != nil {
		return err
	}
	n := 0
	for _, f := range seen {
		if plainName(f.Place.Name()) != name && f.Place.Name() != name || s.met[f.Place] {
			continue
		}
		if n++; n > maxAlike {
			return nil
		}
		for i := range s.last {
			if err := s.compareDigest(f, i); err != nil {
				return err
			}
		}
		if s.met[f.Place] {
			continue
		}
		s.add(f, advice.Elsewhere{Named: true, Claimed: f.Claimed == s.q.Place.Path})
	}
	return nil
}

// sameNameAnywhere lists, for a place of which nothing is known, what has the same name in other folders: what is there, else
// what was there last.
func (s *elsewhereSearch) sameNameAnywhere() error {
	seen, err := s.Past.View.Search.Named(s.ctx, s.q.Place.Name(), maxElsewhere)
	if err != nil {
		return err
	}
	best := map[place.Place]*copies.Copy{}
	for _, f := range seen {
		if f.Type != entry.File || f.Lost || !f.Readable {
			continue
		}
		if old, ok := best[f.Place]; !ok || s.nearer(f, old) {
			best[f.Place] = f
		}
	}
	places := slices.SortedFunc(maps.Keys(best), func(a, b place.Place) int {
		return cmp.Or(
			advice.Behind(a.Machine != s.q.Place.Machine, b.Machine != s.q.Place.Machine),
			advice.Behind(!s.stands(best[a]), !s.stands(best[b])),
			cmp.Compare(a.String(), b.String()),
		)
	})
	for _, p := range places[:min(maxAlike, len(places))] {
		f := best[p]
		e := advice.Elsewhere{Copy: s.candidate(f), Size: f.Size, SHA256: f.SHA256, At: f.Written, Named: true,
			Came: f.First, Gone: f.Gone}
		if !s.stands(f) {
			e.Seen = f.Last
		}
		s.found = append(s.found, e)
	}
	return nil
}

func (s *elsewhereSearch) stands(f *copies.Copy) bool {
	return f.Store.Traits.Live() && f.Open
}

// nearer tells whether one copy says more of where a file of a place is now than another.
func (s *elsewhereSearch) nearer(a, b *copies.Copy) bool {
	if x, y := s.stands(a), s.stands(b); x != y {
		return x
	}
	if x, y := !a.Gone.IsZero(), !b.Gone.IsZero(); x != y {
		return x
	}
	return a.Last.After(b.Last)
}
