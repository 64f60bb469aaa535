package spans

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"

	"humble-rewind/internal/catalogue/block"
	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/sighting"
)

// merge compares what is sighted in one folder of a store with what is known of it. Both come in the order of names, so that only one
// of the folder's blocks is in memory at a time, however many entries there are.
type merge struct {
	k      *Capture
	folder folder
	fresh  bool  // nothing was known of it before
	since  int64 // when it was read, see rewrites
	last   string
	begun  bool // something was sighted
	broken bool // what was not sighted could not be read

	// What is known, block by block.
	parts []part       // still to come, the one at hand first
	known content      // of that
	list  []block.Span // what is passed name by name: of known what stands or, where a capture comes late, all
	next  int          // of list
	had   []block.Span // of known what had ended, as far as it belongs to pieces not yet written, where it was read

	// The block being put together, and those that are.
	position int64
	low      string
	now      []block.Span // numbers of new ones are 0 until they are written
	past     []block.Span // what ends now, or, where a capture comes late, all that has ended
	names    []string     // that are new in the folder
	moved    []string     // names of entries of other places than the folder's, or than before
	splits   []split
	changed  bool
	stand    int64 // of the part at hand, in pieces that are put together
	pieces   int   // of the part at hand, that are put together
	changes  []blockChange
}

// manyBlocks is how many blocks of a folder wait as they are until the folder is written; more wait packed.
const manyBlocks = 8

// split is a span that began as part of another one, whose content it shares.
type split struct {
	name  string
	first int64
	of    copies.ID
}

// content is what a block holds.
type content struct {
	id   int64
	raw  packed
	now  []block.Span
	past []block.Span
	all  bool // past was read
}

// enterFolder begins to compare a folder; at is nil where nothing is known of it.
func (k *Capture) enterFolder(ctx context.Context, path string, at *folder) (*merge, error) {
	m := &merge{k: k, since: k.c.rewrites.now()}
	if at == nil {
		m.fresh, m.folder = true, folder{source: k.source.ID, path: path}
		return m, nil
	}
	m.folder = *at
	var err error
	if m.parts, err = partsOf(ctx, k.c.f.Reads, at.id); err != nil {
		return nil, err
	}
	return m, m.load(ctx)
}

// load takes up the first block still to come.
func (m *merge) load(ctx context.Context) (err error) {
	if m.known, m.list, m.next, m.had = (content{}), nil, 0, nil; len(m.parts) == 0 {
		return nil
	}
	m.position, m.low = positionOf(m.parts[0].id), m.parts[0].low
	if m.known, err = m.k.content(ctx, &m.folder, m.parts[0].id); err != nil {
		return err
	}
	m.list = m.known.now
	if !m.k.late() {
		return nil
	}
	if err := m.readPast(); err != nil {
		return err
	}
	m.list = append(slices.Clone(m.known.now), m.known.past...)
	sortSpans(m.list)
	m.had = nil // all of it passes
	return nil
}

// readPast reads what had ended of the block at hand.
func (m *merge) readPast() error {
	if m.known.all || len(m.known.raw.past) == 0 {
		return nil
	}
	if err := m.k.withPast(&m.folder, &m.known); err != nil {
		return err
	}
	m.had = m.known.past
	return nil
}

// content reads a block, or has read it last.
func (k *Capture) content(ctx context.Context, f *folder, id int64) (content, error) {
	if k.read.id == id && id != 0 {
		return k.read, nil
	}
	raw, err := load(ctx, k.c.f.Reads, id)
	if err != nil {
		return content{}, err
	}
	c := content{id: id, raw: raw}
	if c.now, err = block.Decode(raw.now); err != nil {
		return content{}, damaged(f, err)
	}
	k.read = c
	return c, nil
}

func (k *Capture) withPast(f *folder, c *content) (err error) {
	if c.all {
		return nil
	}
	if c.past, err = block.Decode(c.raw.past); err != nil {
		return damaged(f, err)
	}
	c.all = true
	return nil
}

// mark looks up what is known under a name, for whoever asks before sighting it.
func (m *merge) mark(ctx context.Context, name string) (entry.Mark, error) {
	at := 0
	for at+1 < len(m.parts) && m.parts[at+1].low <= name {
		at++
	}
	if len(m.parts) == 0 {
		return entry.Mark{}, nil
	}
	c := m.known
	if c.id != m.parts[at].id {
		var err error
		if c, err = m.k.content(ctx, &m.folder, m.parts[at].id); err != nil {
			return entry.Mark{}, err
		}
	}
	if !m.k.late() {
		if known := named(c.now, name); len(known) > 0 {
			return known[0].Mark, nil
		}
		return entry.Mark{}, nil
	}
	if err := m.k.withPast(&m.folder, &c); err != nil {
		return entry.Mark{}, err
	}
	group := append(slices.Clone(named(c.past, name)), named(c.now, name)...)
	n := m.k.around(group)
	for _, i := range [...]int{n.own, n.before, n.behind} {
		if i >= 0 {
			return group[i].Mark, nil
		}
	}
	return entry.Mark{}, nil
}

