package advice

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"humble-rewind/internal/core/condition"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/plan"
	"humble-rewind/internal/core/trail"
)

// Advise answers a question. Words that must be in the content are looked for as they were given; where no version has
// them so, each word by itself.
func Advise(q Question, ev Evidence, reading Reading) Advice {
	a := advise(q, ev, reading)
	split := strings.Fields(strings.Join(q.Hints.Words, " "))
	if a.Recommended != nil || len(split) == len(q.Hints.Words) {
		return a
	}
	q.Hints.Words = split
	if b := advise(q, ev, reading); b.Recommended != nil {
		b.Notes = append(b.Notes, "No version has the words next to each other; each was looked for by itself.")
		return b
	}
	return a
}

func advise(q Question, ev Evidence, reading Reading) Advice {
	c := &chooser{Question: q, Evidence: ev, reading: reading, verdicts: map[int]Examined{}, whyNot: map[int]string{}}
	if c.Noticed.IsZero() {
		c.Noticed = ev.Now
	}
	if c.Zone == nil {
		c.Zone = time.UTC
	}
	c.contradictions()
	for n := range c.Trail.Versions {
		if at := c.Trail.Versions[n].Arrived; at.After(c.Noticed) {
			c.whyNot[n] = fmt.Sprintf("It came on %s, after the loss was noticed.", c.say(at))
		}
	}
	switch c.Loss {
	case Unsaved:
		c.unsaved()
	case Misplaced:
		c.misplaced()
	default:
		c.restore(c.wanted())
	}
	c.elsewhere()
	c.others()
	c.look()
	c.next()
	return c.Advice
}

type chooser struct {
	Question
	Evidence
	Advice
	reading  Reading
	verdicts map[int]Examined
	whyNot   map[int]string // by version
}

// candidates are versions in order, nearest to the wanted moment first, with what made them so.
type candidates struct {
	order   []int
	because []string // sentences about the wanted moment
	wanted  time.Time
	nearest int  // the version that is wanted itself, had it no fault; -1 where none is
	strict  bool // only what is sound, and what is doubtful only where nothing is
	costs   []string
}

// contradictions says which times do not fit together and goes on without them.
func (c *chooser) contradictions() {
	const slack = time.Minute
	if c.Noticed.After(c.Now.Add(slack)) {
		c.note("It cannot have been noticed on %s, which is still to come; now is taken instead.", c.say(c.Noticed))
		c.Noticed = c.Now
	}
	if c.Good.After(c.Now.Add(slack)) {
		c.note("It cannot be known to have been right on %s, which is still to come; that time is left out.", c.say(c.Good))
		c.Good = time.Time{}
	}
	if !c.Good.IsZero() && c.Good.After(c.Noticed) {
		c.note("It is said to have been right on %s, after the loss was noticed on %s; one of the two is wrong. The time when it was noticed is moved to then.", c.say(c.Good), c.say(c.Noticed))
		c.Noticed = c.Good
	}
}

func (c *chooser) note(format string, args ...any) {
	c.Notes = append(c.Notes, fmt.Sprintf(format, args...))
}

// isFile tells whether a version is something with content.
func (c *chooser) isFile(n int) bool { return c.Trail.Versions[n].Type == plan.File }

