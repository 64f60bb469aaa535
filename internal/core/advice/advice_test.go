package advice_test

import (
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humble-rewind/internal/core/advice"
	"humble-rewind/internal/core/condition"
	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/core/digest"
	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/remark"
	"humble-rewind/internal/core/trail"
	"humble-rewind/internal/core/traits"
	"humble-rewind/internal/say"
)

var (
	now  = time.Date(2026, 11, 20, 16, 0, 0, 0, time.UTC)
	file = place.Place{Machine: "loft", Path: "/home/ines/plan.odt"}
)

// said is what reasons say.
func said(all ...advice.Reason) string { return say.Speaker{Now: now}.Joined(all) }

// others is what is said of the copies that are not recommended.
func others(a advice.Advice) string {
	var why []advice.Reason
	for _, o := range a.Others {
		why = append(why, o.Why)
	}
	return said(why...)
}

// contents answer for versions by their digests: what is wrong with each, and the words in it.
type contents struct {
	t      *trail.Trail
	broken map[string]bool
	words  map[string]string
	copies map[copies.ID]advice.Examined // of those beside the trail
	cut    map[string]string             // digests of what is the beginning of another
	prefix map[string]string             // of what is so up to the end of a line
	kept   map[string]float64            // what two digests have in common, where it is not nearly all
	had    map[string]float64            // of the second, where that is not the same
	only   map[string]string
	rivals []advice.Rival
	asked  int
}

func (c *contents) Condition(v advice.Content) advice.Examined {
	if found, ok := c.copies[v.Copies[0].ID]; ok {
		return found
	}
	c.asked++
	if c.broken[text(v.SHA256)] {
		return advice.Examined{Verdict: condition.Verdict{State: condition.Broken, Reasons: []remark.Remark{remark.Said("It is torn.")}}}
	}
	return advice.Examined{Verdict: condition.Verdict{State: condition.Sound, Reasons: []remark.Remark{remark.Said("It is whole.")}}}
}

func (c *contents) Holds(v advice.Content, words []string) (lacking []string, ok bool) {
	for _, w := range words {
		if !strings.Contains(c.words[text(v.SHA256)], w) {
			lacking = append(lacking, w)
		}
	}
	return lacking, true
}

func (c *contents) Kept(a, b advice.Content) (float64, float64, bool) {
	if share, ok := c.kept[text(a.SHA256)+" "+text(b.SHA256)]; ok {
		if had, ok := c.had[text(a.SHA256)+" "+text(b.SHA256)]; ok {
			return share, had, true
		}
		return share, share, true
	}
	return 0.9, 0.9, true
}

func (c *contents) Same(a, b advice.Content) (bool, bool) { return a.SHA256 == b.SHA256, true }

func (c *contents) Cut(v, earlier advice.Content) advice.Cut {
	switch whole, cut := c.cut[text(v.SHA256)]; {
	case c.prefix[text(v.SHA256)] == text(earlier.SHA256):
		return advice.Prefix
	case whole == text(earlier.SHA256):
		return advice.Beginning
	case c.cut[text(earlier.SHA256)] != "":
		return advice.CutToo
	case cut:
		return advice.Ragged
	}
	return advice.NotCut
}

func (c *contents) Only(a, b advice.Content) string { return c.only[text(a.SHA256)+" "+text(b.SHA256)] }

func (c *contents) Rivals(place.Place, *advice.Stray) []advice.Rival { return c.rivals }

// sum is a digest by which a content is known again, and text that content.
func sum(content string) (s digest.Sum) {
	copy(s[:], content)
	return s
}

func text(s digest.Sum) string { return strings.TrimRight(string(s[:]), "\x00") }

