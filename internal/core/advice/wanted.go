package advice

import (
	"cmp"
	"fmt"
	"slices"
	"time"

	"humble-rewind/internal/core/trail"
)

// candidates are versions in order, nearest to the wanted moment first, with what made them so.
type candidates struct {
	order   []int
	because []string // sentences about the wanted moment
	wanted  time.Time
	nearest int  // the version that is wanted itself, had it no fault; -1 where none is
	strict  bool // only what is sound, and what is doubtful only where nothing is
	costs   []string
}

// wanted works out which versions come into question, and in which order.
func (c *chooser) wanted() candidates {
	switch c.Loss {
	case Overwritten:
		return c.overwritten()
	case Damaged:
		return c.damaged()
	}
	return c.deleted()
}

// removal returns the version that was removed last at or before the loss was noticed, or -1.
func (c *chooser) removal() int {
	for n := len(c.Trail.Versions) - 1; n >= 0; n-- {
		v := &c.Trail.Versions[n]
		if !ends(c.Trail.Versions, n) {
			continue
		}
		from := v.Superseded
		if v.LastSeen.Before(from) { // noticed by a capture, so it may have happened any time before that
			from = v.LastSeen
		}
		if !from.After(c.Noticed) {
			return n
		}
	}
	return -1
}

// ends tells whether nothing took a version's place, or something that is no file did.
func ends(versions []trail.Version, n int) bool {
	v := &versions[n]
	return !v.Superseded.IsZero() && (n+1 == len(versions) || v.Superseded.Before(versions[n+1].Arrived) || v.Type != versions[n+1].Type)
}

func (c *chooser) deleted() candidates {
	n := c.removal()
	if n < 0 {
		return c.neverRemoved()
	}
	v := &c.Trail.Versions[n]
	when := "on " + c.say(v.Superseded)
	if v.LastSeen.Before(v.Superseded) {
		when = fmt.Sprintf(
			"some time between %s, when it was last seen, and %s, when it was no longer there",
			c.say(v.LastSeen),
			c.say(v.Superseded),
		)
	}
	w := candidates{
		wanted:  v.Superseded,
		nearest: n,
		because: []string{fmt.Sprintf("It is the content that stood there when it was deleted, %s.", when)},
	}
	for k := n; k >= 0; k-- {
		w.order = append(w.order, k)
	}
	for k := n + 1; k < len(c.Trail.Versions); k++ {
		c.whyNot[k] = fmt.Sprintf("It was written after the deletion, on %s.", c.say(c.Trail.Versions[k].Arrived))
	}
	return w
}

// neverRemoved is a deletion that no source recorded.
func (c *chooser) neverRemoved() candidates {
	order := c.before(c.Noticed)
	w := candidates{order: order, wanted: c.Noticed, nearest: -1}
	if len(order) == 0 {
		return w
	}
	w.nearest = order[0]
	last := &c.Trail.Versions[order[0]]
	if !last.Superseded.IsZero() {
		w.because = []string{
			fmt.Sprintf("No source recorded a deletion; it is the last content known, seen until %s.", c.say(last.LastSeen)),
		}
		return w
	}
	if len(order) > 1 && order[0] > 0 {
		const another = 0.8
		if kept, ok := c.reading.Kept(order[0]-1, order[0]); ok && 1-kept >= another && c.isFile(order[0]-1) {
			c.whyNot[order[0]] = "It stands there now, and is another file under the same name."
			w.order, w.nearest = order[1:], order[1]
			w.wanted = last.Arrived
			w.because = []string{
				fmt.Sprintf(
					"No source recorded a deletion, but what stands there since %s has next to nothing of what stood there before; this "+
						"is that.",
					c.say(last.Arrived),
				),
			}
			return w
		}
	}
	w.because = []string{fmt.Sprintf("No source recorded a deletion: it still stands at %s.", last.Place)}
	return w
}

func (c *chooser) overwritten() candidates {
	if !c.Good.IsZero() {
		return c.atGood()
	}
	order := c.before(c.Noticed)
	w := candidates{order: order, wanted: c.Noticed, nearest: -1}
	if len(order) == 0 {
		return w
	}
	if len(c.Hints.Words) > 0 { // the filter finds the last with them
		w.because = []string{fmt.Sprintf("It is the last version with %s in it.", quoted(c.Hints.Words))}
		return w
	}
	at, clear, why := c.breakIn(order)
	if last := &c.Trail.Versions[order[0]]; at >= 0 && !clear && ends(c.Trail.Versions, order[0]) && !last.Superseded.After(c.Noticed) {
		w.nearest = order[0]
		w.because = []string{
			fmt.Sprintf(
				"No save stands out as the one that went wrong, and the file was gone on %s; this is what stood there last.",
				c.say(last.Superseded),
			),
		}
		return w
	}
	if at < 0 {
		w.nearest = order[0]
		w.because = []string{"No save is known that overwrote anything; it is the last content."}
		return w
	}
	for _, n := range order {
		if n >= at {
			c.whyNot[n] = "It came with or after the save that broke with what was there before."
		} else {
			w.nearest = max(w.nearest, n)
		}
	}
	w.order = slices.DeleteFunc(slices.Clone(order), func(n int) bool { return n >= at })
	w.wanted = c.Trail.Versions[at].Arrived
	w.because = []string{why}
	return w
}