// before lists the versions that had arrived by a moment, latest first.
func (c *chooser) before(moment time.Time) (all []int) {
	for n := len(c.Trail.Versions) - 1; n >= 0; n-- {
		if !c.Trail.Versions[n].Arrived.After(moment) {
			all = append(all, n)
		}
	}
	return all
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

// ends tells whether nothing took a version's place.
func ends(versions []trail.Version, n int) bool {
	v := &versions[n]
	return !v.Superseded.IsZero() && (n+1 == len(versions) || v.Superseded.Before(versions[n+1].Arrived))
}

func (c *chooser) deleted() candidates {
	n := c.removal()
	if n < 0 {
		return c.neverRemoved()
	}
	v := &c.Trail.Versions[n]
	when := "on " + c.say(v.Superseded)
	if v.LastSeen.Before(v.Superseded) {
		when = fmt.Sprintf("some time between %s, when it was last seen, and %s, when it was no longer there", c.say(v.LastSeen), c.say(v.Superseded))
	}
	w := candidates{wanted: v.Superseded, nearest: n, because: []string{fmt.Sprintf("It is the content that stood there when it was deleted, %s.", when)}}
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
		w.because = []string{fmt.Sprintf("No source recorded a deletion; it is the last content known, seen until %s.", c.say(last.LastSeen))}
		return w
	}
	if len(order) > 1 && order[0] > 0 {
		const another = 0.8
		if kept, ok := c.reading.Kept(order[0]-1, order[0]); ok && 1-kept >= another && c.isFile(order[0]-1) {
			c.whyNot[order[0]] = "It stands there now, and is another file under the same name."
			w.order, w.nearest = order[1:], order[1]
			w.wanted = last.Arrived
			w.because = []string{fmt.Sprintf("No source recorded a deletion, but what stands there since %s has next to nothing of what stood there before; this is that.", c.say(last.Arrived))}
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
	at, why := c.breakIn(order)
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
			w.because = []string{fmt.Sprintf("It is the oldest content known; its write time is not believed, so it may have stood there on %s.", c.say(c.Good))}
			return w
		}
	}
	for n := range c.Trail.Versions {
		if c.Trail.Versions[n].Arrived.After(c.Good) {
			c.whyNot[n] = fmt.Sprintf("It came on %s, after the file was last right.", c.say(c.Trail.Versions[n].Arrived))
		}
	}
	if len(order) > 1 && c.putBack(order[0]) {
		c.whyNot[order[0]] = "It stands there now, so it is what went wrong; that it had come by then is only assumed, as it brought an older write time with it."
		w.order = order[1:]
		order = w.order
	}
	if len(order) == 0 {
		return w
	}
	w.nearest = order[0]
	v := &c.Trail.Versions[order[0]]
	if current, proved := c.Trail.Current(c.Good); current == order[0] && !proved {
		w.because = []string{fmt.Sprintf("It stood there on %s as far as is known: it was seen until %s, and the next version came on %s.", c.say(c.Good), c.say(v.LastSeen), c.say(v.Superseded))}
		if v.Superseded.IsZero() {
			w.because = []string{fmt.Sprintf("It stood there on %s as far as is known: it was last seen on %s, and nothing newer is known.", c.say(c.Good), c.say(v.LastSeen))}
		}
		w.costs = []string{fmt.Sprintf("Nobody looked between %s and %s; what was saved in that time, if anything, is not in it.", c.say(v.LastSeen), c.say(c.Good))}
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
)

// breakIn finds the last save that lost far more of the content before it than the file's usual saves do, or put older
// content in the place of newer; -1 where there is only one version.
func (c *chooser) breakIn(order []int) (at int, why string) {
	type save struct {
		n    int
		lost float64
	}
	var saves []save
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
		return -1, ""
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
			return saves[i].n, fmt.Sprintf("It is the version before an older one took its place on %s.", c.say(v.Arrived))
		}
		if saves[i].lost >= breakShare && (saves[i].lost >= breakHabit*usual || saves[i].lost > 0.8) {
			return saves[i].n, fmt.Sprintf("It is the version before the save of %s, which lost %d %% of what was in it; saves before lost %d %% as a rule.", c.say(v.Arrived), percent(saves[i].lost), percent(usual))
		}
	}
	worst := slices.MaxFunc(saves, func(a, b save) int { return cmp.Or(cmp.Compare(a.lost, b.lost), cmp.Compare(a.n, b.n)) })
	if worst.lost < 0.1 {
		last := saves[len(saves)-1].n
		return last, fmt.Sprintf("No save stands out as the one that went wrong; it is the version before the last, which came on %s.", c.say(c.Trail.Versions[last].Arrived))
	}
	return worst.n, fmt.Sprintf("It is the version before the save of %s, which lost the most of what was in it (%d %%), though not far more than others.", c.say(c.Trail.Versions[worst.n].Arrived), percent(worst.lost))
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

// restore recommends the first candidate that can be read and has no fault.
func (c *chooser) restore(w candidates) {
	n, copies, examined := c.first(w)
	if n < 0 {
		if !c.standsElsewhere() {
			c.nothing(w)
		}
		return
	}
	best := copies[0]
	for _, copy := range copies {
		if examined.Failed[copy.ID] == "" {
			best = copy
			break
		}
	}
	r := &Recommended{Copy: best, Version: n, Condition: examined.Verdict, To: c.destination(best, examined.Verdict)}
	r.Because = append(r.Because, c.moment(w, n)...)
	r.Because = append(r.Because, c.copyWhy(n, best, examined)...)
	r.Because = append(r.Because, said(examined.Verdict)...)
	r.Costs = c.costsOf(w, n, examined.Verdict)
	c.Recommended = r
	if best.Live {
		c.found(best.Place)
	}
}

