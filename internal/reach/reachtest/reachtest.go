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

	"humble-rewind/internal/core/plan"
	"humble-rewind/internal/reach"
)

// odd are names that file systems allow and programs stumble over.
var odd = []string{"plain", "two\nlines", "caf\xe9", " ", "-rf", "\u202e", "%2e", "'"}

// Run puts files through the contract. They must be empty and writable.
func Run(t *testing.T, files reach.Files) {
	ctx := context.Background()
	root, err := files.Folder(ctx, "/")
	require.NoError(t, err)
	defer root.Close()
	put(t, root, "file", "content")
	require.NoError(t, root.Mkdir("folder"))
	require.NoError(t, root.Symlink("folder", "to folder"))
	require.NoError(t, root.Symlink("/nowhere", "to nowhere"))
	folder, err := files.Folder(ctx, "/folder")
	require.NoError(t, err)
	defer folder.Close()

	t.Run("links are never followed", func(t *testing.T) {
		put(t, folder, "inside", "x")
		_, err := files.Folder(ctx, "/to folder")
		link, ok := errors.AsType[*reach.LinkError](err)
		require.True(t, ok, "%v", err)
		assert.Equal(t, "folder", link.Target)
		_, err = root.Enter("to folder")
		assert.Error(t, err)
		_, err = root.Open("to nowhere")
		assert.ErrorIs(t, err, reach.ErrNotFile)
		_, err = root.ReadFile("to folder", 100)
		assert.ErrorIs(t, err, reach.ErrNotFile)
		info, err := root.Lstat("to nowhere")
		require.NoError(t, err)
		assert.Equal(t, plan.Link, info.Type)
		require.NoError(t, root.Remove("to nowhere"))
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
			content, err := folder.ReadFile(name, 100)
			require.NoError(t, err, "%q", name)
			assert.Equal(t, name, string(content))
			require.NoError(t, folder.Remove(name))
		}
	})
	t.Run("only single names are taken", func(t *testing.T) {
		for _, name := range []string{"", ".", "..", "a/b", "../file", "a\x00"} {
			_, err := folder.Lstat(name)
			assert.ErrorIs(t, err, reach.ErrBadName, "%q", name)
			assert.Error(t, folder.Remove(name))
			_, err = folder.Create(name)
			assert.Error(t, err)
			assert.Error(t, root.Rename("file", folder, name))
		}
		_, err := files.Folder(ctx, "/folder/../folder")
		assert.Error(t, err)
	})
	t.Run("nothing is replaced", func(t *testing.T) {
		put(t, folder, "taken", "mine")
		assert.ErrorIs(t, root.Rename("file", folder, "taken"), fs.ErrExist)
		assert.ErrorIs(t, root.Link("file", folder, "taken"), fs.ErrExist)
		assert.ErrorIs(t, folder.Mkdir("taken"), fs.ErrExist)
		assert.ErrorIs(t, folder.Symlink("x", "taken"), fs.ErrExist)
		_, err := folder.Create("taken")
		assert.ErrorIs(t, err, fs.ErrExist)
		require.NoError(t, root.Mkdir("empty"))
		assert.ErrorIs(t, root.Rename("empty", root, "folder"), fs.ErrExist)
		assert.Error(t, root.Remove("folder"), "a folder that holds something stays")
		content, err := folder.ReadFile("taken", 100)
		require.NoError(t, err)
		assert.Equal(t, "mine", string(content))
	})
	t.Run("what is not there", func(t *testing.T) {
		_, err := files.Folder(ctx, "/missing/deep")
		assert.ErrorIs(t, err, fs.ErrNotExist)
		_, err = files.Folder(ctx, "/file/deep")
		assert.ErrorIs(t, err, reach.ErrNotFolder)
		_, err = root.Lstat("missing")
		assert.ErrorIs(t, err, fs.ErrNotExist)
		_, err = root.Open("folder")
		assert.ErrorIs(t, err, reach.ErrNotFile)
		_, err = root.ReadFile("file", 3)
		assert.ErrorIs(t, err, reach.ErrTooLarge)
	})
	t.Run("what belongs to a file is kept", func(t *testing.T) {
		written := time.Date(2001, 2, 3, 4, 5, 6, 700, time.UTC)
		f, err := folder.Create("kept")
		require.NoError(t, err)
		defer f.Close()
		i, err := folder.Lstat("kept")
		require.NoError(t, err)
		meta := reach.Meta{Mode: 0o640 | fs.ModeSetgid, UID: i.UID, GID: i.GID, Written: written, Attributes: reach.Attributes{"user.note": []byte("v")}}
		// Somebody moves it away and puts another in its place: what was made is what is set.
		require.NoError(t, folder.Rename("kept", folder, "moved away"))
		put(t, folder, "kept", "planted")
		require.NoError(t, f.SetMeta(meta))
		planted, err := folder.Lstat("kept")
		require.NoError(t, err)
		assert.NotEqual(t, meta.Mode, planted.Mode)
		i, err = folder.Lstat("moved away")
		require.NoError(t, err)
		assert.Equal(t, meta.Mode, i.Mode)
		assert.WithinDuration(t, written, i.Written, time.Second)
		attributes, err := folder.Attributes("moved away")
		require.NoError(t, err)
		assert.Equal(t, "v", string(attributes["user.note"]))

		require.NoError(t, folder.Mkdir("kept folder"))
		sub, err := folder.Enter("kept folder")
		require.NoError(t, err)
		defer sub.Close()
		require.NoError(t, sub.SetMeta(reach.Meta{Mode: 0o711, UID: i.UID, GID: i.GID, Written: written}))
		i, err = folder.Lstat("kept folder")
		require.NoError(t, err)
		assert.Equal(t, fs.FileMode(0o711), i.Mode)
		assert.WithinDuration(t, written, i.Written, time.Second)
		require.NoError(t, sub.Date(written.AddDate(1, 0, 0)))
		require.NoError(t, folder.Symlink("nowhere", "kept link"))
		require.NoError(t, folder.SetLinkMeta("kept link", reach.Meta{UID: i.UID, GID: i.GID, Written: written}))
		for name, at := range map[string]time.Time{"kept folder": written.AddDate(1, 0, 0), "kept link": written} {
			i, err = folder.Lstat(name)
			require.NoError(t, err)
			assert.WithinDuration(t, at, i.Written, time.Second, name)
		}
	})
	t.Run("moving, linking and syncing", func(t *testing.T) {
		require.NoError(t, root.Rename("file", folder, "moved"))
		require.NoError(t, folder.Link("moved", root, "second"))
		i, err := root.Lstat("second")
		require.NoError(t, err)
		assert.EqualValues(t, 2, i.Links)
		require.NoError(t, root.Replace("second", "file"))
		require.NoError(t, errors.Join(root.Sync(), root.Settle()))
		free, readOnly, err := root.Room()
		require.NoError(t, err)
		assert.False(t, readOnly)
		assert.NotZero(t, free)
	})
}

func put(t *testing.T, folder reach.Folder, name, content string) {
	f, err := folder.Create(name)
	require.NoError(t, err)
	_, err = io.WriteString(f, content)
	require.NoError(t, errors.Join(err, f.Close()))
}
