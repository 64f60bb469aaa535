package reach

import (
	"context"
	"io"
	"time"
)

// Keeper is a Session of a cloud drive, which may keep former versions of its files and what was removed from it. What a
// drive does not offer is problem.Unsupported.
type Keeper interface {
	// Changes tells what is below a folder. since is a token of an earlier answer: then only what changed since is told, and what is gone.
	// "" tells everything. The token is "" where the drive has none; whole tells whether everything was told, also because the drive did
	// not know the token any more.
	Changes(ctx context.Context, path, since string, see func(Kept) error) (token string, whole bool, err error)
	// Versions lists the versions of a file, the current one included, oldest first.
	Versions(ctx context.Context, path string) ([]KeptVersion, error)
	// OpenKept opens what a version or something removed is addressed by.
	OpenKept(ctx context.Context, address string) (File, error)
	// Removed lists what was removed from below a folder and is still kept.
	Removed(ctx context.Context, path string) ([]RemovedItem, error)
	// EnterKept opens a folder that was removed, for reading.
	EnterKept(ctx context.Context, address string) (Tree, error)
}

// Kept is a file or folder of a cloud drive.
type Kept struct {
	Path string // of the drive
	Info Info
	Tag  string // its entity tag; "" where there is none
	Gone bool   // it is not there any more
}

// KeptVersion is one version of a file.
type KeptVersion struct {
	Name    string    // what the drive calls it
	Address string    // by which OpenKept opens it
	At      time.Time // when it became the content
	Written time.Time // its write time
	Size    int64     // negative where unknown
	Tag     string
	Author  string
	Comment string
	Current bool
}

// RemovedItem is something that was removed.
type RemovedItem struct {
	Address string
	Name    string // unique among those removed
	From    string // the path that it had on the drive
	At      time.Time
	Expires time.Time // zero: never, or not told
	By      string
	Info    Info
	Tag     string
}

// KeeperOf returns what a session offers as a Keeper; false where it is none.
func KeeperOf(s Session) (Keeper, bool) { return offered[Keeper](s) }

// Versioner is a Session of a cloud drive on which what is written becomes a new version of what is there, and never takes its place unseen.
type Versioner interface {
	// Tag returns what tells the content that stands at a path from any other that ever will; problem.NotThere where nothing does.
	Tag(ctx context.Context, path string) (string, error)
	// PutVersion writes a file over what has the tag over, or where nothing stands (""). problem.Taken says that something else does.
	PutVersion(ctx context.Context, path string, content io.Reader, size int64, over string) (tag string, err error)
	// RemoveVersion removes what has the tag; a folder has none. The drive may keep it in its trash.
	RemoveVersion(ctx context.Context, path, tag string) error
}

// VersionerOf returns what a session offers as a Versioner; false where it is none.
func VersionerOf(s Session) (Versioner, bool) { return offered[Versioner](s) }

// offered finds what a session offers beyond a Session, or one that it passes calls on to.
func offered[T any](s Session) (T, bool) {
	for {
		if offer, ok := s.(T); ok {
			return offer, true
		}
		around, ok := s.(interface{ Inner() Session })
		if !ok {
			var none T
			return none, false
		}
		s = around.Inner()
	}
}
