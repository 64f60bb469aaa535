package advice

import (
	"cmp"
	"slices"
	"time"

	"humble-rewind/internal/core/remark"
	"humble-rewind/internal/core/trail"
)

// candidates are versions in order, nearest to the wanted moment first, with what made them so.
type candidates struct {
	order   []int
	because []Reason // about the wanted moment
	wanted  time.Time
	nearest int  // the version that is wanted itself, had it no fault; -1 where none is
	strict  bool // only what is sound, and what is doubtful only where nothing is
	costs   []Reason
	// assumed is what it stands on that is not proved; the zero reason where everything is. Where open, it takes an answer.
	assumed Reason
	open    bool
	rival   int // the version that it may be instead; -1 where there is none
}

func wantedAt(at time.Time, order []int) candidates {
	return candidates{order: order, wanted: at, nearest: -1, rival: -1}
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
	w := wantedAt(v.Superseded, nil)
	w.nearest = n
	if v.LastSeen.Before(v.Superseded) {
		w.because = []Reason{remark.New("deleted-between", "seen", v.LastSeen, "gone", v.Superseded)}
		w.assumed, w.costs = c.window(n, v.LastSeen, v.Superseded)
	} else {
		w.because = []Reason{remark.New("deleted-then", "at", v.Superseded)}
	}
	for k := n; k >= 0; k-- {
		w.order = append(w.order, k)
	}
	for k := n + 1; k < len(c.Trail.Versions); k++ {
		c.whyNot[k] = remark.New("after-deletion", "at", c.Trail.Versions[k].Arrived)
	}
	return w
}

// neverRemoved is a deletion that no source recorded.
func (c *chooser) neverRemoved() candidates {
	order := c.before(c.Noticed)
	w := wantedAt(c.Noticed, order)
	if len(order) == 0 {
		return w
	}
	w.nearest = order[0]
	last := &c.Trail.Versions[order[0]]
	w.assumed = remark.New("assume-record")
	if !last.Superseded.IsZero() {
		w.because = []Reason{remark.New("no-deletion-gone", "seen", last.LastSeen)}
		return w
	}
	if len(order) > 1 && order[0] > 0 {
		before := order[0] - 1
		if kept, _, ok := c.reading.Kept(c.contentOf(before), c.contentOf(order[0])); ok && 1-kept >= anotherFile && c.isFile(before) {
			c.whyNot[order[0]] = remark.New("another-file")
			w.order, w.nearest = order[1:], order[1]
			w.wanted = last.Arrived
			w.because = []Reason{remark.New("no-deletion-other", "at", last.Arrived)}
			return w
		}
	}
	w.because = []Reason{remark.New("no-deletion-there", "place", last.Place)}
	return w
}

func (c *chooser) overwritten() candidates {
	if !c.Good.IsZero() {
		return c.atGood()
	}
	order := c.before(c.Noticed)
	w := wantedAt(c.Noticed, order)
	if len(order) == 0 {
		return w
	}
	if len(c.Hints.Words) > 0 { // the filter finds the last with them
		w.because = []Reason{remark.New("last-with-words", "words", remark.Words(c.Hints.Words))}
		w.assumed = remark.New("assume-words")
		return w
	}
	if len(c.Hints.Without) > 0 {
		w.because = []Reason{remark.New("last-without-words", "words", remark.Words(c.Hints.Without))}
		w.assumed = remark.New("assume-words")
		return w
	}
	b := c.breakIn(order)
	if last := &c.Trail.Versions[order[0]]; b.at >= 0 && !b.clear && ends(c.Trail.Versions, order[0]) && !last.Superseded.After(c.Noticed) {
		w.nearest = order[0]
		w.because = []Reason{remark.New("no-break-gone", "at", last.Superseded)}
		w.assumed, w.open, w.rival = remark.New("open-break"), true, c.versionBefore(order, b.at)
		return w
	}
	if b.at < 0 && c.present(order[0]) && len(order) > 1 {
		// Nobody looked before it was wrong. What stands there is wrong by the user's own word.
		c.whyNot[order[0]] = remark.New("wrong-by-word")
		w.order, w.nearest = order[1:], order[1]
		w.wanted = c.Trail.Versions[order[0]].Arrived
		w.because = []Reason{remark.New("newest-other")}
		w.assumed, w.open = remark.New("open-break"), true
		return w
	}
	if b.at < 0 {
		w.nearest = order[0]
		w.because = []Reason{remark.New("no-overwriting")}
		w.assumed = remark.New("open-break")
		w.open = c.Trail.Versions[order[0]].Superseded.IsZero()
		return w
	}
	for _, n := range order {
		if n >= b.at {
			c.whyNot[n] = remark.New("after-break")
		} else {
			w.nearest = max(w.nearest, n)
		}
	}
	w.order = slices.DeleteFunc(slices.Clone(order), func(n int) bool { return n >= b.at })
	w.wanted = c.Trail.Versions[b.at].Arrived
	w.because = []Reason{b.why}
	w.assumed = remark.New("assume-break", "at", w.wanted)
	if !b.clear {
		w.assumed, w.open, w.rival = remark.New("open-break"), true, order[0]
	}
	return w
}

