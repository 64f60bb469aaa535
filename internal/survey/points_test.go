package survey_test

import (
	"context"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/reach"
	"humble-rewind/internal/reach/local"
	"humble-rewind/internal/registry"
	"humble-rewind/internal/sitetest"
	"humble-rewind/internal/survey"
)

var night = time.Date(2026, 9, 7, 2, 0, 0, 0, time.UTC)

// tree is what a point in time holds: content by path. Its write time is when the content last changed.
type tree map[string]content

type content struct {
	text    string
	written time.Time
}

// snapshot lays a point in time below /srv/points, unchanged files as hard links to the one before.
func snapshot(s *sitetest.Site, day int, before, now tree) string {
	at := night.AddDate(0, 0, day)
	dir := "/srv/points/" + at.Format("2006-01-02T1504")
	s.Lay(map[string]string{dir + "/home/ines/": ""})
	for path, c := range now {
		to := s.Path(dir + path)
		must(os.MkdirAll(filepath.Dir(to), 0o755))
		if before != nil && before[path] == c {
			must(os.Link(s.Path("/srv/points/"+night.AddDate(0, 0, day-1).Format("2006-01-02T1504")+path), to))
			continue
		}
		must(os.WriteFile(to, []byte(c.text), 0o644))
		must(os.Chtimes(to, c.written, c.written))
	}
	return s.Path(dir)
}

func must(err error) {
	if err != nil {
		panic(err)
	}
}

func addPoints(t *testing.T, s *sitetest.Site) catalogue.Source {
	src, err := s.AddSource(t.Context(), registry.NewSource{Machine: "loft", Kind: "snapshots", At: "/srv/points", Zone: "UTC"})
	require.NoError(t, err)
	return src
}

// history makes trees of some days: files come, change, move between folders and go.
func history(r *rand.Rand, days int) []tree {
	var all []tree
	now := tree{}
	for day := range days {
		next := tree{}
		for path, c := range now {
			if r.IntN(8) > 0 {
				next[path] = c
			}
		}
		for range r.IntN(5) {
			path := fmt.Sprintf("/home/ines/f%d/quote %d.odt", r.IntN(3), r.IntN(6))
			next[path] = content{
				fmt.Sprintf("%d of %d", r.IntN(1000), day),
				night.AddDate(0, 0, day).Add(-time.Duration(r.IntN(80000)) * time.Second),
			}
		}
		all = append(all, next)
		now = next
	}
	return all
}

// records writes everything that is known of places and when, one span a line; what can be read is marked.
func records(t *testing.T, s *sitetest.Site) string {
	var lines []string
	for f, err := range s.Catalogue.Everything().Copies.Under(t.Context(), place.Place{Machine: "loft", Path: "/home"}) {
		require.NoError(t, err)
		lines = append(
			lines,
			fmt.Sprintf(
				"%s %d %s from %s to %s open %t readable %t",
				f.Place.Path,
				f.Size,
				f.Written.UTC().Format(time.RFC3339),
				f.First.Format("01-02"),
				f.Last.Format("01-02"),
				f.Open,
				f.Readable,
			),
		)
	}
	return strings.Join(sorted(lines), "\n")
}

func sorted(lines []string) []string {
	for i := range lines {
		for j := i; j > 0 && lines[j] < lines[j-1]; j-- {
			lines[j], lines[j-1] = lines[j-1], lines[j]
		}
	}
	return lines
}

func TestAnUnchangedFileIsOneSpanOverAllPointsInTime(t *testing.T) {
	s := sitetest.New(t)
	stays, first, second := content{
		"stays",
		night.Add(-time.Hour),
	}, content{
		"one",
		night.Add(-time.Hour),
	}, content{
		"two",
		night.AddDate(0, 0, 2).Add(-time.Hour),
	}
	var before tree
	for day, now := range []tree{{"/home/ines/a": stays, "/home/ines/b": first}, {"/home/ines/a": stays, "/home/ines/b": first},
		{"/home/ines/a": stays, "/home/ines/b": second}, {"/home/ines/a": stays}} {
		snapshot(s, day, before, now)
		before = now
	}
	s.Survey(addPoints(t, s))
	assert.Equal(t, "/home/ines -1 0001-01-01T00:00:00Z from 09-07 to 09-10 open true readable true\n"+
		"/home/ines/a 5 2026-09-07T01:00:00Z from 09-07 to 09-10 open true readable true\n"+
		"/home/ines/b 3 2026-09-07T01:00:00Z from 09-07 to 09-08 open false readable true\n"+
		"/home/ines/b 3 2026-09-09T01:00:00Z from 09-09 to 09-09 open false readable true", records(t, s))
}

