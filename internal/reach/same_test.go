package reach_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"humble-rewind/internal/reach"
)

func TestWhetherItIsTheSameFileHasThreeAnswers(t *testing.T) {
	at := time.Date(2026, 11, 3, 16, 30, 0, 7, time.UTC)
	was := reach.Info{Size: 4, Written: at, Changed: at, Device: 3, Inode: 7}
	with := func(change func(*reach.Info)) reach.Info {
		i := was
		change(&i)
		return i
	}
	for what, c := range map[string]struct {
		now                           reach.Info
		same, later, moved, unchanged reach.Answer
	}{
		"nothing changed":     {was, reach.Yes, reach.Yes, reach.Yes, reach.Yes},
		"another file":        {with(func(i *reach.Info) { i.Inode++ }), reach.No, reach.No, reach.No, reach.No},
		"another file system": {with(func(i *reach.Info) { i.Device++ }), reach.No, reach.Yes, reach.No, reach.No},
		"moved":               {with(func(i *reach.Info) { i.Changed = at.Add(1) }), reach.Yes, reach.Yes, reach.Yes, reach.No},
		"written":             {with(func(i *reach.Info) { i.Written = at.Add(1) }), reach.Yes, reach.Yes, reach.No, reach.No},
		"longer":              {with(func(i *reach.Info) { i.Size++ }), reach.Yes, reach.Yes, reach.No, reach.No},
		"without identity": {with(func(i *reach.Info) { i.Inode = 0 }), reach.CannotTell, reach.CannotTell, reach.CannotTell,
			reach.CannotTell},
		"unknown file system": {with(func(i *reach.Info) { i.Device = 0 }), reach.CannotTell, reach.Yes, reach.CannotTell,
			reach.CannotTell},
		"no change time":        {with(func(i *reach.Info) { i.Changed = time.Time{} }), reach.Yes, reach.Yes, reach.Yes, reach.CannotTell},
		"nothing told, longer":  {reach.Info{Size: 5, Written: at}, reach.CannotTell, reach.CannotTell, reach.No, reach.No},
		"nothing told, as long": {reach.Info{Size: 4, Written: at}, reach.CannotTell, reach.CannotTell, reach.CannotTell, reach.CannotTell},
	} {
		a, b := was.Seen(), c.now.Seen()
		assert.Equal(t, c.same, a.SameFile(b), "%s: same file", what)
		assert.Equal(t, c.later, a.SameFileLater(b), "%s: same file after a start", what)
		assert.Equal(t, c.moved, a.Moved(b), "%s: moved", what)
		assert.Equal(t, c.unchanged, a.Unchanged(b), "%s: unchanged", what)
	}
	assert.Equal(t, reach.CannotTell, reach.SameVolume(0, 0), "two unknown file systems are not the same one")
	assert.True(t, was.Recognisable())
	assert.False(t, with(func(i *reach.Info) { i.Changed = time.Time{} }).Recognisable())
	assert.Equal(t, "cannot tell", reach.Answer(0).String())
}
