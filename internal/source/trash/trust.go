package trash

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"strconv"
	"strings"

	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/reach"
)

// A record lies in its owner's own hands, so it is believed only where she could have deleted from: inside her home, or in a
// folder that she may write, as the machine's own modes and groups say. What it says else is claimed. Access lists are not
// looked at; where nothing can be told, nothing is believed.

// truster judges the records of one trash directory.
type truster struct {
	files  reach.Session // of the machine whose files are in it; nil where it cannot be reached
	owner  int64         // whose trash it is; negative where that cannot be told
	homes  []string
	groups map[int64]bool
	known  map[string]ability // by folder
}

// ability is what somebody may do in a folder.
type ability struct {
	write  bool
	sticky bool // and then only with what is hers
}

func (v *visit) truster(ctx context.Context) *truster {
	t := &truster{files: v.Own, owner: v.owner(ctx), known: map[string]ability{}}
	for _, p := range v.People {
		if p.UID == t.owner {
			t.homes = append(t.homes, p.Homes...)
		}
	}
	if t.files != nil && t.owner > 0 {
		t.groups = groupsOf(ctx, t.files, t.owner)
	}
	return t
}

// owner returns whose a trash directory is: of the person whose home it lies in, whoever it belongs to there; else of the user
// in its name, if it is that one's or root's; else of the one it belongs to.
func (v *visit) owner(ctx context.Context) int64 {
	at := place.Mapped(v.Maps, place.Join(v.At, v.can.dir))
	inner, owner := "", int64(-1)
	for _, p := range v.People {
		for _, home := range p.Homes {
			if place.Under(at, home) && len(home) > len(inner) {
				inner, owner = home, p.UID
			}
		}
	}
	if inner != "" {
		return owner
	}
	info, err := reach.Look(ctx, v.Files, place.Join(v.At, v.can.dir))
	switch {
	case err != nil:
		return -1
	case v.can.uid >= 0 && (info.UID.Is(v.can.uid) || info.UID.Is(0)):
		return v.can.uid
	}
	return info.UID.Or(-1)
}

// believes tells whether the trash's owner could have deleted an item from a place.
func (t *truster) believes(ctx context.Context, path string, item reach.Info) bool {
	switch {
	case t.owner == 0:
		return true
	case t.owner < 0:
		return false
	}
	for _, home := range t.homes {
		if path != home && place.Under(path, home) {
			return true
		}
	}
	a := t.folder(ctx, place.Folder(path))
	return a.write && (!a.sticky || item.UID.Is(t.owner))
}

// folder returns what the owner may do in a folder; of one that is not there any more, in the nearest above it that is.
func (t *truster) folder(ctx context.Context, path string) ability {
	if a, ok := t.known[path]; ok {
		return a
	}
	a := t.abilityIn(ctx, path)
	t.known[path] = a
	return a
}

func (t *truster) abilityIn(ctx context.Context, path string) ability {
	if t.files == nil {
		return ability{}
	}
	at, err := t.files.Tree(ctx, "/")
	if err != nil {
		return ability{}
	}
	defer func() { at.Close() }()
	for rest := strings.Trim(path, "/"); ; {
		info, err := at.Info(ctx)
		if err != nil || !t.may(info, 0o1) {
			return ability{}
		}
		name, deeper, _ := strings.Cut(rest, "/")
		if name != "" {
			next, err := at.Enter(ctx, name)
			if err == nil {
				at.Close()
				at, rest = next, deeper
				continue
			}
			if !errors.Is(err, fs.ErrNotExist) {
				return ability{} // a link, or another obstacle
			}
		}
		return ability{write: t.may(info, 0o2), sticky: info.Mode.Value&fs.ModeSticky != 0 && !info.UID.Is(t.owner)}
	}
}

// may tells whether a folder's mode grants the owner a right: 0o2 to write, 0o1 to search. Where owner or mode cannot be told,
// nothing is granted.
func (t *truster) may(i reach.Info, right fs.FileMode) bool {
	switch {
	case !i.Mode.Known || !i.UID.Known || !i.GID.Known:
		return false
	case i.UID.Is(t.owner):
		right <<= 6
	case t.groups[i.GID.Value]:
		right <<= 3
	}
	return i.Type == entry.Folder && i.Mode.Value&right != 0
}

const maxAccounts = 16 << 20

// groupsOf reads which groups a user is in, by passwd(5) and group(5).
func groupsOf(ctx context.Context, files reach.Session, uid int64) map[int64]bool {
	etc, err := files.Tree(ctx, "/etc")
	if err != nil {
		return nil
	}
	defer etc.Close()
	groups := map[int64]bool{}
	var names []string
	for _, account := range colonLines(ctx, etc, "passwd", 4) {
		if account[2] == strconv.FormatInt(uid, 10) {
			names = append(names, account[0])
			if gid, err := strconv.ParseInt(account[3], 10, 64); err == nil {
				groups[gid] = true
			}
		}
	}
	for _, group := range colonLines(ctx, etc, "group", 4) {
		gid, err := strconv.ParseInt(group[2], 10, 64)
		if err == nil && slices.ContainsFunc(strings.Split(group[3], ","), func(name string) bool { return slices.Contains(names, name) }) {
			groups[gid] = true
		}
	}
	return groups
}

// colonLines reads a file of lines of at least so many fields parted by colons.
func colonLines(ctx context.Context, etc reach.Tree, name string, fields int) (all [][]string) {
	content, err := reach.ReadFile(ctx, etc, name, maxAccounts)
	if err != nil {
		return nil
	}
	lines := bufio.NewScanner(bytes.NewReader(content))
	lines.Buffer(nil, maxAccounts)
	for lines.Scan() {
		if parts := strings.Split(strings.TrimRight(lines.Text(), "\r"), ":"); len(parts) >= fields {
			all = append(all, parts)
		}
	}
	return all
}

// judge turns an origin that is not believed into one that is only claimed.
func (t *truster) judge(ctx context.Context, told told, item reach.Info) told {
	if told.origin == "" || t.believes(ctx, told.origin, item) {
		return told
	}
	told.claimed, told.origin = told.origin, ""
	told.notes = append(told.notes, fmt.Sprintf("Its record claims that it came from %s, but the owner of this trash could not have "+
		"deleted it from there. The record may be forged: it is not trusted.", place.Quote(told.claimed)))
	return told
}
