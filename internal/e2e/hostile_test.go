package e2e

import (
	"bytes"
	encoding "encoding/binary"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humble-rewind/api"
)

// oneCommit is a history of one commit, as git fast-import reads it.
const oneCommit = "commit refs/heads/main\ncommitter x <x@y> 1700000000 +0000\ndata 1\nx\nM 100644 inline a\ndata 1\nx\n\n"

// What somebody lays to make the service use memory or time: repositories of a few kilobytes. Each is surveyed with others beside it; the
// service and its children stay below 256 MiB together, and a source behind it has its turn.
func TestHostileStoresAreBounded(t *testing.T) {
	if testing.Short() {
		t.Skip("it takes a minute")
	}
	yard := t.TempDir()
	hostile := map[string]func(t *testing.T, dir string){
		"changes": changesOverAndOver,
		"index":   anIndexOfMillions,
		"sparse":  aPackOfHoles,
		"staged":  anIndexOfHoles,
	}
	for name, lay := range hostile {
		lay(t, filepath.Join(yard, "srv", name))
	}
	require.NoError(t, os.MkdirAll(filepath.Join(yard, "home/ines"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(yard, "home/ines/Keel.txt"), []byte("oak"), 0o644))
	p := start(t, filepath.Join(t.TempDir(), "data"))
	m, err := p.AddMachineWithResponse(t.Context(), api.NewMachine{Name: "yard", At: yard})
	require.NoError(t, err)
	require.NotNil(t, m.JSON201, string(m.Body))
	for name := range hostile {
		at := "/srv/" + name
		s, err := p.AddSourceWithResponse(t.Context(), api.NewSource{Machine: "yard", Kind: "history", At: &at})
		require.NoError(t, err)
		require.NotNil(t, s.JSON201, string(s.Body))
	}
	live := "/home"
	s, err := p.AddSourceWithResponse(t.Context(), api.NewSource{Machine: "yard", Kind: "live", At: &live})
	require.NoError(t, err)
	require.NotNil(t, s.JSON201, string(s.Body))
	peak := watch(t, p.cmd.Process.Pid)
	began := time.Now()
	job := p.wait(p.beginSurvey())
	most, own := peak()
	t.Logf("surveyed in %s with at most %d MiB, the service alone %d", time.Since(began).Round(time.Second), most>>20, own>>20)
	assert.Less(t, most, int64(256<<20), "the service and its children together")
	found := false
	for _, c := range p.all() {
		found = found || strings.HasSuffix(c.Place.Path, "Keel.txt")
	}
	assert.True(t, found, "the source behind them had its turn: %v", job.State)
}

// watch notes the memory of a process and all its children, until the function is called.
func watch(t *testing.T, pid int) (peak func() (all, own int64)) {
	var most, alone atomic.Int64
	stop := make(chan struct{})
	done := make(chan struct{})
	go func() {
		defer close(done)
		for {
			select {
			case <-stop:
				return
			case <-time.After(20 * time.Millisecond):
				most.Store(max(most.Load(), resident(pid, true)))
				alone.Store(max(alone.Load(), resident(pid, false)))
			}
		}
	}()
	return func() (int64, int64) {
		close(stop)
		<-done
		return most.Load(), alone.Load()
	}
}

// resident is the anonymous memory of a process, and of those below it, in bytes.
func resident(pid int, below bool) (total int64) {
	status, _ := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
	for line := range strings.Lines(string(status)) {
		if f := strings.Fields(line); len(f) > 1 && f[0] == "RssAnon:" {
			n, _ := strconv.ParseInt(f[1], 10, 64)
			total += n << 10
		}
	}
	if !below {
		return total
	}
	tasks, _ := filepath.Glob(fmt.Sprintf("/proc/%d/task/*/children", pid))
	for _, task := range tasks {
		children, _ := os.ReadFile(task)
		for child := range strings.FieldsSeq(string(children)) {
			if n, err := strconv.Atoi(child); err == nil {
				total += resident(n, true)
			}
		}
	}
	return total
}

func git(t *testing.T, dir string, input []byte, args ...string) string {
	t.Helper()
	c := exec.Command("git", append([]string{"-C", dir}, args...)...)
	c.Env = append(os.Environ(), "GIT_CONFIG_GLOBAL=/dev/null")
	c.Stdin = bytes.NewReader(input)
	out, err := c.CombinedOutput()
	require.NoError(t, err, string(out))
	return strings.TrimSpace(string(out))
}

func bare(t *testing.T, dir string) {
	require.NoError(t, os.MkdirAll(dir, 0o755))
	git(t, dir, nil, "init", "-q", "--bare", "-b", "main", ".")
}

// changesOverAndOver is a small repository whose commits add and remove many files in turn.
func changesOverAndOver(t *testing.T, dir string) {
	bare(t, dir)
	var b bytes.Buffer
	b.WriteString("blob\nmark :1\ndata 1\nx\n")
	for n := range 60 {
		fmt.Fprintf(&b, "commit refs/heads/main\nmark :%d\ncommitter x <x@y> %d +0000\ndata 1\nx\n", n+2, 1_700_000_000+n)
		switch {
		case n == 0:
			for f := range 10_000 {
				fmt.Fprintf(&b, "M 100644 :1 files/%d\n", f)
			}
		case n == 1:
			b.WriteString("R files kept\nC kept files\nD kept\n")
		case n%2 == 0:
			b.WriteString("D files\n")
		default:
			b.WriteString("M 040000 TREE files\n")
		}
		b.WriteString("\n")
	}
	// The tree is made first, so that later commits can name it.
	head, _, _ := bytes.Cut(b.Bytes(), []byte("commit refs/heads/main\nmark :3\n"))
	git(t, dir, head, "fast-import", "--quiet", "--force")
	tree := git(t, dir, nil, "rev-parse", "main:files")
	git(t, dir, bytes.ReplaceAll(b.Bytes(), []byte("TREE"), []byte(tree)), "fast-import", "--quiet", "--force")
	git(t, dir, nil, "repack", "-adq")
}

func aCommit(t *testing.T, dir string) {
	bare(t, dir)
	git(t, dir, []byte(oneCommit), "fast-import", "--quiet")
	git(t, dir, nil, "repack", "-adq")
}

// anIndexOfMillions is an index that says that a pack of a few bytes holds five million objects; it takes no room.
func anIndexOfMillions(t *testing.T, dir string) {
	aCommit(t, dir)
	const objects = 5_000_000
	name := filepath.Join(dir, "objects/pack/pack-"+strings.Repeat("ab", 20))
	pack := encoding.BigEndian.AppendUint32([]byte("PACK\x00\x00\x00\x02"), objects)
	require.NoError(t, os.WriteFile(name+".pack", append(pack, make([]byte, 31)...), 0o644))
	index := []byte("\xfftOc\x00\x00\x00\x02")
	for n := range 256 {
		index = encoding.BigEndian.AppendUint32(index, uint32(objects*(n+1)/256))
	}
	require.NoError(t, os.WriteFile(name+".idx", index, 0o644))
	require.NoError(t, os.Truncate(name+".idx", int64(len(index))+objects*28+40))
}

// aPackOfHoles is a pack of 50 GiB that takes no room.
func aPackOfHoles(t *testing.T, dir string) {
	aCommit(t, dir)
	name := filepath.Join(dir, "objects/pack/pack-"+strings.Repeat("cd", 20))
	packs, err := filepath.Glob(filepath.Join(dir, "objects/pack/*.pack"))
	require.NoError(t, err)
	for _, end := range []string{".pack", ".idx"} {
		content, err := os.ReadFile(strings.TrimSuffix(packs[0], ".pack") + end)
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(name+end, content, 0o644))
	}
	require.NoError(t, os.Truncate(name+".pack", 50<<30))
}

// anIndexOfHoles is an index of what is staged that is said to be large and takes no room.
func anIndexOfHoles(t *testing.T, dir string) {
	require.NoError(t, os.MkdirAll(dir, 0o755))
	git(t, dir, nil, "init", "-q", "-b", "main", ".")
	git(t, dir, []byte(oneCommit), "fast-import", "--quiet")
	require.NoError(t, os.WriteFile(filepath.Join(dir, ".git/index"), []byte("DIRC\x00\x00\x00\x02\x00\x0f\x00\x00"), 0o644))
	require.NoError(t, os.Truncate(filepath.Join(dir, ".git/index"), 250<<20))
}