// moment says how a version stands to the wanted moment.
func (c *chooser) moment(w candidates, n int) []string {
	v := &c.Trail.Versions[n]
	switch {
	case w.strict:
		return append(w.because, c.newerBroken(n)...)
	case w.nearest >= 0 && v.Content != c.Trail.Versions[w.nearest].Content:
		reason := c.whyNot[w.nearest]
		if reason == "" {
			reason = "That one is not fit to be brought back."
		}
		return []string{fmt.Sprintf("The version of %s would be nearer to the wanted moment. %s", c.say(c.Trail.Versions[w.nearest].Arrived), reason),
			fmt.Sprintf("This is the latest before it: it came on %s.", c.say(v.Arrived))}
	}
	return w.because
}

// newerBroken counts the versions after a sound one that are broken, and says what is wrong with what stands there.
func (c *chooser) newerBroken(n int) (why []string) {
	broken := map[int]bool{}
	for k := n + 1; k < len(c.Trail.Versions); k++ {
		if c.verdicts[k].State == condition.Broken {
			broken[c.Trail.Versions[k].Content] = true
		}
	}
	switch len(broken) {
	case 0:
		return nil
	case 1:
		why = append(why, "The only newer one is broken.")
	default:
		why = append(why, fmt.Sprintf("The %d newer ones were examined, and all of them are broken.", len(broken)))
	}
	last := len(c.Trail.Versions) - 1
	if found, ok := c.verdicts[last]; ok && found.State == condition.Broken {
		why = append(why, "Of the newest: "+strings.Join(found.Reasons, " "))
	}
	return why
}

// first walks the candidates: those that can be read from nearest to furthest, and only then says why not.
func (c *chooser) first(w candidates) (version int, copies []Copy, examined Examined) {
	met := map[int]bool{}
	doubtful := -1
	present := c.presentContent()
	for _, n := range w.order {
		content := c.Trail.Versions[n].Content
		if met[content] || !c.isFile(n) {
			continue
		}
		met[content] = true
		all := c.copiesOf(n)
		if len(all) == 0 || all[0].Reach != Readable {
			c.whyNot[n] = c.unreachable(all)
			continue
		}
		if why := c.against(n); why != "" {
			c.whyNot[n] = why
			continue
		}
		found := c.examine(n)
		switch {
		case len(found.Failed) >= len(readable(all)):
			c.whyNot[n] = "None of its copies can be read: " + anyOf(found.Failed) + "."
		case found.State == condition.Broken:
			c.whyNot[n] = "It is broken. " + strings.Join(found.Reasons, " ")
		case w.strict && found.State != condition.Sound:
			c.whyNot[n] = "It is not known to be sound. " + strings.Join(found.Reasons, " ")
			if doubtful < 0 || content != present && c.Trail.Versions[doubtful].Content == present {
				doubtful = n
			}
		default:
			return n, all, found
		}
	}
	if doubtful >= 0 {
		delete(c.whyNot, doubtful)
		c.note("No version is known to be sound; the newest that nothing speaks against is recommended instead. Open it before you promise anything.")
		return doubtful, c.copiesOf(doubtful), c.examine(doubtful)
	}
	return -1, nil, Examined{}
}

// presentContent is the content of what stands there now, or stood there last.
func (c *chooser) presentContent() int {
	if n := len(c.Trail.Versions); n > 0 {
		return c.Trail.Versions[n-1].Content
	}
	return -1
}

func readable(all []Copy) []Copy {
	return slices.DeleteFunc(slices.Clone(all), func(copy Copy) bool { return copy.Reach != Readable })
}

// examine examines a version, and judges what its bytes alone do not tell.
func (c *chooser) examine(n int) Examined {
	if found, ok := c.verdicts[n]; ok {
		return found
	}
	found := c.reading.Condition(n)
	switch {
	case found.Empty && !c.everHeld():
		found.State, found.Reasons = condition.Sound, []string{"It is empty, and never held anything as far as is known."}
	case found.Empty:
		found.State = condition.Broken
	case c.Loss == Damaged && found.State != condition.Broken && c.hidden(n):
		found.State = condition.Broken
		found.Reasons = append([]string{"Its bytes changed while its size and its write time stayed the same, which no save does: something damaged it."}, found.Reasons...)
	}
	c.verdicts[n] = found
	return found
}