// history is one source with a snapshot a day, the last of them yesterday, each with the digest given; "" is nothing there.
func history(digests ...string) (advice.Evidence, *contents) {
	var seen []*copies.Copy
	var candidates []advice.Candidate
	first := now.AddDate(0, 0, -len(digests))
	store := &copies.Store{Source: copies.Source{Traits: traits.Traits{Shape: traits.Points, Rank: 20}}}
	for i, d := range digests {
		at := first.AddDate(0, 0, i)
		store.Captures = append(store.Captures, at)
		if d != "" {
			seen = append(seen, &copies.Copy{ID: copies.ID(i + 1), Store: store, Place: file, Type: entry.File, Size: int64(100 + len(d)),
				Written: at.Add(-time.Hour), SHA256: sum(d), First: at, Last: at, Readable: true})
			candidates = append(candidates, advice.Candidate{ID: copies.ID(i + 1), Rank: 20, Place: file, Verified: true})
		}
	}
	ev := advice.Evidence{
		Place:   file,
		Seen:    seen,
		Copies:  candidates,
		Now:     now,
		Sources: []advice.Source{{Name: "the snapshots at /snap", Captures: store.Captures, Covers: true}},
	}
	ev.Trail = trail.Build(seen, []*copies.Store{store}, []trail.Name{{Place: file}}, nil)
	return ev, &contents{t: &ev.Trail, broken: map[string]bool{}, words: map[string]string{}}
}

func TestEachLossWantsItsOwnVersion(t *testing.T) {
	ev, c := history("a", "b", "c", "d", "", "")
	c.words["b"] = "oak"
	for name, want := range map[string]struct {
		q    advice.Question
		copy copies.ID
	}{
		"deleted":                      {advice.Question{Loss: advice.Deleted}, 4},
		"deleted, noticed before it":   {advice.Question{Loss: advice.Deleted, Noticed: now.AddDate(0, 0, -4)}, 3},
		"misplaced, and it is nowhere": {advice.Question{Loss: advice.Misplaced}, 4},
		"overwritten, by when":         {advice.Question{Loss: advice.Overwritten, Good: now.AddDate(0, 0, -4)}, 3},
		"overwritten, by words":        {advice.Question{Loss: advice.Overwritten, Hints: advice.Hints{Words: []string{"oak"}}}, 2},
		"overwritten, not this one": {advice.Question{Loss: advice.Overwritten, Good: now.AddDate(0, 0, -4),
			Wrong: map[digest.Sum]bool{sum("c"): true}}, 2},
		"damaged, and nothing was":      {advice.Question{Loss: advice.Damaged}, 4},
		"never saved, and nothing left": {advice.Question{Loss: advice.Unsaved}, 4},
	} {
		a := advice.Advise(want.q, ev, c)
		require.NotNil(t, a.Recommended, name)
		assert.Equal(t, want.copy, a.Recommended.Copy.ID, "%s: %v", name, a.Recommended.Because)
		assert.NotEmpty(t, a.Recommended.Because, name)
		assert.NotEmpty(t, a.Recommended.Costs, name)
		for _, o := range a.Others {
			assert.NotEmpty(t, o.Why, name)
		}
	}
}