func (c *chooser) atGood() candidates {
	order := c.before(c.Good)
	w := candidates{order: order, wanted: c.Good, nearest: -1}
	if len(order) == 0 && len(c.Trail.Versions) > 0 {
		// What was first seen later may have stood there already, where its write time is not believed.
		if v := &c.Trail.Versions[0]; v.Doubt != "" && v.After.Before(c.Good) {
			w.order, w.nearest = []int{0}, 0
			w.because = []string{
				fmt.Sprintf(
					"It is the oldest content known; its write time is not believed, so it may have stood there on %s.",
					c.say(c.Good),
				),
			}
			return w
		}
	}
	for n := range c.Trail.Versions {
		if c.Trail.Versions[n].Arrived.After(c.Good) {
			c.whyNot[n] = fmt.Sprintf("It came on %s, after the file was last right.", c.say(c.Trail.Versions[n].Arrived))
		}
	}
	if len(order) > 1 && c.putBack(order[0]) {
		c.whyNot[order[0]] = "It stands there now, so it is what went wrong; that it had come by then is only assumed, as it brought an " +
			"older write time with it."
		w.order = order[1:]
		order = w.order
	}
	if len(order) == 0 {
		return w
	}
	w.nearest = order[0]
	v := &c.Trail.Versions[order[0]]
	if current, proved := c.Trail.Current(c.Good); current == order[0] && !proved {
		w.because = []string{
			fmt.Sprintf(
				"It stood there on %s as far as is known: it was seen until %s, and the next version came on %s.",
				c.say(c.Good),
				c.say(v.LastSeen),
				c.say(v.Superseded),
			),
		}
		if v.Superseded.IsZero() {
			w.because = []string{
				fmt.Sprintf(
					"It stood there on %s as far as is known: it was last seen on %s, and nothing newer is known.",
					c.say(c.Good),
					c.say(v.LastSeen),
				),
			}
		}
		w.costs = []string{
			fmt.Sprintf(
				"Nobody looked between %s and %s; what was saved in that time, if anything, is not in it.",
				c.say(v.LastSeen),
				c.say(c.Good),
			),
		}
	} else {
		w.because = []string{fmt.Sprintf("It is what stood there on %s, when it was last right.", c.say(c.Good))}
	}
	return w
}

// putBack tells whether a version is what stands there now, brought an older write time with it, and was first seen only
// after the file was last right.
func (c *chooser) putBack(n int) bool {
	v := &c.Trail.Versions[n]
	return n == len(c.Trail.Versions)-1 && v.First.After(c.Good) && !v.Arrived.Equal(v.Written)
}

// What makes a save a break.
const (
	breakShare = 0.5 // of the content before that is lost
	breakHabit = 3   // times what the file's usual saves lose
	breakSaves = 100 // the last saves that are looked at; each is read
)

// breakIn finds the last save that lost far more of the content before it than the file's usual saves do, or put older
// content in the place of newer; -1 where there is only one version. Where none is clearly so, it is the likeliest.
func (c *chooser) breakIn(order []int) (at int, clear bool, why string) {
	type save struct {
		n    int
		lost float64
	}
	var saves []save
	order = order[:min(len(order), breakSaves+1)]
	for k := len(order) - 2; k >= 0; k-- { // oldest first
		n, before := order[k], order[k+1]
		if !c.isFile(n) || !c.isFile(before) || c.Trail.Versions[n].Content == c.Trail.Versions[before].Content {
			continue
		}
		kept, ok := c.reading.Kept(before, n)
		if !ok {
			a, b := c.Trail.Versions[before].Size, c.Trail.Versions[n].Size
			kept = min(1, float64(b)/float64(max(1, a)))
		}
		saves = append(saves, save{n, 1 - kept})
	}
	if len(saves) == 0 {
		return -1, false, ""
	}
	lost := make([]float64, len(saves))
	for i, s := range saves {
		lost[i] = s.lost
	}
	slices.Sort(lost)
	usual := lost[(len(lost)-1)/2]
	for i := len(saves) - 1; i >= 0; i-- {
		v := &c.Trail.Versions[saves[i].n]
		if c.cameBack(saves[i].n) {
			return saves[i].n, true, fmt.Sprintf("It is the version before an older one took its place on %s.", c.say(v.Arrived))
		}
		if saves[i].lost >= breakShare && (saves[i].lost >= breakHabit*usual || saves[i].lost > 0.8) {
			return saves[i].n, true, fmt.Sprintf(
				"It is the version before the save of %s, which lost %d %% of what was in it; saves before lost %d %% as a rule.",
				c.say(v.Arrived),
				percent(saves[i].lost),
				percent(usual),
			)
		}
	}
	worst := slices.MaxFunc(saves, func(a, b save) int { return cmp.Or(cmp.Compare(a.lost, b.lost), cmp.Compare(a.n, b.n)) })
	if worst.lost < 0.1 {
		last := saves[len(saves)-1].n
		return last, false, fmt.Sprintf(
			"No save stands out as the one that went wrong; it is the version before the last, which came on %s.",
			c.say(c.Trail.Versions[last].Arrived),
		)
	}
	return worst.n, false, fmt.Sprintf(
		"It is the version before the save of %s, which lost the most of what was in it (%d %%), though not far more than others.",
		c.say(c.Trail.Versions[worst.n].Arrived),
		percent(worst.lost),
	)
}

// cameBack tells whether a version's content had stood there before another did.
func (c *chooser) cameBack(n int) bool {
	for k := n - 2; k >= 0; k-- {
		if c.Trail.Versions[k].Content == c.Trail.Versions[n].Content {
			return c.Trail.Versions[n-1].Content != c.Trail.Versions[n].Content
		}
	}
	return false
}

func (c *chooser) damaged() candidates {
	order := c.before(c.Noticed)
	w := candidates{order: order, wanted: c.Noticed, nearest: -1, strict: true}
	if len(order) > 0 {
		w.nearest = order[0]
	}
	w.because = []string{"It is the newest version that is sound."}
	return w
}