// Points in time that come late, in whatever order, end with the same records as when they come in turn.
func TestLatePointsInTimeFallIntoTheirPlace(t *testing.T) {
	for seed := range uint64(4) {
		r := rand.New(rand.NewPCG(seed, 3))
		days := history(r, 7)
		inTurn, late := sitetest.New(t), sitetest.New(t)
		srcInTurn, srcLate := catalogue.Source{}, catalogue.Source{}
		var aside []string
		for day := range days {
			var before tree
			if day > 0 {
				before = days[day-1]
			}
			snapshot(inTurn, day, before, days[day])
			aside = append(aside, snapshot(late, day, before, days[day]))
		}
		srcInTurn = addPoints(t, inTurn)
		inTurn.Survey(srcInTurn)
		for _, dir := range aside {
			must(os.Rename(dir, dir+".part"))
		}
		must(os.Rename(aside[6]+".part", aside[6]))
		srcLate = addPoints(t, late)
		for _, day := range append([]int{6}, r.Perm(6)...) {
			if day < 6 {
				must(os.Rename(aside[day]+".part", aside[day]))
			}
			late.Survey(srcLate)
		}
		require.Equal(t, records(t, inTurn), records(t, late), "seed %d", seed)
	}
}

func TestWhatIsThinnedOutStaysAsARecord(t *testing.T) {
	s := sitetest.New(t)
	a, b, c := content{
		"a",
		night.Add(-time.Hour),
	}, content{
		"bb",
		night.Add(-time.Hour),
	}, content{
		"ccc",
		night.AddDate(0, 0, 1).Add(-time.Hour),
	}
	days := []tree{{"/home/ines/a": a, "/home/ines/b": b}, {"/home/ines/a": a, "/home/ines/b": c}, {"/home/ines/a": a}}
	var dirs []string
	for day := range days {
		var before tree
		if day > 0 {
			before = days[day-1]
		}
		dirs = append(dirs, snapshot(s, day, before, days[day]))
	}
	src := addPoints(t, s)
	s.Survey(src)
	must(os.RemoveAll(dirs[1]))
	s.Survey(src)
	found := s.Find(catalogue.Query{Under: "/home/ines", Class: "other", Records: true, Sort: catalogue.ByName})
	require.Len(t, found, 3)
	var readable []string
	for _, f := range found {
		readable = append(readable, fmt.Sprintf("%s %d %t", f.Place.Name(), f.Size, f.Readable))
	}
	assert.ElementsMatch(t, []string{"a 1 true", "b 2 true", "b 3 false"}, readable)
	content, err := s.Contents.Open(t.Context(), s.Find(catalogue.Query{Under: "/home/ines", Words: "a", Class: "other"})[0].Copy)
	require.NoError(t, err)
	require.NoError(t, content.Close())
}

// A folder that goes and comes back just as it was has been away in between.
func TestWhatComesBackUnchangedWasAway(t *testing.T) {
	s := sitetest.New(t)
	a := tree{"/home/ines/Deep/er/a": {"a", night.Add(-time.Hour)}, "/home/ines/b": {"b", night.Add(-time.Hour)}}
	src := catalogue.Source{}
	for day, now := range []tree{a, a, {"/home/ines/b": a["/home/ines/b"]}, a, a} {
		snapshot(s, day, nil, now)
		if day == 0 {
			src = addPoints(t, s)
		}
		s.Survey(src)
	}
	var spans []string
	for line := range strings.Lines(records(t, s)) {
		if strings.Contains(line, "/er/a ") {
			_, when, _ := strings.Cut(strings.TrimSpace(line), "Z ")
			spans = append(spans, when)
		}
	}
	assert.Equal(t, []string{"from 09-07 to 09-08 open false readable true", "from 09-10 to 09-11 open true readable true"}, spans)
}

