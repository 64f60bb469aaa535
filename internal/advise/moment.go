package advise

import (
	"fmt"
	"slices"
	"time"

	"humble-rewind/internal/core/advice"
	"humble-rewind/internal/core/masschange"
)

// choose picks the moment: right before the mass change, or when it was last right.
func (b *folderAdvice) choose(noticed time.Time) {
	b.masses = masschange.Find(b.changes)
	all := slices.DeleteFunc(slices.Clone(b.masses), func(m masschange.Mass) bool {
		return m.From.After(noticed) || !m.To.After(b.q.Good) && !b.q.Good.IsZero() || b.q.Loss == advice.Deleted && m.Removed == 0
	})
	say := func(t time.Time) string { return advice.Say(t, b.now, b.q.Zone) }
	switch {
	case len(all) > 0:
		m := all[len(all)-1]
		if !b.q.Good.IsZero() {
			m = all[0] // the first after it was right
		}
		b.Mass, b.AsOf = &m, m.Before
		when := fmt.Sprintf("From %s on, within %s", say(m.From), lasted(m.To.Sub(m.From)))
		if m.Between {
			when = fmt.Sprintf("Some time between %s and %s", say(m.From), say(m.To))
		}
		b.Because = []string{
			fmt.Sprintf("%s, %s; that is far from what is usual in this folder of %d files.", when, happened(&m), len(b.files)),
			fmt.Sprintf("The moment right before it is offered: %s.", say(m.Before)),
		}
	case !b.q.Good.IsZero() && b.q.Loss != advice.Damaged:
		b.AsOf = b.q.Good
		b.Because = []string{
			fmt.Sprintf("No mass change is known; the folder as it stood on %s is offered, when it was last right.", say(b.q.Good)),
		}
	case b.q.Loss == advice.Deleted && b.removedLast(noticed):
		b.Because = []string{
			fmt.Sprintf(
				"No mass change is known; files of it were last removed after %s, and that moment is offered, right before.",
				say(b.AsOf),
			),
		}
	default:
		b.Because = []string{"No mass change is known in this folder, and nobody said when it was last right."}
	}
}

// removedLast finds the moment right before files of the folder were removed last, of those that are still gone, and tells
// whether any were.
func (b *folderAdvice) removedLast(noticed time.Time) bool {
	var before, gone int64
	for i := range b.files {
		f := &b.files[i]
		v := &f.versions[len(f.versions)-1]
		if v.superseded == 0 || min(v.lastSeen, v.superseded) > noticed.UnixNano() {
			continue
		}
		if v.superseded > gone {
			gone, before = v.superseded, min(v.lastSeen, v.superseded-1)
		}
	}
	if gone != 0 {
		b.AsOf = moment(before)
	}
	return gone != 0
}

func happened(m *masschange.Mass) string {
	s := ""
	add := func(n int, one, many string) {
		if n == 0 {
			return
		}
		if s != "" {
			s += " and "
		}
		s += files(n, one, many)
	}
	add(m.Rewritten, "was rewritten", "were rewritten")
	add(m.Removed, "was removed", "were removed")
	add(m.Came, "appeared", "appeared")
	return s
}

// files counts files and says what they did.
func files(n int, one, many string) string {
	if n == 1 {
		return "1 file " + one
	}
	return fmt.Sprintf("%d files %s", n, many)
}

func lasted(d time.Duration) string {
	switch {
	case d < 2*time.Minute:
		return fmt.Sprintf("%d seconds", int(d.Seconds())+1)
	case d < 2*time.Hour:
		return fmt.Sprintf("%d minutes", int(d.Minutes())+1)
	}
	return fmt.Sprintf("%d hours", int(d.Hours())+1)
}
