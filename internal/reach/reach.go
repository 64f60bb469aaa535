// Package reach is how the files of machines are reached: every byte that is read from or written to a machine goes
// through its interfaces, whatever lies behind them.
//
// Two things hold for every implementation. Names are bytes: whatever a file system allows is listed and can be opened.
// And no link is ever followed: a path is walked folder by folder, and a symbolic link on the way is a [LinkError], so
// that a link planted by a user can lead neither a survey nor a bring-back elsewhere.
//
// Paths are absolute on the machine and clean, see place.Clean. Package reachtest holds the contract as a test.
package reach

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/url"
	"slices"
	"strings"
	"time"

	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/plan"
)

// Info describes an entry without following links.
type Info struct {
	Name    string
	Type    plan.Type
	Size    int64       // bytes; of a link, of its target's name
	Mode    fs.FileMode // permission, set-id and sticky bits only
	UID     int64
	GID     int64
	Written time.Time // mtime, UTC
	Changed time.Time // ctime, UTC; the zero Time where there is none
	Device  uint64    // the file system; 0 where that cannot be told
	Inode   uint64
	Links   uint64
}

// Same tells whether two looks at an entry saw the same, unchanged: same file, size and times.
func (i Info) Same(j Info) bool {
	return i.Device == j.Device && i.Inode == j.Inode && i.Type == j.Type && i.Size == j.Size &&
		i.Written.Equal(j.Written) && i.Changed.Equal(j.Changed)
}

// Attributes are extended attributes by their full names, such as "user.comment" or "system.posix_acl_access".
type Attributes map[string][]byte

// Meta is what is kept about an entry besides its content.
type Meta struct {
	Mode       fs.FileMode
	UID, GID   int64
	Written    time.Time
	Attributes Attributes
}

// Files is a machine's file system. It is safe for concurrent use.
type Files interface {
	// Folder opens a folder. Errors wrap fs.ErrNotExist, ErrNotFolder, *LinkError or fs.ErrPermission.
	Folder(ctx context.Context, path string) (Folder, error)
	io.Closer
}

// Reader is an open folder that can be read. Names are single names: no slash, not "." or "..".
type Reader interface {
	// Info describes the folder itself, its Name being whatever it was opened by.
	Info() (Info, error)
	// List describes the entries in no particular order. An entry that vanishes meanwhile is left out.
	List(ctx context.Context) ([]Info, error)
	Lstat(name string) (Info, error)
	// Open opens a regular file; anything else is ErrNotFile.
	Open(name string) (File, error)
	// ReadFile returns a regular file's content where it has at most limit bytes, else ErrTooLarge.
	ReadFile(name string, limit int64) ([]byte, error)
	Readlink(name string) (string, error)
	Attributes(name string) (Attributes, error)
	// Enter opens a folder in this one.
	Enter(name string) (Folder, error)
	io.Closer
}

// Folder is an open folder that can be written. Nothing but Replace ever replaces: where a name is taken the error wraps
// fs.ErrExist and what stands there is untouched. Nothing is certain to survive a power cut before Sync or Settle.
type Folder interface {
	Reader
	// Create makes an empty file that only its owner can read until its Meta is set.
	Create(name string) (NewFile, error)
	Mkdir(name string) error
	Symlink(target, name string) error
	// Link gives a file of this folder a second name.
	Link(oldName string, to Folder, newName string) error
	// Rename moves an entry to another folder of the same Files. Errors wrap ErrOtherFileSystem where that needs a copy.
	Rename(oldName string, to Folder, newName string) error
	// Replace moves an entry over another of the same folder.
	Replace(oldName, newName string) error
	// Remove removes a file, a link or an empty folder.
	Remove(name string) error
	// SetMeta sets what m says of the folder itself, whatever it is called by now. What cannot be kept is named in a
	// *MetaError, everything else having been set.
	SetMeta(m Meta) error
	// Date sets the write time of the folder itself.
	Date(written time.Time) error
	// SetLinkMeta sets the owner and the times of a symbolic link, by its name: only in a folder that nobody else can enter
	// is that sure to be the link that was made.
	SetLinkMeta(name string, m Meta) error
	// Sync makes the folder's own entries last.
	Sync() error
	// Settle makes everything written to the folder's file system last, in one go.
	Settle() error
	// Room tells how many bytes can still be written (negative: unknown) and whether writing is refused altogether.
	Room() (free int64, readOnly bool, err error)
}

