package say

import (
	"errors"
	"fmt"
	"io/fs"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"

	"humble-rewind/internal/core/problem"
)

func TestAnErrorIsSaidForTechnicians(t *testing.T) {
	met := fmt.Errorf("copy Keel.txt: %w", &fs.PathError{Op: "write", Path: "/srv/Keel.txt", Err: syscall.ENOSPC})
	assert.NotContains(t, Error(met), "no space left on device", "it is not said as the system says it")
	assert.Contains(t, Error(met), "copy Keel.txt")
	assert.Contains(t, Error(met), problem.Full.Error())
	assert.Equal(t, "its record is torn", Error(errors.New("its record is torn")), "what is worded stays")
}

func TestCodesAreFoundBelowWhatWasTried(t *testing.T) {
	for _, c := range []struct {
		err  error
		want problem.Code
	}{
		{fmt.Errorf("open it: %w", problem.NotThere), problem.NotThere},
		{fmt.Errorf("open it: %w", syscall.ENOENT), problem.NotThere},
		{fmt.Errorf("open it: %w", syscall.EACCES), problem.Refused},
	} {
		got, ok := Code(c.err)
		assert.True(t, ok, c.err)
		assert.Equal(t, c.want, got, c.err)
	}
	_, ok := Code(errors.New("something else"))
	assert.False(t, ok)
}

func TestAPlaceCanHaveWordsOfItsOwn(t *testing.T) {
	words := words{problem.NotThere: "the drive is away"}
	assert.Equal(t, "the drive is away", words.error(fmt.Errorf("look: %w", fs.ErrNotExist)))
	assert.Contains(t, words.error(fmt.Errorf("look: %w", problem.Refused)), "look")
}
