package restore_test

import (
	"archive/zip"
	"bytes"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/plan"
	"humble-rewind/internal/demo/card"
	"humble-rewind/internal/registry"
	"humble-rewind/internal/restore"
	"humble-rewind/internal/sitetest"
)

const (
	hers  = "/home/ada/.ssh/authorized_keys"
	books = "the yard's closed books"
)

func run(t *testing.T, dir, name string, args ...string) {
	c := exec.Command(name, args...)
	c.Dir = dir
	c.Env = append(os.Environ(), "GIT_CONFIG_GLOBAL=/dev/null", "GIT_AUTHOR_NAME=x", "GIT_AUTHOR_EMAIL=x@y",
		"GIT_COMMITTER_NAME=x", "GIT_COMMITTER_EMAIL=x@y")
	out, err := c.CombinedOutput()
	require.NoError(t, err, string(out))
}

func zipOf(t *testing.T, files map[string]string) string {
	var b bytes.Buffer
	w := zip.NewWriter(&b)
	for name, content := range files {
		f, err := w.Create(name)
		require.NoError(t, err)
		_, err = io.WriteString(f, content)
		require.NoError(t, err)
	}
	require.NoError(t, w.Close())
	return b.String()
}

// planting is how somebody makes a store of a kind say that something came from another's home, and how she makes it point at what she
// may not read.
type planting struct {
	source registry.NewSource
	// plant lays the store in ines's home; "" of one that a technician has to vouch for.
	plant func(t *testing.T, s *sitetest.Site, key string)
	// point makes the store lead to /root/closed, where each kind finds something of its own.
	point func(t *testing.T, s *sitetest.Site)
	alone bool // a store that points elsewhere is no store of the kind at all
}

func link(target string, paths ...string) func(*testing.T, *sitetest.Site) {
	return func(t *testing.T, s *sitetest.Site) {
		for _, path := range paths {
			require.NoError(t, os.MkdirAll(filepath.Dir(s.Path(path)), 0o755))
			require.NoError(t, os.Symlink(target, s.Path(path)))
		}
	}
}

// carded is an image of a card that somebody made, on which a folder is called as another's; what lies in it was erased or not.
func carded(erased bool) planting {
	return planting{
		source: registry.NewSource{At: "/home/ines/card.img", Maps: []string{"/whole/ada=/home/ada/.ssh"}},
		plant: func(t *testing.T, s *sitetest.Site, key string) {
			c := card.New(4<<20, "", time.UTC)
			require.NoError(t, c.Put("ada/authorized_keys", []byte(key), time.Now()))
			if erased {
				require.NoError(t, c.Erase("ada/authorized_keys"))
			}
			s.Lay(map[string]string{"/home/ines/card.img": string(c.Image())})
		},
		point: link("/root/closed/books.txt", "/home/ines/card.img"),
		alone: true,
	}
}

var plantings = map[string]planting{
	"live":  {source: registry.NewSource{At: "/home/ines"}, point: link("/root/closed", "/home/ines/closed", "/home/ines/Papers/books.txt")},
	"cloud": {}, // it has no files on a machine; where they stand is said by a technician's map
	"trash": {
		source: registry.NewSource{At: "/home/ines"},
		plant: func(t *testing.T, s *sitetest.Site, key string) {
			s.Lay(map[string]string{sitetest.HomeTrash + "/files/authorized_keys": key})
			s.Record(sitetest.HomeTrash, "authorized_keys", hers, "2026-11-03T16:30:00")
		},
		point: link("/root/closed", sitetest.HomeTrash+"/files/closed", sitetest.HomeTrash+"/files/books.txt"),
	},
	"snapshots": {
		source: registry.NewSource{At: "/home/ines/points"},
		plant: func(_ *testing.T, s *sitetest.Site, key string) {
			s.Lay(map[string]string{"/home/ines/points/2026-03-04T1705" + hers: key, "/home/ines/points/2026-03-05T1705" + hers: key})
		},
		point: link("/root/closed", "/home/ines/points/2026-03-06T1705", "/home/ines/points/2026-03-05T1705/home/ines/closed"),
	},
	"archive": {
		source: registry.NewSource{At: "/home/ines/Archive"},
		plant: func(t *testing.T, s *sitetest.Site, key string) {
			s.Lay(map[string]string{"/home/ines/Archive/2026-03-04.zip": zipOf(t, map[string]string{hers[1:]: key})})
		},
		point: link("/root/closed/books.zip", "/home/ines/Archive/2026-03-05.zip"),
	},
	"strays": {
		source: registry.NewSource{At: "/home"},
		plant: func(_ *testing.T, s *sitetest.Site, key string) {
			s.Lay(map[string]string{"/home/ines/.local/state/nvim/swap/%home%ada%.ssh%authorized_keys.swp": key,
				"/home/ines/.vim/backup/%home%ada%.ssh%authorized_keys~": key})
		},
		point: link("/root/closed/books.txt", "/home/ines/books.txt~", "/home/ines/books.txt.bak"),
	},
	"unmounted": carded(false),
	"image":     carded(true),
	"history": {
		source: registry.NewSource{At: "/home/ines/all.git", Maps: []string{"/=/"}},
		plant: func(t *testing.T, s *sitetest.Site, key string) {
			s.Lay(map[string]string{"/home/ines/work" + hers: key})
			run(t, s.Path("/home/ines/work"), "git", "init", "-q")
			run(t, s.Path("/home/ines/work"), "git", "add", ".")
			run(t, s.Path("/home/ines/work"), "git", "commit", "-q", "-m", "x")
			run(t, s.Path("/home/ines"), "git", "clone", "-q", "--bare", "work", "all.git")
		},
		point: func(t *testing.T, s *sitetest.Site) {
			s.Lay(map[string]string{"/home/ines/all.git/HEAD": "ref: refs/heads/main\n", "/home/ines/all.git/objects/": "",
				"/home/ines/all.git/commondir": "/root/closed/.git\n"})
		},
		alone: true,
	},
}

