package history

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/problem"
	"humble-rewind/internal/reach"
	"humble-rewind/internal/reach/spool"
)

// mirror is the service's own bare repository with the objects of somebody's. Everybody may read what is in it and only the service may
// enter the folder that it lies in: so git can read it who is nobody.
type mirror struct {
	dir  string
	held int64 // bytes, of what the survey under way holds of its history
	odd  int   // changes that were left out of it
}

// Bounds on what is copied.
const (
	maxObjects = 2_000_000
	maxBytes   = 64 << 30
)

// settings are all that git is to know of the repository. Large contents are passed through, not held.
const settings = "[core]\n\trepositoryformatversion = %d\n\tbare = true\n\tbigFileThreshold = 8m\n\tdeltaBaseCacheLimit = 32m\n" +
	"\tpackedGitLimit = 96m\n\tpackedGitWindowSize = 8m\n\tlogAllRefUpdates = false\n[gc]\n\tauto = 0\n[log]\n\tshowSignature = false\n"

// How what is in a mirror can be read, whatever the service's file mode mask.
const (
	folderMode = 0o755
	fileMode   = 0o644
)

// openMirror opens the mirror in a folder that only the service may enter; what an older version left there is made one.
func openMirror(in string) (mirror, error) {
	m := mirror{dir: filepath.Join(in, "mirror")}
	if err := os.Chmod(in, 0o700); err != nil {
		return m, err
	}
	switch made := os.Mkdir(m.dir, 0o700); {
	case errors.Is(made, fs.ErrExist):
		return m, nil
	case made != nil:
		return m, made
	}
	old, err := os.ReadDir(in)
	if err != nil {
		return m, err
	}
	for _, e := range old {
		if e.Name() == filepath.Base(m.dir) {
			continue
		}
		if err := os.Rename(filepath.Join(in, e.Name()), filepath.Join(m.dir, e.Name())); err != nil {
			return m, err
		}
	}
	return m, filepath.WalkDir(m.dir, func(path string, d fs.DirEntry, err error) error {
		if err != nil || !d.IsDir() {
			return errors.Join(err, os.Chmod(path, fileMode))
		}
		return os.Chmod(path, folderMode)
	})
}

// folderFor makes a folder of the mirror, and those that it lies in.
func (m *mirror) folderFor(name string) error {
	for i := range name + "/" {
		if i < len(name) && name[i] != '/' {
			continue
		}
		at := filepath.Join(m.dir, name[:i])
		if err := os.Mkdir(at, folderMode); errors.Is(err, fs.ErrExist) {
			continue
		} else if err != nil {
			return err
		}
		if err := os.Chmod(at, folderMode); err != nil {
			return err
		}
	}
	return nil
}

// write writes a file of the mirror whole, and leaves out what is zeros. It returns how much it read.
func (m *mirror) write(name string, content io.Reader) (n int64, err error) {
	at := filepath.Join(m.dir, name)
	part := filepath.Join(filepath.Dir(at), "."+filepath.Base(at)+".part")
	out, err := os.OpenFile(part, os.O_CREATE|os.O_TRUNC|os.O_WRONLY, fileMode)
	if err != nil {
		return 0, err
	}
	defer os.Remove(part)
	sparse := spool.NewSparse(out, spool.Leaving(out))
	if n, err = io.Copy(sparse, content); err == nil {
		err = errors.Join(sparse.Whole(), out.Chmod(fileMode)) // it may end in a hole
	}
	if err := errors.Join(err, out.Close()); err != nil {
		return n, err
	}
	return n, os.Rename(part, at)
}

// prepare makes the repository where it is not there, and writes what git is to know of it.
func (m *mirror) prepare(h *heads) error {
	for _, dir := range []string{"objects/pack", "objects/info", "refs"} {
		if err := m.folderFor(dir); err != nil {
			return err
		}
	}
	config := fmt.Sprintf(settings, 0)
	if h.sha256 {
		config = fmt.Sprintf(settings, 1) + "[extensions]\n\tobjectFormat = sha256\n"
	}
	for name, text := range map[string]string{"HEAD": "ref: refs/heads/none\n", "config": config} {
		if _, err := m.write(name, strings.NewReader(text)); err != nil {
			return err
		}
	}
	return m.cut(h.shallow)
}

// cut tells git of which commits the parents are not to be had.
func (m *mirror) cut(commits []string) error {
	if len(commits) == 0 {
		if err := os.Remove(filepath.Join(m.dir, "shallow")); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
		return nil
	}
	_, err := m.write("shallow", strings.NewReader(strings.Join(commits, "\n")+"\n"))
	return err
}

// fetched is what fetching objects came to.
type fetched struct {
	print  [32]byte // over the names of all that there are
	loose  []string // objects that are new and lie by themselves
	packed bool     // there are new packs
}

var (
	twoDigits = regexp.MustCompile(`^[0-9a-f]{2}$`)
	restName  = regexp.MustCompile(`^([0-9a-f]{38}|[0-9a-f]{62})$`)
	packName  = regexp.MustCompile(`^pack-[0-9a-f]{40,64}\.(pack|idx)$`)
)

