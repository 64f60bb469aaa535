//go:build linux

package local

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"slices"
	"sync"

	"golang.org/x/sys/unix"

	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/problem"
	"humble-rewind/internal/reach"
	"humble-rewind/internal/reach/system"
)

// tree is a folder that is read through its descriptor, by bare system calls: a survey asks for a million entries.
type tree struct {
	of   *files
	fd   int
	path string // for messages

	listing sync.Mutex // the descriptor has one position
}

func (f *tree) Close() error { return unix.Close(f.fd) }

func (f *tree) Enter(_ context.Context, name string) (reach.Tree, error) {
	sub, err := f.enter(name)
	if err != nil {
		return nil, err
	}
	return sub, nil
}

// enter opens a folder in this one. A single name is opened, and as what it is: no link is followed.
func (f *tree) enter(name string) (*tree, error) {
	path := place.Join(f.path, name)
	if err := reach.CheckName(name); err != nil {
		return nil, fmt.Errorf("%s: %w", place.Quote(path), err)
	}
	fd, err := ignoringEINTR(func() (int, error) {
		return unix.Openat(f.fd, name, unix.O_RDONLY|unix.O_DIRECTORY|unix.O_NOFOLLOW|unix.O_CLOEXEC, 0)
	})
	if errors.Is(err, unix.ENOTDIR) || errors.Is(err, unix.ELOOP) {
		seen, _ := f.look(name)
		return nil, f.noFolder(seen.Type, name)
	}
	if err != nil {
		return nil, fmt.Errorf("%s: %w", place.Quote(path), system.Problem(err))
	}
	sub := &tree{of: f.of, fd: fd, path: path}
	if len(f.of.private) == 0 {
		return sub, nil
	}
	var st unix.Stat_t
	if err = unix.Fstat(fd, &st); err != nil {
		err = system.Problem(err)
	} else if slices.Contains(f.of.private, directory{uint64(st.Dev), st.Ino}) {
		err = problem.Private
	}
	if err != nil {
		sub.Close()
		return nil, fmt.Errorf("%s: %w", place.Quote(path), err)
	}
	return sub, nil
}

// noFolder says why an entry of another type cannot be entered.
func (f *tree) noFolder(is entry.Type, name string) error {
	path := place.Join(f.path, name)
	if is == entry.Link {
		target, _ := f.target(name)
		return &reach.LinkError{Path: path, Target: target}
	}
	return fmt.Errorf("%s: %w", place.Quote(path), problem.NotFolder)
}

func (f *tree) target(name string) (string, error) {
	for size := 256; ; size *= 2 {
		b := make([]byte, size)
		n, err := unix.Readlinkat(f.fd, name, b)
		if err != nil {
			return "", system.Problem(err)
		}
		if n < size {
			return string(b[:n]), nil
		}
	}
}

// List describes all entries.
func (f *tree) List(ctx context.Context) ([]reach.Info, error) {
	names, err := f.Names(ctx)
	if err != nil {
		return nil, err
	}
	return f.LookAll(ctx, names)
}

// Where a record of getdents64(2) has its length and its name.
const lengthAt, nameAt = 16, 19

// Names lists the names of all entries by getdents64(2).
func (f *tree) Names(ctx context.Context) ([]string, error) {
	f.listing.Lock()
	defer f.listing.Unlock()
	all := []string{}
	_, err := unix.Seek(f.fd, 0, 0)
	buf := make([]byte, 32<<10)
	for err == nil {
		var n int
		n, err = ignoringEINTR(func() (int, error) { return unix.Getdents(f.fd, buf) })
		if err != nil || n == 0 {
			break
		}
		// One piece of memory for all names of a buffer.
		text := string(buf[:n])
		for at := 0; at < n; {
			length := int(binary.NativeEndian.Uint16(buf[at+lengthAt:]))
			from, end := at+nameAt, at+nameAt
			for end < at+length && buf[end] != 0 {
				end++
			}
			if name := text[from:end]; name != "." && name != ".." {
				all = append(all, name)
			}
			at += length
		}
		err = ctx.Err()
	}
	if err != nil {
		return nil, fmt.Errorf("list %s: %w", place.Quote(f.path), system.Problem(err))
	}
	return all, nil
}

// manyNames is from how many names on they are looked at by two at once.
const manyNames = 1024

