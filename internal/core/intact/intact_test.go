package intact_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humble-rewind/internal/core/intact"
)

func TestHowMuchIsStillThere(t *testing.T) {
	for _, c := range []struct {
		name                string
		size, taken, unread int64
		zeros, known        bool
		want                intact.Intact
	}{
		{"its pieces are known and free", 100, 0, 0, false, true, intact.Intact{State: intact.Whole, Share: intact.All}},
		{"it is assumed to lie in one piece", 100, 0, 0, false, false, intact.Intact{State: intact.OnePiece, Share: intact.All}},
		{"nothing is as whole as it was", 0, 0, 0, true, false, intact.Intact{State: intact.Whole, Share: intact.All}},
		{"some was given away", 1000, 400, 0, false, true, intact.Intact{State: intact.InPart, Share: 600}},
		{"all was given away", 1000, 1000, 0, true, true, intact.Intact{State: intact.Overwritten}},
		{"the drive discarded it", 1000, 0, 0, true, true, intact.Intact{State: intact.Wiped}},
		{"some cannot be read", 1000, 100, 100, false, true, intact.Intact{State: intact.Unread, Share: 800}},
		{"a byte of a million is missing", 1e9, 1, 0, false, true, intact.Intact{State: intact.InPart, Share: 999}},
		{"a byte of a million is left", 1e9, 1e9 - 1, 0, false, true, intact.Intact{State: intact.InPart, Share: 1}},
	} {
		assert.Equal(t, c.want, intact.Of(c.size, c.taken, c.unread, c.zeros, c.known), c.name)
	}
}

func TestLookingAtItNeverMakesItBetter(t *testing.T) {
	var all []intact.Intact
	for s := intact.Whole; s <= intact.Overwritten; s++ {
		all = append(all, intact.Intact{State: s}, intact.Intact{State: s, Share: 500}, intact.Intact{State: s, Share: intact.All})
	}
	for _, one := range all {
		for _, other := range all {
			lower := one.Lower(other)
			assert.Equal(t, lower, other.Lower(one))
			assert.GreaterOrEqual(t, lower.State, one.State)
			assert.LessOrEqual(t, lower.Share, one.Share)
		}
		assert.Equal(t, one, one.Lower(intact.Intact{}), "nothing was learned")
	}
}

func TestStatesAreReadByTheirWords(t *testing.T) {
	for s := intact.Whole; s <= intact.Overwritten; s++ {
		back, err := intact.Parse(s.String())
		require.NoError(t, err)
		assert.Equal(t, s, back)
	}
	_, err := intact.Parse("")
	assert.ErrorIs(t, err, intact.ErrNoState)
	_, err = intact.Parse("green")
	assert.ErrorIs(t, err, intact.ErrNoState)
}
