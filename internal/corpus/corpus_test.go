package corpus_test

import (
	"context"
	"testing"
	_ "time/tzdata"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humble-rewind/internal/corpus"
)

func TestTheRightCopyIsRecommendedForEveryLossInTheCorpus(t *testing.T) {
	for _, c := range corpus.All() {
		t.Run(c.Family+"/"+c.Variant, func(t *testing.T) {
			t.Parallel()
			o, err := corpus.Run(context.Background(), t.TempDir(), c)
			require.NoError(t, err)
			assert.True(t, o.Right, "got %s", o.Got)
			if r := o.Answer.Recommended; r != nil {
				assert.NotEmpty(t, r.Because)
				assert.NotEmpty(t, r.Costs)
			} else {
				assert.NotEmpty(t, o.Answer.Because)
				assert.NotEmpty(t, o.Answer.Next)
			}
		})
	}
}