// versionBefore is the latest of some versions, latest first, that came before another.
func (c *chooser) versionBefore(order []int, n int) int {
	for _, k := range order {
		if k < n {
			return k
		}
	}
	return -1
}

func (c *chooser) atGood() candidates {
	order := c.before(c.Good)
	w := wantedAt(c.Good, order)
	if len(order) == 0 && len(c.Trail.Versions) > 0 {
		// What was first seen later may have stood there already, where its write time is not believed.
		if v := &c.Trail.Versions[0]; v.Doubt != "" && v.After.Before(c.Good) {
			w.order, w.nearest = []int{0}, 0
			w.because = []Reason{remark.New("oldest-known", "at", c.Good)}
			w.assumed = remark.New("assume-date")
			return w
		}
	}
	for n := range c.Trail.Versions {
		if c.Trail.Versions[n].Arrived.After(c.Good) {
			c.whyNot[n] = remark.New("came-after-right", "at", c.Trail.Versions[n].Arrived)
		}
	}
	if len(order) > 1 && c.putBack(order[0]) {
		c.whyNot[order[0]] = remark.New("put-back")
		w.order = order[1:]
		order = w.order
	}
	if len(order) == 0 {
		return w
	}
	w.nearest = order[0]
	v := &c.Trail.Versions[order[0]]
	current, proved := c.Trail.Current(c.Good)
	switch {
	case current == order[0] && proved:
		w.because = []Reason{remark.New("right-then", "at", c.Good)}
	case current == order[0]:
		w.because = []Reason{remark.New("right-assumed", "at", c.Good, "seen", v.LastSeen, "next", v.Superseded)}
		if v.Superseded.IsZero() {
			w.because = []Reason{remark.New("right-assumed-end", "at", c.Good, "seen", v.LastSeen)}
		}
		w.assumed, w.costs = c.window(order[0], v.LastSeen, c.Good)
		if w.assumed.Code == "" && !v.Superseded.IsZero() {
			w.because = []Reason{remark.New("right-seen", "at", c.Good, "seen", v.LastSeen, "next", v.Superseded)}
		}
		if next := order[0] + 1; next < len(c.Trail.Versions) && c.Trail.Versions[next].Doubt != "" && c.mixed.leftover(next) == nil {
			w.rival, w.open = next, true
		}
	default:
		w.because = []Reason{remark.New("right-then", "at", c.Good)}
		w.assumed = remark.New("assume-date")
	}
	return w
}

// putBack tells whether a version is what is there now, brought an older write time with it, and was first seen only
// after the file was last right.
func (c *chooser) putBack(n int) bool {
	v := &c.Trail.Versions[n]
	return n == len(c.Trail.Versions)-1 && v.First.After(c.Good) && !v.Arrived.Equal(v.Written) && c.mixed.leftover(n) == nil
}

// window says what it means that nobody looked from when a version was seen until a moment: a cost where nobody is expected to have saved in
// so short a time, and beside that something that is assumed where somebody may well have.
func (c *chooser) window(n int, seen, until time.Time) (assumed Reason, costs []Reason) {
	span := until.Sub(seen)
	switch {
	case span <= 0 || c.mixed.leftover(n) != nil:
		return Reason{}, nil
	case c.mayHaveSaved(n, span):
		return remark.New("assume-no-save", "from", seen, "to", until), []Reason{remark.New("wide-window", "from", seen, "to", until)}
	}
	event := map[Loss]string{Overwritten: "the moment when it was right", Damaged: "the first broken version came"}[c.Loss]
	return Reason{}, []Reason{remark.New("small-window", "window", span, "event", cmp.Or(event, "it was gone"))}
}

// mayHaveSaved tells whether, by the habit that the saves up to a version show, one more is to be expected in a span of time.
func (c *chooser) mayHaveSaved(n int, span time.Duration) bool {
	var saves []time.Time
	for k := 0; k <= n; k++ {
		if c.isFile(k) && c.mixed.leftover(k) == nil {
			saves = append(saves, c.Trail.Versions[k].Arrived)
		}
	}
	return expected(append(saves, c.Trail.Versions[n].LastSeen), span)
}

// expected tells whether somebody may well have saved within a span of time, by the moments at which she did, oldest first; the last is
// that at which the latest save still stood.
func expected(saves []time.Time, span time.Duration) bool {
	switch {
	case span <= shortWindow:
		return false
	case span >= longWindow || len(saves) < 2:
		return true
	}
	between := make([]time.Duration, len(saves)-1)
	for i := range between {
		between[i] = saves[i+1].Sub(saves[i])
	}
	slices.Sort(between)
	return span >= between[len(between)/2]/habitShare
}

