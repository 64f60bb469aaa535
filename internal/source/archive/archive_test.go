package archive_test

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"compress/gzip"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humble-rewind/internal/apart"
	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/problem"
	"humble-rewind/internal/core/sighting"
	"humble-rewind/internal/reach"
	"humble-rewind/internal/reach/local"
	"humble-rewind/internal/reach/reachtest"
	"humble-rewind/internal/source"
	"humble-rewind/internal/source/archive"
	"humble-rewind/internal/source/sourcetest"
)

var written = time.Date(2026, 3, 4, 17, 5, 7, 0, time.UTC)

// members are an archive's by their names; a name that ends in a slash is a folder, content that begins with "=> " makes a link.
type members []struct{ name, content string }

var papers = members{
	{"home/ines/Quotes/", ""},
	{"home/ines/Quotes/Quote 116.odt", "quote"},
	{"home/ines/notes.txt", strings.Repeat("plank\n", 500)},
	{"home/ines/to notes", "=> notes.txt"},
}

func zipped(t *testing.T, all members) []byte {
	var b bytes.Buffer
	w := zip.NewWriter(&b)
	for _, m := range all {
		h := &zip.FileHeader{Name: m.name, Method: zip.Deflate, Modified: written}
		content := m.content
		if target, link := strings.CutPrefix(content, "=> "); link {
			h.SetMode(fs.ModeSymlink | 0o777)
			content = target
		}
		f, err := w.CreateHeader(h)
		require.NoError(t, err)
		_, err = io.WriteString(f, content)
		require.NoError(t, err)
	}
	require.NoError(t, w.Close())
	return b.Bytes()
}

func tarred(t *testing.T, all members) []byte {
	var b bytes.Buffer
	w := tar.NewWriter(&b)
	for _, m := range all {
		h := &tar.Header{Name: m.name, Typeflag: tar.TypeReg, Size: int64(len(m.content)), Mode: 0o4777, Uid: 0, ModTime: written}
		content := m.content
		if target, link := strings.CutPrefix(content, "=> "); link {
			h.Typeflag, h.Linkname, h.Size, content = tar.TypeSymlink, target, 0, ""
		} else if strings.HasSuffix(m.name, "/") {
			h.Typeflag = tar.TypeDir
		}
		require.NoError(t, w.WriteHeader(h))
		_, err := io.WriteString(w, content)
		require.NoError(t, err)
	}
	require.NoError(t, w.Close())
	return b.Bytes()
}

// setup lays archives in a folder of a machine. With poor its way can tell little and reads files only from their beginning.
func setup(t *testing.T, poor bool, files map[string][]byte) (source.Setup, string) {
	root := t.TempDir()
	require.NoError(t, os.Mkdir(filepath.Join(root, "archives"), 0o755))
	for name, content := range files {
		require.NoError(t, os.WriteFile(filepath.Join(root, "archives", name), content, 0o644))
	}
	files_, err := local.Open(root)
	require.NoError(t, err)
	t.Cleanup(func() { files_.Close() })
	if poor {
		files_ = reachtest.Poor(files_, time.Microsecond)
	}
	zone, err := time.LoadLocation("Europe/Lisbon")
	require.NoError(t, err)
	unpacker := &apart.Pool{}
	t.Cleanup(func() { unpacker.Close() })
	return source.Setup{Files: files_, At: "/archives", Zone: zone, Homes: []string{"/home/ines"}, Unpacker: unpacker}, root
}

func TestHoldsTheContractOfStoresOverEveryWay(t *testing.T) {
	for _, poor := range []bool{false, true} {
		s, _ := setup(t, poor, map[string][]byte{"papers 2026-03-04.zip": zipped(t, papers), "papers 2026-03-05.tar": tarred(t, papers)})
		sourcetest.Run(t, archive.Kind, s)
		s.At = "/archives/papers 2026-03-04.zip"
		sourcetest.Run(t, archive.Kind, s)
		s.At = "/archives/papers 2026-03-05.tar"
		sourcetest.Run(t, archive.Kind, s)
		for _, end := range []string{"gz", "bz2", "xz", "zst"} {
			s, _ := setup(t, poor, map[string][]byte{"papers 2026-03-06.tar." + end: squeezed(t, tarred(t, papers), end)})
			sourcetest.Run(t, archive.Kind, s)
		}
	}
}

