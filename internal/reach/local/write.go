//go:build linux

package local

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"strings"
	"time"
	"unsafe"

	"golang.org/x/sys/unix"

	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/problem"
	"humble-rewind/internal/reach"
	"humble-rewind/internal/reach/system"
)

func (f *folder) Create(_ context.Context, name string) (reach.NewFile, error) {
	if err := reach.CheckName(name); err != nil {
		return nil, err
	}
	created, err := f.root.OpenFile(name, os.O_RDWR|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return nil, fmt.Errorf("create %s: %w", place.Quote(place.Join(f.path, name)), system.Problem(err))
	}
	return &newFile{file: file{created}}, nil
}

// newFile is a file being written.
type newFile struct{ file }

func (f *newFile) Write(p []byte) (int, error) {
	n, err := f.File.Write(p)
	return n, system.Problem(err)
}

func (f *newFile) Skip(_ context.Context, n int64) error {
	end, err := f.Seek(n, io.SeekCurrent)
	if err != nil {
		return system.Problem(err)
	}
	return system.Problem(f.Truncate(end)) // so that it can be read back at once
}

func (f *newFile) Cut(_ context.Context, size int64) error { return system.Problem(f.Truncate(size)) }

// Clone shares extents (FICLONE), which file systems that copy on write offer.
func (f *newFile) Clone(from reach.File) bool {
	source, ok := from.(file)
	return ok && unix.IoctlFileClone(int(f.Fd()), int(source.Fd())) == nil
}

func (f *folder) Mkdir(_ context.Context, name string) error {
	return f.named("make folder", name, func() error { return f.root.Mkdir(name, 0o700) })
}

func (f *folder) Symlink(_ context.Context, target, name string) error {
	// Not through os.Root, which would refuse targets that leave it; the link is only made here, never followed.
	return f.named("make link", name, func() error { return unix.Symlinkat(target, f.fd, name) })
}

func (f *folder) Link(_ context.Context, oldName string, to reach.Folder, newName string) error {
	other, err := f.sibling(to, newName)
	if err != nil {
		return err
	}
	return f.named("link", oldName, func() error { return unix.Linkat(f.fd, oldName, other.fd, newName, 0) })
}

func (f *folder) Rename(_ context.Context, oldName string, to reach.Folder, newName string) error {
	other, err := f.sibling(to, newName)
	if err != nil {
		return err
	}
	return f.named("rename", oldName, func() error {
		err := unix.Renameat2(f.fd, oldName, other.fd, newName, unix.RENAME_NOREPLACE)
		switch {
		case errors.Is(err, unix.EXDEV):
			return problem.OtherFileSystem
		case errors.Is(err, unix.EINVAL) || errors.Is(err, unix.ENOSYS):
			return f.renameByLink(oldName, other, newName, err)
		}
		return err
	})
}

// renameByLink serves file systems without RENAME_NOREPLACE: a link refuses a taken name. Folders cannot be linked.
func (f *folder) renameByLink(oldName string, to *folder, newName string, why error) error {
	if seen, err := f.look(oldName); err != nil || seen.Type == entry.Folder {
		return errors.Join(err, fmt.Errorf("the file system cannot move a folder without the risk of replacing another: %w", why))
	}
	if err := unix.Linkat(f.fd, oldName, to.fd, newName, 0); err != nil {
		return err
	}
	return unix.Unlinkat(f.fd, oldName, 0)
}

func (f *folder) sibling(to reach.Folder, name string) (*folder, error) {
	other, ok := to.(*folder)
	if !ok {
		return nil, problem.OtherFileSystem
	}
	return other, reach.CheckName(name)
}

func (f *folder) Replace(_ context.Context, oldName, newName string) error {
	if err := reach.CheckName(newName); err != nil {
		return err
	}
	return f.named("rename", oldName, func() error { return unix.Renameat(f.fd, oldName, f.fd, newName) })
}

func (f *folder) Remove(_ context.Context, name string) error {
	return f.named("remove", name, func() error { return f.root.Remove(name) })
}

func (f *folder) Sync(context.Context) error {
	if err := f.dir.Sync(); err != nil {
		return fmt.Errorf("sync %s: %w", place.Quote(f.path), system.Problem(err))
	}
	return nil
}

func (f *folder) Settle(context.Context) error {
	if err := unix.Syncfs(f.fd); err != nil {
		return fmt.Errorf("sync the file system of %s: %w", place.Quote(f.path), system.Problem(err))
	}
	return nil
}

func (f *folder) named(what, name string, do func() error) error {
	err := reach.CheckName(name)
	if err == nil {
		err = do()
	}
	if err != nil {
		return fmt.Errorf("%s %s: %w", what, place.Quote(place.Join(f.path, name)), system.Problem(err))
	}
	return nil
}

// Forget makes file a reach.Forgetter: the part is written to the drive (sync_file_range) where it is not yet, and then dropped from the
// page cache. File systems that keep nothing elsewhere, such as tmpfs, refuse that or ignore it.
func (f file) Forget(_ context.Context, at, size int64) error {
	fd := int(f.Fd())
	const through = unix.SYNC_FILE_RANGE_WAIT_BEFORE | unix.SYNC_FILE_RANGE_WRITE | unix.SYNC_FILE_RANGE_WAIT_AFTER
	err := unix.SyncFileRange(fd, at, size, through)
	switch {
	case err == nil:
		_ = unix.Fadvise(fd, at, size, unix.FADV_DONTNEED) // a hint, as it says
	case errors.Is(err, unix.EINVAL), errors.Is(err, unix.ENOSYS), errors.Is(err, unix.ESPIPE):
		err = nil
	}
	return system.Problem(err)
}

