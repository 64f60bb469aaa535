package choosing

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
	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/remark"
	"humble-rewind/internal/core/stray"
	"humble-rewind/internal/core/trail"
)

// Bounds of looking for strays.
const (
	maxStrays     = 20_000 // of one source that are held against the rules
	maxStrayReads = 40     // that are named, whose content is looked at
	maxNameless   = 20     // that are not
)

// strayCopy is a leftover that may belong to the document.
type strayCopy struct {
	*copies.Copy
	match stray.Match
	lies  string // its path
}

// strays finds the leftovers that may belong to the document, and says who has it open. Of many, those that the rules name come first, then
// those that were written last before the moment that is wanted.
func (g *gathering) strays() (found []advice.Stray, locks []advice.Reason, err error) {
	candidates, err := g.strayCopies()
	if err != nil {
		return nil, nil, err
	}
	until := advice.LastRight(g.q.Good, g.q.Noticed, g.now)
	if g.q.Loss == advice.Unsaved || g.q.Loss == advice.Damaged {
		until = advice.LastRight(time.Time{}, g.q.Noticed, g.now)
	}
	slices.SortStableFunc(candidates, func(a, b strayCopy) int {
		return cmp.Or(advice.Behind(a.Recorded().After(until), b.Recorded().After(until)), b.Recorded().Compare(a.Recorded()))
	})
	named, nameless := 0, 0
	for _, f := range candidates {
		if f.match.Rule.Kind == stray.Lock {
			if f.match.Name != "" && f.Readable {
				locks = append(locks, g.lock(f))
			}
			continue
		}
		if f.match.Name == "" {
			if !g.mayBe(f) {
				continue
			}
			nameless++
		} else {
			named++
		}
		if named > maxStrayReads && f.match.Name != "" || nameless > maxNameless && f.match.Name == "" {
			continue
		}
		s, err := g.stray(f)
		if err != nil {
			return nil, nil, err
		}
		found = append(found, s)
	}
	return found, locks, nil
}

// mayBe tells whether what a leftover is known by besides its name fits the document: it was written while that was worked on, or soon
// after, and is not of quite another size.
func (g *gathering) mayBe(f strayCopy) bool {
	const before = 24 * time.Hour
	first, largest := time.Time{}, int64(0)
	for n := range g.t.Versions {
		v := &g.t.Versions[n]
		if v.Type != entry.File {
			continue
		}
		if first.IsZero() || v.Arrived.Before(first) {
			first = v.Arrived
		}
		largest = max(largest, v.Size)
	}
	return f.Size > 0 && f.Readable && !first.IsZero() && f.Recorded().After(first.Add(-before)) && advice.NotTooLarge(f.Size, largest)
}

// strayCopies lists what the rules think may belong to the document: what strays sources hold, and, where none looks after
// it, what stands in its folder, or anywhere on the machine under a name that holds the document's.
func (g *gathering) strayCopies() ([]strayCopy, error) {
	m, err := g.Past.View.Machines.Named(g.ctx, g.q.Place.Machine)
	if err != nil {
		return nil, err
	}
	homes := homesOf(m)
	home := homes.of(g.q.Place.Path)
	var all []strayCopy
	met := map[string]bool{}
	take := func(f *copies.Copy, lies string) {
		if met[lies] {
			return
		}
		at := homes.of(lies)
		for match := range g.Rules.Matches(lies, at) {
			if g.fits(match) && (match.Beside || at == home || at == "" && g.leftBy(f, m, home)) {
				met[lies] = true
				all = append(all, strayCopy{f, match, lies})
				return
			}
		}
	}
	names := make([]string, len(g.t.Names))
	for i, n := range g.t.Names {
		names[i] = n.Place.Path
	}
	of := g.Rules.For(names)
	covered := false
	for _, s := range g.stores {
		if !s.Traits.Leftovers || s.Machine != g.q.Place.Machine {
			continue
		}
		covered = covered || place.Under(g.q.Place.Path, s.At)
		seen, err := g.Past.View.Search.OfSource(g.ctx, s.ID, maxStrays,
			func(lies string) bool { return of.May(lies, homes.of(lies)) })
		if err != nil {
			return nil, err
		}
		for _, f := range seen {
			take(f, f.LiesAt().Path)
		}
	}
	own := func(f *copies.Copy) {
		if f.Open && f.Type == entry.File && f.Place != g.q.Place {
			take(f, f.Place.Path)
		}
	}
	for _, path := range stray.Sessions(home) {
		if err := g.eachIn(path, own); err != nil {
			return nil, err
		}
	}
	if covered {
		return all, nil
	}
	if err := g.eachIn(place.Folder(g.q.Place.Path), own); err != nil {
		return nil, err
	}
	name := g.q.Place.Name()
	elsewhere, err := g.Past.View.Search.Like(g.ctx, g.q.Place.Machine, strings.TrimSuffix(name, path.Ext(name)), maxStrays)
	if err != nil {
		return nil, err
	}
	for _, f := range elsewhere {
		own(f)
	}
	return all, nil
}

