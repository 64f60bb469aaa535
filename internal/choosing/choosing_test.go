package choosing_test

import (
	"database/sql"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	_ "modernc.org/sqlite"

	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/choosing"
	"humble-rewind/internal/contents"
	"humble-rewind/internal/core/advice"
	"humble-rewind/internal/core/condition"
	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/registry"
	"humble-rewind/internal/say"
	"humble-rewind/internal/sitetest"
)

func add(t *testing.T, s *sitetest.Site, kind, at string) catalogue.Source {
	t.Helper()
	src, err := s.AddSource(t.Context(), registry.NewSource{Machine: "loft", Kind: kind, At: at})
	require.NoError(t, err)
	return src
}

// said says remarks as they are said in the year of the scene.
var said = say.Speaker{Now: time.Date(2026, 6, 1, 0, 0, 0, 0, time.UTC), Zone: time.UTC}

func ask(t *testing.T, s *sitetest.Site, path string, q advice.Question) choosing.Answer {
	t.Helper()
	a, err := s.Adviser.Advise(t.Context(), choosing.Question{Place: place.Place{Machine: "loft", Path: path}, Question: q})
	require.NoError(t, err)
	return a
}

// Without any source, or anything known, there is an answer too.
func TestNothingAtAllIsAnAnswerWithWhatToTry(t *testing.T) {
	s := sitetest.New(t)
	for _, loss := range advice.Losses {
		a := ask(t, s, "/home/ines/plan.odt", advice.Question{Loss: loss})
		assert.Nil(t, a.Recommended, loss)
		assert.NotEmpty(t, a.Because, loss)
		require.NotEmpty(t, a.Next, loss)
		assert.Equal(t, "next-add", a.Next[0].Code)
		assert.Equal(t, []string{"live", "trash", "snapshots", "strays"}, a.Missing)
	}
	_, err := s.Adviser.Advise(
		t.Context(),
		choosing.Question{Place: place.Place{Machine: "attic", Path: "/x"}, Question: advice.Question{Loss: advice.Deleted}},
	)
	assert.ErrorContains(t, err, "attic")
}

// snapshot lays a file into the snapshot of an hour, written then.
func snapshot(t *testing.T, s *sitetest.Site, hour int, path, content string) {
	t.Helper()
	at := time.Date(2026, 2, 1, 0, 0, 0, 0, time.UTC).Add(time.Duration(hour) * time.Hour)
	file := "/snap/" + at.Format("2006-01-02T1504") + path
	s.Lay(map[string]string{file: content})
	require.NoError(t, os.Chtimes(s.Path(file), at, at.Add(-time.Minute)))
}

func TestThousandsOfVersionsAreAnsweredByReadingFew(t *testing.T) {
	s := sitetest.New(t)
	const versions = 1200
	for n := range versions {
		snapshot(t, s, n, "/home/ines/log.txt", strings.Repeat("tar ", 20)+fmt.Sprint(n)+"\n")
	}
	s.Survey(add(t, s, "snapshots", "/snap"))
	a := ask(t, s, "/home/ines/log.txt", advice.Question{Loss: advice.Overwritten, Good: time.Date(2026, 2, 1, 700, 30, 0, 0, time.UTC)})
	require.NotNil(t, a.Recommended)
	text, err := s.Contents.Bytes(t.Context(), copyOf(t, s, a.Recommended.Copy.ID), 1<<20)
	require.NoError(t, err)
	assert.Contains(t, string(text), "tar 700\n")
	assert.LessOrEqual(t, len(a.Others), 20)
	assert.Len(t, s.Find(catalogue.Query{Words: "log", Condition: "sound", Limit: 1000}), 1, "only what was to be recommended was examined")
}

func copyOf(t *testing.T, s *sitetest.Site, id copies.ID) *copies.Copy {
	t.Helper()
	c, err := s.Catalogue.Everything().Copies.ByID(t.Context(), id)
	require.NoError(t, err)
	return c
}

