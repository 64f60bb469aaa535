package advice

import (
	"cmp"
	"fmt"
	"slices"
	"time"

	"humble-rewind/internal/core/condition"
)

// misplaced looks for where the file lives now; where it lives nowhere, it was deleted.
func (c *chooser) misplaced() {
	if n := len(c.Trail.Versions) - 1; n >= 0 && c.Trail.Versions[n].Superseded.IsZero() && c.isFile(n) {
		v := &c.Trail.Versions[n]
		for _, copy := range c.copiesOf(n) {
			if !copy.Live || copy.Access == Recorded || copy.Place != v.Place {
				continue
			}
			because := []string{fmt.Sprintf("It is not lost: it stands at %s, and was followed there.", v.Place)}
			if v.Place == c.Place {
				because = []string{fmt.Sprintf("It is not lost: it stands at %s.", v.Place)}
			}
			examined := c.examine(n)
			if c.whyNot[n] = cmp.Or(c.against(n), c.againstCopy(copy, v.SHA256, v.Size, examined)); c.whyNot[n] != "" {
				c.found(copy.Place)
				break
			}
			c.recommendFound(copy, n, examined.Verdict, because)
			return
		}
	}
	for _, e := range c.proved(func(e Elsewhere) bool { return !e.Old && !e.Lost }) {
		if c.recommendElsewhere(e, fmt.Sprintf("It is not lost: it stands at %s.", e.Copy.Place)) {
			return
		}
	}
	if len(c.Trail.Versions) > 0 {
		c.note("It stands nowhere on the machines that are looked after, so it is treated as deleted.")
	}
	c.restore(c.deleted())
}

// proved lists what is surely the file, best first: on its own machine before others, worked on since before as it was.
func (c *chooser) proved(wanted func(Elsewhere) bool) []Elsewhere {
	all := slices.DeleteFunc(
		slices.Clone(c.Elsewhere),
		func(e Elsewhere) bool { return !e.Proved || e.Copy.Access == Recorded || !wanted(e) },
	)
	slices.SortStableFunc(all, func(a, b Elsewhere) int {
		return cmp.Or(
			Behind(a.Old, b.Old),
			Behind(a.Lost, b.Lost),
			Behind(a.Copy.Place.Machine != c.Place.Machine, b.Copy.Place.Machine != c.Place.Machine),
			Behind(!a.Newer, !b.Newer),
			b.At.Compare(a.At),
			cmp.Compare(a.Copy.ID, b.Copy.ID),
		)
	})
	return all
}

// standsElsewhere recommends, where no copy of what was deleted is left, a file elsewhere that has just its content, or
// that of an older version.
func (c *chooser) standsElsewhere() bool {
	if c.Loss != Deleted {
		return false
	}
	for _, e := range c.proved(func(e Elsewhere) bool { return !e.Newer }) {
		because := "No source has a copy of it any more, but the same content stands elsewhere."
		switch {
		case e.Lost:
			because = "No source has a copy of it that says where it came from, but an item without a record has the same content."
		case e.Old:
			because = "No source has a copy of it any more, but an older version stands elsewhere."
		}
		if c.recommendElsewhere(e, because) {
			return true
		}
	}
	return false
}

// recommendElsewhere recommends a file that stands elsewhere, unless something speaks against it, which its runner-up's
// reason then says.
func (c *chooser) recommendElsewhere(e Elsewhere, because string) bool {
	examined := c.reading.ConditionOf(e.Copy)
	if why := c.againstCopy(e.Copy, e.SHA256, e.Size, examined); why != "" {
		for i := range c.Elsewhere {
			if c.Elsewhere[i].Copy.ID == e.Copy.ID {
				c.Elsewhere[i].Why += " " + why
			}
		}
		return false
	}
	c.recommendFound(e.Copy, -1, examined.Verdict, []string{because, e.Why})
	if e.Lost {
		c.Recommended.Costs = []string{"Nothing that is known of would be lost."}
	}
	if e.Old {
		c.Recommended.Costs = append(c.Recommended.Costs, "What was saved after that version is not in it.")
	}
	return true
}

// recommendFound recommends a copy that was found outside the order of versions: one that stands somewhere stays there.
func (c *chooser) recommendFound(copy Copy, version int, verdict condition.Verdict, because []string) {
	to := copy.Place
	if copy.Live {
		c.found(copy.Place)
	} else {
		to = c.destination(copy, verdict)
	}
	c.Recommended = &Recommended{
		Copy:      copy,
		Version:   version,
		To:        to,
		Condition: verdict,
		Because:   append(because, said(verdict)...),
		Plain:     len(because),
		Costs:     []string{"Nothing is lost by using it where it is; moving it back is up to the user."},
	}
}

