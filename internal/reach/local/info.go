//go:build linux

package local

import (
	"io/fs"
	"time"

	"golang.org/x/sys/unix"

	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/reach"
)

func info(name string, st *unix.Stat_t) reach.Info {
	i := reach.Info{
		Name: name, Size: st.Size, UID: entry.Is(int64(st.Uid)), GID: entry.Is(int64(st.Gid)),
		Written: time.Unix(st.Mtim.Unix()).UTC(), Changed: time.Unix(st.Ctim.Unix()).UTC(),
		Device: uint64(st.Dev), Inode: st.Ino, Links: entry.Is(uint64(st.Nlink)),
		Mode: entry.Is(modeOf(st.Mode)),
	}
	switch st.Mode & unix.S_IFMT {
	case unix.S_IFREG:
		i.Type = entry.File
	case unix.S_IFDIR:
		i.Type = entry.Folder
	case unix.S_IFLNK:
		i.Type = entry.Link
	default:
		i.Type = entry.Other
	}
	return i
}

func modeOf(unixMode uint32) fs.FileMode {
	mode := fs.FileMode(unixMode & 0o777)
	for _, bit := range specialBits {
		if unixMode&bit.unix != 0 {
			mode |= bit.fs
		}
	}
	return mode
}

func unixMode(mode fs.FileMode) uint32 {
	m := uint32(mode.Perm())
	for _, bit := range specialBits {
		if mode&bit.fs != 0 {
			m |= bit.unix
		}
	}
	return m
}

var specialBits = []struct {
	unix uint32
	fs   fs.FileMode
}{
	{unix.S_ISUID, fs.ModeSetuid},
	{unix.S_ISGID, fs.ModeSetgid},
	{unix.S_ISVTX, fs.ModeSticky},
}