// survey reports everything in a store, with what its survey before remembered.
type survey struct {
	source.Known // of which, and of the reporter, only what follows is asked
	source.Reporter

	memo   []byte
	known  map[string]time.Time
	begun  []sighting.Capture
	seen   map[string]sighting.Sighting // by path
	notes  []string
	broken []string
}

func (r *survey) Marks(context.Context, string) (func(string) entry.Mark, error) {
	return func(string) entry.Mark { return entry.Mark{} }, nil
}
func (r *survey) Unchanged(context.Context, string, []byte, int) (bool, error) { return false, nil }
func (r *survey) Captures(context.Context) (map[string]time.Time, error)       { return r.known, nil }
func (r *survey) Cursor() []byte                                               { return nil }
func (r *survey) Progress(int64, int64, string)                                {}
func (r *survey) Due() bool                                                    { return false }
func (r *survey) Memo() []byte                                                 { return r.memo }
func (r *survey) Remember(memo []byte)                                         { r.memo = memo }
func (r *survey) Gone(sighting.Locator) error                                  { return errors.New("gone") }
func (r *survey) Unread(dir string, why error) error                           { return why }
func (r *survey) Note(text string)                                             { r.notes = append(r.notes, text) }
func (r *survey) Discard(why string) error {
	r.broken = append(r.broken, why)
	return nil
}
func (r *survey) Begin(c sighting.Capture) error {
	r.begun = append(r.begun, c)
	return nil
}
func (r *survey) Sight(s sighting.Sighting) error {
	r.seen[join(s.At.Dir, s.At.Name)] = s
	return nil
}

func join(dir, name string) string { return strings.TrimPrefix(dir+"/"+name, "/") }

func run(t *testing.T, s source.Setup, before *survey) *survey {
	store, err := archive.Kind.Open(t.Context(), s)
	require.NoError(t, err)
	defer store.Close()
	r := &survey{seen: map[string]sighting.Sighting{}, known: map[string]time.Time{}}
	if before != nil {
		r.memo = before.memo
		for _, c := range before.begun {
			r.known[c.Name] = c.At
		}
	}
	require.NoError(t, store.Survey(t.Context(), r, r))
	return r
}

func read(t *testing.T, s source.Setup, path string) (string, error) {
	store, err := archive.Kind.Open(t.Context(), s)
	require.NoError(t, err)
	defer store.Close()
	archiveName, member, _ := strings.Cut(path, ":")
	dir, name := filepath.Split(member)
	c, err := store.Open(t.Context(), sighting.Locator{Capture: archiveName, Dir: strings.TrimSuffix(dir, "/"), Name: name}.Ref())
	if err != nil {
		return "", err
	}
	defer c.Close()
	stream, err := c.File.Stream(t.Context())
	if err != nil {
		return "", err
	}
	defer stream.Close()
	content, err := io.ReadAll(stream)
	return string(content), err
}

func TestMembersComeFromWhereMapsOrHomesSay(t *testing.T) {
	inside := members{{"Quotes/a.odt", "a"}}
	s, _ := setup(t, false, map[string][]byte{"a.zip": zipped(t, append(inside, papers...))})
	r := run(t, s, nil)
	assert.Empty(t, r.seen["Quotes/a.odt"].Origin, "nothing tells")
	assert.Equal(t, "/home/ines/notes.txt", r.seen["home/ines/notes.txt"].Origin)
	assert.Equal(t, entry.Folder, r.seen["Quotes"].Type, "a folder that no member is of is there all the same")
	assert.Equal(t, "notes.txt", r.seen["home/ines/to notes"].Target)
	s.Maps = []place.Map{{From: "/Quotes", To: "/home/ines/Documents/Quotes"}}
	assert.Equal(t, "/home/ines/Documents/Quotes/a.odt", run(t, s, nil).seen["Quotes/a.odt"].Origin)
	for path, seen := range r.seen {
		assert.False(t, seen.UID.Known || seen.Mark.Mode.Known, "%s: nobody's word is taken for whose it is", path)
	}
	assert.True(t, r.seen["home/ines/notes.txt"].Written.Equal(written))
}