// elsewhere names where else the file stands, whatever the loss.
func (c *chooser) elsewhere() {
	for _, e := range c.Elsewhere {
		if e.Proved && e.Copy.Live {
			c.found(e.Copy.Place)
		}
		if r := c.Recommended; e.Lost && !e.Proved && r != nil && r.Version >= 0 && e.At.After(c.savedAt(r.Version)) {
			c.note(
				"%s holds an item of the same name without a record of where it came from, written on %s, after what is recommended; "+
					"look at it too.",
				capital(c.sourceName(e.Copy)),
				c.say(e.At),
			)
		}
	}
	n := len(c.Trail.Versions) - 1
	if n >= 0 && c.Trail.Versions[n].Superseded.IsZero() && c.Trail.Versions[n].Place != c.Place && c.Loss != Damaged {
		c.found(c.Trail.Versions[n].Place)
	}
}

// unsaved looks for work that was never saved: the newest stray whose content is newer than the last save.
func (c *chooser) unsaved() {
	save, examined := c.lastSave()
	strays := slices.DeleteFunc(slices.Clone(c.Strays), func(s Stray) bool { return s.Earliest.After(c.Noticed.Add(time.Minute)) })
	slices.SortStableFunc(strays, func(a, b Stray) int {
		return cmp.Or(b.Earliest.Compare(a.Earliest), cmp.Compare(b.Trust, a.Trust), cmp.Compare(a.Copy.ID, b.Copy.ID))
	})
	for _, s := range strays {
		examined := c.reading.ConditionOf(s.Copy)
		if why := c.strayWhyNot(s, save, examined); why != "" {
			c.Others = append(c.Others, Other{Copy: s.Copy, Version: -1, State: examined.State, Why: capital(s.What) + ". " + why})
			continue
		}
		c.recommendStray(s, save, examined.Verdict)
		return
	}
	if save < 0 {
		c.Because = append(c.Because, "No version of it was ever seen, and no leftover that belongs to it can be used.")
		return
	}
	why := "No leftover of it is newer than the last save"
	if len(c.Strays) == 0 {
		why = "No leftover of it was found"
	}
	v := &c.Trail.Versions[save]
	all := c.copiesOf(save)
	r := &Recommended{Copy: all[0], Version: save, To: c.destination(all[0], examined.Verdict), Condition: examined.Verdict,
		Because: append(
			[]string{fmt.Sprintf("%s, so the last save is all there is: it is from %s.", why, c.say(v.Arrived))},
			said(examined.Verdict)...), Plain: 1,
		Costs: []string{fmt.Sprintf("What was written after %s and never saved is not in it.", c.say(v.Arrived))}}
	c.Recommended = r
	if all[0].Live {
		c.found(all[0].Place)
	}
}

// lastSave is the newest version that is not broken.
func (c *chooser) lastSave() (int, Examined) {
	n, _, examined := c.first(candidates{order: c.before(c.Noticed), wanted: c.Noticed})
	return n, examined
}

// savedAt is when the content of a version was written, as far as that is believed.
func (c *chooser) savedAt(n int) time.Time {
	v := &c.Trail.Versions[n]
	if v.Doubt == "" && !v.Written.IsZero() && v.Written.Before(v.Arrived) {
		return v.Written
	}
	return v.Arrived
}

func (c *chooser) strayWhyNot(s Stray, save int, examined Examined) string {
	switch {
	case s.Copy.Access == Recorded:
		return "Its bytes cannot be had any more."
	case s.Size == 0:
		return "It is empty."
	case s.Trust == Weak:
		return "Nothing but a similar name says that it belongs to this document."
	}
	if why := c.againstCopy(s.Copy, s.SHA256, s.Size, examined); why != "" || save < 0 {
		return why
	}
	v := &c.Trail.Versions[save]
	if s.SHA256 != "" && s.SHA256 == v.SHA256 {
		return "It holds just what was last saved."
	}
	for k := range c.Trail.Versions {
		if old := &c.Trail.Versions[k]; s.SHA256 != "" && old.SHA256 == s.SHA256 {
			return fmt.Sprintf("It holds an older version, of %s.", c.say(old.Arrived))
		}
	}
	if at := c.savedAt(save); !s.Earliest.After(at) {
		return fmt.Sprintf("Its content is from %s, before the last save of %s.", c.say(s.Earliest), c.say(at))
	}
	return ""
}

func (c *chooser) recommendStray(s Stray, save int, verdict condition.Verdict) {
	if save >= 0 {
		c.whyNot[save] = "It is the last save; the leftover goes on from there."
	}
	because := []string{}
	if save >= 0 {
		at := c.savedAt(save)
		because = append(
			because,
			fmt.Sprintf(
				"It is %s of this document, written on %s, %s after the last save of %s.",
				s.What,
				c.say(s.Earliest),
				distance(s.Earliest.Sub(at)),
				c.say(at),
			),
		)
	} else {
		because = append(because, fmt.Sprintf("It is %s of this document, written on %s; the document itself was never saved.", s.What,
			c.say(s.Earliest)))
	}
	because = append(because, s.Why...)
	costs := []string{fmt.Sprintf("What was written after %s is not in it.", c.say(s.Earliest))}
	if save >= 0 {
		costs = append(costs, "The last save stays as it is; compare the two before one takes the other's place.")
	}
	c.Recommended = &Recommended{
		Copy:      s.Copy,
		Version:   -1,
		To:        c.Place,
		Condition: verdict,
		Because:   append(because, said(verdict)...),
		Plain:     1,
		Costs:     costs,
	}
}