// everHeld tells whether any version had content.
func (c *chooser) everHeld() bool {
	return slices.ContainsFunc(c.Trail.Versions, func(v trail.Version) bool { return v.Type == plan.File && v.Size > 0 })
}

// hidden tells whether a version's content came up by a change that kept size and write time.
func (c *chooser) hidden(n int) bool {
	for k := range c.Trail.Versions {
		if c.Trail.Versions[k].Content == c.Trail.Versions[n].Content {
			return c.Trail.Versions[k].Hidden
		}
	}
	return false
}

// against says which hint speaks against a version.
func (c *chooser) against(n int) string {
	v := &c.Trail.Versions[n]
	h := c.Hints
	switch {
	case v.SHA256 != "" && c.Wrong[v.SHA256]:
		return "A technician looked at it and said that it is not this one."
	case h.Least > 0 && v.Size < h.Least:
		return fmt.Sprintf("It has %s, less than the %s that it should have at least.", bytes(v.Size), bytes(h.Least))
	case h.Most > 0 && v.Size > h.Most:
		return fmt.Sprintf("It has %s, more than the %s that it should have at most.", bytes(v.Size), bytes(h.Most))
	}
	if h.Media != "" {
		if found := c.examine(n); found.Media != "" && !strings.HasPrefix(found.Media, h.Media) {
			return fmt.Sprintf("It is %s by its content, and %s is wanted.", found.Media, h.Media)
		}
	}
	if len(h.Words) > 0 {
		lacking, ok := c.reading.Holds(n, h.Words)
		if !ok {
			return "Its text cannot be read, so nobody can tell whether the words that must be in it are."
		}
		if len(lacking) > 0 {
			return fmt.Sprintf("It lacks %s, which must be in it.", quoted(lacking))
		}
	}
	for _, word := range h.Without {
		if lacking, ok := c.reading.Holds(n, []string{word}); ok && len(lacking) == 0 {
			return fmt.Sprintf("It holds %s, which must not be in it.", quoted([]string{word}))
		}
	}
	return ""
}

// rank orders kinds of sources among copies of one version. Kinds that are not named come last.
var rank = []string{"live", "trash", "snapshots", "cloud", "history", "archive", "strays", "image"}

func rankOf(kind string) int {
	if i := slices.Index(rank, kind); i >= 0 {
		return i
	}
	return len(rank)
}

// copiesOf returns the copies of a version's content at the place and its other names, best first.
func (c *chooser) copiesOf(n int) []Copy {
	content := c.Trail.Versions[n].Content
	var all []Copy
	met := map[int64]bool{}
	for k := range c.Trail.Versions {
		if v := &c.Trail.Versions[k]; v.Content == content {
			for _, i := range v.Seen {
				if copy := c.Copies[i]; !met[copy.ID] && copy.ID != 0 {
					met[copy.ID] = true
					all = append(all, copy)
				}
			}
		}
	}
	slices.SortStableFunc(all, func(a, b Copy) int {
		return cmp.Or(cmp.Compare(a.Reach, b.Reach), flag(a.Place != c.Place, b.Place != c.Place), flag(!a.Live, !b.Live), flag(a.Remote, b.Remote),
			flag(!a.Verified, !b.Verified), cmp.Compare(rankOf(a.Kind), rankOf(b.Kind)), cmp.Compare(a.ID, b.ID))
	})
	return all
}

func flag(a, b bool) int {
	switch {
	case a == b:
		return 0
	case a:
		return 1
	}
	return -1
}

// destination is where a copy goes: the place asked for, under the extension that its content has.
func (c *chooser) destination(copy Copy, v condition.Verdict) place.Place {
	to := c.Place
	if copy.Live {
		to = copy.Place
	}
	if v.Rename != "" {
		to.Path = place.Join(place.Folder(to.Path), v.Rename)
	}
	return to
}

func (c *chooser) found(p place.Place) {
	if !slices.Contains(c.FoundAt, p) {
		c.FoundAt = append(c.FoundAt, p)
	}
}