// What vanishes, changes or takes too long is passed over or said, never promised.
func TestWhatCannotBeReadIsNeverPromised(t *testing.T) {
	s := sitetest.New(t)
	snapshot(t, s, 1, "/home/ines/a.txt", "the first\n")
	snapshot(t, s, 2, "/home/ines/a.txt", "the second, longer\n")
	s.Survey(add(t, s, "snapshots", "/snap"))
	require.NoError(t, os.RemoveAll(s.Path("/snap/2026-02-01T0200")))
	a := ask(t, s, "/home/ines/a.txt", advice.Question{Loss: advice.Overwritten, Good: time.Date(2026, 2, 1, 3, 0, 0, 0, time.UTC)})
	require.NotNil(t, a.Recommended)
	assert.Contains(t, strings.Join(said.Remarks(a.Recommended.Because), " "), "no longer where the last survey saw it")
	assert.EqualValues(t, len("the first\n"), copyOf(t, s, a.Recommended.Copy.ID).Size)

	snapshot(t, s, 1, "/home/ines/a.txt", "something else was put there since\n")
	a = ask(t, s, "/home/ines/a.txt", advice.Question{Loss: advice.Overwritten, Good: time.Date(2026, 2, 1, 3, 0, 0, 0, time.UTC)})
	assert.Nil(t, a.Recommended, "no copy of what was seen is left")
	assert.NotEmpty(t, a.Next)

	slow := sitetest.New(t)
	snapshot(t, slow, 1, "/home/ines/b.bin", strings.Repeat("x", 300<<10))
	slow.Survey(add(t, slow, "snapshots", "/snap"))
	slow.Adviser.Examiner = &contents.Examiner{Contents: slow.Contents, Now: time.Now, Patience: time.Nanosecond}
	a = ask(t, slow, "/home/ines/b.bin", advice.Question{Loss: advice.Overwritten, Good: time.Date(2026, 2, 1, 3, 0, 0, 0, time.UTC)})
	require.NotNil(t, a.Recommended)
	assert.Equal(t, condition.Unread, a.Recommended.Condition.State)
	assert.Contains(t, strings.Join(said.Remarks(a.Recommended.Because), " "), "nothing is promised")
	assert.Contains(t, strings.Join(said.Remarks(a.Recommended.Costs), " "), "Open it before you promise anything")
}

// A store whose last survey failed may be there again: it is tried, after the others, and the failure is said.
func TestAStoreThatFailedLastIsTriedAllTheSame(t *testing.T) {
	s := sitetest.New(t)
	snapshot(t, s, 1, "/home/ines/a.txt", "all there is\n")
	src := add(t, s, "snapshots", "/snap")
	s.Survey(src)
	require.NoError(t, s.Catalogue.Sources.SetTrouble(t.Context(), src.ID, "the store does not answer"))
	for _, there := range []bool{true, false} {
		if !there {
			require.NoError(t, os.Rename(s.Path("/snap"), s.Path("/gone")))
		}
		a := ask(t, s, "/home/ines/a.txt", advice.Question{Loss: advice.Deleted})
		assert.Equal(t, there, a.Recommended != nil)
		assert.Contains(t, said.Joined(a.Looked[0].Note), "It could not be read last: the store does not answer.")
		assert.Contains(t, said.Remark(a.Next[0]), "Make the snapshots at /snap reachable")
		if !there {
			assert.Contains(t, strings.Join(said.Remarks(a.Because), " "), "None of its copies can be read")
		}
	}
}

// What nobody examined may come back, and is counted among the costs.
func TestWhatComesBackUnexaminedIsACost(t *testing.T) {
	s := sitetest.New(t)
	for _, name := range []string{"a.txt", "b.txt"} {
		snapshot(t, s, 1, "/home/ines/Notes/"+name, "what was in "+name+"\n")
	}
	s.Lay(map[string]string{"/home/ines/Notes/a.txt": "", "/home/ines/Notes/b.txt": "goes on\n"})
	s.Survey(add(t, s, "snapshots", "/snap"))
	live := add(t, s, "live", "/home")
	s.Survey(live)
	_, err := s.Adviser.Examiner.All(t.Context(), live.ID, func(int64, int64) {})
	require.NoError(t, err)
	s.Adviser.Examiner = &contents.Examiner{Contents: s.Contents, Now: time.Now, Patience: time.Nanosecond}
	a := ask(t, s, "/home/ines/Notes", advice.Question{Loss: advice.Damaged})
	require.NotNil(t, a.Folder)
	assert.Len(t, a.Folder.Copies(), 1, "only what is broken: %v", a.Folder.Because)
	assert.Contains(t, strings.Join(said.Remarks(a.Folder.Costs), " "), "One file that comes back was not examined")
	assert.Empty(t, a.Notes, "everything that stands there was")
}

