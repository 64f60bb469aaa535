package e2e

import (
	"crypto/sha256"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humble-rewind/api"
)

// volume makes and mounts a btrfs file system in a file, and skips the test where that cannot be done.
func volume(t *testing.T) string {
	t.Helper()
	image, at := filepath.Join(t.TempDir(), "volume.img"), t.TempDir()
	require.NoError(t, os.WriteFile(image, nil, 0o600))
	require.NoError(t, os.Truncate(image, 256<<20))
	run := func(name string, args ...string) {
		if out, err := exec.Command(name, args...).CombinedOutput(); err != nil {
			t.Skipf("btrfs cannot be mounted here, so its snapshots are not tested: %s: %v %s", name, err, out)
		}
	}
	run("mkfs.btrfs", "-q", image)
	run("mount", "-o", "loop", image, at)
	t.Cleanup(func() {
		if out, err := exec.Command("umount", at).CombinedOutput(); err != nil {
			t.Logf("unmount: %v %s", err, out)
		}
	})
	return at
}

// What trails and folders say agrees with what real read-only snapshots hold, for every file and moment.
func TestRealSnapshotsOfAFileSystem(t *testing.T) {
	t.Parallel()
	root := volume(t)
	subvolume := func(args ...string) {
		out, err := exec.Command("btrfs", append([]string{"subvolume"}, args...)...).CombinedOutput()
		require.NoError(t, err, string(out))
	}
	home := filepath.Join(root, "home")
	subvolume("create", home)
	require.NoError(t, os.MkdirAll(filepath.Join(root, "snapshots"), 0o755))
	r := rand.New(rand.NewPCG(4, 2))
	first := time.Date(2026, 9, 1, 6, 0, 0, 0, time.UTC)
	const moments = 12
	for n := range moments {
		at := first.Add(time.Duration(n) * 24 * time.Hour)
		change(t, r, home, at.Add(-time.Hour))
		subvolume("snapshot", "-r", home, filepath.Join(root, "snapshots", at.Format("2006-01-02_15-04")))
	}

	p := start(t, t.TempDir())
	m, err := p.AddMachineWithResponse(t.Context(), api.NewMachine{Name: "loft", At: root})
	require.NoError(t, err)
	require.NotNil(t, m.JSON201, string(m.Body))
	for kind, at := range map[string]string{"snapshots": "/snapshots", "live": "/home"} {
		source := api.NewSource{Machine: "loft", Kind: kind, At: &at}
		if kind == "snapshots" {
			source.Maps, source.Zone = &[]string{"/=/home"}, new("UTC")
		}
		s, err := p.AddSourceWithResponse(t.Context(), source)
		require.NoError(t, err)
		require.NotNil(t, s.JSON201, string(s.Body))
	}
	require.Equal(t, api.JobStateDone, p.wait(p.beginSurvey()).State)

	held := map[string]map[string]string{} // by moment, digests by path
	paths := map[string]bool{}
	for n := range moments {
		at := first.Add(time.Duration(n) * 24 * time.Hour)
		held[at.Format(time.RFC3339)] = digests(t, filepath.Join(root, "snapshots", at.Format("2006-01-02_15-04")), paths)
	}
	path, deep := "/home", true
	for at, files := range held {
		moment, _ := time.Parse(time.RFC3339, at)
		f, err := p.GetFolderWithResponse(t.Context(), &api.GetFolderParams{Machine: "loft", Path: &path, AsOf: &moment, Deep: &deep})
		require.NoError(t, err)
		require.NotNil(t, f.JSON200, string(f.Body))
		got := map[string]int64{}
		for _, e := range f.JSON200.Entries {
			if e.Type == api.EntryTypeFile && e.State != api.EntryStateAdded {
				got[e.Path.Path] = *e.Size
				require.NotNil(t, e.Copy, "%s can be read", e.Path.Path)
			}
		}
		want := map[string]int64{}
		for file := range files {
			info, err := os.Lstat(filepath.Join(root, "snapshots", moment.Format("2006-01-02_15-04"), file))
			require.NoError(t, err)
			want["/home/"+file] = info.Size()
		}
		assert.Equal(t, want, got, "the folder as of %s", at)
	}
	for file := range paths {
		at := "/home/" + file
		trail, err := p.GetTrailWithResponse(t.Context(), &api.GetTrailParams{Machine: "loft", Path: &at})
		require.NoError(t, err)
		require.NotNil(t, trail.JSON200, string(trail.Body))
		for moment, files := range held {
			when, _ := time.Parse(time.RFC3339, moment)
			stood := ""
			for _, v := range trail.JSON200.Versions {
				if v.Place.Path == at && !v.FirstSeenAt.After(when) && !v.LastSeenAt.Before(when) {
					require.NotNil(t, v.Sha256)
					stood = *v.Sha256
				}
			}
			assert.Equal(t, files[file], stood, "%s at %s", file, moment)
		}
	}
}

// change saves, renames and removes some files as people do, at a time.
func change(t *testing.T, r *rand.Rand, home string, at time.Time) {
	for range 14 {
		path := filepath.Join(home, fmt.Sprintf("person%d/folder %d", r.IntN(2), r.IntN(3)), fmt.Sprintf("file %d.txt", r.IntN(6)))
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		switch r.IntN(6) {
		case 0:
			_ = os.Remove(path)
		case 1:
			_ = os.Rename(path, filepath.Join(home, "person0", fmt.Sprintf("renamed %d.txt", r.IntN(9))))
		default:
			at = at.Add(time.Second)
			require.NoError(t, os.WriteFile(path, fmt.Appendf(nil, "%d\n%d\n", r.Uint64(), r.Uint64()), 0o644))
			require.NoError(t, os.Chtimes(path, at, at))
		}
	}
}

func digests(t *testing.T, dir string, paths map[string]bool) map[string]string {
	all := map[string]string{}
	require.NoError(t, filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
		if err != nil || !d.Type().IsRegular() {
			return err
		}
		content, err := os.ReadFile(path)
		rel, _ := filepath.Rel(dir, path)
		all[rel], paths[rel] = fmt.Sprintf("%x", sha256.Sum256(content)), true
		return err
	}))
	return all
}
