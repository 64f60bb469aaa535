package apart_test

import (
	"archive/zip"
	"bytes"
	"compress/gzip"
	"context"
	"database/sql"
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
	"image"
	"image/color"
	"image/jpeg"
	"image/png"
	"io"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humble-rewind/internal/apart"
	"humble-rewind/internal/core/condition"
)

func content(b []byte) apart.Input {
	return apart.Input{ReaderAt: bytes.NewReader(b), Size: int64(len(b))}
}

func pool(t *testing.T) *apart.Pool {
	p := &apart.Pool{}
	t.Cleanup(func() { p.Close() })
	return p
}

func packed(t *testing.T, members map[string]string) []byte {
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	for name, text := range members {
		w, err := z.Create(name)
		require.NoError(t, err)
		_, err = io.WriteString(w, text)
		require.NoError(t, err)
	}
	require.NoError(t, z.Close())
	return b.Bytes()
}

func picture(t *testing.T, w, h int, write func(io.Writer, image.Image) error) []byte {
	img := image.NewRGBA(image.Rect(0, 0, w, h))
	for i := range img.Pix {
		img.Pix[i] = byte(i * 7)
	}
	var b bytes.Buffer
	require.NoError(t, write(&b, img))
	return b.Bytes()
}

func TestWhatChildrenFindIsWhatIsThere(t *testing.T) {
	p, ctx := pool(t), t.Context()
	document := packed(
		t,
		map[string]string{
			"word/document.xml":   `<w:document xmlns:w="x"><w:body><w:p><w:r><w:t>The keel of the Marsh Wren</w:t></w:r></w:p></w:body></w:document>`,
			"[Content_Types].xml": "<Types/>",
			"_rels/.rels":         "<R/>",
		},
	)
	found, err := p.Examine(ctx, content(document))
	require.NoError(t, err)
	assert.NotEqual(t, condition.Broken, found.State, found.Reasons)
	found, err = p.Examine(ctx, content(document[:len(document)-30]))
	require.NoError(t, err)
	assert.Equal(t, condition.Broken, found.State)
	held, err := p.Holds(ctx, content(document), []string{"marsh WREN", "heron"})
	require.NoError(t, err)
	assert.Equal(t, apart.Held{Words: []bool{true, false}, Text: true}, held)
	look, err := p.Look(ctx, content([]byte("one\ntwo\n")))
	require.NoError(t, err)
	assert.Equal(t, []string{"one", "two"}, look.Lines)
	var drawn bytes.Buffer
	require.NoError(t, p.Draw(ctx, content(picture(t, 3000, 2500, png.Encode)), &drawn), "a large one goes to a child of its own")
	config, err := png.DecodeConfig(&drawn)
	require.NoError(t, err)
	assert.Equal(t, 1600, config.Width)
	c, err := p.Compare(ctx, apart.Input{Name: "a.txt", ReaderAt: strings.NewReader("one\ntwo\n"), Size: 8},
		apart.Input{Name: "b.txt", ReaderAt: strings.NewReader("one\nsix\n"), Size: 8})
	require.NoError(t, err)
	assert.EqualValues(t, "lines", c.By)
	ofA, _, err := p.Shares(ctx, content([]byte("one two three four")), content([]byte("one two three five")))
	require.NoError(t, err)
	assert.InDelta(t, 5.0/7, ofA, 0.01)
	db := database(t, "CREATE TABLE boats (name TEXT)", "INSERT INTO boats VALUES ('Marsh Wren')")
	found, err = p.Examine(ctx, content(db))
	require.NoError(t, err)
	assert.Equal(t, condition.Sound, found.State, found.Reasons)
}

func database(t *testing.T, statements ...string) []byte {
	path := filepath.Join(t.TempDir(), "x.sqlite")
	db, err := sql.Open("sqlite", path)
	require.NoError(t, err)
	for _, statement := range statements {
		_, err := db.Exec(statement)
		require.NoError(t, err, statement)
	}
	require.NoError(t, db.Close())
	content, err := os.ReadFile(path)
	require.NoError(t, err)
	return content
}

type faulty struct{ err error }

func (f faulty) ReadAt([]byte, int64) (int, error) { return 0, f.err }

