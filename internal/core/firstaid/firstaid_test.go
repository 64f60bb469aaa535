package firstaid_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"humble-rewind/internal/core/advice"
	"humble-rewind/internal/core/firstaid"
	"humble-rewind/internal/core/remark"
)

var now = time.Date(2026, 11, 20, 16, 0, 0, 0, time.UTC)

func steps(loss advice.Loss, d firstaid.Drive) map[string]firstaid.Step {
	all := map[string]firstaid.Step{}
	for _, s := range firstaid.Steps(loss, d, now) {
		all[s.ID] = s
	}
	return all
}

func TestFirstAidFollowsTheDrive(t *testing.T) {
	solid := firstaid.Drive{
		Mount:      "/home",
		Medium:     firstaid.Solid,
		Discard:    firstaid.Periodically,
		TrimLast:   now.Add(-100 * time.Hour),
		TrimNext:   now.Add(8 * time.Hour),
		Free:       1 << 20,
		Newest:     now.Add(-time.Minute),
		NewestPath: "/home/ines/mail",
	}
	s := steps(advice.Deleted, solid)
	assert.True(t, s["trim"].Urgent, "it runs tonight")
	assert.Contains(t, s["trim"].Why, remark.New("trim-next", "at", solid.TrimNext))
	assert.True(t, s["stop-writing"].Urgent)
	assert.Contains(t, s["stop-writing"].Why, remark.New("written-to", "path", "/home/ines/mail", "at", solid.Newest))
	assert.Contains(t, s["stop-writing"].Why, remark.New("nearly-full", "free", int64(1)))

	solid.TrimNext = now.Add(-time.Hour)
	assert.True(t, remark.Has(steps(advice.Deleted, solid)["trim"].Why, "trim-due"), "it may run at any moment")
	assert.NotContains(t, steps(advice.Deleted, firstaid.Drive{Medium: firstaid.Rotating, Free: -1}), "trim")
	assert.Equal(t, "trim-at-once", steps(advice.Deleted, firstaid.Drive{Medium: firstaid.Solid, Discard: firstaid.AtOnce})["trim"].Do.Code)
	assert.NotContains(t, steps(advice.Overwritten, solid), "trim", "an overwritten file's blocks are not freed")
}

func TestEveryLossHasStepsAndSaysWhatNotToDo(t *testing.T) {
	for _, loss := range advice.Losses {
		dont := 0
		for id, s := range steps(loss, firstaid.Drive{Free: -1}) {
			assert.True(t, s.Do.Any(), id)
			assert.NotEmpty(t, s.Why, id)
			if s.Dont {
				dont++
			}
		}
		assert.Positive(t, dont, loss)
	}
}
