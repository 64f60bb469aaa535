// Package reach is how the files of machines are reached: every byte that is read from or written to a machine goes
// through its interfaces, whatever lies behind them.
//
// Three things hold for every implementation. Names are bytes: whatever a file system allows is listed and can be opened.
// No link is ever followed: a path is walked folder by folder, and a symbolic link on the way is a [LinkError], so
// that a link planted by a user can lead neither a survey nor a bring-back elsewhere. And what keeps something from being
// done is a code of package problem, wrapped in what was tried.
//
// Reading ([Tree]) is apart from writing ([Folder]). What a way to a machine can tell and do are its [Traits]; what it cannot tell
// is unknown, and "is this the same file as then" then has the answer [CannotTell].
//
// Paths are absolute on the machine and clean, see place.Clean. Package reachtest holds the contract as a test.
package reach

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"strings"
	"time"

	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/problem"
)

// Session is a machine's file system while it is reached. It is safe for concurrent use.
type Session interface {
	// Tree opens a folder for reading, Folder for writing too. Errors wrap problem.NotThere, NotFolder or Refused, or a *LinkError.
	Tree(ctx context.Context, path string) (Tree, error)
	Folder(ctx context.Context, path string) (Folder, error)
	Traits() Traits
	io.Closer
}

// Tree is an open folder that can be read, by several at once. Names are single names: no slash, not "." or "..".
type Tree interface {
	// Info describes the folder itself, its Name being whatever it was opened by.
	Info(ctx context.Context) (Info, error)
	// List describes the entries in no particular order. An entry that vanishes meanwhile is left out.
	List(ctx context.Context) ([]Info, error)
	// Look describes an entry.
	Look(ctx context.Context, name string) (Info, error)
	// Open opens a regular file; anything else is problem.NotFile.
	Open(ctx context.Context, name string) (File, error)
	// Target returns what a symbolic link points to.
	Target(ctx context.Context, name string) (string, error)
	Attributes(ctx context.Context, name string) (Attributes, error)
	// Enter opens a folder in this one for reading.
	Enter(ctx context.Context, name string) (Tree, error)
	io.Closer
}

// Folder is an open folder that can be written. Nothing but Replace ever replaces: where a name is taken the error wraps
// problem.Taken and what is there is untouched. Nothing is certain to survive a power cut before Sync or Settle.
type Folder interface {
	Tree
	// Into opens a folder in this one for writing.
	Into(ctx context.Context, name string) (Folder, error)
	// Create makes an empty file that only its owner can read until its Meta is set.
	Create(ctx context.Context, name string) (NewFile, error)
	Mkdir(ctx context.Context, name string) error
	Symlink(ctx context.Context, target, name string) error
	// Link gives a file of this folder a second name.
	Link(ctx context.Context, oldName string, to Folder, newName string) error
	// Rename moves an entry to another folder of the same Session. Errors wrap problem.OtherFileSystem where that needs a copy.
	Rename(ctx context.Context, oldName string, to Folder, newName string) error
	// Replace moves an entry over another of the same folder.
	Replace(ctx context.Context, oldName, newName string) error
	// Remove removes a file, a link or an empty folder.
	Remove(ctx context.Context, name string) error
	// SetMeta sets what m says of the folder itself, whatever it is called by now; what m does not know stays. What cannot be kept
	// is named in a *MetaError, everything else having been set.
	SetMeta(ctx context.Context, m Meta) error
	// Date sets the write time of the folder itself.
	Date(ctx context.Context, written time.Time) error
	// SetLinkMeta sets the owner and the times of a symbolic link, by its name: only in a folder that nobody else can enter
	// is that sure to be the link that was made.
	SetLinkMeta(ctx context.Context, name string, m Meta) error
	// Sync makes the folder's own entries last.
	Sync(ctx context.Context) error
	// Settle makes everything written to the folder's file system last, in one go.
	Settle(ctx context.Context) error
	// Room tells how many bytes can still be written (negative: unknown) and whether writing is refused altogether.
	Room(ctx context.Context) (free int64, readOnly bool, err error)
}

// File is an open regular file. One that can be read at any offset is also an [io.ReaderAt].
type File interface {
	Info(ctx context.Context) (Info, error)
	// Stream reads the content from its beginning to its end until ctx is done; each call begins anew. Holes need not be read.
	Stream(ctx context.Context) (io.ReadCloser, error)
	io.Closer
}

// NewFile is a file being written; its Stream reads back what was written.
type NewFile interface {
	File
	io.Writer
	// SetMeta sets what m says of the file that was created, whatever it is called by now, as Folder.SetMeta does.
	SetMeta(ctx context.Context, m Meta) error
	// Skip leaves a hole of n bytes, which read as zeros.
	Skip(ctx context.Context, n int64) error
	// Cut makes the file end after size bytes.
	Cut(ctx context.Context, size int64) error
}

