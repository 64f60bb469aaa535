package trail

import (
	"cmp"
	"slices"
)

// untilNext lets what stores told themselves last until the next content that the same store tells of the same place: nobody need have
// looked in between.
func (b *builder) untilNext() {
	next := map[int]map[string]int{} // by source and path, what came after
	for n := len(b.used) - 1; n >= 0; n-- {
		s := &b.seen[b.used[n]]
		if s.Beside || !s.Gone.IsZero() {
			continue
		}
		if next[s.Source] == nil {
			next[s.Source] = map[string]int{}
		}
		later, ok := next[s.Source][s.Place.Path]
		if ok && s.Told && b.seen[later].Told {
			s.Open = false
			s.Last = b.seen[later].First.Add(-1)
			if s.Last.Before(s.First) {
				s.Last = s.First
			}
		}
		next[s.Source][s.Place.Path] = b.used[n]
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
		s := &b.seen[i]
		if b.sources[s.Source].Shows && !s.Beside || !s.Gone.IsZero() {
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
			all = append(all, Version{Place: s.Place, Type: s.Type, Size: s.Size, SHA256: s.SHA256, Target: s.Target, Content: c, Written: s.Written,
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
