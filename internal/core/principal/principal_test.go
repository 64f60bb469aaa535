package principal_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/core/principal"
)

func TestAScopeHasItsMachinesAlone(t *testing.T) {
	two := principal.Of(7, 3, 7)
	for id, in := range map[int64]bool{3: true, 7: true, 4: false, 0: false} {
		assert.Equal(t, in, two.Has(copies.MachineID(id)), "machine %d", id)
		assert.True(t, principal.Everything().Has(copies.MachineID(id)), "machine %d", id)
		assert.False(t, principal.Scope{}.Has(copies.MachineID(id)), "machine %d", id)
	}
	assert.Len(t, two.Machines(), 2)
	assert.False(t, principal.Of(0).Has(0), "a machine that is gone is in no scope")
	assert.False(t, two.Whole())
}

func TestSomebodyMayWhatHeHasARightTo(t *testing.T) {
	p := principal.With("jonas", principal.ByToken, principal.Everything(), principal.Find, principal.Open)
	assert.True(t, p.May(principal.Open))
	assert.False(t, p.May(principal.BringBack))
	for _, r := range principal.Rights {
		parsed, err := principal.ParseRight(string(r))
		require.NoError(t, err)
		assert.Equal(t, r, parsed)
	}
	_, err := principal.ParseRight("everything")
	assert.Error(t, err)
}