// What lies beside the trail, a leftover or a file elsewhere, is held to the same as its versions.
func TestWhatSpeaksAgainstAVersionSpeaksAgainstAnyCopy(t *testing.T) {
	sound := advice.Examined{Verdict: condition.Verdict{State: condition.Sound}}
	for name, change := range map[string]struct {
		examined advice.Examined
		q        advice.Question
		why      string
	}{
		"nothing": {sound, advice.Question{}, ""},
		"broken":  {advice.Examined{Verdict: condition.Verdict{State: condition.Broken}}, advice.Question{}, "It is broken"},
		"cannot be read": {advice.Examined{Failed: map[copies.ID]advice.Reason{70: remark.Said("it is gone")}}, advice.Question{},
			"It cannot be read: it is gone"},
		"lacks words": {sound, advice.Question{Hints: advice.Hints{Words: []string{"oak"}}}, "It lacks “oak”"},
		"too small":   {sound, advice.Question{Hints: advice.Hints{Least: 500}}, "should have 500 bytes at least"},
		"not the one": {sound, advice.Question{Wrong: map[digest.Sum]bool{sum("x"): true}}, "not this one"},
		"of another kind": {advice.Examined{Verdict: condition.Verdict{State: condition.Sound, Media: "text/plain"}},
			advice.Question{Hints: advice.Hints{Media: "image/"}}, "image/ is wanted"},
	} {
		for _, loss := range []advice.Loss{advice.Unsaved, advice.Misplaced} {
			ev, c := history("a", "")
			c.copies = map[copies.ID]advice.Examined{70: change.examined}
			c.words["a"] = "oak"
			c.words["x"] = ""
			beside := advice.Candidate{ID: 70, Live: true, Place: place.Place{Machine: "loft", Path: "/home/ines/Desktop/plan.odt"}}
			if loss == advice.Unsaved {
				ev.Strays = []advice.Stray{{Copy: beside, What: "an autosave", Earliest: now, Size: 90, SHA256: sum("x"), Named: true, Sure: true}}
			} else {
				ev.Elsewhere = []advice.Elsewhere{{Copy: beside, Back: 1, Size: 90, SHA256: sum("x")}}
			}
			q := change.q
			q.Loss = loss
			a := advice.Advise(q, ev, c)
			taken := a.Recommended != nil && a.Recommended.Copy.ID == 70
			assert.Equal(t, change.why == "", taken, "%s, %s", name, loss)
			if change.why != "" {
				assert.Contains(t, others(a), change.why, "%s, %s", name, loss)
			}
		}
	}
}

func TestWhatWasMadeFromALaterVersionIsACost(t *testing.T) {
	ev, c := history("a", "b", "c")
	ev.Neighbours = []advice.Neighbour{{Name: "plan.pdf", Written: now.Add(-time.Hour)}, {Name: "plan.csv", Written: now.AddDate(0, -1, 0)}}
	a := advice.Advise(advice.Question{Loss: advice.Overwritten, Good: now.AddDate(0, 0, -2)}, ev, c)
	require.NotNil(t, a.Recommended)
	costs := said(a.Recommended.Costs...)
	assert.Contains(t, costs, "plan.pdf beside it was written on Fri 20 Nov, 15:00")
	assert.NotContains(t, costs, "plan.csv")
}

func TestWhatIsBrokenIsNeverRecommended(t *testing.T) {
	ev, c := history("a", "b", "c", "")
	for _, d := range []string{"a", "b", "c"} {
		c.broken[d] = true
	}
	for _, loss := range advice.Losses {
		a := advice.Advise(advice.Question{Loss: loss, Good: now}, ev, c)
		assert.Nil(t, a.Recommended, loss)
		assert.NotEmpty(t, a.Because, loss)
		assert.NotEmpty(t, a.Next, loss)
	}
	c.broken["a"] = false
	a := advice.Advise(advice.Question{Loss: advice.Damaged}, ev, c)
	require.NotNil(t, a.Recommended)
	assert.EqualValues(t, 1, a.Recommended.Copy.ID)
	assert.Contains(t, said(a.Recommended.Because...), "All 2 newer versions were examined, and all of them are broken.")
}

func TestTheBeginningOfTheVersionBeforeIsTakenForDamageWhereDamageIsLookedFor(t *testing.T) {
	ev, c := history("a", "long", "cut", "cut too")
	c.cut = map[string]string{"cut": "long", "cut too": "never seen whole"}
	a := advice.Advise(advice.Question{Loss: advice.Damaged}, ev, c)
	require.NotNil(t, a.Recommended)
	assert.EqualValues(t, 2, a.Recommended.Copy.ID)
	assert.Contains(t, others(a), "It is the beginning of the version of Tue 17 Nov")
	assert.Contains(t, others(a), "It ends in the middle of a line, which the version of Tue 17 Nov")
	a = advice.Advise(advice.Question{Loss: advice.Overwritten, Good: now}, ev, c)
	require.NotNil(t, a.Recommended)
	assert.EqualValues(t, 4, a.Recommended.Copy.ID, "somebody may have shortened it")
}

