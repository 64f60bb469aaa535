package history_test

import (
	"encoding/hex"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/trail"
	"humble-rewind/internal/registry"
	"humble-rewind/internal/restore"
	"humble-rewind/internal/sitetest"
)

var day = time.Date(2026, 3, 2, 12, 0, 0, 0, time.UTC)

// repository is a repository of a test's machine.
type repository struct {
	t   *testing.T
	s   *sitetest.Site
	dir string
	at  time.Time // of the next commit
}

const lines = "/home/ines/Lines"

func newRepository(t *testing.T, s *sitetest.Site, options ...string) *repository {
	r := &repository{t, s, s.Path(lines), day}
	require.NoError(t, os.MkdirAll(r.dir, 0o755))
	r.git(append([]string{"init", "-q", "-b", "main"}, options...)...)
	return r
}

func (r *repository) git(args ...string) string {
	r.t.Helper()
	c := exec.Command("git", append([]string{"-C", r.dir}, args...)...)
	when := fmt.Sprintf("@%d +0100", r.at.Unix())
	c.Env = append(os.Environ(), "GIT_AUTHOR_NAME=Inês Falk", "GIT_AUTHOR_EMAIL=ines@quay.example", "GIT_COMMITTER_NAME=Oda Brandt",
		"GIT_COMMITTER_EMAIL=oda@quay.example", "GIT_AUTHOR_DATE="+when, "GIT_COMMITTER_DATE="+when, "GIT_CONFIG_GLOBAL=/dev/null")
	out, err := c.CombinedOutput()
	require.NoError(r.t, err, string(out))
	return strings.TrimSpace(string(out))
}

// commit writes files ("" removes one) and commits them an hour after the commit before.
func (r *repository) commit(message string, files map[string]string) string {
	r.t.Helper()
	for name, text := range files {
		at := filepath.Join(r.dir, name)
		if text == "" {
			require.NoError(r.t, os.Remove(at))
			continue
		}
		require.NoError(r.t, os.MkdirAll(filepath.Dir(at), 0o755))
		require.NoError(r.t, os.WriteFile(at, []byte(text), 0o644))
	}
	r.at = r.at.Add(time.Hour)
	r.git("add", "-A")
	r.git("commit", "-q", "--allow-empty", "-m", message)
	return r.git("rev-parse", "HEAD")
}

func (r *repository) add() catalogue.Source {
	src, err := r.s.AddSource(r.t.Context(), registry.NewSource{Machine: "loft", Kind: "history", At: lines})
	require.NoError(r.t, err)
	return src
}

func (r *repository) again(src catalogue.Source) catalogue.Source {
	src, err := r.s.Catalogue.Sources.ByID(r.t.Context(), src.ID)
	require.NoError(r.t, err)
	return src
}

// told writes what the trail of a file says: the contents of its line with who made them, and those beside it.
func (r *repository) told(name string) string {
	r.t.Helper()
	tr, err := r.s.Past.Trail(r.t.Context(), place.Place{Machine: "loft", Path: lines + "/" + name})
	require.NoError(r.t, err)
	var parts []string
	for i, all := range [][]trail.Version{tr.Versions, tr.Beside} {
		if i == 1 && len(all) > 0 {
			parts = append(parts, "beside:")
		}
		for _, v := range all {
			f := tr.Seen[v.Seen[0]]
			c := f
			content, err := r.s.Contents.Bytes(r.t.Context(), c, 100)
			require.NoError(r.t, err)
			parts = append(parts, fmt.Sprintf("%s@%s", content, v.Arrived.Sub(day)))
		}
	}
	return strings.Join(parts, " ")
}

