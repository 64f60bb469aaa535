package source

import (
	"context"
	"sync"

	"humble-rewind/internal/reach"
)

// ForContents returns a context for opening many copies one after the other for their contents alone: the folders that they lie in are kept
// open from one to the next, so that paths are not walked anew for each, and attributes are not read. done closes them; what was opened
// may be read on. It is for one piece of work: a folder that is moved away meanwhile is still read.
func ForContents(ctx context.Context) (within context.Context, done func()) {
	k := &keptFolders{open: map[folderKey]*keptFolder{}}
	return context.WithValue(ctx, keptFoldersKey{}, k), k.close
}

type keptFoldersKey struct{}

// folderKey names a folder of a machine.
type folderKey struct {
	session reach.Session
	path    string
}

type keptFolder struct {
	reach.Tree
	users int
}

// maxKept is how many folders are kept open: as many as copies are read side by side, and some.
const maxKept = 8

// keptFolders are folders that are kept open.
type keptFolders struct {
	mu     sync.Mutex
	open   map[folderKey]*keptFolder
	closed bool
}

// forContents returns what ForContents put into a context, or nil.
func forContents(ctx context.Context) *keptFolders {
	k, _ := ctx.Value(keptFoldersKey{}).(*keptFolders)
	return k
}

// get opens a folder or returns it as it is open; release says that it is not used any more.
func (k *keptFolders) get(ctx context.Context, session reach.Session, path string) (folder reach.Tree, release func(), err error) {
	if k == nil {
		folder, err = session.Tree(ctx, path)
		if err != nil {
			return nil, nil, err
		}
		return folder, func() { folder.Close() }, nil
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	key := folderKey{session, path}
	kept := k.open[key]
	if kept == nil {
		tree, err := session.Tree(ctx, path)
		if err != nil {
			return nil, nil, err
		}
		kept = &keptFolder{Tree: tree}
		k.open[key] = kept
	}
	kept.users++
	return kept.Tree, func() { k.release(kept) }, nil
}

func (k *keptFolders) release(kept *keptFolder) {
	k.mu.Lock()
	defer k.mu.Unlock()
	kept.users--
	if len(k.open) > maxKept || k.closed {
		k.drop()
	}
}

// drop closes the folders that nobody uses; mu is held.
func (k *keptFolders) drop() {
	for key, kept := range k.open {
		if kept.users == 0 {
			kept.Close()
			delete(k.open, key)
		}
	}
}

func (k *keptFolders) close() {
	k.mu.Lock()
	defer k.mu.Unlock()
	k.closed = true
	k.drop()
}
