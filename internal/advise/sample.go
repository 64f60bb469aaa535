package advise

import (
	"fmt"
	"slices"

	"humble-rewind/internal/core/advice"
	"humble-rewind/internal/core/condition"
	"humble-rewind/internal/core/masschange"
	"humble-rewind/internal/core/place"
)

// What reading the files that a mass change hit may cost: enough to know its nature, never the whole folder.
const (
	sampleFiles = 300
	sampleBytes = 128 << 20
)

// sample reads some of what stands there now, to know harmless work from harm.
type sample struct {
	b            *folderAdvice
	read, broken int
	noise        int
	left         int64
}

// ahead examines, in one go, what will be asked about first.
func (s *sample) ahead() error {
	if s.b.Mass == nil {
		return nil
	}
	var ids []int64
	left := s.left
	for i := range s.b.files {
		last := &s.b.files[i].versions[len(s.b.files[i].versions)-1]
		if len(ids) == sampleFiles {
			break
		}
		if s.b.Mass.Hit[i] && last.superseded == 0 && last.copy != 0 && last.size <= left {
			ids, left = append(ids, last.copy), left-max(0, last.size)
		}
	}
	known, err := s.b.Site.Catalogue.Conditions(s.b.ctx, ids)
	if err != nil {
		return err
	}
	ids = slices.DeleteFunc(ids, func(id int64) bool { return known[id].State != condition.Unread })
	_, err = s.b.examineAhead(ids)
	return err
}

// harmless tells whether what stands there now is work that should stay: it came after the mass change and is sound, or
// came within it and goes on from what was there before.
func (s *sample) harmless(f *folderFile, n int, m *masschange.Mass) (bool, string, error) {
	last := &f.versions[len(f.versions)-1]
	after := m != nil && last.arrived > m.To.UnixNano()
	if m == nil || last.copy == 0 || f.returned(n) {
		return false, "", nil
	}
	if s.read >= sampleFiles || s.left < last.size { // what is newer stays in doubt
		return after, fmt.Sprintf(
			"It was worked on after that, on %s; nobody examined it.",
			advice.Say(moment(last.arrived), s.b.now, s.b.q.Zone),
		), nil
	}
	s.read++
	s.left -= last.size
	c, err := s.b.Site.Catalogue.Copy(s.b.ctx, last.copy)
	if err != nil {
		return false, "", err
	}
	found, err := s.b.Examiner.Copy(s.b.ctx, c)
	if err != nil {
		return false, "", s.b.ctx.Err()
	}
	verdict := found.For(place.Name("/" + f.path))
	if found.Noise {
		s.noise++
	}
	if verdict.State == condition.Broken {
		s.broken++
		return false, "", nil
	}
	if after {
		return true, fmt.Sprintf(
			"It was worked on after that, on %s, and is not broken.",
			advice.Say(moment(last.arrived), s.b.now, s.b.q.Zone),
		), nil
	}
	if f.versions[n].copy == 0 {
		return false, "", nil
	}
	const goesOn = 0.5
	kept, _, err := s.b.Contents.Shares(s.b.ctx, f.versions[n].copy, last.copy)
	if err == nil && kept >= goesOn {
		return true, fmt.Sprintf(
			"It was saved at the same time, but goes on from what was there (%.0f %% of it is kept) and is not broken.",
			100*kept,
		), nil
	}
	return false, "", err
}

// returned tells whether what stands there now had stood there before the wanted version already: somebody, or a sync, put
// older content in the place of newer.
func (f *folderFile) returned(wanted int) bool {
	last := f.versions[len(f.versions)-1].content
	return slices.ContainsFunc(f.versions[:wanted], func(v version) bool { return v.content == last })
}

// account says what the files came to; also is how many were broken already, or by something else.
func (b *folderAdvice) account(s *sample, also int) {
	if s.broken > 0 {
		nature := "are broken"
		if 2*s.noise > s.broken {
			nature = "have become noise, as encryption leaves them"
		}
		b.Because = append(b.Because, fmt.Sprintf("Of %d of the files that were read as they stand now, %d %s.", s.read, s.broken, nature))
	}
	if n := b.Counts[Certain] + b.Counts[Assumed]; n > 0 {
		b.Because = append(b.Because, files(n, "comes back from its own best copy", "come back, each from its own best copy")+b.untouched())
	} else if b.Counts[Missing] == 0 {
		b.Because = append(b.Because, "Every file stands as it did then, or was worked on since; there is nothing to bring back.")
	}
	if also > 0 {
		b.Because = append(
			b.Because,
			files(
				also,
				"of these is broken, though not by that: it comes back from its newest version that is not.",
				"of these are broken, though not by that: they come back from their newest versions that are not.",
			),
		)
	}
	b.costs()
}

// untouched says, at the end of a sentence, how many files are as they were.
func (b *folderAdvice) untouched() string {
	if b.Same == 0 {
		return "."
	}
	return fmt.Sprintf("; %s and not touched.", files(b.Same, "is as it was", "are as they were"))
}

// costs says what bringing the files back would cost.
func (b *folderAdvice) costs() {
	if n := b.Counts[Assumed]; n > 0 {
		b.Costs = append(b.Costs, fmt.Sprintf("%s assumed, not proved, to be what stood there; the list says why.", files(n, "is", "are")))
	}
	if n := b.Counts[Missing]; n > 0 {
		b.Costs = append(b.Costs, fmt.Sprintf("%s be brought back: no copy can be read any more.", files(n, "cannot", "cannot")))
	}
	if n := b.Counts[Kept]; n > 0 {
		b.Costs = append(b.Costs, fmt.Sprintf("%s, as work went on there since.", files(n, "stays as it is", "stay as they are")))
	}
	if n := b.Counts[Came]; n > 0 {
		b.Costs = append(
			b.Costs,
			fmt.Sprintf(
				"%s; look before you remove anything.",
				files(n, "came with it and is left where it is", "came with it and are left where they are"),
			),
		)
	}
	if b.unexamined > 0 {
		b.Costs = append(
			b.Costs,
			fmt.Sprintf(
				"%s not examined, so nothing is promised of them: humble-rewind survey --examine reads them all.",
				files(b.unexamined, "that comes back was", "that come back were"),
			),
		)
	}
	if len(b.Costs) == 0 {
		b.Costs = []string{"Nothing that is known of would be lost."}
	}
}