func TestWhatStandsElsewhereIsTakenByHowSurelyItIsTheFile(t *testing.T) {
	at := func(id copies.ID, machine, path string) advice.Candidate {
		return advice.Candidate{ID: id, Live: true, Place: place.Place{Machine: machine, Path: path}}
	}
	same := advice.Elsewhere{Copy: at(70, "loft", "/home/ines/a.odt"), Back: 1, Size: 90, SHA256: sum("b")}
	far := advice.Elsewhere{Copy: at(71, "office", "/home/ines/a.odt"), Named: true, Size: 90, SHA256: sum("c"), At: now, Came: now}
	old := advice.Elsewhere{Copy: at(72, "loft", "/home/ines/old.odt"), Back: 2, Size: 90, SHA256: sum("a"), At: now}
	lost := advice.Elsewhere{
		Copy:   advice.Candidate{ID: 73, Place: place.Place{Machine: "loft", Path: "/trash/plan.odt"}},
		Back:   1,
		Lost:   true,
		Size:   90,
		SHA256: sum("b"),
	}
	alike := advice.Elsewhere{Copy: at(74, "loft", "/home/ines/Old/plan.odt"), Named: true, Size: 90, SHA256: sum("z")}
	for name, want := range map[string]struct {
		loss  advice.Loss
		there []advice.Elsewhere
		bytes bool // whether the versions' bytes are left
		copy  copies.ID
	}{
		"its own machine before another":      {advice.Misplaced, []advice.Elsewhere{far, same, old}, true, 70},
		"what became of it, on another":       {advice.Misplaced, []advice.Elsewhere{far, old}, true, 71},
		"an older version is not the file":    {advice.Misplaced, []advice.Elsewhere{old, lost, alike}, true, 2},
		"a deletion prefers its own versions": {advice.Deleted, []advice.Elsewhere{same, lost}, true, 2},
		"an item without a record":            {advice.Deleted, []advice.Elsewhere{old, lost, alike}, false, 73},
		"an older version, if nothing else":   {advice.Deleted, []advice.Elsewhere{old, alike}, false, 72},
		"never the same name alone":           {advice.Deleted, []advice.Elsewhere{alike}, false, 0},
	} {
		ev, c := history("a", "b", "")
		if !want.bytes {
			for i := range ev.Copies {
				ev.Copies[i].Access = advice.Recorded
			}
		}
		ev.Elsewhere = want.there
		sound := advice.Examined{Verdict: condition.Verdict{State: condition.Sound}}
		c.copies = map[copies.ID]advice.Examined{70: sound, 71: sound, 72: sound, 73: sound, 74: sound}
		a := advice.Advise(advice.Question{Loss: want.loss}, ev, c)
		if want.copy == 0 {
			assert.Nil(t, a.Recommended, name)
			assert.Contains(t, others(a), "the same name", name)
			continue
		}
		require.NotNil(t, a.Recommended, name)
		assert.Equal(t, want.copy, a.Recommended.Copy.ID, name)
		if want.copy == 73 {
			assert.Equal(t, file, a.Recommended.To, name)
			assert.NotContains(t, a.FoundAt, lost.Copy.Place, "it lies there, and does not stand there")
		}
	}
}