// SetMode makes file a reach.ModeSetter.
func (f file) SetMode(_ context.Context, mode fs.FileMode) error {
	return system.Problem(unix.Fchmod(int(f.Fd()), unixMode(mode)))
}

func (f *newFile) SetMeta(_ context.Context, m reach.Meta) error { return setMeta(int(f.Fd()), m) }

func (f *folder) SetMeta(_ context.Context, m reach.Meta) error { return setMeta(f.fd, m) }

func (f *folder) Date(_ context.Context, written time.Time) error {
	return system.Problem(setTimes(f.fd, written))
}

func (f *folder) SetLinkMeta(_ context.Context, name string, m reach.Meta) error {
	if err := reach.CheckName(name); err != nil {
		return err
	}
	var l losses
	if seen, err := f.look(name); err != nil || changesOwner(seen.UID.Value, seen.GID.Value, m) {
		l.add(ownerOf(m), unix.Fchownat(f.fd, name, idOf(m.UID), idOf(m.GID), unix.AT_SYMLINK_NOFOLLOW))
	}
	if !m.Written.IsZero() {
		l.add("write time", unix.UtimesNanoAt(f.fd, name, timesOf(m.Written), unix.AT_SYMLINK_NOFOLLOW))
	}
	return l.err()
}

// losses gather what could not be kept.
type losses []string

func (l *losses) add(what string, err error) {
	if err != nil {
		*l = append(*l, fmt.Sprintf("%s (%v)", what, system.Problem(err)))
	}
}

func (l losses) err() error {
	if l == nil {
		return nil
	}
	return &reach.MetaError{Lost: l}
}

func ownerOf(m reach.Meta) string { return fmt.Sprintf("owner %d:%d", idOf(m.UID), idOf(m.GID)) }

// idOf is a user or group as system calls take it: -1, which changes nothing, where it is unknown.
func idOf(id entry.Maybe[int64]) int { return int(id.Or(-1)) }

func changesOwner(uid, gid int64, m reach.Meta) bool {
	return m.UID.Or(uid) != uid || m.GID.Or(gid) != gid
}

// setMeta sets the owner first, because changing it clears set-id bits, then attributes, mode and, last, times.
func setMeta(fd int, m reach.Meta) error {
	var l losses
	var now unix.Stat_t
	if err := unix.Fstat(fd, &now); err != nil || changesOwner(int64(now.Uid), int64(now.Gid), m) {
		l.add(ownerOf(m), unix.Fchown(fd, idOf(m.UID), idOf(m.GID)))
	}
	for key, value := range m.Attributes {
		l.add("attribute "+key, unix.Fsetxattr(fd, key, value, 0))
	}
	if m.Mode.Known {
		l.add(fmt.Sprintf("mode %s", m.Mode.Value), unix.Fchmod(fd, unixMode(m.Mode.Value)))
	}
	if !m.Written.IsZero() {
		l.add("write time", setTimes(fd, m.Written))
	}
	return l.err()
}

func timesOf(written time.Time) []unix.Timespec {
	return []unix.Timespec{unix.NsecToTimespec(time.Now().UnixNano()), {Sec: written.Unix(), Nsec: int64(written.Nanosecond())}}
}

// setTimes sets the times of what a descriptor is open for (futimens).
func setTimes(fd int, written time.Time) error {
	times := timesOf(written)
	_, _, errno := unix.Syscall6(unix.SYS_UTIMENSAT, uintptr(fd), 0, uintptr(unsafe.Pointer(&times[0])), 0, 0, 0)
	if errno != 0 {
		return errno
	}
	return nil
}

// Attributes leaves out those that the system keeps for itself and gives anew (security.*, trusted overlay marks).
func (f *tree) Attributes(_ context.Context, name string) (reach.Attributes, error) {
	opened, err := f.open(name)
	if errors.Is(err, problem.NotFile) {
		return nil, nil // a link has none that users set
	}
	if err != nil {
		return nil, fmt.Errorf("read attributes of %s: %w", place.Quote(place.Join(f.path, name)), system.Problem(err))
	}
	defer opened.Close()
	fd := int(opened.Fd())
	size, err := unix.Flistxattr(fd, nil)
	if size == 0 || errors.Is(err, unix.ENOTSUP) {
		return nil, nil
	}
	list := make([]byte, size+1024)
	if size, err = unix.Flistxattr(fd, list); err != nil {
		return nil, fmt.Errorf("read attributes of %s: %w", place.Quote(place.Join(f.path, name)), system.Problem(err))
	}
	all := reach.Attributes{}
	for key := range strings.SplitSeq(strings.TrimSuffix(string(list[:size]), "\x00"), "\x00") {
		if !strings.HasPrefix(key, "user.") && !strings.HasPrefix(key, "system.posix_acl_") {
			continue
		}
		value := make([]byte, 64<<10) // the largest that Linux keeps
		n, err := unix.Fgetxattr(fd, key, value)
		if err != nil {
			return nil, fmt.Errorf("read attribute %s of %s: %w", key, place.Quote(place.Join(f.path, name)), system.Problem(err))
		}
		all[key] = value[:n]
	}
	return all, nil
}
