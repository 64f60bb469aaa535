package choosing_test

import (
	"fmt"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/core/advice"
	"humble-rewind/internal/sitetest"
)

// siteWith is a site with some files.
func siteWith(t *testing.T, files map[string]string) *sitetest.Site {
	s := sitetest.New(t)
	s.Lay(files)
	return s
}

// lines is a text of some lines, each with words of its own.
func lines(seed, n int) string {
	var b strings.Builder
	for i := range n {
		fmt.Fprintf(&b, "%x plank%x of%x larch%x, %x coats\n", seed*7919+i*31, seed+i*i, seed*i+5, i*977+seed, seed+i)
	}
	return b.String()
}

// A file that was moved, renamed and worked on between two looks has no line that leads from one place to the other. What came up when it
// went and has most of its content is it; what was there before, or has little of it, is not.
func TestWhatWasMovedRenamedAndWorkedOnIsFoundByItsContent(t *testing.T) {
	text := lines(1, 60)
	for name, c := range map[string]struct {
		before, now map[string]string
		found       string
	}{
		"renamed and worked on": {nil, map[string]string{"/home/ines/Old/hull.txt": text + lines(2, 5)}, "/home/ines/Old/hull.txt"},
		"there before, from one template": {map[string]string{"/home/ines/Old/hull.txt": text + lines(3, 9)},
			map[string]string{"/home/ines/Old/hull.txt": text + lines(3, 9)}, ""},
		"another document": {nil, map[string]string{"/home/ines/Old/hull.txt": lines(4, 60)}, ""},
		"of another type":  {nil, map[string]string{"/home/ines/Old/hull.csv": text + lines(2, 5)}, ""},
	} {
		s := siteWith(t, c.now)
		snapshot(t, s, 1, "/home/ines/plan.txt", text)
		for path, content := range c.before {
			snapshot(t, s, 1, path, content)
		}
		snapshot(t, s, 2, "/home/ines/other.txt", "nothing of it\n")
		s.Survey(add(t, s, "snapshots", "/snap"))
		s.Survey(add(t, s, "live", "/home"))
		a := ask(t, s, "/home/ines/plan.txt", advice.Question{Loss: advice.Misplaced})
		require.NotNil(t, a.Recommended, name)
		if c.found == "" {
			assert.False(t, a.Recommended.Copy.Live, "%s: %v", name, said.Remarks(a.Recommended.Because))
			continue
		}
		assert.Equal(t, c.found, a.Recommended.Copy.Place.Path, "%s: %v", name, said.Remarks(a.Recommended.Because))
		assert.Equal(t, advice.Likely, a.Recommended.Sure, name)
		assert.Contains(t, fmt.Sprint(said.Remarks(a.Recommended.Because)), "came up when that went", name)
	}
}

// What a program wrote into the folder of its session, under a name that says nothing, is found by its content, also in a folder of files.
func TestALeftoverOfTheSessionIsFoundForAFileAndForItsFolder(t *testing.T) {
	whole := lines(5, 40)
	unsaved := whole + lines(6, 4)
	s := siteWith(t, map[string]string{"/home/ines/Plans/keel.txt": strings.Repeat("\x00", 900), "/home/ines/Plans/ribs.txt": lines(7, 30),
		"/tmp/lu88213": unsaved, "/tmp/lu88214": lines(8, 40)})
	at := time.Date(2026, 2, 3, 12, 0, 0, 0, time.UTC)
	for i, path := range []string{"/tmp/lu88213", "/tmp/lu88214", "/home/ines/Plans/keel.txt"} {
		require.NoError(t, os.Chtimes(s.Path(path), at.Add(time.Duration(i)*time.Second), at.Add(time.Duration(i)*time.Second)))
	}
	snapshot(t, s, 1, "/home/ines/Plans/keel.txt", whole)
	snapshot(t, s, 2, "/home/ines/Plans/keel.txt", whole)
	s.Survey(add(t, s, "snapshots", "/snap"))
	s.Survey(add(t, s, "live", "/home"))
	s.Survey(add(t, s, "strays", "/tmp"))
	want := s.Find(catalogue.Query{Words: "lu88213"})[0].ID
	for _, loss := range []advice.Loss{advice.Unsaved, advice.Damaged} {
		a := ask(t, s, "/home/ines/Plans/keel.txt", advice.Question{Loss: loss})
		require.NotNil(t, a.Recommended, loss)
		assert.Equal(t, want, a.Recommended.Copy.ID, "%s: %v", loss, said.Remarks(a.Recommended.Because))
	}
	a := ask(t, s, "/home/ines/Plans", advice.Question{Loss: advice.Damaged})
	require.NotNil(t, a.Folder)
	require.Len(t, a.Folder.Entries, 1, "%v", said.Remarks(a.Folder.Because))
	assert.Equal(t, want, a.Folder.Entries[0].Copy)
	assert.Equal(t, advice.PartAssumed, a.Folder.Entries[0].Part)
	assert.Contains(t, said.Remark(a.Folder.Entries[0].Note), "a temporary file")
}