// A page that a server answered in place of a text is no damage by itself; beside what was there before it is another file in its place.
func TestAPageInPlaceOfATextIsNotIt(t *testing.T) {
	ev, c := history("a", "b", "c")
	as := func(media string) advice.Examined {
		return advice.Examined{Verdict: condition.Verdict{State: condition.Sound, Media: media}}
	}
	c.copies = map[copies.ID]advice.Examined{1: as("text/plain"), 2: as("text/plain"), 3: as("text/html")}
	a := advice.Advise(advice.Question{Loss: advice.Damaged}, ev, c)
	require.NotNil(t, a.Recommended)
	assert.EqualValues(t, 2, a.Recommended.Copy.ID)
	assert.Contains(t, others(a), "another file in its place")
	ev.Place.Path = "/home/ines/plan.html"
	a = advice.Advise(advice.Question{Loss: advice.Damaged}, ev, c)
	require.NotNil(t, a.Recommended)
	assert.EqualValues(t, 3, a.Recommended.Copy.ID, "where the name says so, it is one")
	ev.Place = file
	c.copies[1], c.copies[2] = as("text/html"), as("text/html")
	a = advice.Advise(advice.Question{Loss: advice.Damaged}, ev, c)
	require.NotNil(t, a.Recommended)
	assert.EqualValues(t, 3, a.Recommended.Copy.ID, "where it always was a page, it is one")
}

// What stands elsewhere and shares no byte for byte content is it where it goes on from the last content and came when that went. Of a
// picture nobody can tell what it shares: its name and its time must do, if only one has them.
func TestWhatBecameOfAFileIsToldByContentNameAndTime(t *testing.T) {
	there := func(id copies.ID, name string, came time.Time, digest string) advice.Elsewhere {
		p := place.Place{Machine: "loft", Path: "/home/ines/Other/" + name}
		return advice.Elsewhere{Copy: advice.Candidate{ID: id, Live: true, Place: p}, Named: name == file.Name() || name == "mast.png",
			Size: 90, SHA256: sum(digest), At: now, Came: came}
	}
	before := now.AddDate(0, 0, -9)
	for name, want := range map[string]struct {
		lost  string
		there []advice.Elsewhere
		copy  copies.ID
		sure  advice.Sure
	}{
		"another name, most of the content":       {"plan.odt", []advice.Elsewhere{there(70, "hull.odt", now, "most")}, 70, advice.Likely},
		"but there before":                        {"plan.odt", []advice.Elsewhere{there(70, "hull.odt", before, "most")}, 2, advice.Certain},
		"another name, little of the content":     {"plan.odt", []advice.Elsewhere{there(70, "hull.odt", now, "little")}, 2, advice.Certain},
		"its name, little of the content":         {"plan.odt", []advice.Elsewhere{there(70, "plan.odt", now, "little")}, 2, advice.Likely},
		"its name, but there before":              {"plan.odt", []advice.Elsewhere{there(70, "plan.odt", before, "little")}, 2, advice.Certain},
		"a picture of its name":                   {"mast.png", []advice.Elsewhere{there(70, "mast.png", now, "little")}, 70, advice.Likely},
		"two pictures of its name":                {"mast.png", []advice.Elsewhere{there(70, "mast.png", now, "little"), there(71, "mast.png", now, "little")}, 2, advice.Likely},
		"a picture of its name that is older":     {"mast.png", []advice.Elsewhere{there(70, "mast.png", before, "little")}, 2, advice.Certain},
		"a picture of another name says nothing":  {"mast.png", []advice.Elsewhere{there(70, "keel.png", now, "little")}, 2, advice.Certain},
		"the one of the name before the one like": {"plan.odt", []advice.Elsewhere{there(70, "hull.odt", now.Add(-time.Hour), "most"), there(71, "plan.odt", now, "most")}, 71, advice.Likely},
	} {
		ev, c := history("a", "b", "")
		ev.Place.Path = "/home/ines/" + want.lost
		for i := range ev.Seen {
			ev.Seen[i].Place, ev.Copies[i].Place = ev.Place, ev.Place
		}
		for i := range ev.Trail.Versions {
			ev.Trail.Versions[i].Place = ev.Place
		}
		ev.Elsewhere = want.there
		c.kept = map[string]float64{"b most": 0.8, "b little": 0.2}
		c.copies = map[copies.ID]advice.Examined{}
		for id := copies.ID(70); id < 72; id++ {
			c.copies[id] = advice.Examined{Verdict: condition.Verdict{State: condition.Sound}}
		}
		a := advice.Advise(advice.Question{Loss: advice.Misplaced}, ev, c)
		require.NotNil(t, a.Recommended, name)
		assert.Equal(t, want.copy, a.Recommended.Copy.ID, name)
		if want.copy >= 70 || want.sure == advice.Likely {
			assert.Equal(t, want.sure, a.Recommended.Sure, "%s: %v", name, said(a.Recommended.Because...))
		}
	}
}