func TestEverySaveOfEveryBranchIsKnown(t *testing.T) {
	s := sitetest.New(t)
	r := newRepository(t, s)
	r.commit("begun", map[string]string{"keel.svg": "one", "Plans/ribs.svg": "ribs"})
	r.commit("longer", map[string]string{"keel.svg": "two"})
	r.git("switch", "-q", "-c", "sketch")
	r.commit("a sketch", map[string]string{"keel.svg": "sketched"})
	r.git("switch", "-q", "main")
	r.commit("ribs renamed", map[string]string{"Plans/ribs.svg": "", "Plans/frames.svg": "ribs"})
	r.commit("removed", map[string]string{"keel.svg": ""})
	require.NoError(t, os.WriteFile(filepath.Join(r.dir, "Plans/frames.svg"), []byte("stashed"), 0o644))
	r.at = r.at.Add(time.Hour)
	r.git("stash", "-q")
	staged := filepath.Join(r.dir, "notes.txt")
	require.NoError(t, os.WriteFile(staged, []byte("nobody commits this"), 0o644))
	r.git("add", "notes.txt")
	r.git("rm", "-q", "--cached", "notes.txt")
	require.NoError(t, os.Remove(staged))

	src := r.add()
	s.Survey(src)
	assert.Equal(t, "one@1h0m0s two@2h0m0s beside: sketched@3h0m0s", r.told("keel.svg"))
	assert.Equal(t, "ribs@1h0m0s ribs@2h0m0s beside: stashed@6h0m0s", r.told("Plans/frames.svg"), "a rename is followed, a stash is beside")
	for _, c := range s.Find(catalogue.Query{Words: "keel.svg", Records: true}) {
		assert.Equal(t, "Inês Falk", c.Author)
	}
	tr, err := s.Past.Trail(t.Context(), place.Place{Machine: "loft", Path: lines + "/keel.svg"})
	require.NoError(t, err)
	last := tr.Versions[len(tr.Versions)-1]
	assert.Equal(t, 5*time.Hour, last.Superseded.Sub(day), "the commit that removed it is known")
	copyOf, err := s.Catalogue.Everything().Copies.ByID(t.Context(), tr.Seen[tr.Beside[0].Seen[0]].ID)
	require.NoError(t, err)
	assert.Contains(t, copyOf.Lies, "on branch sketch")
	assert.Equal(t, "a sketch", copyOf.Message)

	var lost *copies.Copy
	for _, c := range s.Find(catalogue.Query{}) {
		if c.Lost {
			lost = c.Copy
		}
	}
	require.NotZero(t, lost.ID, "a blob that no tree names is there")
	s.Lay(map[string]string{"/home/ines/found/.keep": ""})
	receipt := s.BringBack(restore.Request{Copies: []copies.ID{lost.ID, copyOf.ID}, To: &place.Place{Machine: "loft", Path: "/home/ines/found"}})
	require.Equal(t, catalogue.ReceiptDone, receipt.State, receipt.Items)
	for name, want := range map[string]string{place.Name(lost.Place.Path): "nobody commits this", "keel.svg": "sketched"} {
		content, err := os.ReadFile(s.Path("/home/ines/found/" + name))
		require.NoError(t, err)
		assert.Equal(t, want, string(content))
	}
}