// A folder says of each source why it has nothing, and what is left to try where no copy of it is.
func TestAFolderSaysWhyNothingOfItIsLeft(t *testing.T) {
	s := sitetest.New(t)
	s.Lay(map[string]string{"/home/ines/Scratch/a.txt": "one\n", "/home/ines/Scratch/b.txt": "two\n"})
	snapshot(t, s, 1, "/home/ines/other.txt", "not of it\n")
	live := add(t, s, "live", "/home")
	left, err := s.AddSource(t.Context(), registry.NewSource{Machine: "loft", Kind: "snapshots", At: "/snap", Exclusions: []string{"Scratch"}})
	require.NoError(t, err)
	s.Survey(live)
	s.Survey(left)
	require.NoError(t, os.RemoveAll(s.Path("/home/ines/Scratch")))
	s.Survey(live)
	a := ask(t, s, "/home/ines/Scratch", advice.Question{Loss: advice.Deleted})
	require.NotNil(t, a.Folder)
	assert.Equal(t, 2, a.Folder.Counts[advice.PartMissing])
	assert.Empty(t, a.Folder.Copies())
	assert.Contains(t, strings.Join(said.Remarks(a.Because), " "), "no copy of any can be read")
	assert.Contains(t, said.Joined(a.Looked[1].Note), `the exclusion “Scratch” leaves it out`)
	assert.Contains(t, strings.Join(said.Remarks(a.Next), " "), "make an image of it")
}

func TestADatabaseWithALogBesideItSaysThatTheTwoBelongTogether(t *testing.T) {
	s := sitetest.New(t)
	for _, name := range []string{"stock.db", "stock.db-wal", "plain.db"} {
		snapshot(t, s, 1, "/home/ines/"+name, strings.Repeat(name, 40))
	}
	s.Survey(add(t, s, "snapshots", "/snap"))
	for name, together := range map[string]bool{"stock.db": true, "plain.db": false} {
		a := ask(t, s, "/home/ines/"+name, advice.Question{Loss: advice.Deleted})
		require.NotNil(t, a.Recommended)
		assert.Equal(t, together, strings.Contains(strings.Join(said.Remarks(a.Recommended.Costs), " "), "stock.db-wal. The two only fit"), name)
	}
}

// A source that began to show the folder late says since when.
func TestASourceSaysSinceWhenItShowsTheFolder(t *testing.T) {
	s := sitetest.New(t)
	snapshot(t, s, 1, "/home/ines/early.txt", "before the folder was\n")
	snapshot(t, s, 50, "/home/ines/Late/other.txt", "beside it\n")
	s.Survey(add(t, s, "snapshots", "/snap"))
	a := ask(t, s, "/home/ines/Late/never.txt", advice.Question{Loss: advice.Deleted})
	require.Len(t, a.Looked, 1)
	assert.Equal(t, "It has had that folder since Tue 3 Feb, 02:00, and never the file.", said.Joined(a.Looked[0].Note))
}

// The file is looked at as it is now, whatever the last survey saw.
func TestWhatHappenedSinceTheLastSurveyCounts(t *testing.T) {
	s := sitetest.New(t)
	s.Lay(map[string]string{"/home/ines/now.txt": "here\n"})
	s.Survey(add(t, s, "live", "/home"))
	require.NoError(t, os.Remove(s.Path("/home/ines/now.txt")))
	a := ask(t, s, "/home/ines/now.txt", advice.Question{Loss: advice.Misplaced})
	assert.Nil(t, a.Recommended)
	assert.Contains(t, strings.Join(said.Remarks(a.Notes), " "), "it is no longer there")
}

func TestAStrayAThousandTimesLargerIsListedAndNotTaken(t *testing.T) {
	s := sitetest.New(t)
	s.Lay(map[string]string{"/home/ines/a.txt": "a line\n", "/home/ines/.local/share/writer/autosave/a_0.txt": strings.Repeat("y", 9<<20)})
	old := time.Now().Add(-time.Hour)
	require.NoError(t, os.Chtimes(s.Path("/home/ines/a.txt"), old, old))
	s.Survey(add(t, s, "live", "/home"))
	s.Survey(add(t, s, "strays", "/home"))
	a := ask(t, s, "/home/ines/a.txt", advice.Question{Loss: advice.Unsaved})
	require.NotNil(t, a.Recommended)
	assert.True(t, a.Recommended.Copy.Live)
	assert.Contains(t, said.Remark(a.Others[0].Why), "It is too large to be held against the versions")
}