// LookAll describes those of some entries that are there, in their order.
func (f *tree) LookAll(ctx context.Context, names []string) ([]reach.Info, error) {
	all := make([]reach.Info, len(names))
	half := len(names)
	if half >= manyNames {
		half /= 2
	}
	var side sync.WaitGroup
	var failed error
	if half < len(names) {
		side.Go(func() { failed = f.lookEach(ctx, names[half:], all[half:]) })
	}
	err := f.lookEach(ctx, names[:half], all[:half])
	side.Wait()
	if err := errors.Join(err, failed); err != nil {
		return nil, fmt.Errorf("list %s: %w", place.Quote(f.path), err)
	}
	return slices.DeleteFunc(all, func(i reach.Info) bool { return i.Name == "" }), nil
}

func (f *tree) lookEach(ctx context.Context, names []string, into []reach.Info) error {
	for n, name := range names {
		i, err := f.look(name)
		switch {
		case err == nil:
			into[n] = i
		case !errors.Is(err, fs.ErrNotExist): // else it vanished meanwhile
			return err
		}
		if n%4096 == 0 && ctx.Err() != nil {
			return ctx.Err()
		}
	}
	return nil
}

func (f *tree) Info(context.Context) (reach.Info, error) { return f.info() }

func (f *tree) info() (reach.Info, error) {
	var st unix.Stat_t
	if err := unix.Fstat(f.fd, &st); err != nil {
		return reach.Info{}, system.Problem(err)
	}
	return info(place.Name(f.path), &st), nil
}

func (f *tree) Look(_ context.Context, name string) (reach.Info, error) { return f.look(name) }

func (f *tree) look(name string) (reach.Info, error) {
	if err := reach.CheckName(name); err != nil {
		return reach.Info{}, err
	}
	var st unix.Stat_t
	if err := unix.Fstatat(f.fd, name, &st, unix.AT_SYMLINK_NOFOLLOW); err != nil {
		return reach.Info{}, system.Problem(err)
	}
	return info(name, &st), nil
}

func (f *tree) Target(_ context.Context, name string) (string, error) {
	if err := reach.CheckName(name); err != nil {
		return "", err
	}
	return f.target(name)
}

// openat opens without following a link and without waiting on a pipe, and returns the descriptor.
func (f *tree) openat(name string) (int, error) {
	if err := reach.CheckName(name); err != nil {
		return -1, err
	}
	fd, err := ignoringEINTR(func() (int, error) {
		return unix.Openat(f.fd, name, unix.O_RDONLY|unix.O_NOFOLLOW|unix.O_NONBLOCK|unix.O_CLOEXEC, 0)
	})
	if errors.Is(err, unix.ELOOP) {
		return fd, problem.NotFile
	}
	return fd, system.Problem(err)
}

func (f *tree) open(name string) (*os.File, error) {
	fd, err := f.openat(name)
	if err != nil {
		return nil, err
	}
	return os.NewFile(uintptr(fd), name), nil
}

func (f *tree) Open(ctx context.Context, name string) (reach.File, error) {
	opened, err := f.open(name)
	if err != nil {
		return nil, fmt.Errorf("open %s: %w", place.Quote(place.Join(f.path, name)), err)
	}
	file := file{opened}
	if i, err := file.Info(ctx); err != nil || i.Type != entry.File {
		opened.Close()
		return nil, fmt.Errorf("open %s: %w", place.Quote(place.Join(f.path, name)), errors.Join(err, problem.NotFile))
	}
	return file, nil
}

// ReadFile uses bare system calls, because a survey of a trash reads a hundred thousand tiny records.
func (f *tree) ReadFile(_ context.Context, name string, limit int64) ([]byte, error) {
	fd, err := f.openat(name)
	if err != nil {
		return nil, err
	}
	defer unix.Close(fd)
	var st unix.Stat_t
	if err := unix.Fstat(fd, &st); err != nil {
		return nil, system.Problem(err)
	}
	if st.Mode&unix.S_IFMT != unix.S_IFREG {
		return nil, problem.NotFile
	}
	if st.Size > limit {
		return nil, fmt.Errorf("%w: %d bytes", problem.TooLarge, st.Size)
	}
	buf := make([]byte, 0, st.Size+1)
	for {
		n, err := ignoringEINTR(func() (int, error) { return unix.Read(fd, buf[len(buf):cap(buf)]) })
		if err != nil {
			return nil, system.Problem(err)
		}
		buf = buf[:len(buf)+n]
		if n == 0 {
			return buf, nil
		}
		if int64(len(buf)) > limit {
			return nil, problem.TooLarge
		}
		if len(buf) == cap(buf) {
			buf = append(buf, 0)[:len(buf)]
		}
	}
}