// File is an open regular file.
type File interface {
	io.ReaderAt
	io.Closer
	Info() (Info, error)
}

// NewFile is a file being written.
type NewFile interface {
	io.Writer
	io.ReaderAt
	io.Closer
	Info() (Info, error)
	// SetMeta sets what m says of the file that was created, whatever it is called by now, as Folder.SetMeta does.
	SetMeta(m Meta) error
	// Skip leaves a hole of n bytes, which read as zeros.
	Skip(n int64) error
	// Cut makes the file end after size bytes.
	Cut(size int64) error
}

// Cloner is a NewFile that can share another file's bytes instead of copying them.
type Cloner interface {
	// Clone makes the empty file share all bytes of another; false where the file system cannot.
	Clone(from File) bool
}

// ModeSetter is a File whose mode can be set, whatever it is called by now.
type ModeSetter interface {
	SetMode(mode fs.FileMode) error
}

// Sentinels that callers branch on, besides those of io/fs.
var (
	ErrNotFolder       = errors.New("not a folder")
	ErrNotFile         = errors.New("not a regular file")
	ErrTooLarge        = errors.New("larger than allowed")
	ErrOtherFileSystem = errors.New("on another file system")
	ErrBadName         = errors.New("not a single name")
	ErrPrivate         = errors.New("the service's own data") // which is never read, moved or written as anybody's files
)

// LinkError says that a path leads through a symbolic link.
type LinkError struct {
	Path   string // of the link
	Target string
}

func (e *LinkError) Error() string {
	return fmt.Sprintf("%s is a symbolic link to %s, and links are not followed; name the place it points to", place.Readable(e.Path), place.Readable(e.Target))
}

// MetaError names what could not be kept on an entry.
type MetaError struct {
	Lost []string // sentences' middles, such as "owner 1001:1001 (operation not permitted)"
}

func (e *MetaError) Error() string { return "not kept: " + strings.Join(e.Lost, ", ") }

// CheckName refuses what is not a single name, with ErrBadName.
func CheckName(name string) error {
	if name == "" || name == "." || name == ".." || strings.ContainsAny(name, "/\x00") {
		return fmt.Errorf("%w: %s", ErrBadName, place.Quote(name))
	}
	return nil
}

// A Way is one way to reach machines, by the scheme of their address; the empty scheme is a plain path.
type Way struct {
	Scheme string
	Open   func(ctx context.Context, at string) (Files, error)
}

// Ways are the ways that a program knows.
type Ways []Way

// Open reaches a machine by its address: a directory, or scheme://….
func (w Ways) Open(ctx context.Context, at string) (Files, error) {
	scheme := ""
	if before, _, found := strings.Cut(at, "://"); found {
		if u, err := url.Parse(at); err == nil && u.Scheme != "" {
			scheme = u.Scheme
		} else {
			scheme = before
		}
	}
	i := slices.IndexFunc(w, func(way Way) bool { return way.Scheme == scheme })
	if i < 0 {
		return nil, fmt.Errorf("reach %s: no way to reach %q addresses is known; give a directory", at, scheme+"://")
	}
	return w[i].Open(ctx, at)
}

// Parent opens the folder that path lies in and returns it with the path's last name.
func Parent(ctx context.Context, files Files, path string) (Folder, string, error) {
	folder, err := files.Folder(ctx, place.Folder(path))
	return folder, place.Name(path), err
}

// Lstat describes what stands at a path, without following links.
func Lstat(ctx context.Context, files Files, path string) (Info, error) {
	if path == "/" {
		root, err := files.Folder(ctx, path)
		if err != nil {
			return Info{}, err
		}
		defer root.Close()
		return root.Info()
	}
	folder, name, err := Parent(ctx, files, path)
	if err != nil {
		return Info{}, err
	}
	defer folder.Close()
	return folder.Lstat(name)
}
