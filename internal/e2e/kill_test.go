package e2e

import (
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humble-rewind/api"
)

// killPoints is how many times the service is killed at a random moment; HUMBLE_REWIND_KILLS sets more of them.
func killPoints(t *testing.T, few int) int {
	if n, err := strconv.Atoi(os.Getenv("HUMBLE_REWIND_KILLS")); err == nil {
		return n
	}
	return few
}

// killFiles is how many files are brought back in each: more than one batch.
func killFiles() int {
	if n, err := strconv.Atoi(os.Getenv("HUMBLE_REWIND_KILL_FILES")); err == nil {
		return n
	}
	return 4500
}

func content(n int) string { return strings.Repeat(fmt.Sprintf("plank %d\n", n), 40) }

// fillTrash lays a drive's trash with n files that came from Papers in store.
func fillTrash(t *testing.T, store string, n int) {
	can := filepath.Join(store, ".Trash-"+strconv.Itoa(os.Getuid()))
	for _, d := range []string{"files", "info"} {
		require.NoError(t, os.MkdirAll(filepath.Join(can, d), 0o700))
	}
	for i := range n {
		name := fmt.Sprintf("n%d.txt", i)
		require.NoError(t, os.WriteFile(filepath.Join(can, "files", name), []byte(content(i)), 0o644))
		record := fmt.Sprintf("[Trash Info]\nPath=Papers/%02d/%s\nDeletionDate=2026-11-03T16:30:00\n", i%20, name)
		require.NoError(t, os.WriteFile(filepath.Join(can, "info", name+".trashinfo"), []byte(record), 0o600))
	}
}

// Killed anywhere while it brings files back, the service settles at its next start what it had begun: every destination
// is the new content, or what stood there, or nothing, as the receipt says, and nothing is lost.
func TestKilledWhileBringingBack(t *testing.T) {
	for name, across := range map[string]bool{"within a file system": false, "across file systems": true} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			for round := range killPoints(t, 4) {
				killOnce(t, across, round%2 == 1)
			}
		})
	}
}

func killOnce(t *testing.T, across, aside bool) {
	files := killFiles()
	dir := t.TempDir()
	store, to := filepath.Join(dir, "drive"), filepath.Join(dir, "back")
	if across {
		shm, err := os.MkdirTemp("/dev/shm", "humble-rewind-e2e-")
		require.NoError(t, err)
		defer os.RemoveAll(shm)
		store = shm
	}
	fillTrash(t, store, files)
	stood := map[string]bool{}
	if aside {
		require.NoError(t, os.MkdirAll(to, 0o755))
		for i := 0; i < files; i += 3 {
			name := fmt.Sprintf("n%d.txt", i)
			require.NoError(t, os.WriteFile(filepath.Join(to, name), []byte("stood there\n"), 0o644))
			stood[name] = true
		}
	}
	data := filepath.Join(dir, "data")
	p := start(t, data)
	p.add("host", "/", store)
	p.wait(p.beginSurvey())
	var ids []string
	for _, c := range p.all() {
		ids = append(ids, c.Id)
	}
	require.Len(t, ids, files)
	rule := api.ClashRuleSetAside
	r, err := p.BringBackWithResponse(
		t.Context(),
		api.NewBringBack{Copies: &ids, Clash: &rule, To: &api.Destination{Machine: "host", Path: to + "/"}},
	)
	require.NoError(t, err)
	require.NotNil(t, r.JSON202, string(r.Body))
	time.Sleep(rand.N(time.Duration(files) * 400 * time.Microsecond))
	p.kill()

	p = start(t, data)
	j := p.wait(r.JSON202.Id)
	receipt := p.receipt(*r.JSON202.Receipt)
	require.Len(t, receipt.Items, files)
	assert.NotContains(t, []api.JobState{api.JobStateWaiting, api.JobStateRunning}, j.State)
	done := settledRight(t, receipt, stood, true)
	t.Logf("killed when %d of %d had arrived; the receipt says %s", done, files, receipt.State)
	nothingLeft(t, to, store)
	if done > 0 {
		undo, err := p.UndoReceiptWithResponse(t.Context(), receipt.Id)
		require.NoError(t, err)
		require.NotNil(t, undo.JSON202, string(undo.Body))
		assert.Equal(t, api.JobStateDone, p.wait(undo.JSON202.Id).State)
		for name := range stood {
			back, err := os.ReadFile(filepath.Join(to, name))
			require.NoError(t, err)
			assert.Equal(t, "stood there\n", string(back))
		}
	}
	p.kill()
}

