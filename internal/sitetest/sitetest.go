// Package sitetest makes small sites for tests: a machine in a temporary directory with trashes in it, a catalogue, and
// everything that works on them, all real.
package sitetest

import (
	"context"
	"crypto/sha256"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"sort"
	"strings"
	"testing"
	"time"
	_ "time/tzdata"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"humble-rewind/internal/apart"
	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/choosing"
	"humble-rewind/internal/contents"
	"humble-rewind/internal/kinds"
	"humble-rewind/internal/past"
	"humble-rewind/internal/reach"
	"humble-rewind/internal/registry"
	"humble-rewind/internal/restore"
	"humble-rewind/internal/restore/steps"
	"humble-rewind/internal/safekeeping"
	"humble-rewind/internal/site"
	"humble-rewind/internal/source/trash"
	"humble-rewind/internal/survey"
)

// Site is a small site. Its machine is called "loft" and is in the zone Europe/Lisbon; ines lives there.
type Site struct {
	registry.Registry
	Restorer *restore.Restorer
	Past     *past.Reader
	Contents *contents.Reader
	Adviser  *choosing.Adviser
	Root     string // where the machine's / is
	t        testing.TB
}

// New makes a site whose machine has what Lay is then told.
func New(t testing.TB) *Site {
	t.Helper()
	pool := &apart.Pool{}
	return with(t, kinds.Ways(pool), pool)
}

// NewWith is New with other ways to reach the machine.
func NewWith(t testing.TB, ways reach.Ways) *Site {
	t.Helper()
	return with(t, ways, &apart.Pool{})
}

func with(t testing.TB, ways reach.Ways, pool *apart.Pool) *Site {
	t.Helper()
	ctx := context.Background()
	s := &Site{Root: t.TempDir(), t: t}
	s.Lay(map[string]string{
		"/etc/passwd":         "root:x:0:0:root:/root:/bin/sh\nines:x:1001:1001:Inês Falk,,,:/home/ines:/bin/sh\n",
		"/etc/timezone":       "Europe/Lisbon\n",
		"/home/ines/.profile": "",
	})
	records, err := catalogue.Open(ctx, t.TempDir())
	require.NoError(t, err)
	t.Cleanup(func() { records.Close() })
	safe, err := safekeeping.Open(t.TempDir(), 0)
	require.NoError(t, err)
	t.Cleanup(func() { safe.Close() })
	rules, _ := kinds.Leftovers()
	t.Cleanup(func() { pool.Close() })
	s.Site = &site.Site{Catalogue: records, Ways: ways, Kinds: kinds.All(rules), Kept: t.TempDir(), Unpacker: pool}
	t.Cleanup(func() { s.Site.Close() })
	s.View = records.Everything()
	s.Contents = &contents.Reader{Site: s.Site, Apart: pool}
	s.Past = &past.Reader{Site: s.Site, View: s.View, Contents: s.Contents}
	s.Adviser = &choosing.Adviser{Site: s.Site, Past: s.Past, Contents: s.Contents, Rules: rules, Now: time.Now,
		Examiner: &contents.Examiner{Contents: s.Contents, Now: time.Now}}
	s.Restorer = &restore.Restorer{Steps: &steps.Steps{Site: s.Site, Safe: safe, Now: time.Now}, Past: s.Past, Contents: s.Contents}
	_, err = s.AddMachine(ctx, registry.NewMachine{Name: "loft", At: s.Root})
	require.NoError(t, err)
	return s
}

// Lay writes files by their paths on the machine. A path that ends in a slash is an empty folder; content that begins
// with "=> " makes a link.
func (s *Site) Lay(files map[string]string) {
	s.t.Helper()
	for path, content := range files {
		at := s.Path(path)
		require.NoError(s.t, os.MkdirAll(filepath.Dir(at), 0o755))
		target, link := strings.CutPrefix(content, "=> ")
		switch {
		case strings.HasSuffix(path, "/"):
			require.NoError(s.t, os.MkdirAll(at, 0o755))
		case link:
			require.NoError(s.t, os.Symlink(target, at))
		default:
			require.NoError(s.t, os.WriteFile(at, []byte(content), 0o644))
		}
	}
}

// Path returns where a path of the machine is on the test's own host.
func (s *Site) Path(path string) string {
	if strings.HasSuffix(path, "/") && path != "/" {
		return filepath.Join(s.Root, path) + "/"
	}
	return filepath.Join(s.Root, path)
}

// Gone is when everything is deleted that Discard is told without another time.
var Gone = time.Date(2026, 11, 3, 16, 30, 0, 0, time.UTC)

// HomeTrash is ines's.
const HomeTrash = "/home/ines/.local/share/Trash"