// Whoever writes a store can make it say anything. Of no kind is a copy believed of where its store's writer could not have put it.
func TestWhatSomebodyPlantsForAnotherIsOnlyClaimed(t *testing.T) {
	for _, kind := range sitetest.New(t).Kinds {
		p, ok := plantings[kind.Name()]
		require.True(t, ok, "say in plantings how a store of the kind %s could be made to lie", kind.Name())
		if p.plant == nil {
			continue
		}
		t.Run(kind.Name(), func(t *testing.T) {
			s := town(t)
			key := strings.Repeat("ssh-ed25519 planted by ines\n", 20)
			p.plant(t, s, key)
			own(t, s, "/home/ines", ines)
			src := surveyed(t, s, kind.Name(), p.source)
			claimed := 0
			for _, c := range s.Find(catalogue.Query{Words: "authorized_keys", Limit: 50}) {
				if c.Store.ID != src.ID || c.Type != entry.File || c.Claimed == "" {
					assert.NotEqual(t, hers, c.Place.Path)
					continue
				}
				claimed++
				assert.Equal(t, hers, c.Claimed)
				assert.NotEqual(t, "ada", c.Person)
				planned, err := s.Restorer.Plan(t.Context(), restore.Request{Copies: ids(c)})
				require.NoError(t, err)
				assert.Equal(t, plan.Refuse, items(t, planned)[0].Action)
				assert.Contains(t, items(t, planned)[0].Asks, plan.TrustClaimed)
				trusted, err := s.Restorer.Plan(t.Context(), restore.Request{Copies: ids(c), Claimed: true})
				require.NoError(t, err)
				assert.NotEqual(t, plan.Refuse, items(t, trusted)[0].Action)
			}
			assert.Positive(t, claimed)
			_, err := s.Past.Trail(t.Context(), place.Place{Machine: "town", Path: hers})
			assert.ErrorIs(t, err, catalogue.ErrNotFound, "it is no evidence of what stood there")

			// What comes there all the same belongs to whom the folder belongs to.
			for _, c := range s.Find(catalogue.Query{Words: "authorized_keys", Limit: 50}) {
				if c.Store.ID == src.ID && c.Claimed != "" && c.Type == entry.File {
					receipt := s.BringBack(restore.Request{Copies: ids(c), Claimed: true})
					require.Equal(t, catalogue.ReceiptDone, receipt.State)
					assert.EqualValues(t, ada, stat(t, s, receipt.Items[0].To.Path).Uid, receipt.Items[0].Note)
					break
				}
			}
		})
	}
}

func surveyed(t *testing.T, s *sitetest.Site, kind string, n registry.NewSource) catalogue.Source {
	n.Machine, n.Kind = "town", kind
	src, err := s.AddSource(t.Context(), n)
	require.NoError(t, err)
	s.Survey(src)
	return src
}

