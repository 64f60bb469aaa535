package advise

import (
	"cmp"
	"fmt"
	"path"
	"slices"
	"strings"
	"time"
	"unicode"

	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/core/advice"
	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/similar"
	"humble-rewind/internal/core/stray"
	"humble-rewind/internal/core/trail"
)

// Bounds of looking for strays.
const (
	maxStrays     = 2000 // of one source that are held against the rules
	maxStrayReads = 40   // that are read
)

// strayFact is a leftover whose name may belong to the document.
type strayFact struct {
	catalogue.Fact
	match stray.Match
	lies  string // its path
}

// strays finds the leftovers that belong to the document, and says who has it open.
func (g *gathering) strays() (found []advice.Stray, locks []string, err error) {
	candidates, err := g.strayFacts()
	if err != nil {
		return nil, nil, err
	}
	slices.SortStableFunc(candidates, func(a, b strayFact) int { return b.Stamp.Compare(a.Stamp) })
	read := 0
	for _, f := range candidates {
		if f.match.Rule.Kind == stray.Lock {
			if f.match.Name != "" && f.Readable {
				locks = append(locks, g.lock(f))
			}
			continue
		}
		if read++; read > maxStrayReads {
			break
		}
		s, ok, err := g.stray(f)
		if err != nil {
			return nil, nil, err
		}
		if ok {
			found = append(found, s)
		}
	}
	return found, locks, nil
}

// strayFacts lists what the rules think may belong to the document: what strays sources hold, and, where none looks after
// it, what stands in its folder, or anywhere on the machine under a name that holds the document's.
func (g *gathering) strayFacts() ([]strayFact, error) {
	m, err := g.Site.Catalogue.Machine(g.ctx, g.q.Place.Machine)
	if err != nil {
		return nil, err
	}
	home := homeOf(m, g.q.Place.Path)
	var all []strayFact
	met := map[string]bool{}
	take := func(f catalogue.Fact, lies string) {
		if met[lies] {
			return
		}
		for match := range g.Rules.Matches(lies, homeOf(m, lies)) {
			if g.fits(match) && (match.Beside || homeOf(m, lies) == home) {
				met[lies] = true
				all = append(all, strayFact{f, match, lies})
				return
			}
		}
	}
	covered := false
	for _, s := range g.stores {
		if !s.Source.Traits.Leftovers || s.Source.Machine != g.q.Place.Machine {
			continue
		}
		covered = covered || place.Under(g.q.Place.Path, s.Source.At)
		facts, err := g.Site.Catalogue.FactsOfSource(g.ctx, g.all, s.Source.ID, maxStrays)
		if err != nil {
			return nil, err
		}
		copies, err := g.lying(facts)
		if err != nil {
			return nil, err
		}
		for _, f := range facts {
			take(f, copies[f.Copy])
		}
	}
	if covered || g.q.Loss != advice.Unsaved {
		return all, nil
	}
	beside := func(f catalogue.Fact) {
		if f.Open && f.Type == entry.File && f.Place != g.q.Place {
			take(f, f.Place.Path)
		}
	}
	folder := place.Place{Machine: g.q.Place.Machine, Path: place.Folder(g.q.Place.Path)}
	for f, err := range g.Site.Catalogue.FactsIn(g.ctx, g.all, folder, "") {
		if err != nil {
			return nil, err
		}
		beside(f)
	}
	name := g.q.Place.Name()
	elsewhere, err := g.Site.Catalogue.FactsLike(g.ctx, g.all, g.q.Place.Machine, strings.TrimSuffix(name, path.Ext(name)), maxStrays)
	if err != nil {
		return nil, err
	}
	for _, f := range elsewhere {
		beside(f)
	}
	return all, nil
}

