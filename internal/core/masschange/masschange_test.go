package masschange_test

import (
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humble-rewind/internal/core/masschange"
)

var start = time.Date(2026, 11, 1, 9, 0, 0, 0, time.UTC)

func at(kind masschange.Kind, file int, when time.Duration) masschange.Change {
	return masschange.Change{File: file, Kind: kind, After: start.Add(when), At: start.Add(when)}
}

func between(kind masschange.Kind, file int, after, when time.Duration) masschange.Change {
	return masschange.Change{File: file, Kind: kind, After: start.Add(after), At: start.Add(when)}
}

// usual is a folder of n files in which one is saved every few hours.
func usual(n int) (changes []masschange.Change) {
	for f := range n {
		changes = append(changes, at(masschange.Appeared, f, 0), at(masschange.Rewritten, f, time.Duration(f+1)*5*time.Hour))
	}
	return changes
}

func TestManyFilesRewrittenAtOnceAreAMassChange(t *testing.T) {
	changes := usual(40)
	attack := 300 * time.Hour
	for f := range 30 {
		changes = append(changes, at(masschange.Rewritten, f, attack+time.Duration(f)*time.Second))
	}
	changes = append(changes, at(masschange.Appeared, 40, attack+10*time.Second), at(masschange.Rewritten, 35, attack+20*time.Hour))
	found := masschange.Find(changes)
	require.Len(t, found, 1)
	m := found[0]
	assert.False(t, m.Between)
	assert.Equal(t, 30, m.Rewritten)
	assert.Equal(t, 1, m.Came)
	assert.Equal(t, start.Add(attack), m.From)
	assert.Equal(t, start.Add(attack+29*time.Second), m.To)
	assert.True(t, m.Before.Before(m.From) && m.From.Sub(m.Before) < time.Second, "the moment right before")
	assert.False(t, m.Hit[35], "later work is none of it")
}

func TestHabitAndFewFilesAreNone(t *testing.T) {
	assert.Empty(t, masschange.Find(usual(40)))
	var nightly []masschange.Change
	for night := range 6 {
		for f := range 30 {
			nightly = append(nightly, at(masschange.Rewritten, f, time.Duration(night)*24*time.Hour+time.Duration(f)*time.Second))
		}
	}
	assert.Empty(t, masschange.Find(nightly), "a folder that is written anew every night is none")
	again := usual(40)
	for n := range 50 {
		again = append(again, at(masschange.Rewritten, 3, 400*time.Hour+time.Duration(n)*time.Second))
	}
	assert.Empty(t, masschange.Find(again), "one file saved fifty times is no crowd")
	assert.Empty(t, masschange.Find(nil))
}

// Files that were given other names were removed between two looks; what came up then tells when.
func TestWhatIsRemovedBetweenLooksIsDatedByWhatCame(t *testing.T) {
	changes := usual(12)
	for f := range 10 {
		changes = append(
			changes,
			between(masschange.Removed, f, 200*time.Hour, 224*time.Hour),
			at(masschange.Appeared, 100+f, 210*time.Hour+time.Duration(f)*time.Second),
		)
	}
	found := masschange.Find(changes)
	require.Len(t, found, 1)
	assert.Equal(t, 10, found[0].Removed)
	assert.Equal(t, 10, found[0].Came)
	assert.Equal(t, start.Add(210*time.Hour), found[0].From)
	assert.False(t, found[0].Between)

	found = masschange.Find(slices.DeleteFunc(changes, func(c masschange.Change) bool { return c.File >= 100 }))
	require.Len(t, found, 1)
	assert.True(t, found[0].Between, "without those nothing tells when")
	assert.Equal(t, start.Add(200*time.Hour), found[0].Before)
}

// A look in the middle of an attack sees half of the files gone. What came up without a pause before and after it shows that it was one.
func TestALookInTheMiddleDoesNotPartAMassChange(t *testing.T) {
	renamed := func(pause time.Duration) []masschange.Change {
		changes := usual(24)
		look := 300 * time.Hour
		for f := range 18 {
			when := look + time.Duration(f-9)*20*time.Second
			if f < 9 {
				changes = append(changes, between(masschange.Removed, f, look-6*time.Hour, look))
			} else {
				changes = append(changes, between(masschange.Removed, f, look, look+6*time.Hour))
				when += pause
			}
			changes = append(changes, at(masschange.Appeared, 100+f, when))
		}
		return changes
	}
	found := masschange.Find(renamed(0))
	require.Len(t, found, 1)
	assert.Equal(t, 18, found[0].Removed)
	assert.Equal(t, 18, found[0].Came)
	assert.Equal(t, start.Add(300*time.Hour-3*time.Minute), found[0].From)
	assert.Empty(t, masschange.Find(renamed(time.Hour)), "two that are an hour apart are two")
}
