package demo

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"sort"
	"strings"
	"time"

	"golang.org/x/sys/unix"

	"humble-rewind/internal/source/trash"
)

// machine is one machine of the sample world, laid out below a directory.
type machine struct {
	name string
	root string // where its / is
	zone *time.Location
	made []made // whose owner and times are set at the end, deepest first
	past []past // what stood where and when, for its snapshots
	err  error  // the first; later steps then do nothing
}

type made struct {
	path string
	uid  int
	at   time.Time
}

const dayLong = 24 * time.Hour

func (m *machine) fail(err error) {
	if m.err == nil && err != nil {
		m.err = fmt.Errorf("build %s: %w", m.name, err)
	}
}

func (m *machine) at(path string) string { return filepath.Join(m.root, path) }

// file writes a file with its owner and write time; folders above it become the same person's.
func (m *machine) file(path string, uid int, at time.Time, content []byte) {
	if m.err != nil {
		return
	}
	m.folder(filepath.Dir(path), uid, at)
	m.fail(os.WriteFile(m.at(path), content, 0o644))
	m.made = append(m.made, made{path, uid, at})
	if !inTrash(path) {
		m.past = append(m.past, past{path: path, uid: uid, written: at, since: at, content: content})
	}
}

func (m *machine) folder(path string, uid int, at time.Time) {
	if _, err := os.Lstat(m.at(path)); m.err != nil || err == nil || path == "/" {
		return
	}
	owner := uid
	if d := filepath.Dir(path); d == "/" || d == "/home" && path == "/home" {
		owner = 0
	}
	m.folder(filepath.Dir(path), owner, at)
	mode := os.FileMode(0o755)
	if strings.HasSuffix(path, "/Trash") || strings.Contains(path, ".Trash-") {
		mode = 0o700
	}
	m.fail(os.Mkdir(m.at(path), mode))
	m.made = append(m.made, made{path, owner, at})
}

// can is a trash directory: base is the folder that paths in its records are relative to, "" for absolute ones.
type can struct{ dir, base string }

func homeCan(home string) can { return can{home + "/.local/share/Trash", ""} }

// discard moves a file or folder into a trash the way a desktop does: the item under a free name, a record with the
// deletion's local time, and, for a folder, its line in directorysizes.
func (m *machine) discard(c can, path string, uid int, gone time.Time) (name string) {
	if m.err != nil {
		return ""
	}
	m.folder(c.dir+"/files", uid, gone)
	m.folder(c.dir+"/info", uid, gone)
	name = filepath.Base(path)
	for n := 2; ; n++ {
		if _, err := os.Lstat(m.at(c.dir + "/info/" + name + ".trashinfo")); errors.Is(err, fs.ErrNotExist) {
			break
		}
		stem, ext := strings.TrimSuffix(filepath.Base(path), filepath.Ext(path)), filepath.Ext(path)
		name = fmt.Sprintf("%s.%d%s", stem, n, ext)
	}
	recorded := path
	if c.base != "" {
		recorded = strings.TrimPrefix(path, c.base+"/")
	}
	m.record(
		c,
		name,
		uid,
		gone,
		fmt.Sprintf(
			"[Trash Info]\nPath=%s\nDeletionDate=%s\n",
			trash.EncodePercent(recorded),
			gone.In(m.zone).Format("2006-01-02T15:04:05"),
		),
	)
	to := c.dir + "/files/" + name
	m.end(path, gone)
	m.fail(os.Rename(m.at(path), m.at(to)))
	for i := range m.made { // what is below has moved along
		if m.made[i].path == path || strings.HasPrefix(m.made[i].path, path+"/") {
			m.made[i].path = to + strings.TrimPrefix(m.made[i].path, path)
		}
	}
	if info, err := os.Lstat(m.at(to)); err == nil && info.IsDir() {
		m.sizeLine(c, name, uid, gone)
	}
	return name
}

func (m *machine) record(c can, name string, uid int, at time.Time, content string) {
	m.folder(c.dir+"/files", uid, at)
	path := c.dir + "/info/" + name + ".trashinfo"
	m.file(path, uid, at, []byte(content))
	m.fail(os.Chmod(m.at(path), 0o600))
}

func (m *machine) sizeLine(c can, name string, uid int, gone time.Time) {
	var total int64
	m.fail(filepath.WalkDir(m.at(c.dir+"/files/"+name), func(_ string, d fs.DirEntry, err error) error {
		if err == nil && d.Type().IsRegular() {
			info, e := d.Info()
			if e != nil {
				return e
			}
			total += info.Size()
		}
		return err
	}))
	path := c.dir + "/directorysizes"
	before, err := os.ReadFile(m.at(path))
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		m.fail(err)
	}
	line := fmt.Sprintf("%d %d %s\n", total, gone.Unix(), strings.ReplaceAll(trash.EncodePercent(name), "/", "%2F"))
	m.file(path, uid, gone, append(before, line...))
}

// finish sets owners, where the one who builds may, and times, deepest first so that no folder's is touched again.
func (m *machine) finish() error {
	if m.err != nil {
		return m.err
	}
	sort.SliceStable(m.made, func(i, j int) bool { return strings.Count(m.made[i].path, "/") > strings.Count(m.made[j].path, "/") })
	for _, f := range m.made {
		if os.Geteuid() == 0 {
			if err := os.Lchown(m.at(f.path), f.uid, f.uid); err != nil {
				return err
			}
		}
		at := unix.NsecToTimespec(f.at.UnixNano())
		if err := unix.UtimesNanoAt(unix.AT_FDCWD, m.at(f.path), []unix.Timespec{at, at}, unix.AT_SYMLINK_NOFOLLOW); err != nil {
			return err
		}
	}
	return nil
}