func TestFaultsOfReadingAndEndsOfPatienceAreTheCallers(t *testing.T) {
	p := pool(t)
	fault := errors.New("the drive reports a fault")
	_, err := p.Examine(t.Context(), apart.Input{ReaderAt: faulty{fault}, Size: 100})
	assert.ErrorIs(t, err, fault)
	ctx, cancel := context.WithTimeout(t.Context(), 300*time.Millisecond)
	defer cancel()
	begun := time.Now()
	_, err = p.Examine(ctx, apart.Input{ReaderAt: endless{}, Size: 1 << 50})
	assert.ErrorIs(t, err, context.DeadlineExceeded)
	assert.Less(t, time.Since(begun), time.Minute)
	_, err = p.Look(t.Context(), content([]byte("still here\n")))
	assert.NoError(t, err)
}

type endless struct{}

func (endless) ReadAt(p []byte, _ int64) (int, error) {
	clear(p)
	return len(p), nil
}

// hostile are contents that want far more than they are.
func hostile(t *testing.T) map[string][]byte {
	attributes := func(n int) string { return "<a" + strings.Repeat(` b=""`, n) + "/>" }
	office := func(xml string) []byte {
		return packed(t, map[string]string{"word/document.xml": xml, "[Content_Types].xml": "<Types/>", "_rels/.rels": "<R/>"})
	}
	deep := strings.Repeat("<a>", 20<<20/3)
	set := map[string][]byte{
		"60 MB of attributes in 94 KB": office(attributes(12 << 20)),
		"deep nesting, packed":         office(deep),
		"deep nesting, plain":          []byte(`<?xml version="1.0"?>` + deep),
		"a database over zeroblobs": database(t, "CREATE TABLE t (n)", "CREATE INDEX i ON t (zeroblob(n))", "INSERT INTO t VALUES (1)",
			"PRAGMA writable_schema = 1", "UPDATE sqlite_schema SET sql = 'CREATE INDEX i ON t (zeroblob(900000000))' WHERE name = 'i'"),
		"a picture of 16 bits a channel": deepPicture(t, 6400, 6400),
		"a progressive picture":          progressive(t, 16000, 16000),
		"a picture that says it is huge": huge(t),
		"brackets":                       []byte(strings.Repeat("[", 30<<20)),
		"a run of one byte, gzipped":     gzipped(t, 2<<30),
	}
	var z bytes.Buffer
	w := zip.NewWriter(&z)
	for i := range 190_000 {
		_, err := w.CreateRaw(&zip.FileHeader{Name: fmt.Sprint(i)})
		require.NoError(t, err)
	}
	require.NoError(t, w.Close())
	set["190,000 entries"] = z.Bytes()
	lines := func(seed uint64) []byte {
		r := rand.New(rand.NewPCG(seed, 1))
		var b bytes.Buffer
		for i := range 59_000 {
			if i%2950 == 0 {
				b.WriteString(strings.Repeat(string(rune('a'+r.IntN(26))), 400<<10))
			}
			fmt.Fprintln(&b, r.IntN(50))
		}
		return b.Bytes()
	}
	set["many short lines and some long"] = lines(1)
	set["and others like it"] = lines(2)
	return set
}

// peak is the most memory that the children of this process have taken, together, in bytes.
type peak struct {
	mu   sync.Mutex
	most int64
	stop chan struct{}
	done chan struct{}
}

func watch() *peak {
	p := &peak{stop: make(chan struct{}), done: make(chan struct{})}
	go func() {
		defer close(p.done)
		for {
			select {
			case <-p.stop:
				return
			case <-time.After(2 * time.Millisecond):
			}
			total := int64(0)
			children, _ := os.ReadFile(fmt.Sprintf("/proc/self/task/%d/children", os.Getpid()))
			tasks, _ := filepath.Glob("/proc/self/task/*/children")
			for _, task := range tasks {
				more, _ := os.ReadFile(task)
				children = append(append(children, ' '), more...)
			}
			seen := map[string]bool{}
			for _, pid := range strings.Fields(string(children)) {
				if seen[pid] {
					continue
				}
				seen[pid] = true
				if !strings.Contains(read("/proc/"+pid+"/environ"), "HUMBLE_REWIND_APART") {
					continue // not yet one: it still is this process
				}
				fields := strings.Fields(read("/proc/" + pid + "/statm"))
				if len(fields) > 2 {
					pages, _ := strconv.ParseInt(fields[1], 10, 64)
					total += pages * int64(os.Getpagesize())
				}
			}
			p.mu.Lock()
			p.most = max(p.most, total)
			p.mu.Unlock()
		}
	}()
	return p
}

