package treewalk_test

import (
	"context"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"path"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/sighting"
	"humble-rewind/internal/reach"
	"humble-rewind/internal/reach/local"
	"humble-rewind/internal/source"
	"humble-rewind/internal/source/treewalk"
)

// seen is what a walk reported, and what the next one knows of it.
type seen struct {
	source.Reporter
	sightings []sighting.Sighting
	marks     map[string]entry.Mark
	unread    []string
	notes     []string
}

func (s *seen) Sight(of sighting.Sighting) error {
	s.sightings = append(s.sightings, of)
	return nil
}

func (s *seen) Unread(dir string, _ error) error {
	s.unread = append(s.unread, dir)
	return nil
}

func (s *seen) Note(text string) { s.notes = append(s.notes, text) }

type known struct {
	source.Known
	marks map[string]entry.Mark
}

func (k known) Marks(_ context.Context, dir string) (func(string) entry.Mark, error) {
	return func(name string) entry.Mark { return k.marks[path.Join(dir, name)] }, nil
}

func (known) Unchanged(context.Context, string, []byte, int) (bool, error) { return false, nil }

// walk walks a directory knowing what another walk saw.
func walk(t *testing.T, at string, before *seen, change func(*treewalk.Walk)) (*seen, *treewalk.Walk) {
	t.Helper()
	files, err := local.Open("/")
	require.NoError(t, err)
	defer files.Close()
	tree, err := files.Tree(t.Context(), at)
	require.NoError(t, err)
	defer tree.Close()
	s := &seen{marks: map[string]entry.Mark{}}
	w := &treewalk.Walk{Known: known{marks: before.marks}, Report: s, Now: time.Now(), Keeps: entry.All,
		Origin: func(path string, _ reach.Info) (string, bool) { return at + "/" + path, true },
		Skip:   func(string, reach.Info) bool { return false }}
	if change != nil {
		change(w)
	}
	require.NoError(t, w.Run(t.Context(), tree))
	for _, of := range s.sightings {
		s.marks[path.Join(of.At.Dir, of.At.Name)] = of.Mark
	}
	return s, w
}

// grow lays a tree of any shape, with names of any bytes.
func grow(t *testing.T, r *rand.Rand, at string, depth int) {
	names := []string{"Keel.svg", "a", "a.b", "B", "caf\xe9", "Ærø", "-rf", "new\nline", " "}
	for _, n := range r.Perm(len(names))[:r.IntN(len(names))] {
		to := filepath.Join(at, names[n])
		switch kind := r.IntN(5); {
		case kind < 2 && depth > 0:
			require.NoError(t, os.Mkdir(to, 0o755))
			grow(t, r, to, depth-1)
		case kind == 2:
			require.NoError(t, os.Symlink("../"+names[r.IntN(len(names))], to))
		default:
			require.NoError(t, os.WriteFile(to, make([]byte, r.IntN(9000)), 0o600))
		}
	}
}

// A walk reports what the file system has, once each, folder by folder and in a folder by the bytes of its names; walked again, all is as
// it was, and what was written since is not.
func TestAWalkReportsWhatTheFileSystemHas(t *testing.T) {
	for seed := range uint64(40) {
		r := rand.New(rand.NewPCG(23, seed))
		at := t.TempDir()
		grow(t, r, at, 4)
		s, w := walk(t, at, &seen{}, nil)
		got := map[string]bool{}
		for i, of := range s.sightings {
			full := path.Join(at, of.At.Dir, of.At.Name)
			info, err := os.Lstat(full)
			require.NoError(t, err)
			require.Equal(t, full, of.Origin)
			require.Equal(t, map[fs.FileMode]entry.Type{0: entry.File, fs.ModeDir: entry.Folder, fs.ModeSymlink: entry.Link}[info.Mode().Type()], of.Type)
			if of.Type == entry.File {
				require.Equal(t, info.Size(), of.Size)
				require.True(t, info.ModTime().Equal(of.Written))
			}
			if before := (sighting.Locator{}); i > 0 {
				before = s.sightings[i-1].At
				require.True(t, before.Dir != of.At.Dir || before.Name < of.At.Name, "%q after %q", of.At.Name, before.Name)
			}
			require.False(t, got[full], "%s twice", full)
			got[full] = true
		}
		there := 0
		require.NoError(t, filepath.WalkDir(at, func(string, fs.DirEntry, error) error { there++; return nil }))
		require.Len(t, got, there-1, "seed %d", seed)
		require.EqualValues(t, there-1, w.Files+w.Folders)

		again, _ := walk(t, at, s, nil)
		for _, of := range again.sightings {
			require.True(t, of.Same, "%s", of.Origin)
		}
		require.NoError(t, os.WriteFile(filepath.Join(at, "new"), nil, 0o600))
		more, _ := walk(t, at, s, nil)
		changed := 0
		for _, of := range more.sightings {
			if !of.Same {
				changed++
				require.Equal(t, "new", of.At.Name)
			}
		}
		require.Equal(t, 1, changed)
	}
}

// A folder of thousands is looked at some at a time, and nothing of it is missing; what is left out is not entered either.
func TestAWalkOfVeryManyAndOfWhatIsLeftOut(t *testing.T) {
	at := t.TempDir()
	const many = 9000
	require.NoError(t, os.Mkdir(at+"/many", 0o755))
	for n := range many {
		require.NoError(t, os.WriteFile(fmt.Sprintf("%s/many/%05d", at, n), nil, 0o600))
	}
	require.NoError(t, os.MkdirAll(at+"/Scratch/deep", 0o755))
	require.NoError(t, os.WriteFile(at+"/Scratch/deep/Keel.svg", nil, 0o600))
	ahead := time.Now().AddDate(3, 0, 0)
	require.NoError(t, os.Chtimes(at+"/many/00007", ahead, ahead))
	s, w := walk(t, at, &seen{}, func(w *treewalk.Walk) {
		w.Skip = func(path string, _ reach.Info) bool { return path == "Scratch" }
	})
	assert.Len(t, s.sightings, many+1)
	assert.EqualValues(t, many, w.Files)
	for _, of := range s.sightings {
		assert.NotContains(t, of.Origin, "Scratch")
	}
	require.Len(t, s.notes, 1, "a clock was wrong")
	assert.Contains(t, s.notes[0], "1 file")

	require.NoError(t, os.MkdirAll(filepath.Join(at, "deep", strings.Repeat("d/", 510)), 0o755))
	s, _ = walk(t, at, &seen{}, nil)
	require.Len(t, s.unread, 1, "what lies too deep is said, not passed over")
	assert.Contains(t, s.unread[0], strings.Repeat("d/", 490))
}
