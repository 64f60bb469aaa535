package trail

import (
	"cmp"
	"slices"
	"sort"
	"time"
)

// turn is a moment at which what stood at the place may have become something else.
type turn struct {
	at     time.Time
	order  int // among turns of one moment
	seen   int // what stands from then on; -1: nothing
	source int
	exact  bool // at is when it happened, not when it was noticed
}

func (b *builder) turns() []turn {
	var all []turn
	for _, i := range b.used {
		s := b.seen[i]
		if s.Beside {
			continue
		}
		if !b.shows(i) {
			if !s.Gone.IsZero() {
				all = append(all, turn{s.Gone, 0, i, b.spans[i].store, true}, turn{s.Gone, 2, -1, b.spans[i].store, true})
				all = append(all, b.stillShown(s.Gone)...)
			}
			continue
		}
		all = append(all, turn{s.First, 1, i, b.spans[i].store, false})
		for source := range b.byStore { // whichever first shows that it is no longer there
			if !b.stores[source].Traits.Shows() || !b.covers(b.stores[source].ID, s.Place) {
				continue
			}
			if after, ok := b.stores[source].After(b.spans[i].last); ok && !b.alive(source, after) {
				all = append(all, turn{after, 2, -1, source, false})
			}
		}
		// What other sources still see when this one no longer does is current again.
		if len(b.byStore) > 1 {
			all = append(all, b.again(i)...)
		}
	}
	slices.SortStableFunc(all, func(a, b turn) int { return cmp.Or(a.at.Compare(b.at), cmp.Compare(a.order, b.order)) })
	return all
}

// stillShown finds the captures after a recorded removal that show what was there before it: it was put back, or what was
// removed had only been in its place for a while.
func (b *builder) stillShown(gone time.Time) (all []turn) {
	for source := range b.byStore {
		if !b.stores[source].Traits.Shows() {
			continue
		}
		j := b.at(source, gone)
		if j < 0 {
			continue
		}
		if at, ok := b.stores[source].After(gone); ok && !at.After(b.spans[j].last) {
			all = append(all, turn{at, 1, j, source, false})
		}
	}
	return all
}

// at returns what a source shows at a moment, -1 where that is nothing. Under several names it may be more than one; any
// will do.
func (b *builder) at(source int, moment time.Time) int {
	all := b.byStore[source]
	n := sort.Search(len(all), func(n int) bool { return b.spans[all[n]].first.After(moment) })
	const names = 4 // overlap at the most
	for k := n - 1; k >= max(0, n-names); k-- {
		if !b.spans[all[k]].last.Before(moment) {
			return all[k]
		}
	}
	return -1
}

// alive tells whether a source shows anything at the place at one of its captures.
func (b *builder) alive(source int, moment time.Time) bool { return b.at(source, moment) >= 0 }

// again finds the captures of other sources that show another content after this sighting's first.
func (b *builder) again(i int) (all []turn) {
	s := b.seen[i]
	for source := range b.byStore {
		if source == b.spans[i].store || !b.stores[source].Traits.Shows() {
			continue
		}
		j := b.at(source, s.First)
		if j < 0 || b.content[j] == b.content[i] || !b.spans[j].first.Before(s.First) {
			continue
		}
		if at, ok := b.stores[source].After(s.First); ok && !at.After(b.spans[j].last) {
			all = append(all, turn{at, 1, j, source, false})
		}
	}
	return all
}