// A store is read as root, and reads nothing that whoever writes it could not.
func TestNoStoreReadsWhatItsWriterCouldNot(t *testing.T) {
	for _, kind := range sitetest.New(t).Kinds {
		p := plantings[kind.Name()]
		if p.point == nil {
			continue
		}
		t.Run(kind.Name(), func(t *testing.T) {
			s := town(t)
			s.Lay(map[string]string{"/root/closed/books.txt": books, "/root/closed/home/ines/books.txt": books,
				"/root/closed/books.zip": zipOf(t, map[string]string{"home/ines/books.txt": books})})
			run(t, s.Path("/root/closed"), "git", "init", "-q", "-b", "main")
			run(t, s.Path("/root/closed"), "git", "add", ".")
			run(t, s.Path("/root/closed"), "git", "commit", "-q", "-m", "x")
			require.NoError(t, os.Chmod(s.Path("/root"), 0o700))
			if p.plant != nil && !p.alone {
				p.plant(t, s, "an honest copy beside it")
			}
			p.point(t, s)
			own(t, s, "/home/ines", ines)
			n := p.source
			n.Machine, n.Kind = "town", kind.Name()
			src, err := s.AddSource(t.Context(), n)
			if p.alone {
				assert.ErrorContains(t, err, "not followed")
				return
			}
			require.NoError(t, err)
			s.Survey(src)
			opened := 0
			for _, c := range s.Find(catalogue.Query{Limit: 500}) {
				if c.Store.ID != src.ID {
					continue
				}
				content, err := s.OpenCopy(t.Context(), c.Store.Source, c.Ref())
				if err != nil {
					continue
				}
				if content.File != nil {
					stream, err := content.File.Stream(t.Context())
					require.NoError(t, err)
					read, err := io.ReadAll(stream)
					require.NoError(t, err)
					stream.Close()
					assert.NotContains(t, string(read), books, c.Place.Path)
					opened++
				}
				content.Close()
			}
			assert.Positive(t, opened)
		})
	}
}

// A repository that may be written by more than its owner is no witness for what only she may write.
func TestWhoMayPushToARepositoryCanForgeWhatItHolds(t *testing.T) {
	s := town(t)
	s.Lay(map[string]string{"/home/ada/Plans/keel.txt": strings.Repeat("oak keel\n", 40)})
	dir := s.Path("/home/ada/Plans")
	run(t, dir, "git", "init", "-q")
	run(t, dir, "git", "add", ".")
	run(t, dir, "git", "commit", "-q", "-m", "x")
	own(t, s, "/home/ada", ada)
	require.NoError(t, os.Chmod(s.Path("/home/ada"), 0o755))
	believed := func() bool {
		src := surveyed(t, s, "history", registry.NewSource{At: "/home/ada/Plans"})
		known := !s.Named("keel").Lost
		require.NoError(t, s.Catalogue.RemoveSource(t.Context(), src.ID))
		return known
	}
	assert.True(t, believed(), "her own repository in her own home")
	for _, name := range []string{"refs/heads", "objects", "HEAD"} {
		require.NoError(t, os.Chmod(filepath.Join(dir, ".git", name), 0o777))
		assert.False(t, believed(), name)
		require.NoError(t, os.Chmod(filepath.Join(dir, ".git", name), 0o755))
	}
	assert.True(t, believed())
}

// Pointers inside one person's folders are followed, as linked working trees have them; those to somebody else's are not.
func TestALinkedWorkingTreeIsReadWhereBothAreOnesOwn(t *testing.T) {
	for _, other := range []int{ines, ada} {
		s := town(t)
		s.Lay(map[string]string{"/home/ines/Plans/keel.txt": "oak keel\n"})
		dir := s.Path("/home/ines/Plans")
		run(t, dir, "git", "init", "-q")
		run(t, dir, "git", "add", ".")
		run(t, dir, "git", "commit", "-q", "-m", "x")
		run(t, dir, "git", "worktree", "add", "-q", "../Side")
		pointer, common := s.Path("/home/ines/Side/.git"), filepath.Join(dir, ".git/worktrees/Side/commondir")
		require.NoError(t, os.WriteFile(pointer, []byte("gitdir: /home/ines/Plans/.git/worktrees/Side\n"), 0o644))
		require.FileExists(t, common)
		own(t, s, "/home/ines", ines)
		own(t, s, "/home/ines/Plans", other)
		_, err := s.AddSource(t.Context(), registry.NewSource{Machine: "town", Kind: "history", At: "/home/ines/Side"})
		if other == ines {
			assert.NoError(t, err)
		} else {
			assert.ErrorContains(t, err, "belongs to somebody else")
		}
	}
}
