package survey_test

import (
	"os"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/restore"
	"humble-rewind/internal/sitetest"
)

// Write times that nobody can count with are shown and come back as they are, and keep nothing else from it.
func TestTimesFarFromNowAreKeptAsTheyAre(t *testing.T) {
	s := sitetest.New(t)
	times := map[string]time.Time{}
	for name, seconds := range map[string]int64{"far.txt": 317_300_000_000, "before.txt": -70_000_000_000, "plain.txt": 1_700_000_000} {
		s.Discard("/home/ines/"+name, name)
		at := s.Path(sitetest.HomeTrash + "/files/" + name)
		spec := unix.Timespec{Sec: seconds, Nsec: 5}
		require.NoError(t, unix.UtimesNanoAt(unix.AT_FDCWD, at, []unix.Timespec{spec, spec}, 0))
		info, err := os.Stat(at)
		require.NoError(t, err)
		times[name] = info.ModTime() // file systems keep what they can
	}
	src := s.AddTrash("/home/ines")
	s.Survey(src)
	var found []copies.ID
	for _, c := range s.Find(catalogue.Query{}) {
		found = append(found, c.ID)
		if year := times[c.Place.Name()].UTC().Year(); year < 1678 || year > 2261 {
			require.NotEmpty(t, c.Notes)
			assert.Contains(t, c.Notes[0], times[c.Place.Name()].UTC().Format("2006-01-02 15:04:05"))
		}
	}
	require.Len(t, found, 3)
	r := s.BringBack(restore.Request{Copies: found})
	require.Equal(t, catalogue.ReceiptDone, r.State, r.Items)
	for name, at := range times {
		info, err := os.Stat(s.Path("/home/ines/" + name))
		require.NoError(t, err)
		assert.True(t, at.Equal(info.ModTime()), name)
	}
	require.NoError(t, s.Undo(r.ID))
}