func TestHostileNamesLeadNowhere(t *testing.T) {
	hostile := members{
		{"../../etc/passwd", "x"},
		{"a/../../b", "x"},
		{"/home/ines/rooted", "rooted"},
		{"./home//ines/./dots", "dots"},
		{"file", "f"},
		{"file/inside", "x"},
		{"twice", "one"},
		{"twice", "two"},
		{strings.Repeat("d/", 600) + "deep", "x"},
	}
	for name, content := range map[string][]byte{"h.zip": zipped(t, hostile), "h.tar": tarred(t, hostile)} {
		s, _ := setup(t, false, map[string][]byte{name: content})
		r := run(t, s, nil)
		for path, seen := range r.seen {
			assert.NotContains(t, path, "..", name)
			assert.True(t, seen.Origin == "" || place.Under(seen.Origin, "/home/ines"), "%s: %s", path, seen.Origin)
		}
		assert.Contains(t, r.seen, "home/ines/rooted")
		assert.Contains(t, r.seen, "home/ines/dots")
		assert.NotContains(t, r.seen, "file/inside")
		got, err := read(t, s, name+":twice")
		require.NoError(t, err)
		assert.Equal(t, "two", got, "what unpacking leaves")
		notes := strings.Join(r.notes, "\n")
		for _, said := range []string{"2 of its members have names that lead out", "called as others are", "in what is no folder",
			"too deep"} {
			assert.Contains(t, notes, said, name)
		}
	}
}

func TestWhatIsDamagedIsSaidAndNothingElseSuffers(t *testing.T) {
	plain := zipped(t, papers)
	flipped := bytes.Clone(plain)
	at := bytes.Index(flipped, []byte("Quote 116.odt")) + len("Quote 116.odt") + 12
	flipped[at] ^= 0x10
	tarball := tarred(t, papers)
	s, root := setup(
		t,
		false,
		map[string][]byte{"2026-03-01 whole.zip": plain, "2026-03-02 flipped.zip": flipped, "2026-03-03 cut.zip": plain[:len(plain)-40],
			"2026-03-04 cut.tar": tarball[:len(tarball)-3000], "2026-03-05 nonsense.tar": []byte(strings.Repeat("x", 2000))},
	)
	r := run(t, s, nil)
	assert.Len(t, r.begun, 4)
	notes := strings.Join(append(r.notes, r.broken...), "\n")
	for _, said := range []string{"2026-03-03 cut.zip: its directory is missing", "2026-03-05 nonsense.tar is not read", "cannot be read to its end"} {
		assert.Contains(t, notes, said)
	}
	_, err := read(t, s, "2026-03-02 flipped.zip:home/ines/Quotes/Quote 116.odt")
	assert.ErrorIs(t, err, problem.Broken, "a checksum that does not match is no content")
	got, err := read(t, s, "2026-03-02 flipped.zip:home/ines/notes.txt")
	require.NoError(t, err)
	assert.Len(t, got, 3000)

	// What is repaired under its name is read again, as another point in time.
	require.NoError(t, os.WriteFile(filepath.Join(root, "archives/2026-03-03 cut.zip"), plain, 0o644))
	again := run(t, s, r)
	same := 0
	for _, c := range again.begun {
		if c.Same {
			same++
		}
	}
	assert.Equal(t, 3, same)
	assert.Len(t, again.begun, 4)
	assert.NotContains(t, strings.Join(again.notes, "\n"), "its directory is missing")
	require.NoError(t, os.WriteFile(filepath.Join(root, "archives/2026-03-01 whole.zip"), zipped(t, papers[:2]), 0o644))
	third := run(t, s, again)
	var revised sighting.Capture
	for _, c := range third.begun {
		if !c.Same {
			revised = c
		}
	}
	assert.Equal(t, "2026-03-01 whole.zip;2", revised.Name)
	_, err = read(t, s, "2026-03-01 whole.zip;2:home/ines/Quotes/Quote 116.odt")
	require.NoError(t, err)
	_, err = read(t, s, "2026-03-01 whole.zip:home/ines/notes.txt")
	assert.ErrorIs(t, err, problem.NotThere)
}

