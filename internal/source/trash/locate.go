package trash

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"strconv"
	"strings"

	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/reach"
	"humble-rewind/internal/source"
)

// can is one trash directory.
type can struct {
	dir      string // relative to the source's location
	base     string // the folder on the machine that relative record paths start from
	absolute bool   // whether records may hold absolute paths
	uid      int64  // whose it is by its name; negative where its owner tells
}

const homeTrash = ".local/share/Trash" // $XDG_DATA_HOME is not known from outside; its default is used

// located is what a location turned out to hold.
type located struct {
	cans  []can
	drive string
	notes []string
	empty bool // the location is a folder without any entry
}

// locate works out whether a location is a trash folder, a home or the top folder of a drive, and which trash
// directories it holds.
func locate(ctx context.Context, setup source.Setup) (located, error) {
	top, err := setup.Files.Tree(ctx, setup.At)
	if err != nil {
		return located{}, err
	}
	defer top.Close()
	if itself, ok := asCan(ctx, top, setup.At); ok {
		l := located{cans: []can{itself}}
		if !itself.absolute {
			l.drive = volumeName(itself.base)
			if parent := place.Folder(setup.At); place.Name(parent) == ".Trash" {
				if reason, err := sharedUnsafe(ctx, setup.Files, parent); err != nil || reason != "" {
					return located{}, errors.Join(err, errors.New(reason))
				}
			}
		}
		return l, nil
	}
	l := located{}
	entries, err := top.List(ctx)
	if err != nil {
		return located{}, err
	}
	l.empty = len(entries) == 0
	if i, err := reach.Look(ctx, setup.Files, place.Join(setup.At, homeTrash)); err == nil && i.Type != entry.Other {
		if i.Type == entry.Folder {
			l.cans = append(l.cans, can{homeTrash, place.Join(setup.At, place.Folder("/" + homeTrash)[1:]), true, -1})
		} else {
			l.notes = append(l.notes, fmt.Sprintf("%s is a %s, not a folder; it is not read.", place.Join(setup.At, homeTrash), i.Type))
		}
	}
	for _, e := range entries {
		path := place.Join(setup.At, e.Name)
		uid, own := strings.CutPrefix(e.Name, ".Trash-")
		switch {
		case e.Name == ".Trash":
			if err := l.addShared(ctx, setup, top, e, path); err != nil {
				return located{}, err
			}
		case own && e.Type != entry.Folder:
			l.notes = append(l.notes, fmt.Sprintf("%s is a %s, not a folder; it is not read.", place.Readable(path), e.Type))
		case own:
			if n, err := strconv.ParseUint(uid, 10, 32); err == nil {
				l.cans = append(l.cans, can{e.Name, setup.At, false, int64(n)})
			}
		}
	}
	if !isHome(setup) && setup.At != "/" && (len(l.cans) == 0 || !l.cans[0].absolute) {
		l.drive = volumeName(setup.At)
	}
	return l, nil
}

func isHome(setup source.Setup) bool {
	for _, home := range setup.Homes {
		if home == setup.At {
			return true
		}
	}
	return false
}

func volumeName(top string) string {
	if top == "/" {
		return ""
	}
	return place.Readable(place.Name(top))
}

// asCan tells whether a folder is itself a trash directory: it has the two folders of one, or its name says so.
func asCan(ctx context.Context, folder reach.Tree, at string) (can, bool) {
	holds := false
	for _, name := range []string{"files", "info"} {
		i, err := folder.Look(ctx, name)
		holds = holds || err == nil && i.Type == entry.Folder
	}
	name, parent := place.Name(at), place.Folder(at)
	if uid, ok := strings.CutPrefix(name, ".Trash-"); ok {
		if n, err := strconv.ParseUint(uid, 10, 32); err == nil {
			return can{"", parent, false, int64(n)}, true
		}
	}
	if n, err := strconv.ParseUint(name, 10, 32); err == nil && place.Name(parent) == ".Trash" {
		return can{"", place.Folder(parent), false, int64(n)}, true
	}
	return can{"", parent, true, -1}, holds
}

// addShared reads $topdir/.Trash, which an administrator makes for all users of a drive.
func (l *located) addShared(ctx context.Context, setup source.Setup, top reach.Tree, e reach.Info, path string) error {
	if reason := unsafe(e, path); reason != "" {
		l.notes = append(l.notes, reason)
		return nil
	}
	shared, err := top.Enter(ctx, e.Name)
	if err != nil {
		l.notes = append(l.notes, fmt.Sprintf("%s cannot be read: %v.", place.Readable(path), err))
		return nil
	}
	defer shared.Close()
	users, err := shared.List(ctx)
	if err != nil {
		return err
	}
	for _, user := range users {
		n, err := strconv.ParseUint(user.Name, 10, 32)
		switch {
		case err != nil:
		case user.Type == entry.Folder:
			l.cans = append(l.cans, can{".Trash/" + user.Name, setup.At, false, int64(n)})
		default:
			l.notes = append(
				l.notes,
				fmt.Sprintf("%s/%s is a %s, not a folder; it is not read.", place.Readable(path), user.Name, user.Type),
			)
		}
	}
	return nil
}

// unsafe makes the checks that the specification demands of $topdir/.Trash: a real folder with the sticky bit.
func unsafe(i reach.Info, path string) string {
	switch {
	case i.Type == entry.Link:
		return fmt.Sprintf("%s is a symbolic link, which a drive's shared trash must not be; it is not read.", place.Readable(path))
	case i.Type != entry.Folder:
		return fmt.Sprintf("%s is a %s, not a folder; it is not read.", place.Readable(path), i.Type)
	case i.Mode.Value&fs.ModeSticky == 0:
		return fmt.Sprintf(
			"%s lacks the sticky bit, so that any user could plant items there; it is not read. Set it with chmod +t.",
			place.Readable(path),
		)
	}
	return ""
}

func sharedUnsafe(ctx context.Context, files reach.Session, path string) (string, error) {
	i, err := reach.Look(ctx, files, path)
	if err != nil {
		return "", err
	}
	return unsafe(i, path), nil
}
