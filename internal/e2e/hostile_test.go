package e2e

import (
	"archive/tar"
	"archive/zip"
	"bufio"
	"bytes"
	"compress/gzip"
	"crypto/sha1"
	encoding "encoding/binary"
	"encoding/hex"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"net/http"
	"net/http/httptest"
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

// What somebody lays to make the service use memory or time: repositories and archives of a few kilobytes, drives that list without end. Each
// is surveyed with others beside it; the service and its children stay below 256 MiB together, and a source behind it has its turn.
func TestHostileStoresAreBounded(t *testing.T) {
	if testing.Short() {
		t.Skip("it takes a minute")
	}
	t.Run("repositories", func(t *testing.T) {
		surveyedBounded(t, "history", map[string]func(t *testing.T, at string){
			"changes": changesOverAndOver,
			"index":   anIndexOfMillions,
			"sparse":  aPackOfHoles,
			"staged":  anIndexOfHoles,
			"deep":    foldersWithoutEnd,
		})
	})
	t.Run("archives", func(t *testing.T) {
		surveyedBounded(t, "archive", map[string]func(t *testing.T, at string){
			"zips.tar":       zipsBehindZeros,
			"zeros.tar.gz":   zerosInGzip,
			"names.zip":      aLongDirectory,
			"window.tar.zst": aWideWindow,
			"wide.tar.xz":    aWideDictionary,
			"long.tar":       anEndlessHeader,
		})
	})
	t.Run("drives", func(t *testing.T) {
		surveyedBounded(t, "live", nil, aDriveOf(150_000, 30), aDriveOf(300_000, 200), aDriveOf(10_000_000, 200))
	})
}

// surveyedBounded surveys stores of a kind that lie on a machine, and drives, three or more at once, with a live source behind them.
func surveyedBounded(t *testing.T, kind string, hostile map[string]func(t *testing.T, at string), drives ...http.HandlerFunc) {
	yard := t.TempDir()
	require.NoError(t, os.MkdirAll(filepath.Join(yard, "srv"), 0o755))
	for name, lay := range hostile {
		lay(t, filepath.Join(yard, "srv", name))
	}
	require.NoError(t, os.MkdirAll(filepath.Join(yard, "home/ines"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(yard, "home/ines/Keel.txt"), []byte("oak"), 0o644))
	p := start(t, filepath.Join(t.TempDir(), "data"))
	m, err := p.AddMachineWithResponse(t.Context(), api.NewMachine{Name: "yard", At: yard})
	require.NoError(t, err)
	require.NotNil(t, m.JSON201, string(m.Body))
	locations := []string{"/srv"} // archives lie in one folder
	if kind != "archive" {
		locations = nil
		for name := range hostile {
			locations = append(locations, "/srv/"+name)
		}
	}
	for _, at := range locations {
		s, err := p.AddSourceWithResponse(t.Context(), api.NewSource{Machine: "yard", Kind: kind, At: &at})
		require.NoError(t, err)
		require.NotNil(t, s.JSON201, string(s.Body))
	}
	for n, drive := range drives {
		server := httptest.NewServer(drive)
		defer server.Close()
		name, root := fmt.Sprint("drive", n), "/"
		m, err := p.AddMachineWithResponse(t.Context(), api.NewMachine{Name: name, At: "dav://" + server.Listener.Addr().String() + "/"})
		require.NoError(t, err)
		require.NotNil(t, m.JSON201, string(m.Body))
		s, err := p.AddSourceWithResponse(t.Context(), api.NewSource{Machine: name, Kind: kind, At: &root})
		require.NoError(t, err)
		require.NotNil(t, s.JSON201, string(s.Body))
	}
	live := "/home"
	s, err := p.AddSourceWithResponse(t.Context(), api.NewSource{Machine: "yard", Kind: "live", At: &live})
	require.NoError(t, err)
	require.NotNil(t, s.JSON201, string(s.Body))
	peak := watch(t, p.cmd.Process.Pid)
	began := time.Now()
	survey := p.beginSurvey()
	words := "Keel"
	require.Eventually(t, func() bool {
		r, err := p.FindCopiesWithResponse(t.Context(), &api.FindCopiesParams{Words: &words})
		return err == nil && r.JSON200 != nil && len(r.JSON200.Copies) > 0
	}, time.Minute, 100*time.Millisecond, "a source behind them has its turn within a minute")
	turn := time.Since(began)
	p.wait(survey)
	most, own := peak()
	t.Logf("%s surveyed in %s, the source behind them after %s, with at most %d MiB, the service alone %d", kind, time.Since(began).Round(time.Second), turn.Round(time.Second), most>>20, own>>20)
	assert.Less(t, most, int64(256<<20), "the service and its children together")
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

// zipsBehindZeros is a tar of fifty small zips behind 600 MiB of zeros; it takes no room.
func zipsBehindZeros(t *testing.T, at string) {
	f, err := os.Create(at)
	require.NoError(t, err)
	defer f.Close()
	const zeros = 600 << 20
	w := tar.NewWriter(f)
	require.NoError(t, w.WriteHeader(&tar.Header{Name: "zeros", Mode: 0o644, Size: zeros}))
	end, err := f.Seek(zeros, io.SeekCurrent)
	require.NoError(t, err)
	require.NoError(t, f.Truncate(end))
	w = tar.NewWriter(f)
	for n := range 50 {
		var inner bytes.Buffer
		z := zip.NewWriter(&inner)
		member, err := z.Create("note.txt")
		require.NoError(t, err)
		_, err = member.Write([]byte("a note"))
		require.NoError(t, errors.Join(err, z.Close()))
		require.NoError(t, w.WriteHeader(&tar.Header{Name: fmt.Sprintf("%d.zip", n), Mode: 0o644, Size: int64(inner.Len())}))
		_, err = w.Write(inner.Bytes())
		require.NoError(t, err)
	}
	require.NoError(t, w.Close())
}

// zerosInGzip unpacks to 12 GiB and more.
func zerosInGzip(t *testing.T, at string) {
	var part, head bytes.Buffer
	z := gzip.NewWriter(&part)
	_, err := z.Write(make([]byte, 64<<20))
	require.NoError(t, errors.Join(err, z.Close()))
	z = gzip.NewWriter(&head)
	w := tar.NewWriter(z)
	require.NoError(t, w.WriteHeader(&tar.Header{Name: "zeros", Mode: 0o644, Size: 12 << 30}))
	require.NoError(t, z.Close())
	require.NoError(t, os.WriteFile(at, append(head.Bytes(), bytes.Repeat(part.Bytes(), 12<<30/(64<<20)+2)...), 0o644))
}

// aLongDirectory is a zip whose directory is nearly as long as is read, of names that are all long.
func aLongDirectory(t *testing.T, at string) {
	f, err := os.Create(at)
	require.NoError(t, err)
	defer f.Close()
	buffered := bufio.NewWriter(f)
	z := zip.NewWriter(buffered)
	for n := range 190_000 {
		_, err := z.CreateRaw(&zip.FileHeader{Name: fmt.Sprintf("%0190d", n)})
		require.NoError(t, err)
	}
	require.NoError(t, errors.Join(z.Close(), buffered.Flush()))
}

// aWideWindow is a frame of Zstandard (RFC 8878) that says that it refers back by up to 2 GiB; behind it come runs of zeros.
func aWideWindow(t *testing.T, at string) {
	frame := []byte{0x28, 0xb5, 0x2f, 0xfd, 0, 21 << 3}
	for range 40_000 { // blocks that repeat a byte 128 KiB
		frame = append(frame, 2, 0, 1<<4, 0)
	}
	require.NoError(t, os.WriteFile(at, append(frame, 1, 0, 0), 0o644))
}

// aWideDictionary is an archive in the form of xz whose block says that its dictionary is of 4 GiB.
func aWideDictionary(t *testing.T, at string) {
	c := exec.Command("xz", "--check=crc32", "--stdout")
	c.Stdin = bytes.NewReader(make([]byte, 10<<20))
	packed, err := c.Output()
	require.NoError(t, err)
	block := packed[12:] // behind the stream's header
	size := (int(block[0]) + 1) * 4
	require.EqualValues(t, []byte{0x21, 1}, block[2:4])
	block[4] = 40
	encoding.LittleEndian.PutUint32(block[size-4:], crc32.ChecksumIEEE(block[:size-4]))
	require.NoError(t, os.WriteFile(at, packed, 0o644))
}

// anEndlessHeader is a tar whose extended header is of 3 GiB; it takes no room.
func anEndlessHeader(t *testing.T, at string) {
	var b bytes.Buffer
	require.NoError(t, tar.NewWriter(&b).WriteHeader(&tar.Header{Name: "x", Mode: 0o644, Size: 3 << 30}))
	head := b.Bytes()
	head[156] = tar.TypeXHeader
	copy(head[148:156], "        ")
	sum := 0
	for _, c := range head {
		sum += int(c)
	}
	copy(head[148:156], fmt.Sprintf("%06o\x00 ", sum))
	require.NoError(t, os.WriteFile(at, head, 0o644))
	require.NoError(t, os.Truncate(at, 3<<30))
}

// aDriveOf lists so many files, with names of a length.
func aDriveOf(files, length int) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("DAV", "1, 2")
		if r.Method != "PROPFIND" {
			return
		}
		w.WriteHeader(http.StatusMultiStatus)
		out := bufio.NewWriter(w)
		defer out.Flush()
		const folder = `<D:response><D:href>/</D:href><D:propstat><D:prop><D:resourcetype><D:collection/></D:resourcetype></D:prop>` +
			`<D:status>HTTP/1.1 200 OK</D:status></D:propstat></D:response>`
		fmt.Fprint(out, `<?xml version="1.0"?><D:multistatus xmlns:D="DAV:">`, folder)
		for n := 0; n < files && r.Header.Get("Depth") != "0"; n++ {
			if _, err := fmt.Fprintf(out, `<D:response><D:href>/%0*d</D:href><D:propstat><D:prop><D:resourcetype/><D:getcontentlength>7</D:getcontentlength>`+
				`<D:getetag>"%d"</D:getetag></D:prop><D:status>HTTP/1.1 200 OK</D:status></D:propstat></D:response>`, length, n, n); err != nil {
				return
			}
		}
		fmt.Fprint(out, `</D:multistatus>`)
	}
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

// foldersWithoutEnd is a repository of 500 small trees, whose one commit shows two thousand files each in 490 folders of its own.
func foldersWithoutEnd(t *testing.T, dir string) {
	bare(t, dir)
	blob := git(t, dir, []byte("x"), "hash-object", "-w", "--stdin")
	var trees bytes.Buffer
	entry, kind := "100644 f\x00", "100644 blob"
	for range 490 {
		fmt.Fprintf(&trees, "%s %s\t%s\n\n", kind, blob, strings.TrimSuffix(entry[strings.Index(entry, " ")+1:], "\x00"))
		raw, err := hex.DecodeString(blob)
		require.NoError(t, err)
		text := entry + string(raw)
		blob = fmt.Sprintf("%x", sha1.Sum(fmt.Appendf(nil, "tree %d\x00%s", len(text), text)))
		entry, kind = "40000 a\x00", "040000 tree"
	}
	for n := range 2_000 {
		fmt.Fprintf(&trees, "040000 tree %s\tn%d\n", blob, n)
	}
	made := strings.Fields(git(t, dir, trees.Bytes(), "mktree", "--batch", "--missing"))
	git(t, dir, nil, "update-ref", "refs/heads/main", git(t, dir, nil, "-c", "user.name=x", "-c", "user.email=x@y", "commit-tree", "-m", "x", made[len(made)-1]))
}

// anIndexOfHoles is an index of what is staged that is said to be large and takes no room.
func anIndexOfHoles(t *testing.T, dir string) {
	require.NoError(t, os.MkdirAll(dir, 0o755))
	git(t, dir, nil, "init", "-q", "-b", "main", ".")
	git(t, dir, []byte(oneCommit), "fast-import", "--quiet")
	require.NoError(t, os.WriteFile(filepath.Join(dir, ".git/index"), []byte("DIRC\x00\x00\x00\x02\x00\x0f\x00\x00"), 0o644))
	require.NoError(t, os.Truncate(filepath.Join(dir, ".git/index"), 250<<20))
}