// broke is a save that went wrong.
type broke struct {
	at    int     // the version that it made; -1 where there is none
	clear bool    // nothing else is as likely
	lost  float64 // the share of the content before it that is gone
	why   Reason
}

// breakIn finds the last save that lost far more of the content before it than the file's usual saves do, or put older
// content in the place of newer; none where there is only one version. Where none is clearly so, it is the likeliest.
func (c *chooser) breakIn(order []int) broke {
	type save struct {
		n    int
		lost float64
	}
	var saves []save
	order = slices.DeleteFunc(slices.Clone(order), func(n int) bool { return c.mixed.leftover(n) != nil })
	order = order[:min(len(order), breakSaves+1)]
	for k := len(order) - 2; k >= 0; k-- { // oldest first
		n, before := order[k], order[k+1]
		if !c.isFile(n) || !c.isFile(before) || c.Trail.Versions[n].Content == c.Trail.Versions[before].Content {
			continue
		}
		kept, _, ok := c.reading.Kept(c.contentOf(before), c.contentOf(n))
		if !ok {
			a, b := c.Trail.Versions[before].Size, c.Trail.Versions[n].Size
			kept = min(1, float64(b)/float64(max(1, a)))
		}
		saves = append(saves, save{n, 1 - kept})
	}
	if len(saves) == 0 {
		return broke{at: -1}
	}
	lost := make([]float64, len(saves))
	for i, s := range saves {
		lost[i] = s.lost
	}
	slices.Sort(lost)
	usual := lost[(len(lost)-1)/2]
	for i := len(saves) - 1; i >= 0; i-- {
		v := &c.Trail.Versions[saves[i].n]
		switch {
		case c.cameBack(saves[i].n):
			return broke{saves[i].n, true, saves[i].lost, remark.New("older-came-back", "at", v.Arrived)}
		case c.backdated(saves[i].n):
			return broke{saves[i].n, true, saves[i].lost, remark.New("backdated", "at", v.Arrived, "written", v.Written)}
		case saves[i].lost >= breakShare && (saves[i].lost >= breakHabit*usual || saves[i].lost > breakTotal):
			return broke{saves[i].n, true, saves[i].lost, remark.New("before-the-break", "at", v.Arrived, "lost", remark.Share(saves[i].lost), "usual", remark.Share(usual))}
		}
	}
	worst := slices.MaxFunc(saves, func(a, b save) int { return cmp.Or(cmp.Compare(a.lost, b.lost), cmp.Compare(a.n, b.n)) })
	if worst.lost < breakAny {
		last := saves[len(saves)-1].n
		return broke{last, false, 0, remark.New("before-the-last", "at", c.Trail.Versions[last].Arrived)}
	}
	return broke{worst.n, false, worst.lost, remark.New("before-the-worst", "at", c.Trail.Versions[worst.n].Arrived, "lost", remark.Share(worst.lost))}
}

// cameBack tells whether a version's content had stood there before another did.
func (c *chooser) cameBack(n int) bool {
	for k := n - 2; k >= 0; k-- {
		if c.sameContents(k, n) {
			return !c.sameContents(n-1, n)
		}
	}
	return false
}

// sameContents tells whether two versions have the same content; where their digests are not known, those of the same size are read.
func (c *chooser) sameContents(a, b int) bool {
	va, vb := &c.Trail.Versions[a], &c.Trail.Versions[b]
	if va.Content == vb.Content {
		return true
	}
	if va.Size != vb.Size || va.Size == 0 || !c.isFile(a) || !c.isFile(b) || va.SHA256.Known() && vb.SHA256.Known() {
		return false
	}
	same, ok := c.reading.Same(c.contentOf(a), c.contentOf(b))
	return ok && same
}

// backdated tells whether a version brought a date with it that is older than that of the version before: no save does.
func (c *chooser) backdated(n int) bool {
	k := n - 1
	for k >= 0 && c.mixed.leftover(k) != nil {
		k--
	}
	if k < 0 {
		return false
	}
	v, before := &c.Trail.Versions[n], &c.Trail.Versions[k]
	return v.Doubt == "" && before.Doubt == "" && !v.Written.IsZero() && v.Written.Before(before.Written.Add(-dateSlack))
}

func (c *chooser) damaged() candidates {
	order := c.before(c.Noticed)
	w := wantedAt(c.Noticed, order)
	w.strict = true
	if len(order) > 0 {
		w.nearest = order[0]
	}
	w.because = []Reason{remark.New("newest-sound")}
	return w
}

// LastRight is until when something is known to have been right, or, where nobody said so, when the loss was noticed; now where that is not
// known either.
func LastRight(good, noticed, now time.Time) time.Time {
	if noticed.IsZero() || noticed.After(now) {
		noticed = now
	}
	if good.IsZero() || good.After(noticed) {
		return noticed
	}
	return good
}