func TestArchivesAreOfWhenTheirNamesSayElseOfTheirLatestMember(t *testing.T) {
	s, _ := setup(
		t,
		false,
		map[string][]byte{
			"papers 2026-03-09T1200.zip": zipped(t, papers),
			"papers.tar":                 tarred(t, papers),
			"2026-03-04.zip":             zipped(t, papers),
		},
	)
	at := map[string]string{}
	r := run(t, s, nil)
	for _, c := range r.begun {
		at[c.Name] = c.At.Format(time.RFC3339)
	}
	assert.Equal(
		t,
		map[string]string{
			"papers 2026-03-09T1200.zip": "2026-03-09T12:00:00Z",
			"papers.tar":                 "2026-03-04T17:05:08Z",
			"2026-03-04.zip":             "2026-03-04T17:05:08Z",
		},
		at,
	)
	assert.Contains(t, strings.Join(r.notes, "\n"), "papers.tar: its name does not say when it is of")
	assert.True(t, !r.begun[0].At.Equal(r.begun[1].At), "two of one time are two points")
}

func TestNamesOfOldZipsAreReadByTheirCodePage(t *testing.T) {
	var b bytes.Buffer
	w := zip.NewWriter(&b)
	for _, h := range []*zip.FileHeader{{Name: "Or\x87amento.txt", NonUTF8: true}, {Name: "Orçamento 2.txt", NonUTF8: true},
		{Name: `Quotes\a.txt`, CreatorVersion: 20}} {
		//lint:ignore SA1019 Modified would say the zone too, which old zips do not: 2026-03-04 16:00:00 on the packing machine's wall.
		h.ModifiedDate, h.ModifiedTime = 0x5c64, 0x8000
		_, err := w.CreateHeader(h)
		require.NoError(t, err)
	}
	require.NoError(t, w.Close())
	s, _ := setup(t, false, map[string][]byte{"old.zip": b.Bytes()})
	r := run(t, s, nil)
	assert.Contains(t, r.seen, "Orçamento.txt")
	assert.Contains(t, r.seen, "Orçamento 2.txt", "what is UTF-8 is, marked or not")
	assert.Contains(t, r.seen, "Quotes/a.txt")
	assert.Equal(
		t,
		"2026-03-04T16:00:00Z",
		r.seen["Orçamento.txt"].Written.Format(time.RFC3339),
		"by the machine's zone, which is UTC then",
	)
	assert.Contains(t, strings.Join(r.notes, "\n"), "without a zone")
	s.Options = map[string]string{"names": "latin1"}
	assert.NotContains(t, run(t, s, nil).seen, "Orçamento.txt")
	assert.Error(t, source.CheckOptions(archive.Kind, map[string]string{"names": "runes"}))
}

func TestLocationsThatHoldNoArchiveAreRefused(t *testing.T) {
	s, _ := setup(t, false, map[string][]byte{"notes.txt": []byte("x"), "broken.zip": []byte("PK")})
	for at, why := range map[string]string{"/archives/notes.txt": "does not end in .zip", "/archives/broken.zip": "damaged",
		"/missing": "it is not there"} {
		s.At = at
		_, err := archive.Kind.Describe(t.Context(), s)
		assert.ErrorContains(t, err, why, at)
	}
	found, err := archive.Kind.Suggest(t.Context(), s)
	require.NoError(t, err)
	assert.Empty(t, found)
}

// A folder of an archive is a tree like any other.
func TestAFolderOfAnArchiveIsRead(t *testing.T) {
	s, _ := setup(t, false, map[string][]byte{"a.zip": zipped(t, papers)})
	store, err := archive.Kind.Open(t.Context(), s)
	require.NoError(t, err)
	defer store.Close()
	c, err := store.Open(t.Context(), sighting.Locator{Capture: "a.zip", Dir: "home", Name: "ines"}.Ref())
	require.NoError(t, err)
	defer c.Close()
	list, err := c.Folder.List(t.Context())
	require.NoError(t, err)
	assert.Len(t, list, 3)
	quotes, err := c.Folder.Enter(t.Context(), "Quotes")
	require.NoError(t, err)
	content, err := reach.ReadFile(t.Context(), quotes, "Quote 116.odt", 100)
	require.NoError(t, err)
	assert.Equal(t, "quote", string(content))
	_, err = c.Folder.Open(t.Context(), "to notes")
	assert.ErrorIs(t, err, problem.NotFile)
	_, err = c.Folder.Look(t.Context(), "../ines")
	assert.ErrorIs(t, err, problem.BadName)
}

