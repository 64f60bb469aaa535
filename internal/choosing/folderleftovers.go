package choosing

import (
	"slices"

	"humble-rewind/internal/core/advice"
	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/stray"
	"humble-rewind/internal/core/trail"
)

// namedLeftover is a leftover that is named as a file's.
type namedLeftover struct {
	file int
	one  *copies.Copy
}

// leftOnly tells whether a version is known from leftovers alone.
func (b *folderAdvice) leftOnly(v *trail.Version, seen []*copies.Copy) bool {
	return !slices.ContainsFunc(v.Seen, func(i int) bool {
		return !seen[i].Store.Traits.Leftovers
	})
}

// describeLeftovers says what the leftovers are that are named as files of the folder.
func (b *folderAdvice) describeLeftovers() error {
	if len(b.left) == 0 {
		return nil
	}
	m, err := b.Past.View.Machines.Named(b.ctx, b.q.Place.Machine)
	if err != nil {
		return err
	}
	homes := homesOf(m)
	for _, l := range b.left {
		f := &b.files[l.file]
		own, lies := place.Join(b.q.Place.Path, f.Path), l.one.LiesAt().Path
		for match := range b.Rules.Matches(lies, homes.of(lies)) {
			if match.Rule.Kind == stray.Lock || !match.Fits(own) {
				continue
			}
			at := place.Place{Machine: b.q.Place.Machine, Path: lies}
			earliest := l.one.Written
			if earliest.IsZero() || earliest.After(l.one.First) {
				earliest = l.one.First
			}
			f.Leftovers = append(f.Leftovers, advice.Stray{Copy: advice.Candidate{ID: l.one.ID, Record: l.one, Source: -1, Leftover: true, Place: at},
				What: match.Rule.Kind.Phrase(), Earliest: earliest, Size: l.one.Size, SHA256: l.one.SHA256,
				Named: match.Rule.Trust != stray.Weak,
				Sure:  match.Rule.Trust == stray.Sure && match.Dir != "", Beside: match.Beside, Backup: match.Rule.Kind == stray.Backup})
			break
		}
	}
	return nil
}

// nameless lists the leftovers that may be of any file of the folder by their names: those in it, and those where programs of its person
// keep such files.
func (b *folderAdvice) nameless() (all []advice.Nameless, err error) {
	m, err := b.Past.View.Machines.Named(b.ctx, b.q.Place.Machine)
	if err != nil {
		return nil, err
	}
	homes := homesOf(m)
	home := homes.of(b.q.Place.Path)
	beside := func(match stray.Match, lies string) bool { return match.Beside && place.Under(lies, b.q.Place.Path) }
	may := func(lies string) (stray.Match, bool) {
		at := homes.of(lies)
		for match := range b.Rules.Matches(lies, at) {
			if match.Name == "" && match.Rule.Kind != stray.Lock && (beside(match, lies) || !match.Beside && (at == home || at == "")) {
				return match, true
			}
		}
		return stray.Match{}, false
	}
	g := &gathering{Adviser: b.Adviser, ctx: b.ctx, q: b.q, now: b.now, all: b.stores}
	for _, s := range b.stores {
		if !s.Traits.Leftovers || s.Machine != b.q.Place.Machine {
			continue
		}
		seen, err := b.Past.View.Search.OfSource(b.ctx, s.ID, maxStrays, func(lies string) bool {
			_, ok := may(lies)
			return ok
		})
		if err != nil {
			return nil, err
		}
		for _, f := range seen {
			lies := f.LiesAt().Path
			if !f.Readable || f.Size <= 0 || homes.of(lies) == "" && !g.leftBy(f, m, home) {
				continue
			}
			n := advice.Nameless{Written: nano(f.Written), Size: f.Size}
			if match, ok := may(lies); ok && match.Beside {
				n.Beside = place.Folder(lies)
			}
			all = append(all, n)
		}
	}
	return all, nil
}