// What is told commit by commit, and what is told at once, come to the same, whatever was done between.
func TestWhatCameSinceIsToldLikeTheWhole(t *testing.T) {
	s := sitetest.New(t)
	r := newRepository(t, s)
	r.commit("begun", map[string]string{"a.txt": "a1", "b.txt": "b1", "in/c.txt": "c1"})
	src := r.add()
	s.Survey(src)
	steps := []func(){
		func() { r.commit("on", map[string]string{"a.txt": "a2"}) },
		func() {
			r.commit("gone", map[string]string{"b.txt": ""})
			r.commit("back", map[string]string{"b.txt": "b1"})
		},
		func() {
			r.git("switch", "-q", "-c", "side")
			r.commit("side", map[string]string{"a.txt": "a3", "d.txt": "d1"})
			r.git("switch", "-q", "main")
			r.commit("main", map[string]string{"in/c.txt": "c2"})
			r.at = r.at.Add(time.Hour)
			r.git("merge", "-q", "--no-edit", "side")
		},
		func() { r.git("gc", "-q") },
		func() {
			r.commit("amended", map[string]string{"a.txt": "a4"})
			r.git("commit", "-q", "--amend", "-m", "better")
		},
		func() { r.git("branch", "-D", "side"); r.commit("last", map[string]string{"a.txt": "a5"}) },
	}
	for n, step := range steps {
		step()
		src = r.again(src)
		s.Survey(src)
		fresh := sitetest.New(t)
		require.NoError(t, os.MkdirAll(fresh.Path("/home/ines"), 0o755))
		require.NoError(t, exec.Command("cp", "-a", r.dir, fresh.Path(lines)).Run())
		other := &repository{t, fresh, fresh.Path(lines), r.at}
		fresh.Survey(other.add())
		for _, name := range []string{"a.txt", "b.txt", "in/c.txt"} {
			assert.Equal(t, other.told(name), r.told(name), "%s after step %d", name, n)
		}
		assert.Zero(t, s.Survey(r.again(src)).Fresh, "nothing changed after step %d", n)
	}
}

// A copy keeps its number although the line is told anew.
func TestNumbersStayWhenTheLineIsToldAnew(t *testing.T) {
	s := sitetest.New(t)
	r := newRepository(t, s)
	r.commit("begun", map[string]string{"a.txt": "a1"})
	r.commit("on", map[string]string{"a.txt": "a2"})
	src := r.add()
	s.Survey(src)
	before := s.Find(catalogue.Query{Records: true})
	r.git("gc", "-q")
	r.git("branch", "other")
	s.Survey(r.again(src))
	after := s.Find(catalogue.Query{Records: true})
	require.Len(t, after, len(before))
	for i := range before {
		assert.Equal(t, before[i].ID, after[i].ID)
	}
}

