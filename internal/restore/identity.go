package restore

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"slices"
	"strings"

	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/plan"
	"humble-rewind/internal/reach"
)

// identity tells one entry from another that came to stand under its name, and from itself after a change.
type identity struct {
	Device  uint64        `json:"device"`
	Inode   uint64        `json:"inode"`
	Size    int64         `json:"size"`
	Written entry.Instant `json:"written"`
	Changed entry.Instant `json:"changed,omitzero"`
	Inside  string        `json:"inside,omitempty"` // of a folder: a digest over what is in it, see insideOf
	Print   string        `json:"print,omitempty"`  // of what arrived: of the entry and everything in it, see print
}

func identify(i reach.Info) identity {
	return identity{Device: i.Device, Inode: i.Inode, Size: i.Size, Written: entry.At(i.Written), Changed: entry.At(i.Changed)}
}

// look describes what stands under a name, a folder with what is in it.
func look(ctx context.Context, folder reach.Reader, name string) (identity, error) {
	info, err := folder.Lstat(name)
	if err != nil {
		return identity{}, err
	}
	id := identify(info)
	if info.Type == plan.Folder {
		id.Inside, err = insideOf(ctx, folder, name)
	}
	return id, err
}

// is tells whether an entry is still there and unchanged, as far as its own record tells.
func (id identity) is(i reach.Info) bool {
	now := identify(i)
	return id.same(now) && (!id.Changed.Known || id.Changed == now.Changed)
}

// same leaves out the change time, which moving an entry changes.
func (id identity) same(now identity) bool {
	return id.Inode == now.Inode && id.Device == now.Device && id.Size == now.Size && id.Written == now.Written
}

// isStill tells whether what was moved is what was seen before, a folder with all that is in it. The size and time of a
// folder of its own say nothing more than that.
func (id identity) isStill(now identity) bool { return id.same(now) && id.Inside == now.Inside }

// arrivedAs tells whether what stands somewhere is what was to arrive there, whatever number its file system has by now; a file
// only if also its bytes are: inode numbers are used again. Of a folder that came alone, what is in it came later.
func (id identity) arrivedAs(ctx context.Context, folder reach.Folder, name string, typ plan.Type,
	alone bool, digest string) (bool, error) {
	info, err := folder.Lstat(name)
	if err != nil {
		return false, err
	}
	now := identify(info)
	now.Device = id.Device
	if info.Type != typ || id.Inode == 0 || now.Inode != id.Inode {
		return false, nil
	}
	switch typ {
	case plan.Folder:
		if alone {
			return true, nil
		}
		inside, err := insideOf(ctx, folder, name)
		return inside == id.Inside, err
	case plan.File:
		if !id.same(now) || digest == "" {
			return false, nil
		}
		sum, err := digestOf(ctx, folder, name)
		return sum == digest, err
	}
	return id.same(now), nil
}

// digestOf reads a file and returns its SHA-256 in hex.
func digestOf(ctx context.Context, folder reach.Reader, name string) (string, error) {
	f, err := folder.Open(name)
	if err != nil {
		return "", err
	}
	defer f.Close()
	info, err := f.Info()
	if err != nil {
		return "", err
	}
	h := sha256.New()
	if _, err := io.Copy(h, reach.Sequential(ctx, f, info.Size)); err != nil {
		return "", fmt.Errorf("read it for its digest: %w", err)
	}
	return hex.EncodeToString(h.Sum(nil)), nil
}

// print is a digest over what stands under a name: types, sizes, times, inodes and modes of it and everything in it, but
// not contents. Two equal prints mean that nothing was touched between. Receipts keep it, so it stays as it is.
func print(ctx context.Context, folder reach.Reader, name string) (string, error) {
	h := sha256.New()
	info, err := folder.Lstat(name)
	if err != nil {
		return "", err
	}
	printLine(h, info, name)
	if info.Type == plan.Folder {
		if err := printInside(ctx, h, folder, info, name); err != nil {
			return "", err
		}
	}
	return hex.EncodeToString(h.Sum(nil)), nil
}

// insideOf is print without the entry itself, which moving changes. Where another file system is mounted in it, that is an
// error: what is moved or removed must be of one.
func insideOf(ctx context.Context, folder reach.Reader, name string) (string, error) {
	h := sha256.New()
	info, err := folder.Lstat(name)
	if err == nil {
		err = printInside(ctx, h, folder, info, ".")
	}
	return hex.EncodeToString(h.Sum(nil)), err
}

func printLine(w io.Writer, i reach.Info, path string) {
	fmt.Fprintf(w, "%q %s %d %d %d %d %o %d %d\n", path, i.Type, i.Size, i.Written.UnixNano(), i.Changed.UnixNano(), i.Inode, i.Mode, i.UID,
		i.GID)
}

func printInside(ctx context.Context, w io.Writer, folder reach.Reader, of reach.Info, path string) error {
	inside, err := folder.Enter(of.Name)
	if err != nil {
		return err
	}
	defer inside.Close()
	list, err := inside.List(ctx)
	if err != nil {
		return err
	}
	slices.SortFunc(list, func(a, b reach.Info) int { return strings.Compare(a.Name, b.Name) })
	for _, e := range list {
		at := path + "/" + e.Name
		if e.Device != of.Device {
			return fmt.Errorf("%w at %s", errMounted, at)
		}
		printLine(w, e, at)
		if e.Type == plan.Folder {
			if err := printInside(ctx, w, inside, e, at); err != nil {
				return err
			}
		}
	}
	return nil
}
