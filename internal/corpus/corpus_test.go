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
	"humble-rewind/internal/core/advice"
	"humble-rewind/internal/say"
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
					if c.To != "" {
						assert.Equal(t, c.To, r.To.Path)
					}
					assert.False(t, c.Unsure && r.Sure == advice.Certain, "it is called certain: %v", say.Speaker{}.Remarks(r.Because))
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
	all := Folders()
	outcomes := make([]FolderOutcome, len(all))
	t.Run("scenes", func(t *testing.T) {
		for n, c := range all {
			t.Run(c.Family+"/"+c.Variant, func(t *testing.T) {
				t.Parallel()
				o, err := RunFolder(context.Background(), t.TempDir(), c)
				require.NoError(t, err)
				outcomes[n] = o
				f := o.Answer.Folder
				assert.Empty(t, o.Harmful, "harmful: %v", say.Speaker{}.Remarks(f.Because))
				assert.Empty(t, o.Unanswered, "unanswered: %v", say.Speaker{}.Remarks(f.Because))
				if c.Whole {
					assert.NotNil(t, f.Whole, "%v", say.Speaker{}.Remarks(f.Because))
				}
				if c.Found != "" {
					assert.Equal(t, c.Found, f.MovedTo.String())
				}
				if !c.At.IsZero() {
					assert.Equal(t, c.At, f.WholeAt, "%v", say.Speaker{}.Remarks(f.Because))
					require.NotNil(t, f.Aside, "it goes beside what is there")
				}
				require.NotEmpty(t, f.Because)
			})
		}
	})
	if *printed {
		require.NoError(t, writeFolderTable(os.Stdout, outcomes))
	}
}

// pool looks into the contents of all losses.
var pool = &apart.Pool{}