// lying returns the paths where facts' bytes lie.
func (g *gathering) lying(facts []catalogue.Fact) (map[int64]string, error) {
	ids := make([]int64, len(facts))
	for i, f := range facts {
		ids[i] = f.Copy
	}
	where, err := g.Site.Catalogue.Lying(g.ctx, ids)
	if err != nil {
		return nil, err
	}
	paths := make(map[int64]string, len(ids))
	for _, f := range facts {
		paths[f.Copy] = place.Join(g.all[int64(f.Source)].Source.At, where[f.Copy].At.Path())
	}
	return paths, nil
}

// fits tells whether a leftover's name fits the document under any of its names.
func (g *gathering) fits(m stray.Match) bool {
	return slices.ContainsFunc(g.t.Names, func(n trail.Name) bool { return m.Fits(n.Place.Path) })
}

func homeOf(m catalogue.Machine, path string) string {
	best := ""
	for _, h := range m.Homes() {
		if place.Under(path, h) && len(h) > len(best) {
			best = h
		}
	}
	return best
}

// How much of a content must be the same for a leftover to belong to it.
const (
	someShare = 0.3 // where its name says so too
	mostShare = 0.6 // where nothing else does
)

// stray judges a leftover by its name, its place, its type and its content. Not ok is one that nothing but chance
// connects with the document.
func (g *gathering) stray(f strayFact) (advice.Stray, bool, error) {
	s := advice.Stray{
		Copy:     g.copyOf(f.Fact, g.all[int64(f.Source)]),
		What:     f.match.Rule.Kind.Phrase(),
		Earliest: f.Written,
		Size:     f.Size,
		SHA256:   f.SHA256,
	}
	s.Copy.Place = place.Place{Machine: g.q.Place.Machine, Path: f.lies}
	if s.Earliest.IsZero() || s.Earliest.After(f.First) {
		s.Earliest = f.First
	}
	name := place.Readable(place.Name(f.lies))
	if f.Size > 0 && f.Size <= digestStray && s.Copy.Access == advice.Readable {
		if s.SHA256 == "" {
			sum, err := g.digest(f.Fact)
			if err != nil {
				return s, false, err
			}
			s.SHA256 = sum
		}
		if err := g.earliest(&s); err != nil {
			return s, false, err
		}
	}
	share, mine, err := g.likeness(f)
	if err != nil {
		return s, false, err
	}
	sure := f.match.Rule.Trust == stray.Sure && (f.match.Dir != "")
	named := f.match.Name != "" && f.match.Rule.Trust != stray.Weak
	switch {
	case f.match.Name == "" && share < mostShare:
		return s, false, nil
	case named && !f.match.Beside && mine != "":
		s.Trust = advice.Weak
		s.Why = append(s.Why, fmt.Sprintf("Its name, %s, is that of %s too, and its content is nearer to that.", name, mine))
		return s, true, nil
	case sure:
		s.Trust = advice.Sure
	case named && (share >= someShare || f.match.Beside), share >= mostShare:
		s.Trust = advice.Likely
	}
	if f.match.Name != "" {
		s.Why = append(s.Why, fmt.Sprintf("Its name, %s, is how programs call %s of it.", name, f.match.Rule.Kind.Phrase()))
	}
	if f.match.Beside {
		s.Why = append(s.Why, "It lies beside the document.")
	} else {
		s.Why = append(s.Why, fmt.Sprintf("It lies in %s, where programs keep such files.", place.Readable(place.Folder(f.lies))))
	}
	switch {
	case share > 0:
		s.Why = append(s.Why, fmt.Sprintf("It has %.0f %% of the content of a known version.", 100*share))
	case f.Size > similar.MaxSize:
		s.Why = append(s.Why, "It is too large to be held against the document's versions.")
	}
	return s, true, nil
}

// digestStray is the largest leftover that is digested, in bytes.
const digestStray = 64 << 20

