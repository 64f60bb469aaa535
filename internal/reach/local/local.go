//go:build linux

// Package local reaches a machine whose root is a directory of the service's own host: a mounted disk, a share, or /
// itself.
//
// Everything happens below an [os.Root]. It keeps paths from leaving the directory, but it follows links inside it;
// so folders are entered one name at a time, and each is checked to be the very directory that was seen there. What
// os.Root lacks (renaming without replacing, times and extended attributes) is done by system calls on descriptors
// opened from it, always with a single name.
package local

import (
	"context"
	"errors"
	"fmt"
	"io"
	"math"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"golang.org/x/sys/unix"

	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/problem"
	"humble-rewind/internal/reach"
	"humble-rewind/internal/reach/system"
)

// Way reaches machines by a plain directory path. The private directories are the service's own: they are never entered, by
// whatever path, and no machine can lie in one.
func Way(private ...string) reach.Way {
	return reach.Way{Open: func(_ context.Context, at reach.Address) (reach.Session, error) { return Open(at.Path, private...) }}
}

// Open reaches the machine whose root is the directory at. Private directories are known by their file systems and inodes.
func Open(at string, private ...string) (reach.Session, error) {
	if !filepath.IsAbs(at) {
		return nil, fmt.Errorf("reach %s: the directory must be given by its absolute path", place.Quote(at))
	}
	root, err := os.OpenRoot(at)
	if err != nil {
		return nil, fmt.Errorf("reach %s: %w", place.Quote(at), system.Problem(err))
	}
	f := &files{root: root}
	if err := f.keepOut(at, private); err != nil {
		root.Close()
		return nil, fmt.Errorf("reach %s: %w", place.Quote(at), err)
	}
	return f, nil
}

type files struct {
	root    *os.Root
	private []directory
}

// directory tells one directory from every other while it exists.
type directory struct{ device, inode uint64 }

// keepOut notes the private directories, and refuses a machine that lies in one.
func (f *files) keepOut(at string, private []string) error {
	for _, path := range private {
		var st unix.Stat_t
		if err := unix.Stat(path, &st); err != nil {
			return fmt.Errorf("look at the service's own data in %s: %w", place.Quote(path), err)
		}
		f.private = append(f.private, directory{uint64(st.Dev), st.Ino})
	}
	real, err := filepath.EvalSymlinks(at)
	if err != nil {
		return system.Problem(err)
	}
	for dir := real; ; dir = filepath.Dir(dir) {
		var st unix.Stat_t
		if err := unix.Stat(dir, &st); err == nil && slices.Contains(f.private, directory{uint64(st.Dev), st.Ino}) {
			return problem.Private
		}
		if dir == "/" {
			return nil
		}
	}
}

func (f *files) Close() error { return f.root.Close() }

func (f *files) Traits() reach.Traits {
	return reach.Traits{Owners: true}
}

func (f *files) Tree(_ context.Context, path string) (reach.Tree, error) {
	path, err := place.Clean(path)
	if err != nil {
		return nil, err
	}
	top, err := f.root.Open(".")
	if err != nil {
		return nil, fmt.Errorf("open folder %s: %w", place.Quote(path), system.Problem(err))
	}
	fd, err := unix.FcntlInt(top.Fd(), unix.F_DUPFD_CLOEXEC, 0)
	top.Close()
	if err != nil {
		return nil, fmt.Errorf("open folder %s: %w", place.Quote(path), system.Problem(err))
	}
	at, err := down(&tree{of: f, fd: fd, path: "/"}, path)
	if err != nil {
		return nil, err
	}
	return at, nil
}

// entered is a folder that one in it can be opened from.
type entered[F any] interface {
	enter(name string) (F, error)
	Close() error
}

// down opens a folder from the top, one name of its path after the other. What it passes through is closed.
func down[F entered[F]](at F, path string) (F, error) {
	for name := range strings.SplitSeq(path[1:], "/") {
		if name == "" { // the top itself
			break
		}
		next, err := at.enter(name)
		at.Close()
		if err != nil {
			return next, fmt.Errorf("open folder %s: %w", place.Quote(path), err)
		}
		at = next
	}
	return at, nil
}