// find finds the first span under a name.
func find(spans []block.Span, name string) (int, bool) {
	return slices.BinarySearchFunc(spans, name, func(s block.Span, name string) int { return strings.Compare(s.Name, name) })
}

// named returns all spans under a name.
func named(spans []block.Span, name string) []block.Span {
	from, _ := find(spans, name)
	to := from
	for to < len(spans) && spans[to].Name == name {
		to++
	}
	return spans[from:to]
}

func sortSpans(all []block.Span) {
	slices.SortFunc(all, func(a, b block.Span) int {
		return cmp.Or(strings.Compare(a.Name, b.Name), cmp.Compare(a.First, b.First), cmp.Compare(a.ID, b.ID))
	})
}

// reach goes on to the block that a name belongs into, passes what is known under names before it, and returns what is under it.
func (m *merge) reach(ctx context.Context, name string) ([]block.Span, error) {
	if m.begun && (name < m.last || name == m.last && !m.k.line) {
		return nil, fmt.Errorf("survey %s: what is in a folder has to come in the order of names, but %s comes after %s", m.k.source.At,
			place.Quote(name), place.Quote(m.last))
	}
	for len(m.parts) > 1 && m.parts[1].low <= name {
		if err := m.endPart(ctx); err != nil {
			return nil, err
		}
	}
	if m.begun && name == m.last { // another span of it
		return nil, nil
	}
	if err := m.grown(); err != nil {
		return nil, err
	}
	m.begun, m.last = true, name
	m.pass(name)
	from := m.next
	for m.next < len(m.list) && m.list[m.next].Name == name {
		m.next++
	}
	return m.list[from:m.next], nil
}

// pass passes what is known under names before one.
func (m *merge) pass(name string) {
	for m.next < len(m.list) && m.list[m.next].Name < name {
		m.passOne()
	}
}

// passOne passes what is known under the next name.
func (m *merge) passOne() {
	from := m.next
	for m.next++; m.next < len(m.list) && m.list[m.next].Name == m.list[from].Name; m.next++ {
	}
	m.unsighted(m.list[from:m.next])
}

// unsighted is what becomes of what is known under a name that was not sighted.
func (m *merge) unsighted(group []block.Span) {
	switch {
	case m.k.delta || m.broken: // as it was
		m.keep(group...)
	case m.k.late():
		if n := m.k.around(group); n.before >= 0 && n.before == n.behind {
			group = m.divide(group, n.before)
		}
		m.keep(group...)
	default:
		m.k.gone++
		m.end(group[0])
	}
}

// keep takes over spans as they are.
func (m *merge) keep(group ...block.Span) {
	for _, s := range group {
		if s.Stands() {
			m.now = append(m.now, s)
		} else {
			m.past = append(m.past, s)
		}
	}
}

// end ends a span at the capture before, though never before it began.
func (m *merge) end(s block.Span) {
	s.Last = max(m.k.before, s.First)
	m.past = append(m.past, s)
	m.changed = true
}

// sight compares a sighting with what is known, and tells whether it is new or changed.
func (m *merge) sight(ctx context.Context, s *sighting.Sighting) (fresh bool, err error) {
	newName := !m.begun || s.At.Name != m.last
	group, err := m.reach(ctx, s.At.Name)
	if err != nil {
		return false, err
	}
	if m.k.late() {
		return m.insert(s, group)
	}
	if len(group) > 0 && (s.Same || group[0].Mark == s.Mark) {
		kept := group[0]
		if m.k.source.Recheck {
			m.amend(&kept, s)
		}
		m.keep(kept)
		return false, nil
	}
	if s.Same {
		return false, m.contradicts(s)
	}
	if len(group) > 0 {
		m.k.gone++
		m.end(group[0])
	}
	return m.add(s, block.Open, newName && len(group) == 0), nil
}

func (m *merge) contradicts(s *sighting.Sighting) error {
	return fmt.Errorf("survey %s: the source calls %s unchanged, but it is not known", m.k.source.At, place.Quote(s.At.Path()))
}

// gone says of a capture that tells only what changed that something is no longer there.
func (m *merge) gone(ctx context.Context, name string) error {
	group, err := m.reach(ctx, name)
	if err == nil && len(group) > 0 {
		m.k.gone++
		m.end(group[0])
	}
	return err
}

