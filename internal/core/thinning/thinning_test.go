package thinning_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"humble-rewind/internal/core/thinning"
)

func TestWhatIsKeptOfManyTimes(t *testing.T) {
	begun := time.Date(2026, 3, 1, 0, 0, 0, 0, time.UTC)
	var hourly, nightly []int64
	for h := range 24 * 30 {
		hourly = append(hourly, begun.Add(time.Duration(h)*time.Hour).UnixNano())
		if h%24 == 3 {
			nightly = append(nightly, begun.Add(time.Duration(h)*time.Hour+time.Minute).UnixNano())
		}
	}
	thin := thinning.New(begun.AddDate(0, 0, 30), hourly, nightly)
	at := begun.AddDate(0, 0, 10).Add(5*time.Hour + 30*time.Minute)
	thin.Event(at.UnixNano())
	thin.Event(at.UnixNano())
	dropped := thin.Dropped()
	assert.Empty(t, dropped[1], "one a day is kept")
	gone := map[int64]bool{}
	for _, d := range dropped[0] {
		gone[d] = true
	}
	kept := func(at time.Time) bool { return !gone[at.UnixNano()] }
	assert.True(t, kept(begun) && kept(begun.AddDate(0, 0, 4)) && !kept(begun.AddDate(0, 0, 4).Add(time.Hour)))
	assert.True(t, kept(at.Add(-30*time.Minute)) && kept(at.Add(30*time.Minute)) && !kept(at.Add(150*time.Minute)))
	next := begun.AddDate(0, 0, 11).Add(3 * time.Hour) // the hour before the next night, which first shows what was done, and the one after
	assert.True(t, kept(next) && kept(next.Add(time.Hour)) && !kept(next.Add(2*time.Hour)))
	assert.True(t, kept(begun.AddDate(0, 0, 29).Add(-time.Hour)), "of the last two days all are kept")
	assert.Less(t, len(hourly)-len(dropped[0]), 24*2+30+8)
}

func TestTheUsualStepIsKnownWithoutTheTimes(t *testing.T) {
	s := thinning.Steps{}
	assert.Zero(t, s.Usual())
	for range 5 {
		s.Add(time.Hour)
	}
	for range 4 {
		s.Add(0)
	}
	assert.InEpsilon(t, time.Hour, s.Usual(), 0.1)
	for range 3 {
		s.Add(time.Second)
	}
	assert.Less(t, s.Usual(), time.Minute)
}
