package kinds

import (
	"archive/zip"
	"crypto/sha256"
	"fmt"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humble-rewind/internal/apart"
	"humble-rewind/internal/clouddrive"
	"humble-rewind/internal/demo/card"
	"humble-rewind/internal/reach"
	"humble-rewind/internal/reach/reachtest"
	"humble-rewind/internal/source"
	"humble-rewind/internal/source/sourcetest"
)

// stores is a small store of each kind: what lies on its machine, and where it is.
var stores = map[string]struct {
	at    string
	files map[string]string
}{
	"live": {"/home", map[string]string{"home/ines/Keel.txt": "oak", "home/ines/Plans/Ribs.svg": "<svg/>", "home/ines/now": "=> Keel.txt"}},
	"trash": {"/home/ines", map[string]string{
		"home/ines/.local/share/Trash/files/Keel.txt":          "oak",
		"home/ines/.local/share/Trash/info/Keel.txt.trashinfo": "[Trash Info]\nPath=/home/ines/Keel.txt\nDeletionDate=2026-11-03T16:30:00\n",
		"home/ines/.local/share/Trash/files/no record.txt":     "x",
	}},
	"snapshots": {"/points", map[string]string{
		"points/2026-03-04T1705/home/ines/Keel.txt":  "oak",
		"points/2026-03-05T1705/home/ines/Keel.txt":  "oak",
		"points/2026-03-05T1705/home/ines/Plans/now": "=> ../Keel.txt",
	}},
	"archive":   {"/papers", map[string]string{"papers/2026-03-04.zip": zipped(map[string]string{"home/ines/Keel.txt": "oak", "Plans/": ""})}},
	"unmounted": {"/images/card.img", map[string]string{"images/card.img": carded()}},
	"image":     {"/images/card.img", map[string]string{"images/card.img": carded()}},
	"history":   {"/home/ines/Lines", nil},
	"cloud":     {"/", nil},
	"strays":    {"/home", map[string]string{"home/ines/Keel.txt": "oak", "home/ines/Keel.txt~": "larch", "home/ines/Plans/Ribs.svg.bak": "<svg/>"}},
}

// carded is an image of a card on which something stands, and something was erased.
func carded() string {
	c := card.New(4<<20, "TRIALS", time.UTC)
	at := time.Date(2026, 3, 4, 17, 5, 0, 0, time.UTC)
	for path, content := range map[string]string{"Keel.txt": "oak", "Plans/Offsets of the Wren.csv": strings.Repeat("1;2;3\n", 2000), "Ribs.svg": "<svg/>"} {
		if err := c.Put(path, []byte(content), at); err != nil {
			panic(err)
		}
	}
	for _, path := range []string{"Plans/Offsets of the Wren.csv", "Ribs.svg"} {
		if err := c.Erase(path); err != nil {
			panic(err)
		}
	}
	return string(c.Image())
}

func zipped(files map[string]string) string {
	var b strings.Builder
	w := zip.NewWriter(&b)
	for name, content := range files {
		f, err := w.Create(name)
		if err == nil {
			_, err = f.Write([]byte(content))
		}
		if err != nil {
			panic(err)
		}
	}
	if err := w.Close(); err != nil {
		panic(err)
	}
	return b.String()
}

// commit makes a repository with a few versions in a folder.
func commit(t *testing.T, dir string) {
	git := func(args ...string) {
		c := exec.Command("git", append([]string{"-c", "user.name=Ines", "-c", "user.email=ines@quay.example", "-C", dir}, args...)...)
		out, err := c.CombinedOutput()
		require.NoError(t, err, string(out))
	}
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "Plans"), 0o755))
	git("init", "-q")
	for _, text := range []string{"oak", "larch"} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, "Keel.txt"), []byte(text), 0o644))
		require.NoError(t, os.WriteFile(filepath.Join(dir, "Plans", text), []byte(strings.Repeat(text, 2<<20)), 0o644))
		git("add", ".")
		git("commit", "-q", "-m", "of "+text)
		git("rm", "-q", "--cached", "Plans/"+text)
	}
	require.NoError(t, os.Symlink("../Keel.txt", filepath.Join(dir, "now")))
	git("add", "now")
	git("commit", "-q", "-m", "a link")
}

// drive serves a small cloud drive, and returns its address.
func drive(t *testing.T) string {
	d, err := clouddrive.Open(t.Context(), t.TempDir())
	require.NoError(t, err)
	t.Cleanup(func() { d.Close() })
	require.NoError(t, d.Admit(t.Context(), "ines", "oak", time.Time{}))
	require.NoError(t, d.Mkdir(t.Context(), "/Plans"))
	for _, path := range []string{"/Keel.txt", "/Plans/Ribs.svg", "/Plans/gone.svg"} {
		for _, text := range []string{"one", "larger"} {
			_, _, err := d.Put(t.Context(), path, strings.NewReader(text), "ines", "", "")
			require.NoError(t, err)
		}
	}
	require.NoError(t, d.Remove(t.Context(), "/Plans/gone.svg", "oda", "", false))
	server := httptest.NewTLSServer(d.Handler())
	t.Cleanup(server.Close)
	secret := filepath.Join(t.TempDir(), "secret")
	require.NoError(t, os.WriteFile(secret, []byte("oak\n"), 0o600))
	return fmt.Sprintf("davs://ines@%s/files?secret-file=%s&certificate=sha256:%x", server.Listener.Addr(), secret,
		sha256.Sum256(server.Certificate().Raw))
}