// add keeps a sighting as a span, and tells whether it is a new one.
func (m *merge) add(s *sighting.Sighting, last int64, newName bool) (fresh bool) {
	x := block.Span{Name: s.At.Name, Type: s.Type, Size: max(s.Size, -1), Written: entry.At(s.Written), Number: s.Number, Mark: s.Mark,
		First: m.k.at, Last: last, Readable: s.Readable, Within: s.Within, Gone: entry.At(s.GoneAt), Target: s.Target, Lies: s.Lies,
		Ref: string(s.Ref), Beside: s.Beside, Author: s.Author, Message: s.Message, Told: entry.At(s.Told),
		Nameless: s.Nameless, Intact: s.Intact}
	if !s.From.IsZero() {
		x.First = s.From.UnixNano()
	}
	if !s.Until.IsZero() {
		x.Last = s.Until.UnixNano()
	}
	if m.k.line {
		key := keyInLine(m.folder.id, &x)
		x.ID = m.k.numbers[key] // 0 is a new one
		delete(m.k.numbers, key)
	}
	m.origin(&x, s)
	m.keep(x)
	m.changed = true
	switch {
	case x.Place != "":
		m.moved = append(m.moved, x.Name)
	case newName:
		m.names = append(m.names, x.Name)
	}
	return x.ID == 0
}

// origin keeps where something came from, whose it is, and what is wrong with it.
func (m *merge) origin(x *block.Span, s *sighting.Sighting) {
	at := s.Origin
	if at == "" {
		at = place.Join(m.k.source.At, s.At.Path())
	}
	x.Person = m.k.owner(at, s.UID)
	x.OriginKnown, x.Claimed, x.Notes, x.Place = s.Origin != "", s.Claimed, s.Notes, at
	if dir, name := place.Folder(at), place.Name(at); name == s.At.Name {
		if m.folder.dir == "" {
			m.folder.dir = dir
		}
		if dir == m.folder.dir {
			x.Place = ""
		}
	}
}

// amend puts right what is recorded of something that did not change.
func (m *merge) amend(x *block.Span, s *sighting.Sighting) {
	before := *x
	m.origin(x, s)
	if before.Place != x.Place || before.OriginKnown != x.OriginKnown || before.Claimed != x.Claimed || before.Person != x.Person ||
		!slices.Equal(before.Notes, x.Notes) {
		m.changed = true
		m.moved = append(m.moved, x.Name)
	}
}

// grown ends the block being put together where it has become large; what is known of the one at hand goes on in the next.
func (m *merge) grown() error {
	enough := blockSpans
	if m.next < len(m.list) { // blocks that grew a little stay as they are
		enough = 2 * blockSpans
	}
	if len(m.now)+len(m.past) < enough {
		return nil
	}
	next := m.position + spacing
	if len(m.parts) > 1 {
		next = m.position + (positionOf(m.parts[1].id)-m.position)/2
	}
	if next == m.position || next >= 1<<positionBits {
		return nil // there is no room for another
	}
	if err := m.piece(m.last); err != nil {
		return err
	}
	m.position, m.low = next, m.last+"\x00"
	return nil
}

// piece ends the block being put together. It holds what is known up to a name; "" is all.
func (m *merge) piece(upTo string) error {
	one := upTo == "" && m.pieces == 0 // what is known stays one block
	keepPast := one && len(m.past) == 0 && !m.k.late() && !m.fresh
	if !keepPast || len(m.names) > 0 {
		if err := m.readPast(); err != nil {
			return err
		}
		had := m.had
		if upTo != "" {
			i, _ := find(had, upTo+"\x00")
			had, m.had = had[:i], had[i:]
		} else {
			m.had = nil
		}
		m.names = slices.DeleteFunc(m.names, func(name string) bool { _, known := find(had, name); return known })
		if !keepPast && !m.k.late() {
			m.past = append(slices.Clone(had), m.past...)
		}
	}
	sortSpans(m.past)
	m.changes = append(m.changes, blockChange{id: m.position, low: m.low, now: m.now, past: m.past, keepPast: keepPast,
		names:  append(m.names, m.moved...),
		splits: m.splits, whole: m.pieces > 0 && len(m.parts) > 0})
	if n := len(m.changes); n > manyBlocks {
		m.changes[n-1].wait()
	}
	m.stand += int64(len(m.now))
	m.pieces++
	m.now, m.past, m.names, m.moved, m.splits = nil, nil, nil, nil, nil
	return nil
}

// endPart ends the block at hand, and goes on to the next.
func (m *merge) endPart(ctx context.Context) error {
	for m.next < len(m.list) {
		m.passOne()
	}
	if m.pieces > 0 && len(m.now)+len(m.past)+len(m.had) > 0 || m.pieces == 0 && m.changed {
		if err := m.piece(""); err != nil {
			return err
		}
	}
	if m.pieces > 0 {
		m.folder.standing += m.stand - int64(len(m.known.now))
	}
	m.now, m.past, m.names, m.moved, m.splits, m.changed, m.stand, m.pieces = nil, nil, nil, nil, nil, false, 0, 0
	if len(m.parts) > 0 {
		m.parts = m.parts[1:]
	}
	return m.load(ctx)
}

// close ends the folder: what was not sighted has ended. It returns what is to be written of it.
func (m *merge) close(ctx context.Context) ([]blockChange, error) {
	for {
		if err := m.endPart(ctx); err != nil {
			return nil, err
		}
		if len(m.parts) > 0 {
			continue
		}
		for _, b := range m.changes {
			if b.whole || m.fresh {
				m.folder.parts++
			}
		}
		return m.changes, nil
	}
}