func TestOfSeveralCopiesTheNearestAtHandIsTaken(t *testing.T) {
	ev, c := history("a", "")
	base := ev.Copies[0]
	base.Verified, base.Rank = false, 80
	ev.Copies[0].Access = advice.Recorded
	better := []func(*advice.Candidate){
		func(c *advice.Candidate) { c.Access = advice.Recorded }, func(c *advice.Candidate) { c.Access = advice.Doubted },
		func(c *advice.Candidate) { c.Place.Path += "x" }, func(c *advice.Candidate) { c.Remote = true },
		func(*advice.Candidate) {}, func(c *advice.Candidate) { c.Verified, c.Costs, c.Rank = true, true, 10 },
		func(c *advice.Candidate) { c.Proves = true }, func(c *advice.Candidate) { c.Verified, c.Rank = true, 60 },
		func(c *advice.Candidate) { c.Verified, c.Rank = true, 10 },
	}
	for n, change := range better { // each is better than the one before
		other, seen := base, *ev.Seen[0]
		other.ID = copies.ID(100 + n)
		seen.ID = other.ID
		change(&other)
		ev.Copies, ev.Seen = append(ev.Copies, other), append(ev.Seen, &seen)
		ev.Trail.Versions[0].Seen = append(ev.Trail.Versions[0].Seen, len(ev.Seen)-1)
		a := advice.Advise(advice.Question{Loss: advice.Deleted}, ev, c)
		if n > 0 { // of the first nothing but a record is left
			require.NotNil(t, a.Recommended, n)
			assert.Equal(t, other.ID, a.Recommended.Copy.ID, n)
		}
	}
}

// A copy of a store that could not be read last is likely only, unless its store keeps a checksum of it: that tells.
func TestACopyThatIsDoubtedIsCertainWhereItProvesItself(t *testing.T) {
	for proves, sure := range map[bool]advice.Sure{false: advice.Likely, true: advice.Certain} {
		ev, c := history("a", "b")
		ev.Copies[0].Access, ev.Copies[0].Proves = advice.Doubted, proves
		a := advice.Advise(advice.Question{Loss: advice.Overwritten, Good: ev.Trail.Versions[0].First}, ev, c)
		require.NotNil(t, a.Recommended)
		assert.Equal(t, sure, a.Recommended.Sure, said(a.Recommended.Because...))
	}
}

// However a history looks, advice comes, is the same every time, and reads no more versions than there are contents.
func TestAdviceAlwaysComesAndIsTheSameEachTime(t *testing.T) {
	r := rand.New(rand.NewPCG(4, 5))
	for range 300 {
		var digests []string
		for range r.IntN(12) {
			digests = append(digests, []string{"", "a", "b", "c", "d"}[r.IntN(5)])
		}
		ev, c := history(digests...)
		c.broken["b"] = true
		q := advice.Question{Loss: advice.Losses[r.IntN(5)], Good: now.AddDate(0, 0, -r.IntN(14)), Noticed: now.AddDate(0, 0, 3-r.IntN(14))}
		a := advice.Advise(q, ev, c)
		assert.LessOrEqual(t, c.asked, len(digests))
		assert.Equal(t, a, advice.Advise(q, ev, c))
		if a.Recommended == nil {
			assert.NotEmpty(t, a.Because, "%v %v", digests, q)
		} else {
			assert.NotEqual(t, condition.Broken, a.Recommended.Condition.State, "%v %v", digests, q)
		}
	}
}