// A repository may be made by somebody who wishes the service ill. Everything in it that git could run or follow is tried here, and
// nothing of it happens.
func TestAHostileRepositoryRunsNothing(t *testing.T) {
	s := sitetest.New(t)
	r := newRepository(t, s)
	id := r.commit("begun", map[string]string{"a.txt": "a1", ".gitattributes": "* filter=evil diff=evil text eol=crlf\n"})
	mark := filepath.Join(t.TempDir(), "ran")
	script := filepath.Join(r.dir, ".git", "evil")
	require.NoError(t, os.WriteFile(script, []byte("#!/bin/sh\ntouch "+mark+"\n"), 0o755))
	for _, hook := range []string{"post-checkout", "pre-auto-gc", "reference-transaction", "post-index-change", "fsmonitor-watchman",
		"post-rewrite", "pre-commit"} {
		require.NoError(t, os.WriteFile(filepath.Join(r.dir, ".git", "hooks", hook), []byte("#!/bin/sh\ntouch "+mark+"\n"), 0o755))
	}
	elsewhere := t.TempDir()
	other := &repository{t, s, elsewhere, day}
	other.git("init", "-q")
	secret := other.commit("secret", map[string]string{"secret.txt": "not for Ines"})
	config := fmt.Sprintf(`[core]
	repositoryformatversion = 1
	fsmonitor = %[1]s
	hooksPath = %[2]s
	pager = %[1]s
	editor = %[1]s
	sshCommand = %[1]s
	alternateRefsCommand = %[1]s
	attributesFile = /etc/passwd
[filter "evil"]
	clean = %[1]s
	smudge = %[1]s
	required = true
[diff "evil"]
	command = %[1]s
	textconv = %[1]s
[diff]
	external = %[1]s
[log]
	showSignature = true
[gpg]
	program = %[1]s
[credential]
	helper = %[1]s
[include]
	path = /etc/hostname
[remote "origin"]
	url = ext::%[1]s
	promisor = true
	partialclonefilter = blob:none
[extensions]
	partialClone = origin
[alias]
	log = !%[1]s
`, script, filepath.Join(r.dir, ".git", "hooks"))
	require.NoError(t, os.WriteFile(filepath.Join(r.dir, ".git/config"), []byte(config), 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(r.dir, ".git/objects/info/alternates"), []byte(elsewhere+"/.git/objects\n"), 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(r.dir, ".git/refs/heads/stolen"), []byte(secret+"\n"), 0o644))
	require.NoError(t, os.MkdirAll(filepath.Join(r.dir, ".git/refs/replace"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(r.dir, ".git/refs/replace", id), []byte(secret+"\n"), 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(r.dir, ".git/info/grafts"), []byte(id+" "+secret+"\n"), 0o644))
	require.NoError(t, os.Symlink(elsewhere+"/.git/objects/"+secret[:2], filepath.Join(r.dir, ".git/objects", secret[:2])))
	src := r.add()
	result := s.Survey(src)
	assert.NoFileExists(t, mark, "nothing that the repository names has run")
	assert.Equal(t, "a1@1h0m0s", r.told("a.txt"))
	assert.Contains(t, strings.Join(result.Notes, " "), "borrows objects")
	for _, c := range s.Find(catalogue.Query{Records: true}) {
		assert.NotContains(t, c.Place.Path, "secret.txt", "nothing was read from elsewhere")
	}
	assert.NoFileExists(t, mark)
}

// What is wrong with a repository is said, and what can be read is.
func TestADamagedRepositoryIsReadAsFarAsItGoes(t *testing.T) {
	object := func(r *repository, id string) string { return filepath.Join(r.dir, ".git/objects", id[:2], id[2:]) }
	for name, c := range map[string]struct {
		harm func(r *repository)
		want string
		note string
	}{
		"a commit in the middle is missing": {func(r *repository) {
			must(r.t, os.Remove(object(r, r.git("rev-parse", "HEAD~2"))))
		}, "a4@4h0m0s a5@5h0m0s", "damaged"},
		"a commit in the middle is other bytes": {func(r *repository) {
			at := object(r, r.git("rev-parse", "HEAD~2"))
			must(r.t, os.Chmod(at, 0o644))
			must(r.t, os.WriteFile(at, []byte("nothing that git would have written"), 0o644))
		}, "a4@4h0m0s a5@5h0m0s", "damaged"},
		"a shallow copy": {func(r *repository) {
			missing := object(r, r.git("rev-parse", "HEAD~2"))
			must(r.t, os.WriteFile(filepath.Join(r.dir, ".git/shallow"), []byte(r.git("rev-parse", "HEAD~1")+"\n"), 0o644))
			must(r.t, os.Remove(missing))
		}, "a4@4h0m0s a5@5h0m0s", "shallow"},
		"a thousand branches and a reflog full of nonsense": {func(r *repository) {
			for i := range 1000 {
				must(r.t, os.WriteFile(filepath.Join(r.dir, ".git/refs/heads", fmt.Sprint("b", i)), []byte(r.git("rev-parse", "HEAD")), 0o644))
			}
			must(r.t, os.WriteFile(filepath.Join(r.dir, ".git/logs/HEAD"), []byte("x\n\x00\n"+strings.Repeat("f", 40)+" "+strings.Repeat("e", 40)+
				" a <b> 99999999999999999999 +0000\tx\n"), 0o644))
			must(r.t, os.WriteFile(filepath.Join(r.dir, ".git/refs/heads/broken"), []byte("ref: refs/heads/broken"), 0o644))
		}, "a1@1h0m0s a2@2h0m0s a3@3h0m0s a4@4h0m0s a5@5h0m0s", ""},
		"a rebase that stopped": {func(r *repository) {
			must(r.t, os.MkdirAll(filepath.Join(r.dir, ".git/rebase-merge"), 0o755))
			must(r.t, os.WriteFile(filepath.Join(r.dir, ".git/rebase-merge/head-name"), []byte("refs/heads/main\n"), 0o644))
			must(r.t, os.WriteFile(filepath.Join(r.dir, ".git/HEAD"), []byte(r.git("rev-parse", "HEAD~3")+"\n"), 0o644))
		}, "a1@1h0m0s a2@2h0m0s a3@3h0m0s a4@4h0m0s a5@5h0m0s", "rebase"},
	} {
		t.Run(name, func(t *testing.T) {
			s := sitetest.New(t)
			r := newRepository(t, s)
			for i := range 5 {
				r.commit("on", map[string]string{"a.txt": fmt.Sprint("a", i+1)})
			}
			c.harm(r)
			result := s.Survey(r.add())
			assert.Contains(t, strings.Join(result.Notes, " "), c.note)
			assert.True(t, strings.HasPrefix(r.told("a.txt"), c.want), r.told("a.txt"))
		})
	}
}

func must(t *testing.T, err error) {
	t.Helper()
	require.NoError(t, err)
}

// Repositories whose objects are named by SHA-256, times that cannot be, and names that differ in case only.
func TestWhatIsUnusualIsRead(t *testing.T) {
	s := sitetest.New(t)
	r := newRepository(t, s, "--object-format=sha256")
	r.commit("begun", map[string]string{"a.txt": "a1", "A.txt": "other", "caf\xe9 \n.txt": "x"})
	ordinary := r.at
	r.at = time.Date(2200, 1, 1, 0, 0, 0, 0, time.UTC)
	r.commit("far", map[string]string{"a.txt": "a2"})
	r.at = time.Unix(3, 0)
	r.commit("near", map[string]string{"a.txt": "a3"})
	r.at = ordinary
	r.commit("now", map[string]string{"a.txt": "a4"})
	result := s.Survey(r.add())
	assert.Contains(t, strings.Join(result.Notes, " "), "2 commits have times that cannot be")
	told := r.told("a.txt")
	assert.Regexp(t, `^a1@1h0m0s a2@\S+ a3@\S+ a4@2h0m0s$`, told)
	assert.Equal(t, "other@1h0m0s", r.told("A.txt"))
	assert.Equal(t, "x@1h0m0s", r.told("caf\xe9 \n.txt"))
}

// A repository on another machine tells where its files stood by a map, of its own paths or of those of its folder, or by holding homes.
func TestARepositoryElsewhereTellsWhereItsFilesStood(t *testing.T) {
	for name, c := range map[string]struct {
		file  string
		maps  []string
		stood string
	}{
		"a map of its own paths":        {"keel.txt", []string{"/=/home/ines/Lines"}, "/home/ines/Lines/keel.txt"},
		"a map of its folder":           {"keel.txt", []string{"/srv/lines=/home/ines/Lines"}, "/home/ines/Lines/keel.txt"},
		"it holds homes":                {"home/ines/Lines/keel.txt", nil, "/home/ines/Lines/keel.txt"},
		"it holds homes, mapped":        {"home/ines/Lines/keel.txt", []string{"/home/ines=/data/ines"}, "/data/ines/Lines/keel.txt"},
		"nothing":                       {"keel.txt", nil, ""},
		"a map that is of nothing here": {"keel.txt", []string{"/srv/ribs=/home/ines/Ribs"}, ""},
	} {
		s := sitetest.New(t)
		root := t.TempDir()
		_, err := s.AddMachine(t.Context(), registry.NewMachine{Name: "store", At: root, Zone: "UTC"})
		require.NoError(t, err, name)
		r := &repository{t, s, filepath.Join(root, "srv/lines"), day}
		require.NoError(t, os.MkdirAll(filepath.Join(r.dir, filepath.Dir(c.file)), 0o755))
		r.git("init", "-q", "-b", "main")
		r.commit("keel", map[string]string{c.file: "oak\n"})
		src, err := s.AddSource(t.Context(), registry.NewSource{Machine: "loft", Kind: "history", At: "store:/srv/lines", Maps: c.maps})
		require.NoError(t, err, name)
		s.Survey(src)
		found := s.Named("keel")
		assert.Equal(t, c.stood != "", !found.Lost, name)
		if c.stood != "" {
			assert.Equal(t, place.Place{Machine: "loft", Path: c.stood}, found.Place, name)
		}
	}
}

// Between a commit on a side branch and its merge, the side's file has not come to the line yet.
func TestWhatASideBranchWroteStandsFromItsMergeOn(t *testing.T) {
	s := sitetest.New(t)
	r := newRepository(t, s)
	r.commit("begun", map[string]string{"keel.svg": "one"})
	r.git("switch", "-q", "-c", "side")
	r.commit("on the side", map[string]string{"rudder.svg": "a rudder"})
	side := r.at
	r.git("switch", "-q", "main")
	r.at = r.at.Add(2 * time.Hour)
	r.git("merge", "-q", "--no-ff", "-m", "merged", "side")
	merged := r.at
	require.NoError(t, os.RemoveAll(filepath.Join(r.dir, "rudder.svg")))
	s.Survey(r.add())
	for at, there := range map[time.Time]bool{side.Add(time.Hour): false, merged.Add(-time.Second): false, merged: true, merged.Add(time.Hour): true} {
		f, err := s.Past.Folder(t.Context(), place.Place{Machine: "loft", Path: lines}, at, at)
		require.NoError(t, err)
		found := false
		for _, e := range f.Level() {
			found = found || e.Path == "rudder.svg" && e.Copy != 0
		}
		assert.Equal(t, there, found, "%s after the commit on the side", at.Sub(side))
	}
}

// A tree may name its entries as somebody likes. What leads out of the folder is no place, and is counted.
func TestNamesThatLeadOutAreLeftOut(t *testing.T) {
	s := sitetest.New(t)
	r := newRepository(t, s)
	r.commit("begun", map[string]string{"keel.svg": "one"})
	blob := r.git("hash-object", "-w", "keel.svg")
	raw, err := hex.DecodeString(blob)
	require.NoError(t, err)
	at := filepath.Join(t.TempDir(), "tree")
	require.NoError(t, os.WriteFile(at, append([]byte("100644 ..\x00"), append(raw, append([]byte("100644 keel.svg\x00"), raw...)...)...), 0o644))
	tree := r.git("hash-object", "-t", "tree", "-w", "--literally", at)
	outer := filepath.Join(t.TempDir(), "outer")
	inner, err := hex.DecodeString(tree)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(outer, append([]byte("40000 ..\x00"), append(inner, append([]byte("40000 Plans\x00"), inner...)...)...), 0o644))
	top := r.git("hash-object", "-t", "tree", "-w", "--literally", outer)
	flat := filepath.Join(t.TempDir(), "flat")
	require.NoError(t, os.WriteFile(flat, append([]byte("100644 Masts/sails.svg\x00"), raw...), 0o644))
	slash := r.git("hash-object", "-t", "tree", "-w", "--literally", flat)
	r.git("update-ref", "refs/heads/side", r.git("commit-tree", slash, "-p", "main", "-m", "a slash"))
	r.git("update-ref", "refs/heads/main", r.git("commit-tree", top, "-p", "main", "-m", "out"))
	notes := strings.Join(s.Survey(r.add()).Notes, " ")
	assert.Contains(t, notes, "lead out of its folder")
	for _, c := range s.Find(catalogue.Query{Limit: 100, Records: true}) {
		assert.True(t, place.Under(c.Place.Path, lines), c.Place.Path)
		assert.NotContains(t, c.Place.Path, "..")
		assert.NotContains(t, c.Place.Path, "Masts")
	}
}