// One content is examined once; a database is given to SQLite to check; what stands is examined unasked.
func TestConditionIsKeptByDigest(t *testing.T) {
	s := sitetest.New(t)
	database := filepath.Join(t.TempDir(), "yard.db")
	db, err := sql.Open("sqlite", database)
	require.NoError(t, err)
	_, err = db.Exec(
		"CREATE TABLE planks (n INTEGER PRIMARY KEY, wood TEXT); CREATE INDEX by_wood ON planks (wood); WITH RECURSIVE c(n) AS " +
			"(VALUES(1) UNION ALL SELECT n+1 FROM c WHERE n<3000) INSERT INTO planks SELECT n, 'larch '||n FROM c",
	)
	require.NoError(t, err)
	require.NoError(t, db.Close())
	whole, err := os.ReadFile(database)
	require.NoError(t, err)
	broken := []byte(string(whole))
	copy(broken[len(broken)/2:], strings.Repeat("\x00\xff", 3000))
	s.Lay(
		map[string]string{
			"/home/ines/yard.sqlite": string(whole),
			"/home/ines/copy.sqlite": string(whole),
			"/home/ines/bad.sqlite":  string(broken),
			"/home/ines/cut.pdf":     "%PDF-1.4\ncut",
			"/home/ines/list.csv":    "a,b\n",
		},
	)
	s.Survey(add(t, s, "live", "/home"))
	state := func(name string) condition.State {
		r, err := s.Adviser.Examiner.Copy(t.Context(), s.Named(name).Copy)
		require.NoError(t, err)
		return r.For(name + ".sqlite").State
	}
	assert.Equal(t, condition.Sound, state("yard"))
	assert.Equal(t, condition.Broken, state("bad"))
	reads := s.Named("copy")
	require.NoError(t, os.Remove(s.Path("/home/ines/yard.sqlite")))
	assert.Equal(t, condition.Unread, reads.Condition)
	assert.Equal(t, condition.Sound, state("copy"))

	examined, bad, err := s.Adviser.Examiner.Round(t.Context(), contents.DefaultBudget, map[copies.ID]bool{})
	require.NoError(t, err)
	assert.Equal(t, 2, examined, "the documents")
	assert.Equal(t, 1, bad)
	found := s.Find(catalogue.Query{Condition: "broken", Sort: catalogue.ByName})
	require.Len(t, found, 2)
	assert.Equal(t, "cut.pdf", found[1].Place.Name())
	examined, _, err = s.Adviser.Examiner.Round(t.Context(), contents.DefaultBudget, map[copies.ID]bool{})
	require.NoError(t, err)
	assert.Zero(t, examined, "nothing twice")
}

// An item that lost its record gets its likely places with the evidence, the same content first.
func TestLostOriginsAreFoundWithEvidence(t *testing.T) {
	s := sitetest.New(t)
	s.Lay(map[string]string{"/home/ines/A/plan.txt": "oak on larch\n", "/home/ines/B/plan.txt": "something else altogether here\n"})
	live := add(t, s, "live", "/home")
	s.Survey(live)
	require.NoError(t, os.MkdirAll(s.Path("/home/ines/Desktop"), 0o755))
	require.NoError(t, os.Rename(s.Path("/home/ines/A/plan.txt"), s.Path("/home/ines/Desktop/plan.2.txt")))
	s.Survey(live)
	origins, err := s.Adviser.Origins(t.Context(), s.Named("plan.2").Copy)
	require.NoError(t, err)
	require.NotEmpty(t, origins)
	assert.Equal(t, "loft:/home/ines/A/plan.txt", origins[0].Place.String())
	assert.Contains(t, said.Joined(origins[0].Evidence), "nothing is there now")
}

// Leftovers are found without a source for them, where the machine's own files are surveyed.
func TestStraysAreFoundAmongTheMachinesOwnFilesToo(t *testing.T) {
	s := sitetest.New(t)
	s.Lay(
		map[string]string{
			"/home/ines/a chapter.txt":                                "one two three four five\n",
			"/home/ines/.local/share/writer/autosave/a chapter_0.txt": "one two three four five six seven\n",
		},
	)
	old := time.Now().Add(-time.Hour)
	require.NoError(t, os.Chtimes(s.Path("/home/ines/a chapter.txt"), old, old))
	s.Survey(add(t, s, "live", "/home"))
	a := ask(t, s, "/home/ines/a chapter.txt", advice.Question{Loss: advice.Unsaved})
	require.NotNil(t, a.Recommended)
	assert.Equal(t, "loft:/home/ines/.local/share/writer/autosave/a chapter_0.txt", a.Recommended.Copy.Place.String())
	assert.Equal(t, "loft:/home/ines/a chapter.txt", a.Recommended.To.String())
}