// settledRight checks that every item of a receipt is the new content, or what stood there, or nothing, as the receipt says, and that
// nothing is lost; it returns how many arrived. removed says that what arrived must have left the trash for good.
func settledRight(t *testing.T, receipt api.Receipt, stood map[string]bool, removed bool) (done int) {
	for _, item := range receipt.Items {
		name := filepath.Base(item.To.Path)
		n, err := strconv.Atoi(strings.TrimSuffix(strings.TrimPrefix(name, "n"), ".txt"))
		require.NoError(t, err)
		there, thereErr := os.ReadFile(item.To.Path)
		lies, liesErr := os.ReadFile(item.From.Path)
		record := filepath.Join(filepath.Dir(filepath.Dir(item.From.Path)), "info", name+".trashinfo")
		_, recordErr := os.Lstat(record)
		if item.Outcome == api.OutcomeDone {
			done++
			require.NoError(t, thereErr)
			assert.Equal(t, content(n), string(there))
			if removed {
				assert.ErrorIs(t, liesErr, fs.ErrNotExist, "%s arrived and is still in the trash", name)
				assert.ErrorIs(t, recordErr, fs.ErrNotExist, "%s arrived and its record is still in the trash", name)
			}
			continue
		}
		require.Equal(t, api.OutcomeFailed, item.Outcome)
		assert.NotEmpty(t, item.Note)
		require.NoError(t, liesErr, "%s neither arrived nor is in the trash", name)
		assert.Equal(t, content(n), string(lies))
		assert.NoError(t, recordErr)
		if stood[name] {
			require.NoError(t, thereErr, "what stood at %s is lost", name)
			assert.Equal(t, "stood there\n", string(there))
		} else {
			assert.ErrorIs(t, thereErr, fs.ErrNotExist)
		}
	}
	return done
}

// nothingLeft checks that no working folder was left behind.
func nothingLeft(t *testing.T, dirs ...string) {
	for _, d := range dirs {
		_ = filepath.WalkDir(d, func(path string, _ fs.DirEntry, _ error) error {
			assert.NotContains(t, filepath.Base(path), ".humble-rewind", "left behind")
			return nil
		})
	}
}

// The same while a folder is made again exactly as it was: files in new folders, files instead of others that are set
// aside, and files that came later and only go away.
func TestKilledWhileAFolderComesBackExactly(t *testing.T) {
	t.Parallel()
	for range killPoints(t, 3) {
		killFolderOnce(t)
	}
}

func killFolderOnce(t *testing.T) {
	const files = 900
	dir := t.TempDir()
	point := time.Now().UTC().AddDate(0, 0, -1).Truncate(time.Minute)
	then, here := filepath.Join(dir, "points", point.Format("2006-01-02T1504"), "papers"), filepath.Join(dir, "papers")
	write := func(root string, n int, text string) {
		path := filepath.Join(root, fmt.Sprintf("f%d/n%d.txt", n%30, n))
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		require.NoError(t, os.WriteFile(path, []byte(text), 0o644))
		if root == then {
			require.NoError(t, os.Chtimes(path, point.Add(-time.Hour), point.Add(-time.Hour)))
		}
	}
	for n := range files {
		write(then, n, content(n))
		switch n % 3 {
		case 0:
			write(here, n, "worked on since\n")
		case 1:
			write(here, n+files, "came later\n")
		}
	}
	before := readAll(t, here)
	data := filepath.Join(dir, "data")
	p := start(t, data)
	m, err := p.AddMachineWithResponse(t.Context(), api.NewMachine{Name: "host", At: "/"})
	require.NoError(t, err)
	require.NotNil(t, m.JSON201, string(m.Body))
	points := filepath.Join(dir, "points")
	added, err := p.AddSourceWithResponse(
		t.Context(),
		api.NewSource{Machine: "host", Kind: "snapshots", At: &points, Zone: new("UTC"), Maps: &[]string{"/papers=" + here}},
	)
	require.NoError(t, err)
	require.NotNil(t, added.JSON201, string(added.Body))
	p.wait(p.beginSurvey())
	only, asOf := api.OnlyExact, point.Add(time.Minute)
	r, err := p.BringBackWithResponse(
		t.Context(),
		api.NewBringBack{Place: &api.Destination{Machine: "host", Path: here}, AsOf: &asOf, Only: &only},
	)
	require.NoError(t, err)
	require.NotNil(t, r.JSON202, string(r.Body))
	time.Sleep(rand.N(time.Duration(files) * 7 * time.Millisecond))
	p.kill()

	p = start(t, data)
	p.wait(r.JSON202.Id)
	receipt := p.receipt(*r.JSON202.Receipt)
	now, want := readAll(t, here), readAll(t, then)
	for _, item := range receipt.Items {
		path, _ := filepath.Rel(here, item.To.Path)
		if item.Type != api.EntryTypeFile {
			continue
		}
		if item.Outcome == api.OutcomeDone {
			require.Equal(t, want[path], now[path], "%s is done", path)
		} else {
			require.Equal(t, before[path], now[path], "%s is %s", path, item.Outcome)
		}
	}
	t.Logf("killed when %d of %d had been settled", receipt.Done, receipt.Count)
	if receipt.Done > 0 {
		undo, err := p.UndoReceiptWithResponse(t.Context(), receipt.Id)
		require.NoError(t, err)
		require.NotNil(t, undo.JSON202, string(undo.Body))
		require.Equal(t, api.JobStateDone, p.wait(undo.JSON202.Id).State)
	}
	assert.Equal(t, before, readAll(t, here), "undone, everything is as before")
	p.kill()
}