// ways are what lies between the service and a machine, from what can tell everything to what can tell next to nothing.
var ways = map[string]func(reach.Session) reach.Session{
	"as it is":       func(s reach.Session) reach.Session { return s },
	"one at a time":  func(s reach.Session) reach.Session { return reach.Limited(s, 1) },
	"poor":           func(s reach.Session) reach.Session { return reachtest.Poor(s, 0) },
	"poor, and slow": func(s reach.Session) reach.Session { return reach.Limited(reachtest.Poor(s, time.Millisecond), 2) },
	atTheTop:         func(s reach.Session) reach.Session { return s },
}

// atTheTop is a machine that is nothing but the store, as a drive is that was mounted to be read.
const atTheTop = "at the top"

// Every kind that is registered holds the contract of stores over every way, and a new one has to show a store here.
func TestEveryKindHoldsTheContractOverEveryWay(t *testing.T) {
	unpacker := &apart.Pool{}
	t.Cleanup(func() { assert.NoError(t, unpacker.Close()) })
	rules, _ := Leftovers()
	ranks := map[int]string{}
	for _, kind := range All(rules) {
		assert.NotContains(t, ranks, kind.Traits().Rank, "%s ranks as another kind does", kind.Name())
		ranks[kind.Traits().Rank] = kind.Name()
		laid, ok := stores[kind.Name()]
		require.True(t, ok, "lay a small store of the kind %s in stores", kind.Name())
		for name, way := range ways {
			if kind.Name() == "cloud" && strings.HasPrefix(name, "poor") {
				continue // a drive is reached in one way
			}
			t.Run(kind.Name()+" "+name, func(t *testing.T) {
				root := t.TempDir()
				at, lies := root, laid.at
				for path, content := range laid.files {
					to := filepath.Join(root, path)
					require.NoError(t, os.MkdirAll(filepath.Dir(to), 0o755))
					if target, link := strings.CutPrefix(content, "=> "); link {
						require.NoError(t, os.Symlink(target, to))
					} else {
						require.NoError(t, os.WriteFile(to, []byte(content), 0o600))
					}
				}
				if kind.Name() == "history" {
					commit(t, filepath.Join(root, laid.at))
				}
				if kind.Name() == "cloud" {
					at = drive(t)
				}
				if name == atTheTop && lies != "/" {
					if at, lies = filepath.Join(root, lies), "/"; filepath.Ext(at) != "" { // a store that is a file
						at, lies = filepath.Dir(at), "/"+filepath.Base(at)
					}
				}
				plain, err := Ways(unpacker).Open(t.Context(), at)
				require.NoError(t, err)
				files := way(plain)
				t.Cleanup(func() { assert.NoError(t, files.Close()) })
				sourcetest.Run(t, kind, source.Setup{Files: files, Own: files, At: lies, Zone: time.UTC, Homes: []string{"/home/ines"},
					Unpacker: unpacker})
			})
		}
	}
}

func TestWhatTheServiceKeepsIsNobodysFiles(t *testing.T) {
	root := t.TempDir()
	private := filepath.Join(root, "var")
	require.NoError(t, os.MkdirAll(filepath.Join(private, "records"), 0o755))
	s, err := Ways(nil, private).Open(t.Context(), root)
	require.NoError(t, err)
	defer s.Close()
	_, err = s.Tree(t.Context(), "/var/records")
	assert.Error(t, err)
}

// What each kind's store can be made to do, and what bounds it, is written down: a new kind cannot be added without an answer.
func TestEveryKindHasItsRowInTheSecurityTable(t *testing.T) {
	text, err := os.ReadFile("../../docs/security.md")
	require.NoError(t, err)
	_, table, found := strings.Cut(string(text), "## Kind by kind")
	require.True(t, found)
	table, _, _ = strings.Cut(table, "\n## ")
	rules, _ := Leftovers()
	rows := 0
	for line := range strings.Lines(table) {
		if strings.HasPrefix(line, "| `") {
			rows++
		}
	}
	assert.Equal(t, len(All(rules)), rows, "no row is of a kind that there is not")
	for _, kind := range All(rules) {
		_, row, found := strings.Cut(table, "\n| `"+kind.Name()+"` |")
		if !assert.True(t, found, "%s has no row", kind.Name()) {
			continue
		}
		row, _, _ = strings.Cut(row, "\n")
		cells := strings.Split(strings.TrimSuffix(strings.TrimSpace(row), "|"), " | ")
		assert.Len(t, cells, 4, kind.Name())
		for _, cell := range cells {
			assert.NotEmpty(t, strings.TrimSpace(cell), kind.Name())
		}
	}
}
