package reach

import (
	"context"
	"io"
	"slices"
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
func KeeperOf(s Session) (Keeper, bool) {
	k, around, ok := offered[Keeper](s)
	for _, a := range around {
		k = keeper{k, a}
	}
	return k, ok
}

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
func VersionerOf(s Session) (Versioner, bool) {
	v, around, ok := offered[Versioner](s)
	for _, a := range around {
		v = versioner{v, a}
	}
	return v, ok
}

// offered finds what a session offers beyond a Session, or one that it passes calls on to, and what stands around that, innermost first.
func offered[T any](s Session) (offer T, all []around, ok bool) {
	for {
		if offer, ok = s.(T); ok {
			slices.Reverse(all)
			return offer, all, true
		}
		outer, wraps := s.(interface{ Inner() Session })
		if !wraps {
			return offer, nil, false
		}
		switch a := s.(type) {
		case *session:
			all = append(all, a.around)
		case *lasting:
			all = append(all, a.around())
		}
		s = outer.Inner()
	}
}

// keeper is a Keeper with something around its calls, but for what changed: that is told while others are called.
type keeper struct {
	Keeper
	around
}

func (k keeper) Versions(ctx context.Context, path string) ([]KeptVersion, error) {
	return around1(ctx, k.around, func() ([]KeptVersion, error) { return k.Keeper.Versions(ctx, path) })
}

func (k keeper) OpenKept(ctx context.Context, address string) (File, error) {
	return around1(ctx, k.around, func() (File, error) { return k.file(k.Keeper.OpenKept(ctx, address)) })
}

func (k keeper) Removed(ctx context.Context, path string) ([]RemovedItem, error) {
	return around1(ctx, k.around, func() ([]RemovedItem, error) { return k.Keeper.Removed(ctx, path) })
}

func (k keeper) EnterKept(ctx context.Context, address string) (Tree, error) {
	return around1(ctx, k.around, func() (Tree, error) { return k.tree(k.Keeper.EnterKept(ctx, address)) })
}

// versioner is a Versioner with something around its calls.
type versioner struct {
	Versioner
	around
}

func (v versioner) Tag(ctx context.Context, path string) (string, error) {
	return around1(ctx, v.around, func() (string, error) { return v.Versioner.Tag(ctx, path) })
}

func (v versioner) PutVersion(ctx context.Context, path string, content io.Reader, size int64, over string) (string, error) {
	return around1(ctx, v.around, func() (string, error) { return v.Versioner.PutVersion(ctx, path, content, size, over) })
}

func (v versioner) RemoveVersion(ctx context.Context, path, tag string) error {
	return v.do(ctx, func() error { return v.Versioner.RemoveVersion(ctx, path, tag) })
}
