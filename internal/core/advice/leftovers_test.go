package advice_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humble-rewind/internal/core/advice"
	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/core/place"
)

// leftover is one that a program left beside the document at a moment.
func leftover(id copies.ID, name, digest string, at time.Time) advice.Stray {
	return advice.Stray{Copy: advice.Candidate{ID: id, Place: place.Place{Machine: "loft", Path: "/home/ines/" + name}}, What: "a temporary file",
		Earliest: at, Size: 120, SHA256: sum(digest), Named: true, Sure: true, Beside: true}
}

// A leftover is a version of the document where it belongs to it and nothing shows that something else was there then.
func TestALeftoverCompetesForEveryKindOfLoss(t *testing.T) {
	const day = 24 * time.Hour
	between := now.Add(-2*day + time.Hour) // after the last capture with the document, before the first without it
	for name, c := range map[string]struct {
		digests []string
		q       advice.Question
		at      time.Time
		change  func(s *advice.Stray, c *contents)
		taken   bool
		why     string
	}{
		"deleted, newer than the last capture":   {[]string{"a", "b", "c", ""}, advice.Question{Loss: advice.Deleted}, between, nil, true, ""},
		"misplaced, and it is nowhere":           {[]string{"a", "b", "c", ""}, advice.Question{Loss: advice.Misplaced}, between, nil, true, ""},
		"deleted, older than that":               {[]string{"a", "b", "c", ""}, advice.Question{Loss: advice.Deleted}, now.Add(-3 * day), nil, false, "older than a better version"},
		"deleted, written after it was gone":     {[]string{"a", "b", "c", ""}, advice.Question{Loss: advice.Deleted}, now.Add(-time.Hour), nil, false, "after the file was gone"},
		"damaged, newer than what is sound":      {[]string{"a", "b", "bad"}, advice.Question{Loss: advice.Damaged}, now.Add(-2 * time.Hour), nil, true, ""},
		"damaged, though what came after is not": {[]string{"a", "b", "c"}, advice.Question{Loss: advice.Damaged}, now.Add(-2*day - time.Hour), nil, false, "a leftover, not a save"},
		"overwritten, what was there when it was right": {[]string{"a", "b", "c", "d"}, advice.Question{Loss: advice.Overwritten, Good: now.Add(-2*day - 2*time.Hour)},
			now.Add(-2*day - 3*time.Hour), nil, true, ""},
		"broken itself": {[]string{"a", "b", "c", ""}, advice.Question{Loss: advice.Deleted}, between,
			func(_ *advice.Stray, c *contents) { c.broken["left"] = true }, false, "It is torn"},
		"cut off in the middle": {[]string{"a", "b", "c", ""}, advice.Question{Loss: advice.Deleted}, between,
			func(_ *advice.Stray, c *contents) { c.cut = map[string]string{"left": "nothing known"} }, false, "not known to be whole"},
		"the beginning of a version and nothing more": {[]string{"a", "b", "c", ""}, advice.Question{Loss: advice.Deleted}, between,
			func(_ *advice.Stray, c *contents) { c.prefix = map[string]string{"left": "c"} }, false, "the beginning of the version of"},
		"nothing new in it, and less, but a backup": {[]string{"a", "b", "c", ""}, advice.Question{Loss: advice.Deleted}, between,
			func(s *advice.Stray, c *contents) {
				s.Backup = true
				c.kept = map[string]float64{"c left": 0.6}
				c.had = map[string]float64{"c left": 1}
			}, true, ""},
		"nothing new in it, and less": {[]string{"a", "b", "c", ""}, advice.Question{Loss: advice.Deleted}, between,
			func(_ *advice.Stray, c *contents) {
				c.kept = map[string]float64{"c left": 0.6}
				c.had = map[string]float64{"c left": 1}
			}, false, "lacks 40 % of that"},
		"of another document": {[]string{"a", "b", "c", ""}, advice.Question{Loss: advice.Deleted}, between,
			func(_ *advice.Stray, c *contents) {
				c.kept = map[string]float64{"a left": 0.2, "b left": 0.2, "c left": 0.3}
			}, false, "it is of another one"},
		"nameless, and nearest to this one": {[]string{"a", "b", "c", ""}, advice.Question{Loss: advice.Deleted}, between,
			func(s *advice.Stray, c *contents) {
				s.Named, s.Sure = false, false
				c.rivals = []advice.Rival{{Content: advice.Content{SHA256: sum("other")}}}
				c.kept = map[string]float64{"other left": 0.4}
			}, true, ""},
		"nameless, and as near to another": {[]string{"a", "b", "c", ""}, advice.Question{Loss: advice.Deleted}, between,
			func(s *advice.Stray, c *contents) {
				s.Named, s.Sure = false, false
				c.rivals = []advice.Rival{{Place: place.Place{Machine: "loft", Path: "/home/ines/form b.odt"}, Content: advice.Content{SHA256: sum("other")}}}
				c.kept = map[string]float64{"other left": 0.88}
			}, false, "form b.odt is as near"},
	} {
		ev, c2 := history(c.digests...)
		c2.broken["bad"] = true
		s := leftover(70, "plan.odt.tmp", "left", c.at)
		if c.change != nil {
			c.change(&s, c2)
		}
		ev.Strays = []advice.Stray{s}
		a := advice.Advise(c.q, ev, c2)
		require.NotNil(t, a.Recommended, name)
		assert.Equal(t, c.taken, a.Recommended.Copy.ID == 70, "%s: %v", name, said(a.Recommended.Because...))
		if c.taken {
			assert.Equal(t, advice.Likely, a.Recommended.Sure, name)
			assert.Equal(t, -1, a.Recommended.Version, name)
			assert.Equal(t, file, a.Recommended.To, name)
			continue
		}
		assert.Contains(t, others(a)+said(a.Recommended.Because...), c.why, name)
		assert.Less(t, a.Recommended.Version, len(ev.Trail.Versions), name)
		assert.GreaterOrEqual(t, a.Recommended.Version, 0, name)
	}
}

