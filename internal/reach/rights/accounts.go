package rights

import (
	"context"
	"errors"
	"io/fs"
	"slices"
	"strconv"
	"strings"

	"humble-rewind/internal/reach"
)

// accounts are who is in which group of a machine.
type accounts struct {
	names   map[int64][]string       // of users
	members map[int64]map[int64]bool // of groups
	groups  map[int64]map[int64]bool // of users
}

const maxAccounts = 16 << 20

// readAccounts reads /etc/passwd and /etc/group, as far as they are there.
func readAccounts(ctx context.Context, files reach.Session) *accounts {
	a := &accounts{names: map[int64][]string{}, members: map[int64]map[int64]bool{}, groups: map[int64]map[int64]bool{}}
	if files == nil {
		return a
	}
	etc, err := files.Tree(ctx, "/etc")
	if err != nil {
		return a
	}
	defer etc.Close()
	numbers := map[string][]int64{}
	for _, f := range colonLines(ctx, etc, "passwd", 4) {
		uid, err := strconv.ParseUint(f[2], 10, 32)
		gid, groupErr := strconv.ParseUint(f[3], 10, 32)
		if errors.Join(err, groupErr) != nil {
			continue
		}
		a.names[int64(uid)] = append(a.names[int64(uid)], f[0])
		numbers[f[0]] = append(numbers[f[0]], int64(uid))
		a.join(int64(uid), int64(gid))
	}
	for _, f := range colonLines(ctx, etc, "group", 4) {
		gid, err := strconv.ParseUint(f[2], 10, 32)
		if err != nil {
			continue
		}
		for name := range strings.SplitSeq(f[3], ",") {
			for _, uid := range numbers[name] {
				a.join(uid, int64(gid))
			}
		}
	}
	return a
}

func (a *accounts) join(uid, gid int64) {
	if a.members[gid] == nil {
		a.members[gid] = map[int64]bool{}
	}
	if a.groups[uid] == nil {
		a.groups[uid] = map[int64]bool{}
	}
	a.members[gid][uid], a.groups[uid][gid] = true, true
}

// Other tells whether a user's number is known to mean another account on another machine: one of another name.
func (m *Machine) Other(than *Machine, uid int64) bool {
	ours, theirs := m.accounts().names[uid], than.accounts().names[uid]
	shared := slices.ContainsFunc(ours, func(name string) bool { return slices.Contains(theirs, name) })
	return len(ours) > 0 && len(theirs) > 0 && !shared
}

// colonLines reads a file of lines of at least so many fields parted by colons; none of one that cannot be read.
func colonLines(ctx context.Context, etc reach.Tree, name string, fields int) (all [][]string) {
	content, err := reach.ReadFile(ctx, etc, name, maxAccounts)
	if err != nil {
		return nil
	}
	for line := range strings.Lines(string(content)) {
		if parts := strings.Split(strings.TrimRight(line, "\r\n"), ":"); len(parts) >= fields {
			all = append(all, parts)
		}
	}
	return all
}

// listName is the attribute that holds an entry's access list.
const listName = "system.posix_acl_access"

// The tags of entries of access lists (linux/posix_acl_xattr.h): a version, then entries of a tag, rights and a number.
const (
	listVersion  = 2
	listHead     = 4
	listEntry    = 8
	tagUser      = 0x02
	tagGroupObj  = 0x04
	tagGroup     = 0x08
	tagMask      = 0x10
	tagOther     = 0x20
	tagUserOwner = 0x01
)

// readList takes up an access list; false where it cannot be read. The group bits of a mode are the list's mask then.
func (a *access) readList(b []byte) bool {
	if len(b) < listHead || (len(b)-listHead)%listEntry != 0 || little32(b) != listVersion {
		return false
	}
	mask := fs.FileMode(7)
	a.users, a.groups = map[int64]fs.FileMode{}, map[int64]fs.FileMode{}
	for b = b[listHead:]; len(b) > 0; b = b[listEntry:] {
		rights, id := fs.FileMode(b[2])&7, int64(little32(b[4:]))
		switch uint16(b[0]) | uint16(b[1])<<8 {
		case tagUserOwner:
		case tagUser:
			a.users[id] = rights
		case tagGroupObj:
			a.group = rights
		case tagGroup:
			a.groups[id] = rights
		case tagMask:
			mask = rights
		case tagOther:
			a.other = rights
		default:
			return false
		}
	}
	a.group &= mask
	for _, named := range []map[int64]fs.FileMode{a.users, a.groups} {
		for id := range named {
			named[id] &= mask
		}
	}
	return true
}

func little32(b []byte) uint32 {
	return uint32(b[0]) | uint32(b[1])<<8 | uint32(b[2])<<16 | uint32(b[3])<<24
}