// earliest finds when a leftover's content was first written on its machine: one that was copied carries a later time.
func (g *gathering) earliest(s *advice.Stray) error {
	if s.SHA256 == "" {
		return nil
	}
	facts, err := g.Site.Catalogue.FactsByDigest(g.ctx, g.all, s.SHA256, maxElsewhere)
	if err != nil {
		return err
	}
	first := time.Date(1980, 1, 2, 0, 0, 0, 0, time.UTC) // earlier times are those of clocks that were never set
	for _, f := range facts {
		if at := f.Written; f.Place.Machine == g.q.Place.Machine && at.After(first) && at.Before(s.Earliest) {
			s.Earliest = at
		}
	}
	return nil
}

// likeness holds a leftover against the newest versions that can be read: what share it has of the likest, and which other
// document of the same name is liker still ("" where none is).
func (g *gathering) likeness(f strayFact) (share float64, rival string, err error) {
	if !f.Readable || f.Size == 0 || f.Size > similar.MaxSize {
		return 0, "", nil
	}
	for _, v := range g.contents() {
		if !v.Readable || v.Size > similar.MaxSize {
			continue
		}
		ofA, ofB, err := g.Contents.Shares(g.ctx, v.Copy, f.Copy)
		if err != nil {
			return 0, "", err
		}
		share = max(share, ofA, ofB)
	}
	if f.match.Beside || f.match.Name == "" {
		return share, "", nil
	}
	facts, err := g.Site.Catalogue.FactsNamed(g.ctx, g.all, g.q.Place.Name(), maxElsewhere)
	if err != nil {
		return share, "", err
	}
	n := 0
	for _, other := range facts {
		s := g.all[int64(other.Source)]
		if !other.Open || other.Type != entry.File || !s.Source.Traits.Live() ||
			slices.ContainsFunc(g.t.Names, func(n trail.Name) bool { return n.Place == other.Place }) {
			continue
		}
		if n++; n > maxAlike {
			break
		}
		ofA, ofB, err := g.Contents.Shares(g.ctx, other.Copy, f.Copy)
		if err != nil {
			return share, "", err
		}
		if max(ofA, ofB) > share {
			return share, other.Place.String(), nil
		}
	}
	return share, "", nil
}

// lock says who has the document open since when, as far as the lock tells.
func (g *gathering) lock(f strayFact) string {
	since := advice.Say(f.Written, g.now, g.q.Zone)
	return lockSentence(place.Readable(place.Name(f.lies)), g.lockOwner(f), since)
}

// lockOwner reads a lock: programs write the user's name among its first words, parted by commas or control characters.
func (g *gathering) lockOwner(f strayFact) string {
	c, err := g.Site.Catalogue.Copy(g.ctx, f.Copy)
	if err != nil {
		return ""
	}
	who := c.Person
	opened, err := g.Contents.Open(g.ctx, c)
	if err != nil {
		return who
	}
	defer opened.Close()
	const enough = 200
	head := []byte(opened.Target)
	if opened.File != nil {
		if head, err = g.Contents.Bytes(g.ctx, c, enough); err != nil {
			return who
		}
	}
	words := strings.FieldsFunc(
		strings.ToValidUTF8(string(head[:min(len(head), enough)]), ""),
		func(r rune) bool { return r == ',' || r == ';' || r == '@' || unicode.IsControl(r) },
	)
	words = slices.DeleteFunc(words, func(w string) bool { return strings.TrimSpace(w) == "" })
	if len(words) == 0 {
		return who
	}
	said := strings.TrimSpace(words[0])
	if who == "" || strings.EqualFold(said, who) {
		return said
	}
	return cmp.Or(fmt.Sprintf("%s (%s)", said, who), who)
}

// lockSentence says who has a document open since when; who is "" where that is not known.
func lockSentence(name, who, since string) string {
	if who == "" {
		return fmt.Sprintf(
			"A lock beside it (%s) says that somebody has had it open since %s; ask them before anything takes its place.",
			name,
			since,
		)
	}
	return fmt.Sprintf(
		"A lock beside it (%s) says that %s has had it open since %s; ask them before anything takes its place.",
		name,
		who,
		since,
	)
}