// leftBy tells whether what lies in nobody's home may be the person's whose home it is: it belongs to her, to root, or nothing tells.
// Others could write there what looks like hers.
func (g *gathering) leftBy(c *copies.Copy, m catalogue.Machine, home string) bool {
	uid := c.Mark.UID
	return !uid.Known || uid.Is(0) || slices.ContainsFunc(m.People, func(p catalogue.Account) bool { return p.Home == home && uid.Is(p.UID) })
}

// eachIn calls see with what stands in a folder of the machine.
func (g *gathering) eachIn(path string, see func(*copies.Copy)) error {
	for f, err := range g.Past.View.Copies.In(g.ctx, place.Place{Machine: g.q.Place.Machine, Path: path}, "") {
		if err != nil {
			return err
		}
		if f.Store.Traits.Live() {
			see(f)
		}
	}
	return nil
}

// fits tells whether a leftover's name fits the document under any of its names.
func (g *gathering) fits(m stray.Match) bool {
	return slices.ContainsFunc(g.t.Names, func(n trail.Name) bool { return m.Fits(n.Place.Path) })
}

// homes are the homes of a machine.
type homes []string

func homesOf(m catalogue.Machine) homes { return m.Homes() }

// of returns the innermost home that a path lies in; "" for none.
func (all homes) of(path string) string {
	best := ""
	for _, h := range all {
		if place.Under(path, h) && len(h) > len(best) {
			best = h
		}
	}
	return best
}

// stray describes a leftover by its name, its place and when its content was first written. Whether it belongs to the document is not
// judged here.
func (g *gathering) stray(f strayCopy) (advice.Stray, error) {
	rule := f.match.Rule
	s := advice.Stray{
		Copy:     g.candidate(f.Copy),
		What:     rule.Kind.Phrase(),
		Earliest: f.Written,
		Size:     f.Size,
		SHA256:   f.SHA256,
		Named:    f.match.Name != "" && rule.Trust != stray.Weak,
		Sure:     rule.Trust == stray.Sure && f.match.Dir != "",
		Beside:   place.Folder(f.lies) == place.Folder(g.q.Place.Path),
		Backup:   rule.Kind == stray.Backup,
	}
	s.Copy.Place = place.Place{Machine: g.q.Place.Machine, Path: f.lies}
	s.Copy.Leftover = true
	if s.Earliest.IsZero() || s.Earliest.After(f.First) {
		s.Earliest = f.First
	}
	if f.Size <= 0 || f.Size > digestStray || s.Copy.Access != advice.Readable {
		return s, nil
	}
	if !s.SHA256.Known() {
		sum, err := g.digest(g.ctx, f.Copy)
		if err != nil {
			return s, err
		}
		s.SHA256 = sum
	}
	return s, g.earliest(&s)
}

// digestStray is the largest leftover that is digested, in bytes.
const digestStray = 64 << 20

// earliest finds when a leftover's content was first written on its machine: one that was copied carries a later time.
func (g *gathering) earliest(s *advice.Stray) error {
	if !s.SHA256.Known() {
		return nil
	}
	seen, err := g.Past.View.Search.WithDigest(g.ctx, s.SHA256, maxElsewhere)
	if err != nil {
		return err
	}
	first := time.Date(1980, 1, 2, 0, 0, 0, 0, time.UTC) // earlier times are those of clocks that were never set
	for _, f := range seen {
		if at := f.Written; f.Place.Machine == g.q.Place.Machine && at.After(first) && at.Before(s.Earliest) {
			s.Earliest = at
		}
	}
	return nil
}

// lock says who has the document open since when, as far as the lock tells.
func (g *gathering) lock(f strayCopy) advice.Reason {
	name, who := place.Readable(place.Name(f.lies)), g.lockOwner(f)
	if who == "" {
		return remark.New("locked", "name", name, "since", f.Written)
	}
	return remark.New("locked-by", "name", name, "who", who, "since", f.Written)
}

// lockOwner reads a lock: programs write the user's name among its first words, parted by commas or control characters.
func (g *gathering) lockOwner(f strayCopy) string {
	who := f.Person
	opened, err := g.Contents.Open(g.ctx, f.Copy)
	if err != nil {
		return who
	}
	defer opened.Close()
	const enough = 200
	head := []byte(opened.Target)
	if opened.File != nil {
		if head, err = g.Contents.Bytes(g.ctx, f.Copy, enough); err != nil {
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
