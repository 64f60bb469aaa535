// Package reachtest holds the contract of reach as a test that every way to reach machines is put through.
package reachtest

import (
	"context"
	"errors"
	"io"
	"io/fs"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/problem"
	"humble-rewind/internal/reach"
)

// odd are names that file systems allow and programs stumble over.
var odd = []string{"plain", "two\nlines", "caf\xe9", " ", "-rf", "\u202e", "%2e", "'"}

// Tells is what a way can tell and do, so that nothing else of the contract is left out.
type Tells struct {
	Identity bool // an entry is known again by its Inode and Device
	Changed  bool // when anything about an entry last changed
	Links    bool // how many names a file has, and files can be given another
	Owners   bool // whose an entry is, and that can be set
	Room     bool // how much can still be written
	Random   bool // files can be read at any offset
}

// Run puts files through the contract. They must be empty and writable.
func Run(t *testing.T, files reach.Session, tells Tells) {
	assert.Equal(t, tells.Owners, files.Traits().Owners)
	ctx := context.Background()
	root, err := files.Folder(ctx, "/")
	require.NoError(t, err)
	defer root.Close()
	put(t, root, "file", "content")
	require.NoError(t, root.Mkdir(ctx, "folder"))
	require.NoError(t, root.Symlink(ctx, "folder", "to folder"))
	require.NoError(t, root.Symlink(ctx, "/nowhere", "to nowhere"))
	folder, err := files.Folder(ctx, "/folder")
	require.NoError(t, err)
	defer folder.Close()

	t.Run("links are never followed", func(t *testing.T) {
		put(t, folder, "inside", "x")
		_, err := files.Folder(ctx, "/to folder")
		link, ok := errors.AsType[*reach.LinkError](err)
		require.True(t, ok, "%v", err)
		assert.Equal(t, "folder", link.Target)
		_, err = root.Into(ctx, "to folder")
		assert.Error(t, err)
		_, err = root.Enter(ctx, "to folder")
		assert.Error(t, err)
		_, err = files.Tree(ctx, "/to folder")
		assert.ErrorIs(t, err, problem.LinkInTheWay)
		_, err = root.Open(ctx, "to nowhere")
		assert.ErrorIs(t, err, problem.NotFile)
		_, err = reach.ReadFile(ctx, root, "to folder", 100)
		assert.ErrorIs(t, err, problem.NotFile)
		info, err := root.Look(ctx, "to nowhere")
		require.NoError(t, err)
		assert.Equal(t, entry.Link, info.Type)
		require.NoError(t, root.Remove(ctx, "to nowhere"))
	})
	t.Run("names are bytes", func(t *testing.T) {
		for _, name := range odd {
			put(t, folder, name, name)
		}
		list, err := folder.List(ctx)
		require.NoError(t, err)
		var names []string
		for _, i := range list {
			names = append(names, i.Name)
		}
		assert.Subset(t, names, odd)
		for _, name := range odd {
			content, err := reach.ReadFile(ctx, folder, name, 100)
			require.NoError(t, err, "%q", name)
			assert.Equal(t, name, string(content))
			require.NoError(t, folder.Remove(ctx, name))
		}
	})
	t.Run("only single names are taken", func(t *testing.T) {
		for _, name := range []string{"", ".", "..", "a/b", "../file", "a\x00"} {
			_, err := folder.Look(ctx, name)
			assert.ErrorIs(t, err, problem.BadName, "%q", name)
			assert.Error(t, folder.Remove(ctx, name))
			_, err = folder.Create(ctx, name)
			assert.Error(t, err)
			assert.Error(t, root.Rename(ctx, "file", folder, name))
		}
		_, err := files.Folder(ctx, "/folder/../folder")
		assert.Error(t, err)
	})
	t.Run("nothing is replaced", func(t *testing.T) {
		put(t, folder, "taken", "mine")
		assert.ErrorIs(t, root.Rename(ctx, "file", folder, "taken"), fs.ErrExist)
		if tells.Links {
			assert.ErrorIs(t, root.Link(ctx, "file", folder, "taken"), fs.ErrExist)
		}
		assert.ErrorIs(t, folder.Mkdir(ctx, "taken"), fs.ErrExist)
		assert.ErrorIs(t, folder.Symlink(ctx, "x", "taken"), fs.ErrExist)
		_, err := folder.Create(ctx, "taken")
		assert.ErrorIs(t, err, fs.ErrExist)
		require.NoError(t, root.Mkdir(ctx, "empty"))
		assert.ErrorIs(t, root.Rename(ctx, "empty", root, "folder"), fs.ErrExist)
		assert.Error(t, root.Remove(ctx, "folder"), "a folder that holds something stays")
		content, err := reach.ReadFile(ctx, folder, "taken", 100)
		require.NoError(t, err)
		assert.Equal(t, "mine", string(content))
	})
	t.Run("what is not there", func(t *testing.T) {
		_, err := files.Folder(ctx, "/missing/deep")
		assert.ErrorIs(t, err, fs.ErrNotExist)
		_, err = files.Folder(ctx, "/file/deep")
		assert.ErrorIs(t, err, problem.NotFolder)
		_, err = root.Look(ctx, "missing")
		assert.ErrorIs(t, err, fs.ErrNotExist)
		_, err = root.Open(ctx, "folder")
		assert.ErrorIs(t, err, problem.NotFile)
		_, err = reach.ReadFile(ctx, root, "file", 3)
		assert.ErrorIs(t, err, problem.TooLarge)
	})
	t.Run("what belongs to a file is kept", func(t *testing.T) {
		written := time.Date(2001, 2, 3, 4, 5, 6, 700, time.UTC)
		f, err := folder.Create(ctx, "kept")
		require.NoError(t, err)
		defer f.Close()
		i, err := folder.Look(ctx, "kept")
		require.NoError(t, err)
		meta := reach.Meta{
			Mode:       entry.Is(0o640 | fs.ModeSetgid),
			UID:        i.UID,
			GID:        i.GID,
			Written:    written,
			Attributes: reach.Attributes{"user.note": []byte("v")},
		}
		// Somebody moves it away and puts another in its place: what was made is what is set.
		require.NoError(t, folder.Rename(ctx, "kept", folder, "moved away"))
		put(t, folder, "kept", "planted")
		require.NoError(t, f.SetMeta(ctx, meta))
		planted, err := folder.Look(ctx, "kept")
		require.NoError(t, err)
		assert.NotEqual(t, meta.Mode, planted.Mode)
		i, err = folder.Look(ctx, "moved away")
		require.NoError(t, err)
		assert.Equal(t, meta.Mode, i.Mode)
		assert.WithinDuration(t, written, i.Written, time.Second)
		if tells.Owners {
			attributes, err := folder.Attributes(ctx, "moved away")
			require.NoError(t, err)
			assert.Equal(t, "v", string(attributes["user.note"]))
		}

		require.NoError(t, folder.Mkdir(ctx, "kept folder"))
		sub, err := folder.Into(ctx, "kept folder")
		require.NoError(t, err)
		defer sub.Close()
		require.NoError(t, sub.SetMeta(ctx, reach.Meta{Mode: entry.Is(fs.FileMode(0o711)), UID: i.UID, GID: i.GID, Written: written}))
		i, err = folder.Look(ctx, "kept folder")
		require.NoError(t, err)
		assert.Equal(t, entry.Is(fs.FileMode(0o711)), i.Mode)
		assert.WithinDuration(t, written, i.Written, time.Second)
		require.NoError(t, sub.Date(ctx, written.AddDate(1, 0, 0)))
		require.NoError(t, folder.Symlink(ctx, "nowhere", "kept link"))
		require.NoError(t, folder.SetLinkMeta(ctx, "kept link", reach.Meta{UID: i.UID, GID: i.GID, Written: written}))
		for name, at := range map[string]time.Time{"kept folder": written.AddDate(1, 0, 0), "kept link": written} {
			i, err = folder.Look(ctx, name)
			require.NoError(t, err)
			assert.WithinDuration(t, at, i.Written, time.Second, name)
		}
	})
	t.Run("moving, linking and syncing", func(t *testing.T) {
		require.NoError(t, root.Rename(ctx, "file", folder, "moved"))
		require.NoError(t, folder.Rename(ctx, "moved", root, "second"))
		if tells.Links {
			require.NoError(t, root.Link(ctx, "second", folder, "moved"))
			i, err := root.Look(ctx, "second")
			require.NoError(t, err)
			assert.True(t, i.Links.Is(2))
		} else {
			assert.ErrorIs(t, root.Link(ctx, "second", folder, "moved"), problem.Unsupported)
		}
		require.NoError(t, root.Replace(ctx, "second", "file"))
		require.NoError(t, errors.Join(root.Sync(ctx), root.Settle(ctx)))
		free, readOnly, err := root.Room(ctx)
		require.NoError(t, err)
		assert.False(t, readOnly)
		if tells.Room {
			assert.Positive(t, free)
		} else {
			assert.Negative(t, free, "what cannot be told is unknown")
		}
	})
	t.Run("what is told is what the traits say", func(t *testing.T) {
		put(t, folder, "told", "four")
		before, err := folder.Look(ctx, "told")
		require.NoError(t, err)
		assert.Equal(t, tells.Identity, before.Inode != 0)
		assert.Equal(t, tells.Identity, before.Volume() != 0)
		assert.Equal(t, tells.Changed, !before.Changed.IsZero())
		assert.Equal(t, tells.Owners, before.UID.Known && before.GID.Known)
		assert.Equal(t, tells.Links, before.Links.Known)
		assert.Equal(t, tells.Identity && tells.Changed, before.Recognisable())
		require.NoError(t, folder.Rename(ctx, "told", root, "told"))
		after, err := root.Look(ctx, "told")
		require.NoError(t, err)
		want := reach.CannotTell
		if tells.Identity {
			want = reach.Yes
		}
		assert.Equal(t, want, before.Seen().Moved(after.Seen()))
		put(t, folder, "told", "four")
		other, err := folder.Look(ctx, "told")
		require.NoError(t, err)
		if tells.Identity {
			want = reach.No
		}
		assert.Equal(t, want, before.Seen().SameFile(other.Seen()), "another file of that name")
		all, err := reach.LookAll(ctx, folder, []string{"told", "missing"})
		require.NoError(t, err)
		assert.Len(t, all, 1)
		assert.Equal(t, other, all[0])
		names, can, err := reach.Names(ctx, folder)
		require.NoError(t, err)
		if can {
			list, err := folder.List(ctx)
			require.NoError(t, err)
			assert.Len(t, names, len(list))
			assert.Contains(t, names, "told")
		}
	})
	t.Run("a file is read in order, and where the way can at any offset", func(t *testing.T) {
		put(t, folder, "read", "0123456789")
		f, err := folder.Open(ctx, "read")
		require.NoError(t, err)
		defer f.Close()
		for range 2 {
			s, err := f.Stream(ctx)
			require.NoError(t, err)
			content, err := io.ReadAll(s)
			require.NoError(t, errors.Join(err, s.Close()))
			assert.Equal(t, "0123456789", string(content), "each stream begins anew")
		}
		at, random := f.(io.ReaderAt)
		require.Equal(t, tells.Random, random)
		if random {
			piece := make([]byte, 3)
			_, err = at.ReadAt(piece, 4)
			require.NoError(t, err)
			assert.Equal(t, "456", string(piece))
		}
	})
	t.Run("what is cancelled ends", func(t *testing.T) {
		cancelled, cancel := context.WithCancel(ctx)
		cancel()
		f, err := folder.Open(ctx, "read")
		require.NoError(t, err)
		defer f.Close()
		s, err := f.Stream(cancelled)
		if err == nil {
			_, err = io.ReadAll(s)
		}
		assert.ErrorIs(t, err, context.Canceled)
	})
}

func put(t *testing.T, folder reach.Folder, name, content string) {
	ctx := context.Background()
	f, err := folder.Create(ctx, name)
	require.NoError(t, err)
	_, err = io.WriteString(f, content)
	require.NoError(t, errors.Join(err, f.Close()))
}