// A zip that was broken off has no directory: what is whole in it is read by the heads of its members, however much of it there is.
func TestAZipWithoutItsDirectoryIsReadAsFarAsItGoes(t *testing.T) {
	all := zipped(t, papers)
	for cut := len(all) - 1; cut > 40; cut -= 7 {
		s, _ := setup(t, false, map[string][]byte{"a.zip": all[:cut]})
		r := run(t, s, nil)
		for path, seen := range r.seen {
			if seen.Type != entry.File || len(r.broken) > 0 {
				continue
			}
			got, err := read(t, s, "a.zip:"+path)
			require.NoError(t, err, "%s of %d bytes", path, cut)
			for _, m := range papers {
				if m.name == path {
					assert.Equal(t, strings.TrimPrefix(m.content, "=> "), got, "%s of %d bytes", path, cut)
				}
			}
			assert.WithinDuration(t, written, seen.Written, 0)
		}
		if cut > len(all)-200 {
			assert.Contains(t, r.seen, "home/ines/notes.txt")
		}
	}
}

// Archives in an archive are looked into one level deep, whatever they are packed by, and none of them keeps the others from being read.
func TestArchivesInArchivesAreLookedInto(t *testing.T) {
	inside := members{{"home/ines/Old/a.txt", "one"}, {"loose.txt", "two"}, {"deeper.zip", string(zipped(t, members{{"x", "three"}}))}}
	outer := members{
		{"home/ines/papers.zip", string(zipped(t, inside))}, {"home/ines/papers.tgz", string(squeezed(t, tarred(t, inside), "gz"))},
		{"home/ines/broken.zip", "no zip"}, {"home/ines/z.txt", "last"}, {"home/ines/b.zip", string(zipped(t, inside[:1]))},
		{"home/ines/c.zip", string(zipped(t, inside[:1]))}, {"home/ines/d.zip", string(zipped(t, inside[:1]))},
	}
	s, _ := setup(t, false, map[string][]byte{"2026.zip": zipped(t, outer), "2027.tar.xz": squeezed(t, tarred(t, outer), "xz")})
	sourcetest.Run(t, archive.Kind, s)
	r := run(t, s, nil)
	assert.Contains(t, strings.Join(r.notes, " "), "broken.zip in 2026.zip is not looked into")
	assert.Equal(t, "/home/ines/Old/a.txt", r.seen["home/ines/papers.zip/home/ines/Old/a.txt"].Origin)
	assert.Empty(t, r.seen["home/ines/papers.zip/loose.txt"].Origin)
	assert.NotContains(t, r.seen, "home/ines/papers.zip/deeper.zip/x", "one level")
	for _, in := range []string{"2026.zip", "2027.tar.xz"} {
		for _, at := range []string{"papers.zip", "papers.tgz", "b.zip", "c.zip", "d.zip"} {
			got, err := read(t, s, in+":home/ines/"+at+"/home/ines/Old/a.txt")
			require.NoError(t, err, "%s in %s", at, in)
			assert.Equal(t, "one", got)
		}
		_, err := read(t, s, in+":home/ines/papers.zip/nothing")
		assert.ErrorIs(t, err, problem.NotThere)
		_, err = read(t, s, in+":home/ines/papers.zip/deeper.zip/x")
		assert.ErrorIs(t, err, problem.NotThere)
		_, err = read(t, s, in+":home/ines/z.txt/x")
		assert.ErrorIs(t, err, problem.NotThere)
	}
}

// What unpacks to more than anybody packs is given up, and so is what would take more memory than there is for it.
func TestWhatIsPackedToDoHarmIsGivenUp(t *testing.T) {
	s, _ := setup(t, false, map[string][]byte{"huge.tar.xz": squeezed(t, tarred(t, papers), "xz", "--lzma2=dict=512MiB")})
	r := run(t, s, nil)
	assert.Contains(t, strings.Join(r.notes, " "), "huge.tar.xz is not read")
}

// squeezed packs as the system's own tools do.
func squeezed(t *testing.T, content []byte, end string, options ...string) []byte {
	tools := map[string]string{"gz": "gzip", "bz2": "bzip2", "xz": "xz", "zst": "zstd"}
	cmd := exec.CommandContext(t.Context(), tools[end], append(options, "-c")...)
	cmd.Stdin = bytes.NewReader(content)
	out, err := cmd.Output()
	require.NoError(t, err)
	return out
}