// fetch makes the mirror hold what the repository holds. Objects are named by what is in them and never change, so what is there already
// stays. A repository that is being tidied up meanwhile is listed again.
func (m *mirror) fetch(ctx context.Context, r *repository) (f fetched, err error) {
	for range 4 {
		if f, err = m.fetchOnce(ctx, r); !errors.Is(err, fs.ErrNotExist) {
			return f, err
		}
	}
	return f, fmt.Errorf("it is being tidied up: %w", err)
}

func (m *mirror) fetchOnce(ctx context.Context, r *repository) (f fetched, err error) {
	objects, err := r.dir.Enter(ctx, "objects")
	if err != nil {
		return f, err
	}
	defer objects.Close()
	top, err := objects.List(ctx)
	if err != nil {
		return f, err
	}
	slices.SortFunc(top, func(a, b reach.Info) int { return strings.Compare(a.Name, b.Name) })
	print := sha256.New()
	left := budget{objects: maxObjects, bytes: maxBytes}
	for _, e := range top {
		if e.Type != entry.Folder || !twoDigits.MatchString(e.Name) && e.Name != "pack" {
			continue
		}
		folder, err := objects.Enter(ctx, e.Name)
		if err != nil {
			return f, err
		}
		fresh, err := m.folder(ctx, folder, e.Name, &left, print)
		folder.Close()
		if err != nil {
			return f, err
		}
		if e.Name == "pack" {
			f.packed = len(fresh) > 0
			continue
		}
		for _, name := range fresh {
			f.loose = append(f.loose, e.Name+name)
		}
	}
	print.Sum(f.print[:0])
	return f, m.drop(top)
}

// drop removes folders of objects that the repository does not hold any more.
func (m *mirror) drop(top []reach.Info) error {
	list, err := os.ReadDir(filepath.Join(m.dir, "objects"))
	if err != nil {
		return err
	}
	for _, e := range list {
		if twoDigits.MatchString(e.Name()) && !slices.ContainsFunc(top, func(i reach.Info) bool { return i.Name == e.Name() }) {
			if err := os.RemoveAll(filepath.Join(m.dir, "objects", e.Name())); err != nil {
				return err
			}
		}
	}
	return nil
}

// budget is what may still be fetched.
type budget struct{ objects, bytes int64 }

// folder makes a folder of the mirror hold the objects of one of the repository, and returns which are new.
func (m *mirror) folder(ctx context.Context, from reach.Tree, name string, left *budget, print io.Writer) (fresh []string, err error) {
	names, listed, err := reach.Names(ctx, from)
	if err == nil && !listed {
		var all []reach.Info
		all, err = from.List(ctx)
		for _, e := range all {
			names = append(names, e.Name)
		}
	}
	if err != nil {
		return nil, err
	}
	pattern := restName
	if name == "pack" {
		pattern = packName
	}
	names = slices.DeleteFunc(names, func(n string) bool { return !pattern.MatchString(n) })
	slices.Sort(names)
	if name != "pack" { // whose indexes tell how many they hold
		left.objects -= int64(len(names))
	}
	if left.objects < 0 {
		return nil, errTooMany
	}
	at := filepath.Join(m.dir, "objects", name)
	have := map[string]bool{}
	if list, err := os.ReadDir(at); err == nil {
		for _, e := range list {
			have[e.Name()] = true
		}
	} else if err := m.folderFor("objects/" + name); err != nil {
		return nil, err
	}
	// A pack without its index, or the other way round, is being written or removed.
	if name == "pack" {
		names = slices.DeleteFunc(names, func(n string) bool {
			stem := strings.TrimSuffix(strings.TrimSuffix(n, ".pack"), ".idx")
			_, pack := slices.BinarySearch(names, stem+".pack")
			_, index := slices.BinarySearch(names, stem+".idx")
			return !pack || !index
		})
		if names, err = soundPacks(ctx, from, names, have, left); err != nil {
			return nil, err
		}
		slices.Reverse(names) // a pack before its index: git looks for indexes
	}
	for _, n := range names {
		fmt.Fprintf(print, "%s/%s\n", name, n)
		if have[n] {
			delete(have, n)
			continue
		}
		if err := m.take(ctx, from, n, "objects/"+name, left); err != nil {
			return nil, err
		}
		fresh = append(fresh, n)
	}
	for gone := range have { // what the repository does not hold any more
		if err := os.Remove(filepath.Join(at, gone)); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return nil, err
		}
	}
	return fresh, nil
}

// take copies one file of objects. Whether it is what its name says is git's to find out whenever it is read.
func (m *mirror) take(ctx context.Context, from reach.Tree, name, to string, left *budget) error {
	f, err := from.Open(ctx, name)
	if err != nil {
		return err
	}
	defer f.Close()
	s, err := f.Stream(ctx)
	if err != nil {
		return err
	}
	defer s.Close()
	n, err := m.write(to+"/"+name, io.LimitReader(s, left.bytes+1))
	if left.bytes -= n; err == nil && left.bytes < 0 {
		_ = os.Remove(filepath.Join(m.dir, to, name))
		err = fmt.Errorf("its objects take more than %d GiB: %w", maxBytes>>30, problem.TooLarge)
	}
	return err
}

// errTooMany says that a repository holds more than is read of any.
var errTooMany = fmt.Errorf("it has more than %d objects: %w", maxObjects, problem.TooLarge)