// Discard puts content into ines's home trash as if it had been deleted from path at Gone. A path ending in a slash is a
// folder whose files are given by their relative paths, each a line of content.
func (s *Site) Discard(path, content string) {
	s.t.Helper()
	clean := strings.TrimSuffix(path, "/")
	name := filepath.Base(clean)
	files := HomeTrash + "/files/" + name
	if clean != path {
		s.Lay(map[string]string{files + "/": ""})
		for inside := range strings.Lines(content) {
			inside = strings.TrimSpace(inside)
			s.Lay(map[string]string{files + "/" + inside: "content of " + inside + "\n"})
		}
		sizes := s.Path(HomeTrash + "/directorysizes")
		f, err := os.OpenFile(sizes, os.O_APPEND|os.O_CREATE|os.O_WRONLY, 0o600)
		require.NoError(s.t, err)
		_, err = fmt.Fprintf(f, "%d %d %s\n", 4096, Gone.Unix(), trash.EncodePercent(name))
		require.NoError(s.t, err)
		require.NoError(s.t, f.Close())
	} else {
		s.Lay(map[string]string{files: content})
	}
	s.Record(HomeTrash, name, trash.EncodePercent(clean), Gone.Format("2006-01-02T15:04:05"))
}

// Record writes a trash record with the given encoded path and local time.
func (s *Site) Record(can, name, path, when string) {
	s.t.Helper()
	s.Lay(map[string]string{can + "/info/" + name + ".trashinfo": "[Trash Info]\nPath=" + path + "\nDeletionDate=" + when + "\n"})
}

// AddTrash adds the trash at a location as a source.
func (s *Site) AddTrash(at string) catalogue.Source {
	s.t.Helper()
	src, err := s.AddSource(context.Background(), registry.NewSource{Machine: "loft", Kind: trash.Kind.Name(), At: at})
	require.NoError(s.t, err)
	return src
}

// Survey surveys a source.
func (s *Site) Survey(src catalogue.Source) survey.Result {
	s.t.Helper()
	result, err := survey.Run(context.Background(), s.Site, src, time.Now(), survey.Following{})
	require.NoError(s.t, err)
	return result
}

// Find returns the copies that a query finds.
func (s *Site) Find(q catalogue.Query) []catalogue.Shown {
	s.t.Helper()
	found, err := s.Catalogue.Everything().Search.Find(context.Background(), q)
	require.NoError(s.t, err)
	return found.Copies
}

// Named returns the one copy whose name holds the words.
func (s *Site) Named(words string) catalogue.Shown {
	s.t.Helper()
	found := s.Find(catalogue.Query{Words: words})
	require.Len(s.t, found, 1, words)
	return found[0]
}

// BringBack plans, begins and carries out; it returns the receipt as it then stands.
func (s *Site) BringBack(request restore.Request) Receipt {
	s.t.Helper()
	receipt := s.Begin(request)
	if err := s.Restorer.Carry(context.Background(), receipt.ID, func(int64, int64, string) {}); err != nil {
		s.t.Logf("carried out with: %v", err)
	}
	return s.Receipt(receipt.ID)
}

// Begin plans and begins without carrying out.
func (s *Site) Begin(request restore.Request) Receipt {
	s.t.Helper()
	ctx := context.Background()
	planned, err := s.Restorer.Plan(ctx, request)
	require.NoError(s.t, err)
	receipt, err := s.Restorer.Begin(ctx, planned, "tester")
	require.NoError(s.t, err)
	return s.Receipt(receipt.ID)
}

// Receipt is a receipt with all its items.
type Receipt struct {
	catalogue.Receipt
	Items []catalogue.ReceiptItem
}

// Receipt reads a receipt.
func (s *Site) Receipt(id int64) Receipt {
	s.t.Helper()
	receipt, err := s.Catalogue.Receipts.ByID(context.Background(), id)
	require.NoError(s.t, err)
	items, err := s.Catalogue.Receipts.Items(context.Background(), id, 0, 0)
	require.NoError(s.t, err)
	return Receipt{receipt, items}
}

// Undo undoes a receipt and returns why that is refused.
func (s *Site) Undo(id int64) error {
	s.t.Helper()
	ctx := context.Background()
	if err := s.Restorer.CheckUndo(ctx, id); err != nil {
		return err
	}
	require.NoError(s.t, s.Catalogue.Receipts.BeginUndo(ctx, id, "tester"))
	return s.Restorer.Undo(ctx, id, "tester", func(int64, int64, string) {})
}

// Tree describes everything below a path of the machine: types, modes, owners, sizes, write times of files, links'
// targets, extended attributes and digests, a line an entry.
func (s *Site) Tree(path string) string {
	s.t.Helper()
	var lines []string
	root := s.Path(path)
	require.NoError(s.t, filepath.WalkDir(root, func(at string, d fs.DirEntry, err error) error {
		require.NoError(s.t, err)
		rel, _ := filepath.Rel(root, at)
		var st unix.Stat_t
		require.NoError(s.t, unix.Lstat(at, &st))
		line := fmt.Sprintf("%q %o %d:%d", rel, st.Mode, st.Uid, st.Gid)
		switch st.Mode & unix.S_IFMT {
		case unix.S_IFREG:
			content, err := os.ReadFile(at)
			require.NoError(s.t, err)
			line += fmt.Sprintf(" %d %d %x", st.Size, st.Mtim.Nano(), sha256.Sum256(content))
			value := make([]byte, 256)
			if n, err := unix.Lgetxattr(at, "user.note", value); err == nil {
				line += fmt.Sprintf(" note=%q", value[:n])
			}
		case unix.S_IFLNK:
			target, err := os.Readlink(at)
			require.NoError(s.t, err)
			line += " => " + target
		}
		lines = append(lines, line)
		return nil
	}))
	sort.Strings(lines)
	return strings.Join(lines, "\n")
}