// The live tree tells what came, went, and changed, even where size and write time stayed.
func TestTheLiveTreeIsFollowed(t *testing.T) {
	s := sitetest.New(t)
	s.Lay(map[string]string{"/home/ines/Papers/a": "one", "/home/ines/Papers/b": "b", "/home/ines/Other/c": "c"})
	written := night.Add(-time.Hour)
	must(os.Chtimes(s.Path("/home/ines/Papers/a"), written, written))
	src, err := s.AddSource(t.Context(), registry.NewSource{Machine: "loft", Kind: "live"})
	require.NoError(t, err)
	says := func() string {
		r := s.Survey(src)
		return fmt.Sprintf("%d found, %d fresh, %d gone", r.Found, r.Fresh, r.Gone)
	}
	assert.Equal(t, "7 found, 7 fresh, 0 gone", says())
	assert.Equal(t, "7 found, 0 fresh, 0 gone", says())
	must(os.WriteFile(s.Path("/home/ines/Papers/a"), []byte("two"), 0o644))
	must(os.Chtimes(s.Path("/home/ines/Papers/a"), written, written))
	assert.Equal(t, "7 found, 1 fresh, 1 gone", says(), "only the change time tells")
	must(os.Rename(s.Path("/home/ines/Papers"), s.Path("/home/ines/Elsewhere")))
	assert.Equal(t, "7 found, 3 fresh, 3 gone", says())
	must(os.Rename(s.Path("/home/ines/Elsewhere"), s.Path("/home/ines/Papers")))
	must(os.Remove(s.Path("/home/ines/Other/c")))
	assert.Equal(t, "6 found, 3 fresh, 4 gone", says())
	assert.Equal(t, "6 found, 0 fresh, 0 gone", says())
}

// counting counts what is read of a machine.
type counting struct {
	reach.Session
	lists, opens *atomic.Int64
	hook         func(path string)
}

func (c counting) Tree(ctx context.Context, path string) (reach.Tree, error) {
	t, err := c.Session.Tree(ctx, path)
	return countingTree{t, c, path}, err
}

type countingTree struct {
	reach.Tree
	c    counting
	path string
}

func (f countingTree) List(ctx context.Context) ([]reach.Info, error) {
	f.c.lists.Add(1)
	if f.c.hook != nil {
		f.c.hook(f.path)
	}
	return f.Tree.List(ctx)
}

func (f countingTree) Enter(ctx context.Context, name string) (reach.Tree, error) {
	sub, err := f.Tree.Enter(ctx, name)
	return countingTree{sub, f.c, f.path + "/" + name}, err
}

func (f countingTree) Open(ctx context.Context, name string) (reach.File, error) {
	f.c.opens.Add(1)
	return f.Tree.Open(ctx, name)
}

func countingWays(hook *func(string)) (reach.Ways, *atomic.Int64, *atomic.Int64) {
	var lists, opens atomic.Int64
	return reach.Ways{{Open: func(_ context.Context, at reach.Address) (reach.Session, error) {
		files, err := local.Open(at.Path)
		return counting{files, &lists, &opens, func(path string) {
			if *hook != nil {
				(*hook)(path)
			}
		}}, err
	}}}, &lists, &opens
}

// After one more snapshot of hard links, only that one is walked, nothing is opened, and only what changed is recorded.
func TestOneMoreSnapshotCostsOnlyWhatChanged(t *testing.T) {
	var hook func(string)
	ways, lists, opens := countingWays(&hook)
	s := sitetest.NewWith(t, ways)
	first := tree{}
	for i := range 400 {
		first[fmt.Sprintf("/home/ines/folder %d/file %d.txt", i%20, i)] = content{fmt.Sprint("content ", i), night.Add(-time.Hour)}
	}
	second := tree{}
	for path, c := range first {
		second[path] = c
	}
	second["/home/ines/folder 3/file 3.txt"] = content{"changed", night.Add(20 * time.Hour)}
	second["/home/ines/folder 4/new.txt"] = content{"new", night.Add(21 * time.Hour)}
	delete(second, "/home/ines/folder 5/file 5.txt")
	snapshot(s, 0, nil, first)
	src := addPoints(t, s)
	s.Survey(src)
	snapshot(s, 1, first, second)
	lists.Store(0)
	opens.Store(0)
	src, err := s.Catalogue.Sources.ByID(t.Context(), src.ID)
	require.NoError(t, err)
	r := s.Survey(src)
	assert.EqualValues(t, 2, r.Fresh, "records that begin")
	assert.EqualValues(t, 2, r.Gone, "records that end")
	assert.Zero(t, opens.Load(), "no file is opened")
	// The store, its folders of the new snapshot (23 with those above them), and a few of both to see what kind of tree it is.
	assert.LessOrEqual(t, lists.Load(), int64(1+23+12))
	lists.Store(0)
	assert.Zero(t, s.Survey(src).Fresh)
	assert.EqualValues(t, 1, lists.Load(), "where nothing is new, only the store is listed")
}

func TestASnapshotThatVanishesWhileItIsReadLeavesNothing(t *testing.T) {
	var hook func(string)
	ways, _, _ := countingWays(&hook)
	s := sitetest.NewWith(t, ways)
	now := tree{}
	for i := range 30 {
		now[fmt.Sprintf("/home/ines/folder %d/file.txt", i)] = content{"x", night.Add(-time.Hour)}
	}
	snapshot(s, 0, nil, now)
	src := addPoints(t, s)
	s.Survey(src)
	before := records(t, s)
	dir := snapshot(s, 1, now, now)
	hook = func(path string) {
		if strings.HasSuffix(path, "/2026-09-08T0200/home/ines") {
			must(os.RemoveAll(dir))
		}
	}
	r := s.Survey(src)
	assert.Contains(t, strings.Join(r.Notes, " "), "2026-09-08T0200 vanished while it was read")
	assert.Equal(t, before, records(t, s), "a snapshot being removed does not make its files seem deleted")
}