// A leftover with the content of a version of which nothing else is left brings that back.
func TestALeftoverOfAVersionIsACopyOfIt(t *testing.T) {
	ev, c := history("a", "b", "")
	for i := range ev.Copies {
		ev.Copies[i].Access = advice.Recorded
	}
	ev.Strays = []advice.Stray{leftover(70, "plan.odt~", "b", now)}
	a := advice.Advise(advice.Question{Loss: advice.Deleted}, ev, c)
	require.NotNil(t, a.Recommended)
	assert.EqualValues(t, 70, a.Recommended.Copy.ID)
	assert.Equal(t, 1, a.Recommended.Version)
}

// What is called certain is proved; what is likely names one thing; what is open asks what would settle it.
func TestHowSureAnAdviceIsFollowsFromWhatItStandsOn(t *testing.T) {
	ev, c := history("a", "b", "c", "d", "")
	a := advice.Advise(advice.Question{Loss: advice.Overwritten, Good: now.AddDate(0, 0, -3).Add(12 * time.Hour)}, ev, c)
	require.NotNil(t, a.Recommended)
	assert.Equal(t, advice.Likely, a.Recommended.Sure, "she saves every day, and nobody looked for hours")
	assert.Contains(t, said(a.Recommended.Because...), "a save in that time is possible")

	ev, c = history("a", "a", "a", "a", "a", "a", "")
	a = advice.Advise(advice.Question{Loss: advice.Deleted}, ev, c)
	require.NotNil(t, a.Recommended)
	assert.Equal(t, advice.Certain, a.Recommended.Sure, "it had not been saved for days: %v", said(a.Recommended.Because...))
	assert.Contains(t, said(a.Recommended.Costs...), "It was last seen 24 hours before it was gone")

	ev, c = history("a", "b", "c")
	c.only = map[string]string{"b c": "the rigging comes last"}
	c.words["b"] = "here the rigging comes last"
	a = advice.Advise(advice.Question{Loss: advice.Overwritten}, ev, c)
	require.NotNil(t, a.Recommended)
	assert.Equal(t, advice.Open, a.Recommended.Sure)
	require.NotNil(t, a.Ask)
	assert.Equal(t, "Was “the rigging comes last” already in it when it was last right?", said(a.Ask.Reason))
	require.Len(t, a.Ask.Answers, 2)
	for _, answer := range a.Ask.Answers { // asked again with what is answered, it is that copy
		again := advice.Advise(advice.Question{Loss: advice.Overwritten, Hints: answer.Hints}, ev, c)
		require.NotNil(t, again.Recommended, answer.Says.Code)
		assert.Equal(t, answer.Copy.ID, again.Recommended.Copy.ID, "%s: %v", answer.Says.Code, said(again.Recommended.Because...))
	}
}