func (f *files) Folder(_ context.Context, path string) (reach.Folder, error) {
	at, err := f.at(path)
	if err != nil {
		return nil, err
	}
	return at, nil
}

// at opens a folder to be written in.
func (f *files) at(path string) (*folder, error) {
	path, err := place.Clean(path)
	if err != nil {
		return nil, err
	}
	at, err := openFolder(f, f.root, ".", "/")
	if err != nil {
		return nil, fmt.Errorf("open folder %s: %w", place.Quote(path), system.Problem(err))
	}
	return down(at, path)
}

// folder is a folder that can be written too.
type folder struct {
	*tree
	root *os.Root
	dir  *os.File // the same directory, for its descriptor
}

func openFolder(of *files, parent *os.Root, name, path string) (*folder, error) {
	root, err := parent.OpenRoot(name)
	if err != nil {
		return nil, err
	}
	dir, err := root.Open(".")
	if err != nil {
		root.Close()
		return nil, err
	}
	return &folder{&tree{of: of, fd: int(dir.Fd()), path: path}, root, dir}, nil
}

func (f *folder) Close() error { return errors.Join(f.dir.Close(), f.root.Close()) }

func (f *folder) Into(_ context.Context, name string) (reach.Folder, error) {
	sub, err := f.enter(name)
	if err != nil {
		return nil, err
	}
	return sub, nil
}

func (f *folder) enter(name string) (*folder, error) {
	path := place.Join(f.path, name)
	seen, err := f.look(name)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", place.Quote(path), err)
	}
	if seen.Type != entry.Folder {
		return nil, f.noFolder(seen.Type, name)
	}
	sub, err := openFolder(f.of, f.root, name, path)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", place.Quote(path), system.Problem(err))
	}
	got, err := sub.info()
	if err == nil && (got.Device != seen.Device || got.Inode != seen.Inode) {
		// Between the look and the opening something else took its place, perhaps a link.
		err = fmt.Errorf("%s changed while it was opened: %w", place.Quote(path), problem.NotFolder)
	}
	if err == nil && slices.Contains(f.of.private, directory{got.Device, got.Inode}) {
		err = fmt.Errorf("%s: %w", place.Quote(path), problem.Private)
	}
	if err != nil {
		sub.Close()
		return nil, err
	}
	return sub, nil
}

// Room counts what an unprivileged user could still write.
func (f *folder) Room(context.Context) (int64, bool, error) {
	var st unix.Statfs_t
	if err := unix.Fstatfs(f.fd, &st); err != nil {
		return -1, false, system.Problem(err)
	}
	return int64(st.Bavail) * st.Bsize, st.Flags&unix.ST_RDONLY != 0, nil
}

type file struct{ *os.File }

func (f file) Stream(ctx context.Context) (io.ReadCloser, error) {
	return reach.Sequential(ctx, f, math.MaxInt64), nil
}

// ReadAt words what the system says.
func (f file) ReadAt(p []byte, off int64) (int, error) {
	n, err := f.File.ReadAt(p, off)
	if err != io.EOF {
		err = system.Problem(err)
	}
	return n, err
}

func (f file) Info(context.Context) (reach.Info, error) {
	var st unix.Stat_t
	if err := unix.Fstat(int(f.Fd()), &st); err != nil {
		return reach.Info{}, system.Problem(err)
	}
	return info(f.Name(), &st), nil
}

// NextData makes file a reach.Gaps where the file system knows holes (SEEK_DATA).
func (f file) NextData(off int64) (start, end int64, err error) {
	fd := int(f.Fd())
	if start, err = unix.Seek(fd, off, unix.SEEK_DATA); errors.Is(err, unix.ENXIO) {
		return 0, 0, io.EOF
	}
	if err == nil {
		end, err = unix.Seek(fd, start, unix.SEEK_HOLE)
	}
	return start, end, err
}

func ignoringEINTR(call func() (int, error)) (int, error) {
	for {
		n, err := call()
		if !errors.Is(err, unix.EINTR) {
			return n, err
		}
	}
}