// Members that others' tools encrypted are read with the password, and neither without one nor with another.
func TestEncryptedMembersAreReadWithTheirPassword(t *testing.T) {
	for _, how := range []string{"zipcrypt", "aes128", "aes256"} {
		s, root := setup(t, false, nil)
		content := encrypted(t, root, how, "larch and oak")
		require.NoError(t, os.WriteFile(filepath.Join(root, "archives/old.zip"), content, 0o644))
		r := run(t, s, nil)
		seen := r.seen["home/ines/notes.txt"]
		assert.True(t, seen.Readable)
		assert.Contains(t, strings.Join(seen.Notes, " "), "unlocked")
		for _, wrong := range []string{"", "larch and ash"} {
			s.Secret = nil
			if wrong != "" {
				s.Secret = []byte(wrong)
			}
			_, err := read(t, s, "old.zip:home/ines/notes.txt")
			if !errors.Is(err, problem.Broken) { // what the classic way takes for right once in 256 times, until its checksum
				assert.ErrorIs(t, err, problem.Locked, how)
			}
			assert.Equal(t, []int{0, 1}, opens(t, s), how)
		}
		s.Secret = []byte("larch and oak")
		assert.Equal(t, []int{1, 0}, opens(t, s), how)
		for _, m := range papers[1:3] {
			got, err := read(t, s, "old.zip:"+m.name)
			require.NoError(t, err, how)
			assert.Equal(t, m.content, got, how)
		}

		// A flipped bit of what is encrypted is damage, not other content.
		whole, err := os.ReadFile(filepath.Join(root, "archives/old.zip"))
		require.NoError(t, err)
		z, err := zip.NewReader(bytes.NewReader(whole), int64(len(whole)))
		require.NoError(t, err)
		for _, f := range z.File {
			if f.Name == "home/ines/notes.txt" {
				at, err := f.DataOffset()
				require.NoError(t, err)
				whole[at+int64(f.CompressedSize64)-14] ^= 4
			}
		}
		require.NoError(t, os.WriteFile(filepath.Join(root, "archives/old.zip"), whole, 0o644))
		_, err = read(t, s, "old.zip:home/ines/notes.txt")
		assert.ErrorIs(t, err, problem.Broken, how)
	}
}

// encrypted packs some papers, which it lays in a folder, as another tool does.
func encrypted(t testing.TB, root, how, password string) []byte {
	for _, m := range papers[1:3] {
		at := filepath.Join(root, m.name)
		require.NoError(t, errors.Join(os.MkdirAll(filepath.Dir(at), 0o755), os.WriteFile(at, []byte(m.content), 0o644)))
	}
	out := filepath.Join(t.TempDir(), "out.zip")
	said, err := exec.CommandContext(t.Context(), "bsdtar", "-C", root, "--format", "zip", "--options", "zip:encryption="+how,
		"--passphrase", password, "-cf", out, "home").CombinedOutput()
	require.NoError(t, err, string(said))
	content, err := os.ReadFile(out)
	require.NoError(t, err)
	return content
}

func opens(t *testing.T, s source.Setup) []int {
	store, err := archive.Kind.Open(t.Context(), s)
	require.NoError(t, err)
	defer store.Close()
	open, locked, err := store.(source.Lockable).Opens(t.Context())
	require.NoError(t, err)
	return []int{open, locked}
}

