package trail

import (
	"cmp"
	"slices"
)

// untilNext lets what stores told themselves last until the next content that the same store tells of the same place: nobody need have
// looked in between.
func (b *builder) untilNext() {
	next := map[int]map[string]int{} // by store and path, what came after
	for n := len(b.used) - 1; n >= 0; n-- {
		i := b.used[n]
		s, src := b.seen[i], b.spans[i].store
		if s.Beside || !s.Gone.IsZero() {
			continue
		}
		if next[src] == nil {
			next[src] = map[string]int{}
		}
		if after, ok := next[src][s.Place.Path]; ok && s.Told && b.seen[after].Told {
			b.spans[i].last = later(b.seen[after].First.Add(-1), s.First)
		}
		next[src][s.Place.Path] = i
	}
}

// besides makes versions of what is known of the place but stood on no line, as far as no version of a line has its content.
func (b *builder) besides(versions []Version) (all []Version) {
	of := map[int]int{} // of a content, the version
	for n := range versions {
		of[versions[n].Content] = n
	}
	mine := map[int]int{}
	for _, i := range b.used {
		s := b.seen[i]
		if b.store(i).Traits.Shows() && !s.Beside || !s.Gone.IsZero() {
			continue
		}
		c := b.content[i]
		if n, ok := of[c]; ok {
			v := &versions[n]
			if !slices.Contains(v.Seen, i) {
				v.Seen = append(v.Seen, i)
			}
			continue
		}
		n, ok := mine[c]
		if !ok {
			n = len(all)
			mine[c] = n
			all = append(all, Version{Place: s.Place, Type: s.Type, Size: s.Size, SHA256: b.sum(i), Target: s.Target, Content: c, Written: s.Written,
				Arrived: s.First, First: s.First, LastSeen: s.First, Beside: true})
		}
		v := &all[n]
		v.Seen = append(v.Seen, i)
		if at := s.Written; !at.Before(earliest) && (at.Before(v.Arrived) || len(v.Seen) == 1) {
			v.Arrived = at
		}
	}
	for n := range all {
		all[n].First, all[n].LastSeen = all[n].Arrived, all[n].Arrived
	}
	slices.SortStableFunc(all, func(a, b Version) int { return cmp.Compare(a.Arrived.UnixNano(), b.Arrived.UnixNano()) })
	return all
}