func read(path string) string {
	content, _ := os.ReadFile(path)
	return string(content)
}

func (p *peak) end() int64 {
	close(p.stop)
	<-p.done
	return p.most
}

// No content takes more memory or time than it is given, three at once; what it does not come to is said, and the next one is
// looked into as if nothing had been.
func TestNoContentTakesMoreThanItIsGiven(t *testing.T) {
	set := hostile(t)
	const most = 170 << 20 // so that with what the service itself takes it stays below 256 MiB
	for name, hard := range set {
		t.Run(name, func(t *testing.T) {
			p, w, begun := pool(t), watch(), time.Now()
			var wait sync.WaitGroup
			for i := range 3 {
				wait.Go(func() {
					_, err := p.Examine(t.Context(), content(hard))
					if err != nil {
						assert.ErrorIs(t, err, apart.ErrDemanding)
					}
					switch i {
					case 0:
						_, err = p.Look(t.Context(), content(hard))
					case 1:
						_, _, err = p.Shares(t.Context(), content(hard), content(set["and others like it"]))
					case 2:
						_, err = p.Compare(t.Context(), content(hard), content(set["and others like it"]))
					}
					if err != nil {
						assert.ErrorIs(t, err, apart.ErrDemanding)
					}
				})
			}
			wait.Wait()
			took, took2 := w.end(), time.Since(begun)
			t.Logf("%d MiB, %.1f s", took>>20, took2.Seconds())
			assert.Less(t, took, int64(most))
			assert.Less(t, took2, 100*time.Second)
			look, err := p.Look(t.Context(), content([]byte("still here\n")))
			require.NoError(t, err)
			assert.Equal(t, []string{"still here"}, look.Lines)
		})
	}
}

// deepPicture is a PNG of one colour with 16 bits a channel, written row by row.
func deepPicture(t *testing.T, w, h int) []byte {
	var b bytes.Buffer
	require.NoError(t, png.Encode(&b, uniform{color.NRGBA64{1, 2, 3, 65535}, image.Rect(0, 0, w, h)}))
	return b.Bytes()
}

type uniform struct {
	c      color.NRGBA64
	bounds image.Rectangle
}

func (u uniform) ColorModel() color.Model { return color.NRGBA64Model }
func (u uniform) Bounds() image.Rectangle { return u.bounds }
func (u uniform) At(int, int) color.Color { return u.c }

// progressive is a JPEG whose frame is marked as progressive and says that it is large.
func progressive(t *testing.T, w, h int) []byte {
	b := picture(t, 16, 16, func(out io.Writer, img image.Image) error { return jpeg.Encode(out, img, nil) })
	at := bytes.Index(b, []byte{0xff, 0xc0})
	require.Positive(t, at)
	b[at+1] = 0xc2
	binary.BigEndian.PutUint16(b[at+5:], uint16(h))
	binary.BigEndian.PutUint16(b[at+7:], uint16(w))
	return b
}

// huge is a PNG whose header, checksum and all, says that it has more pixels than can be counted.
func huge(t *testing.T) []byte {
	b := picture(t, 4, 4, png.Encode)
	binary.BigEndian.PutUint32(b[16:], 1<<31-1)
	binary.BigEndian.PutUint32(b[20:], 1<<31-1)
	binary.BigEndian.PutUint32(b[29:], crc32.ChecksumIEEE(b[12:29]))
	return b
}

func gzipped(t *testing.T, size int64) []byte {
	var b bytes.Buffer
	z := gzip.NewWriter(&b)
	_, err := io.CopyN(z, zeros{}, size)
	require.NoError(t, errors.Join(err, z.Close()))
	return b.Bytes()
}

type zeros struct{}

func (zeros) Read(p []byte) (int, error) {
	clear(p)
	return len(p), nil
}