// Cloner is a NewFile that can share another file's bytes instead of copying them.
type Cloner interface {
	// Clone makes the empty file share all bytes of another; false where the file system cannot.
	Clone(from File) bool
}

// Forgetter is a File of which what the machine holds in memory can be forgotten, once it is on its drive: then what is read next comes
// from there.
type Forgetter interface {
	Forget(ctx context.Context, at, size int64) error
}

// Forget makes the next read of a part of a file come from the drive, where the way offers that. An error is one of writing it there.
func Forget(ctx context.Context, f File, at, size int64) error {
	if forgetter, ok := f.(Forgetter); ok {
		return forgetter.Forget(ctx, at, size)
	}
	return nil
}

// ModeSetter is a File whose mode can be set, whatever it is called by now.
type ModeSetter interface {
	SetMode(ctx context.Context, mode fs.FileMode) error
}

// SetMode sets a file's mode, or says with problem.Unsupported that it cannot be set there.
func SetMode(ctx context.Context, f File, mode fs.FileMode) error {
	if setter, ok := f.(ModeSetter); ok {
		return setter.SetMode(ctx, mode)
	}
	return fmt.Errorf("set its mode: %w", problem.Unsupported)
}

// WholeReader is a Tree that reads small files faster than by opening them.
type WholeReader interface {
	ReadFile(ctx context.Context, name string, limit int64) ([]byte, error)
}

// ReadFile returns a regular file's content where it has at most limit bytes, else problem.TooLarge.
func ReadFile(ctx context.Context, t Tree, name string, limit int64) ([]byte, error) {
	if r, ok := t.(WholeReader); ok {
		return r.ReadFile(ctx, name, limit)
	}
	f, err := t.Open(ctx, name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	s, err := f.Stream(ctx)
	if err != nil {
		return nil, err
	}
	defer s.Close()
	content, err := io.ReadAll(io.LimitReader(s, limit+1))
	if err == nil && int64(len(content)) > limit {
		return nil, problem.TooLarge
	}
	return content, err
}

// Lister is a Tree that lists names without describing what they are of, so that of a folder of very many entries only some need be
// described at a time.
type Lister interface {
	Names(ctx context.Context) ([]string, error)
}

// Names lists the names of all entries, in no particular order; false where the way cannot do that without describing them.
func Names(ctx context.Context, t Tree) ([]string, bool, error) {
	l, ok := t.(Lister)
	if !ok {
		return nil, false, nil
	}
	names, err := l.Names(ctx)
	return names, names != nil || err != nil, err
}

// BulkLooker is a Tree that can describe many entries in fewer exchanges than one each.
type BulkLooker interface {
	LookAll(ctx context.Context, names []string) ([]Info, error)
}

// LookAll describes those of many entries that are there, in the order of the names.
func LookAll(ctx context.Context, t Tree, names []string) ([]Info, error) {
	if b, ok := t.(BulkLooker); ok {
		return b.LookAll(ctx, names)
	}
	all := make([]Info, 0, len(names))
	for _, name := range names {
		i, err := t.Look(ctx, name)
		switch {
		case err == nil:
			all = append(all, i)
		case !errors.Is(err, fs.ErrNotExist):
			return nil, err
		}
	}
	return all, nil
}

// LinkError says that a path leads through a symbolic link. It is a problem.LinkInTheWay.
type LinkError struct {
	Path   string // of the link
	Target string
}

func (e *LinkError) Error() string {
	return fmt.Sprintf(
		"%s is a symbolic link to %s, and links are not followed; name the place it points to",
		place.Readable(e.Path),
		place.Readable(e.Target),
	)
}

// Unwrap returns the code.
func (e *LinkError) Unwrap() error { return problem.LinkInTheWay }

// MetaError names what could not be kept on an entry.
type MetaError struct {
	Lost []string // sentences' middles, such as "owner 1001:1001 (operation not permitted)"
}

func (e *MetaError) Error() string { return "not kept: " + strings.Join(e.Lost, ", ") }

// CheckName refuses what is not a single name, with problem.BadName.
func CheckName(name string) error {
	if name == "" || name == "." || name == ".." || strings.ContainsAny(name, "/\x00") {
		return fmt.Errorf("%w: %s", problem.BadName, place.Quote(name))
	}
	return nil
}

// Parent opens the folder that path lies in for writing and returns it with the path's last name.
func Parent(ctx context.Context, s Session, path string) (Folder, string, error) {
	folder, err := s.Folder(ctx, place.Folder(path))
	return folder, place.Name(path), err
}

// Look describes what stands at a path, without following links.
func Look(ctx context.Context, s Session, path string) (Info, error) {
	if path == "/" {
		root, err := s.Tree(ctx, path)
		if err != nil {
			return Info{}, err
		}
		defer root.Close()
		return root.Info(ctx)
	}
	tree, err := s.Tree(ctx, place.Folder(path))
	if err != nil {
		return Info{}, err
	}
	defer tree.Close()
	return tree.Look(ctx, place.Name(path))
}
