package advice

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"humble-rewind/internal/core/condition"
	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/place"
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
		c.note(
			"It is said to have been right on %s, after the loss was noticed on %s; one of the two is wrong. The time when it was "+
				"noticed is moved to then.",
			c.say(c.Good),
			c.say(c.Noticed),
		)
		c.Noticed = c.Good
	}
}

func (c *chooser) note(format string, args ...any) {
	c.Notes = append(c.Notes, fmt.Sprintf(format, args...))
}

// isFile tells whether a version is something with content.
func (c *chooser) isFile(n int) bool { return c.Trail.Versions[n].Type == entry.File }

// before lists the versions that had arrived by a moment, latest first.
func (c *chooser) before(moment time.Time) (all []int) {
	for n := len(c.Trail.Versions) - 1; n >= 0; n-- {
		if !c.Trail.Versions[n].Arrived.After(moment) {
			all = append(all, n)
		}
	}
	return all
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
	r.Plain = len(r.Because)
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
		return []string{
			fmt.Sprintf("The version of %s would be nearer to the wanted moment. %s", c.say(c.Trail.Versions[w.nearest].Arrived), reason),
			fmt.Sprintf("This is the latest before it: it came on %s.", c.say(v.Arrived)),
		}
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
		if len(readable(all)) == 0 {
			c.whyNot[n] = c.recordOnly(all)
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
		c.note(
			"No version is known to be sound; the newest that nothing speaks against is recommended instead. Open it before you promise " +
				"anything.",
		)
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

// readable leaves out copies of which only the record is left.
func readable(all []Copy) []Copy {
	return slices.DeleteFunc(slices.Clone(all), func(copy Copy) bool { return copy.Access == Recorded })
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
		found.Reasons = append(
			[]string{"Its bytes changed while its size and its write time stayed the same, which no save does: something damaged it."},
			found.Reasons...)
	case c.Loss == Damaged && found.State == condition.Sound && found.Rename != "":
		c.judgeKind(n, &found)
	case c.Loss == Damaged && found.State != condition.Broken && !found.Proved:
		c.judgeEnd(n, &found)
	}
	c.verdicts[n] = found
	return found
}

// judgeKind finds out whether a version that is of another kind than its name says took the place of one that is not: then it
// is no wrong name, but a wrong content.
func (c *chooser) judgeKind(n int, found *Examined) {
	for k := n - 1; k >= 0; k-- {
		v := &c.Trail.Versions[k]
		if v.Content == c.Trail.Versions[n].Content || !c.isFile(k) || v.Size == 0 {
			continue
		}
		if before := c.reading.Condition(k); before.State == condition.Sound && before.Rename == "" {
			found.State, found.Rename = condition.Doubtful, ""
			found.Reasons = append(
				found.Reasons,
				fmt.Sprintf("The version of %s is what the name says, so this is another file in its place.", c.say(v.Arrived)),
			)
		}
		return
	}
}

// maxEnds bounds how many versions the end of one is held against.
const maxEnds = 60

// judgeEnd finds out whether a version without checks of its own was cut off, from the versions before it.
func (c *chooser) judgeEnd(n int, found *Examined) {
	met := map[int]bool{c.Trail.Versions[n].Content: true}
	for k := n - 1; k >= 0 && len(met) <= maxEnds; k-- {
		v := &c.Trail.Versions[k]
		if met[v.Content] || !c.isFile(k) || v.Size == 0 {
			continue
		}
		met[v.Content] = true
		switch c.reading.Cut(n, k) {
		case NotCut:
			return
		case Beginning:
			found.State = condition.Broken
			found.Reasons = []string{
				fmt.Sprintf("It is the beginning of the version of %s and nothing more, cut off in the middle.", c.say(v.Arrived)),
			}
			return
		case Ragged:
			found.State = condition.Doubtful
			found.Reasons = []string{
				fmt.Sprintf("It ends in the middle of a line, as the version of %s does not; it may have been cut off.", c.say(v.Arrived)),
			}
			return
		}
	}
}

// everHeld tells whether any version had content.
func (c *chooser) everHeld() bool {
	return slices.ContainsFunc(c.Trail.Versions, func(v trail.Version) bool { return v.Type == entry.File && v.Size > 0 })
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
	if h.Media != "" {
		if found := c.examine(n); found.Media != "" && !strings.HasPrefix(found.Media, h.Media) {
			return fmt.Sprintf("It is %s by its content, and %s is wanted.", found.Media, h.Media)
		}
	}
	return c.hinted(v.SHA256, v.Size, func(words []string) ([]string, bool) { return c.reading.Holds(n, words) })
}

// againstCopy says what speaks against a copy that is no version of the place: that it cannot be read, is broken, or a hint.
func (c *chooser) againstCopy(copy Copy, sha256 string, size int64, examined Examined) string {
	switch {
	case len(examined.Failed) > 0:
		return "It cannot be read: " + anyOf(examined.Failed) + "."
	case examined.State == condition.Broken:
		return "It is broken. " + strings.Join(examined.Reasons, " ")
	case c.Hints.Media != "" && examined.Media != "" && !strings.HasPrefix(examined.Media, c.Hints.Media):
		return fmt.Sprintf("It is %s by its content, and %s is wanted.", examined.Media, c.Hints.Media)
	}
	return c.hinted(sha256, size, func(words []string) ([]string, bool) { return c.reading.HoldsOf(copy, words) })
}

// hinted says which hint speaks against a content, whichever copy it is read from.
func (c *chooser) hinted(sha256 string, size int64, holds func(words []string) (lacking []string, ok bool)) string {
	h := c.Hints
	switch {
	case sha256 != "" && c.Wrong[sha256]:
		return "A technician looked at it and said that it is not this one."
	case h.Least > 0 && size < h.Least:
		return fmt.Sprintf("It has %s, less than the %s that it should have at least.", bytes(size), bytes(h.Least))
	case h.Most > 0 && size > h.Most:
		return fmt.Sprintf("It has %s, more than the %s that it should have at most.", bytes(size), bytes(h.Most))
	}
	if len(h.Words) > 0 {
		lacking, ok := holds(h.Words)
		if !ok {
			return "Its text cannot be read, so nobody can tell whether the words that must be in it are."
		}
		if len(lacking) > 0 {
			return fmt.Sprintf("It lacks %s, which must be in it.", quoted(lacking))
		}
	}
	for _, word := range h.Without {
		if lacking, ok := holds([]string{word}); ok && len(lacking) == 0 {
			return fmt.Sprintf("It holds %s, which must not be in it.", quoted([]string{word}))
		}
	}
	return ""
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
		return cmp.Or(
			cmp.Compare(a.Access, b.Access),
			Behind(a.Place != c.Place, b.Place != c.Place),
			Behind(!a.Live, !b.Live),
			Behind(a.Leftover, b.Leftover),
			Behind(a.Remote, b.Remote),
			Behind(!a.Verified, !b.Verified),
			cmp.Compare(a.Rank, b.Rank),
			cmp.Compare(a.ID, b.ID),
		)
	})
	return all
}

// Behind orders what something is true of behind what it is not.
func Behind(a, b bool) int {
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
