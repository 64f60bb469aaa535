package corpus

import (
	"context"
	"flag"
	"os"
	"testing"
	_ "time/tzdata"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humble-rewind/internal/apart"
)

var printed = flag.Bool("table", false, "print the shares answered right, by family")

func TestTheRightCopyIsRecommendedForEveryLossInTheCorpus(t *testing.T) {
	all := All()
	outcomes := make([]Outcome, len(all))
	t.Run("losses", func(t *testing.T) { // ends when all of them have
		for n, c := range all {
			t.Run(c.Family+"/"+c.Variant, func(t *testing.T) {
				t.Parallel()
				o, err := Run(context.Background(), t.TempDir(), c)
				require.NoError(t, err)
				outcomes[n] = o
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
	})
	if *printed {
		require.NoError(t, writeTable(os.Stdout, outcomes))
	}
}

func TestEachFileOfALostFolderGetsItsOwnBestCopy(t *testing.T) {
	for _, c := range Folders() {
		t.Run(c.Variant, func(t *testing.T) {
			t.Parallel()
			answer, got, err := RunFolder(context.Background(), t.TempDir(), c)
			require.NoError(t, err)
			f := answer.Folder
			assert.Equal(t, c.Whole, f.Whole.ID != 0, "%v", f.Because)
			if c.Found != "" {
				assert.Equal(t, c.Found, f.MovedTo.String())
			}
			if !c.At.IsZero() {
				assert.Equal(t, c.At, f.WholeAt, "%v", f.Because)
				require.NotNil(t, f.Aside, "it goes beside what stands there")
			}
			require.NotEmpty(t, f.Because)
			if c.Want == nil {
				return
			}
			assert.Len(t, got, len(c.Want), "%v", f.Because)
			for path, want := range c.Want {
				assert.True(t, string(want) == string(got[path]), "%s: %v", path, f.Because)
			}
		})
	}
}

// pool looks into the contents of all losses.
var pool = &apart.Pool{}