// readAll returns the files below a folder by their relative paths.
func readAll(t *testing.T, dir string) map[string]string {
	all := map[string]string{}
	require.NoError(t, filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
		if err != nil || !d.Type().IsRegular() {
			return err
		}
		text, err := os.ReadFile(path)
		rel, _ := filepath.Rel(dir, path)
		all[rel] = string(text)
		return err
	}))
	return all
}

// Killed anywhere while it surveys, the service goes on at its next start and ends with the same records as an
// undisturbed survey.
func TestKilledWhileSurveying(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	store := filepath.Join(dir, "drive")
	fillTrash(t, store, 3000)
	want := surveyed(t, store, filepath.Join(dir, "undisturbed"), 0)
	for round := range killPoints(t, 3) {
		got := surveyed(t, store, filepath.Join(dir, fmt.Sprint("killed-", round)), 2)
		require.Equal(t, want, got)
	}
}

// fillPoints makes ten points in time of five hundred files each, a tenth of which changes from one to the next.
func fillPoints(t *testing.T, dir string) {
	if _, err := os.Lstat(dir); err == nil {
		return
	}
	first := time.Date(2026, 9, 1, 6, 0, 0, 0, time.UTC)
	before := ""
	for day := range 10 {
		at := first.AddDate(0, 0, day)
		here := filepath.Join(dir, at.Format("2006-01-02"))
		for n := range 500 {
			path := fmt.Sprintf("folder %d/file %d.txt", n%25, n)
			to := filepath.Join(here, path)
			require.NoError(t, os.MkdirAll(filepath.Dir(to), 0o755))
			if before != "" && (n+day)%10 != 0 {
				require.NoError(t, os.Link(filepath.Join(before, path), to))
				continue
			}
			require.NoError(t, os.WriteFile(to, fmt.Appendf(nil, "%d on day %d", n, day), 0o644))
			require.NoError(t, os.Chtimes(to, at.Add(-time.Hour), at.Add(-time.Hour)))
		}
		before = here
	}
}

func surveyed(t *testing.T, store, data string, kills int) (places map[string]string) {
	p := start(t, data)
	p.add("host", "/", store)
	points := filepath.Join(filepath.Dir(store), "points")
	fillPoints(t, points)
	added, err := p.AddSourceWithResponse(
		t.Context(),
		api.NewSource{Machine: "host", Kind: "snapshots", At: &points, Maps: &[]string{"/=/restored"}, Zone: new("UTC")},
	)
	require.NoError(t, err)
	require.NotNil(t, added.JSON201, string(added.Body))
	job := p.beginSurvey()
	for range kills {
		time.Sleep(rand.N(250 * time.Millisecond))
		p.kill()
		p = start(t, data)
	}
	require.Equal(t, api.JobStateDone, p.wait(job).State)
	places = map[string]string{}
	words := "n59"
	r, err := p.FindCopiesWithResponse(t.Context(), &api.FindCopiesParams{Words: &words})
	require.NoError(t, err)
	places["found by name"] = fmt.Sprint(r.JSON200.Total)
	for _, c := range p.all() {
		if c.Source.Kind == "trash" {
			assert.NotContains(t, places, c.Place.Path, "recorded twice")
			places[c.Place.Path] = fmt.Sprint(*c.Size, *c.GoneAt, *c.WrittenAt, c.Readable, c.Notes)
			continue
		}
		key := fmt.Sprint(c.Place.Path, " from ", c.CapturedAt)
		assert.NotContains(t, places, key, "recorded twice")
		places[key] = fmt.Sprint(c.LastSeenAt, c.Size != nil, c.WrittenAt, c.Readable, c.Notes)
	}
	p.kill()
	return places
}