// A survey that is broken off anywhere and begun again ends with the records of an undisturbed one.
func TestABrokenOffSurveyOfManyPointsEndsLikeAnUndisturbedOne(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 8))
	days := history(r, 6)
	whole := sitetest.New(t)
	for day := range days {
		var before tree
		if day > 0 {
			before = days[day-1]
		}
		snapshot(whole, day, before, days[day])
	}
	undisturbed := addPoints(t, whole)
	whole.Survey(undisturbed)
	want := records(t, whole)
	now := func(s *sitetest.Site, src catalogue.Source) catalogue.Source {
		now, err := s.Catalogue.Sources.ByID(t.Context(), src.ID)
		require.NoError(t, err)
		return now
	}
	for after := 0; after < 25; after += 3 {
		var hook func(string)
		ways, _, _ := countingWays(&hook)
		s := sitetest.NewWith(t, ways)
		must(os.CopyFS(s.Path("/srv/points"), os.DirFS(whole.Path("/srv/points"))))
		restoreTimes(whole.Path("/srv/points"), s.Path("/srv/points"))
		src := addPoints(t, s)
		ctx, cancel := context.WithCancel(t.Context())
		left := after
		hook = func(string) {
			if left--; left < 0 {
				cancel()
			}
		}
		_, err := survey.Run(ctx, s.Site, src, time.Now(), survey.Following{})
		cancel()
		hook = nil
		if err == nil {
			break
		}
		s.Survey(now(s, src))
		require.Equal(t, want, records(t, s), "broken off after %d folders", after)
		require.Equal(t, now(whole, undisturbed).Found, now(s, src).Found, "broken off after %d folders", after)
	}
}

func restoreTimes(from, to string) {
	must(filepath.WalkDir(from, func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		info, err := d.Info()
		rel, _ := filepath.Rel(from, path)
		return firstOf(err, os.Chtimes(filepath.Join(to, rel), info.ModTime(), info.ModTime()))
	}))
}

func firstOf(errs ...error) error {
	for _, err := range errs {
		if err != nil {
			return err
		}
	}
	return nil
}

// Edits that keep a file's size are seen whatever its write time, in every kind of tree that can tell them.
func TestAnEditOfTheSameSizeIsSeenAtEveryWriteTime(t *testing.T) {
	const days, files = 3, 120
	last := time.Date(2100, 12, 31, 0, 0, 0, 0, time.UTC)
	r := rand.New(rand.NewPCG(9, 3))
	var points []tree
	edits := 0
	for day := range days {
		now := tree{}
		for n := range files {
			path := fmt.Sprintf("/home/ines/quote %d.odt", n)
			written := time.Unix(int64(n)*last.Unix()/files+r.Int64N(last.Unix()/files), r.Int64N(1e9))
			now[path] = content{fmt.Sprintf("draft %d", day), written}
			if day > 0 && r.IntN(3) == 0 {
				now[path] = points[day-1][path]
			} else if day > 0 {
				edits++
			}
		}
		points = append(points, now)
	}
	for name, linked := range map[string]bool{"hard links": true, "full copies": false} {
		t.Run(name, func(t *testing.T) {
			s := sitetest.New(t)
			for day := range points {
				var before tree
				if linked && day > 0 {
					before = points[day-1]
				}
				snapshot(s, day, before, points[day])
			}
			s.Survey(addPoints(t, s))
			assert.Equal(t, files+edits+1, len(strings.Split(records(t, s), "\n")), "a span each, and the home's own")
		})
	}
	t.Run("live", func(t *testing.T) {
		s := sitetest.New(t)
		src, err := s.AddSource(t.Context(), registry.NewSource{Machine: "loft", Kind: "live", At: "/home"})
		require.NoError(t, err)
		seen := 0
		for _, now := range points {
			for path, c := range now {
				if old, err := os.ReadFile(s.Path(path)); err == nil && string(old) == c.text {
					continue
				}
				must(os.WriteFile(s.Path(path), []byte(c.text), 0o644))
				must(os.Chtimes(s.Path(path), c.written, c.written))
				seen++
			}
			s.Survey(src)
		}
		assert.Equal(t, seen+2, len(strings.Split(records(t, s), "\n")))
	})
}