// Whatever bytes an archive is of, it is read or refused, and nothing leads out of it.
func FuzzArchives(f *testing.F) {
	t := &testing.T{}
	f.Add(zipped(t, papers), true)
	f.Add(tarred(t, papers), false)
	f.Add([]byte("PK\x05\x06"+strings.Repeat("\xff", 18)), true)
	for _, how := range []string{"zipcrypt", "aes128"} {
		f.Add(encrypted(f, f.TempDir(), how, "larch"), true)
	}
	for _, cut := range []int{40, 300} {
		f.Add(zipped(t, papers)[:len(zipped(t, papers))-cut], true)
	}
	f.Fuzz(func(t *testing.T, content []byte, isZip bool) {
		name := "a.tar"
		if isZip {
			name = "a.zip"
		}
		s, _ := setup(t, false, map[string][]byte{name: content})
		s.Secret = []byte("larch")
		store, err := archive.Kind.Open(t.Context(), s)
		require.NoError(t, err)
		defer store.Close()
		r := &survey{seen: map[string]sighting.Sighting{}}
		if err := store.Survey(t.Context(), r, r); err != nil {
			return
		}
		for path, seen := range r.seen {
			if clean, err := place.Clean("/" + path); err != nil || clean != "/"+path {
				t.Errorf("%q is no path", path)
			}
			if seen.Type != entry.File || !seen.Readable {
				continue
			}
			got, err := read(t, s, name+":"+path)
			if err == nil && int64(len(got)) != seen.Size {
				t.Errorf("%q has %d bytes, not %d", path, len(got), seen.Size)
			}
		}
	})
}

// Small archives behind much that is nothing are read in one pass over the one that they lie in: what is unpacked is kept, its zeros apart.
func TestArchivesBehindZerosAreReadInOnePass(t *testing.T) {
	var inner bytes.Buffer
	z := zip.NewWriter(&inner)
	f, err := z.Create("Keel.txt")
	require.NoError(t, err)
	_, err = f.Write([]byte("oak"))
	require.NoError(t, err)
	require.NoError(t, z.Close())
	var b bytes.Buffer
	packed := gzip.NewWriter(&b)
	w := tar.NewWriter(packed)
	const zeros = 600 << 20
	require.NoError(t, w.WriteHeader(&tar.Header{Name: "image", Size: zeros, Mode: 0o644, Format: tar.FormatPAX}))
	for block, n := make([]byte, 1<<20), 0; n < zeros; n += len(block) {
		_, err := w.Write(block)
		require.NoError(t, err)
	}
	for n := range 20 {
		require.NoError(t, w.WriteHeader(&tar.Header{Name: fmt.Sprintf("papers %d.zip", n), Size: int64(inner.Len()), Mode: 0o644}))
		_, err := w.Write(inner.Bytes())
		require.NoError(t, err)
	}
	require.NoError(t, errors.Join(w.Close(), packed.Close()))
	setup, _ := setup(t, false, map[string][]byte{"2026-03-04.tar.gz": b.Bytes()})
	read := &atomic.Int64{}
	setup.Files = counting{setup.Files, read}
	s, err := archive.Kind.Open(t.Context(), setup)
	require.NoError(t, err)
	defer s.Close()
	for n := range 20 {
		c, err := s.Open(t.Context(), sighting.Locator{Capture: "2026-03-04.tar.gz", Dir: fmt.Sprintf("papers %d.zip", n), Name: "Keel.txt"}.Ref())
		require.NoError(t, err)
		content, err := c.File.Stream(t.Context())
		require.NoError(t, err)
		text, err := io.ReadAll(content)
		require.NoError(t, err)
		assert.Equal(t, "oak", string(text))
		require.NoError(t, errors.Join(content.Close(), c.Close()))
	}
	assert.Less(t, read.Load(), 4*int64(b.Len()), "it is read through for its members, once to be unpacked, and no more")
}

// counting is a machine of which is counted how many bytes of its files are read.
type counting struct {
	reach.Session
	read *atomic.Int64
}

func (c counting) Tree(ctx context.Context, path string) (reach.Tree, error) {
	t, err := c.Session.Tree(ctx, path)
	return countingTree{t, c.read}, err
}

type countingTree struct {
	reach.Tree
	read *atomic.Int64
}

func (c countingTree) Open(ctx context.Context, name string) (reach.File, error) {
	f, err := c.Tree.Open(ctx, name)
	if err != nil {
		return nil, err
	}
	return countingFile{f.(reach.Random), c.read}, nil
}

type countingFile struct {
	reach.Random
	read *atomic.Int64
}

func (c countingFile) ReadAt(p []byte, off int64) (int, error) {
	n, err := c.Random.ReadAt(p, off)
	c.read.Add(int64(n))
	return n, err
}

func (c countingFile) Stream(ctx context.Context) (io.ReadCloser, error) {
	info, err := c.Info(ctx)
	return reach.Sequential(ctx, c, info.Size), err
}
