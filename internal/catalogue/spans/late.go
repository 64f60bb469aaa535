package spans

import (
	"slices"

	"humble-rewind/internal/catalogue/block"
	"humble-rewind/internal/core/sighting"
)

// neighbours say which of the spans under one name the captures beside one that comes late show, and which an interrupted reading of
// this very capture has added; -1 is none.
type neighbours struct{ before, behind, own int }

func (k *Capture) around(group []block.Span) neighbours {
	n := neighbours{-1, -1, -1}
	for i := range group {
		s := &group[i]
		if s.At(k.before) {
			n.before = i
		}
		if s.At(k.after) {
			n.behind = i
		}
		if s.First == k.at || s.Last == k.at {
			n.own = i
		}
	}
	return n
}

// insert records a sighting of a point in time that comes late, between two that are known.
func (m *merge) insert(s *sighting.Sighting, group []block.Span) (fresh bool, err error) {
	n := m.k.around(group)
	through := n.before >= 0 && n.before == n.behind
	same := func(i int) bool { return i >= 0 && (s.Same || group[i].Mark == s.Mark) }
	switch {
	case same(n.own) || through && same(n.before):
		m.keep(group...)
		return false, nil
	case same(n.before):
		group = slices.Clone(group)
		group[n.before].Last = m.k.at
	case same(n.behind):
		group = slices.Clone(group)
		group[n.behind].First = m.k.at
	case s.Same:
		return false, m.contradicts(s)
	default:
		if through {
			group = m.divide(group, n.before)
		}
		m.keep(group...)
		m.add(s, m.k.at, len(group) == 0)
		return true, nil
	}
	m.changed = true
	m.keep(group...)
	return false, nil
}

// divide makes two spans of one that this capture shows to have been interrupted.
func (m *merge) divide(group []block.Span, i int) []block.Span {
	group = append(slices.Clone(group), group[i])
	group[i].Last = m.k.before
	later := &group[len(group)-1]
	later.ID, later.First = 0, m.k.after
	m.splits = append(m.splits, split{later.Name, later.First, group[i].ID})
	m.changed = true
	return group
}
