package reach

import (
	"io/fs"
	"time"

	"humble-rewind/internal/core/entry"
)

// Info describes an entry without following links. What a way cannot tell is unknown.
type Info struct {
	Name     string
	Type     entry.Type
	Size     int64                    // bytes; of a link, of its target's name; negative where unknown
	Mode     entry.Maybe[fs.FileMode] // permission, set-id and sticky bits only
	UID, GID entry.Maybe[int64]
	Written  time.Time // mtime, UTC; the zero Time where unknown
	Changed  time.Time // ctime, UTC; the zero Time where unknown
	Device   uint64    // the file system, as numbered since the machine's start; 0 where unknown
	Inode    uint64    // 0 where unknown
	Links    entry.Maybe[uint64]
}

// Meta returns what is kept about the entry besides its content, without attributes.
func (i Info) Meta() Meta {
	return Meta{Mode: i.Mode, UID: i.UID, GID: i.GID, Written: i.Written}
}

// Identity is what tells the entry from others of its file system and from itself before a change.
func (i Info) Identity() entry.Identity {
	return entry.Identity{Number: i.Inode, Changed: entry.At(i.Changed)}
}

// Removed tells whether the entry, which is held open, is known to have been removed meanwhile.
func (i Info) Removed() bool { return i.Links.Is(0) }

// Attributes are extended attributes by their full names, such as "user.comment" or "system.posix_acl_access".
type Attributes map[string][]byte

// Meta is what is kept about an entry besides its content. What is unknown is not set.
type Meta struct {
	Mode       entry.Maybe[fs.FileMode]
	UID, GID   entry.Maybe[int64]
	Written    time.Time
	Attributes Attributes
}
