package original

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"humble-rewind/internal/contents"
	"humble-rewind/internal/core/digest"
	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/reach"
)

// Identity tells one entry from another that came to stand under its name, and from itself after a change. Where the way to a machine
// cannot tell that of an entry, its content does: it is read, and so is that of everything in a folder.
type Identity struct {
	reach.Seen
	Digest string `json:"digest,omitempty"` // of a file that is not recognisable, or of a link's target
	Inside string `json:"inside,omitempty"` // of a folder: a digest over what is in it, see InsideOf
	Print  string `json:"print,omitempty"`  // of what arrived: of the entry and everything in it, see PrintOf
}

// Identify is what an entry's own record tells.
func Identify(i reach.Info) Identity { return Identity{Seen: i.Seen()} }

// IdentityAt describes what stands under a name, a folder with what is in it.
func IdentityAt(ctx context.Context, folder reach.Tree, name string) (Identity, error) {
	info, err := folder.Look(ctx, name)
	if err != nil {
		return Identity{}, err
	}
	id := Identify(info)
	if id.Digest, err = ContentOf(ctx, folder, info); err == nil && info.Type == entry.Folder {
		id.Inside, err = InsideOf(ctx, folder, name)
	}
	return id, err
}

// ContentOf is the digest of a file, or the target of a link, that its record does not tell from others; "" for everything else.
func ContentOf(ctx context.Context, folder reach.Tree, i reach.Info) (string, error) {
	switch {
	case i.Recognisable():
		return "", nil
	case i.Type == entry.File:
		sum, err := contents.DigestAt(ctx, folder, i.Name)
		return sum.Hex(), err
	case i.Type == entry.Link:
		return folder.Target(ctx, i.Name)
	}
	return "", nil
}

// Planned tells whether a copy may still be read as it was planned: where nobody can tell whether it changed, it may, since all that
// is done with it is that it is read.
func (id Identity) Planned(i reach.Info) bool { return id.Unchanged(i.Seen()) != reach.No }

// IsStill tells whether what was moved is what was seen before, a folder with all that is in it. The size and time of a
// folder of its own say nothing more than that. Where its record cannot tell, its content must be the same.
func (id Identity) IsStill(now Identity) bool { return id.still(now, id.Moved(now.Seen)) }

// IsStillLater is isStill where the machine may have been started between, of what lies where nobody else can have put it.
func (id Identity) IsStillLater(now Identity) bool { return id.still(now, id.MovedLater(now.Seen)) }

func (id Identity) still(now Identity, moved reach.Answer) bool {
	if id.Inside != now.Inside {
		return false
	}
	switch moved {
	case reach.Yes:
		return id.Digest == now.Digest
	case reach.CannotTell:
		return id.sameContent(now)
	}
	return false
}

// sameContent tells whether contents were read of both, and are the same.
func (id Identity) sameContent(now Identity) bool {
	return id.Digest == now.Digest && (id.Digest != "" || id.Inside != "")
}

// ArrivedAs tells whether what stands somewhere is what was to arrive there, whatever number its file system has by now; a file
// only if also its bytes are: numbers of files are used again. Of a folder that came alone, what is in it came later; where it cannot
// be told whether it is that folder, it is not taken for it.
func (id Identity) ArrivedAs(ctx context.Context, folder reach.Tree, name string, typ entry.Type,
	alone bool, sum digest.Sum) (bool, error) {
	info, err := folder.Look(ctx, name)
	if err != nil {
		return false, err
	}
	now := info.Seen()
	same := id.SameFileLater(now)
	if info.Type != typ || same == reach.No {
		return false, nil
	}
	switch typ {
	case entry.Folder:
		if alone {
			return same == reach.Yes, nil
		}
		inside, err := InsideOf(ctx, folder, name)
		return inside == id.Inside, err
	case entry.File:
		if id.MovedLater(now) == reach.No || !sum.Known() {
			return false, nil
		}
		is, err := contents.DigestAt(ctx, folder, name)
		return is == sum, err
	}
	if same == reach.CannotTell {
		target, err := folder.Target(ctx, name)
		return target == id.Digest, err
	}
	return id.MovedLater(now) == reach.Yes, nil
}

// PrintOf is a digest over what stands under a name: types, sizes, times, numbers and modes of it and everything in it, but
// not contents, unless only they tell a change. Two equal prints mean that nothing was touched between. Receipts keep it, so it stays
// as it is.
func PrintOf(ctx context.Context, folder reach.Tree, name string) (string, error) {
	p := printer{ctx, digest.New()}
	info, err := folder.Look(ctx, name)
	if err != nil {
		return "", err
	}
	if err := p.line(folder, info, name); err != nil {
		return "", err
	}
	if info.Type == entry.Folder {
		if err := p.inside(folder, info, name); err != nil {
			return "", err
		}
	}
	return p.Hex(), nil
}

// InsideOf is print without the entry itself, which moving changes. Where another file system is mounted in it, that is an
// error: what is moved or removed must be of one.
func InsideOf(ctx context.Context, folder reach.Tree, name string) (string, error) {
	p := printer{ctx, digest.New()}
	info, err := folder.Look(ctx, name)
	if err == nil {
		err = p.inside(folder, info, ".")
	}
	return p.Hex(), err
}

// printer takes a print.
type printer struct {
	ctx context.Context
	digest.Digest
}

func (p printer) line(in reach.Tree, i reach.Info, path string) error {
	fmt.Fprintf(p, "%q %s %d %d %d %d %o %d %d\n", path, i.Type, i.Size, i.Written.UnixNano(), i.Changed.UnixNano(), i.Identity().Number,
		i.Mode.Value, i.UID.Value, i.GID.Value)
	content, err := ContentOf(p.ctx, in, i)
	if content != "" {
		fmt.Fprintf(p, "%q\n", content)
	}
	return err
}

func (p printer) inside(folder reach.Tree, of reach.Info, path string) error {
	inside, err := folder.Enter(p.ctx, of.Name)
	if err != nil {
		return err
	}
	defer inside.Close()
	list, err := inside.List(p.ctx)
	if err != nil {
		return err
	}
	slices.SortFunc(list, func(a, b reach.Info) int { return strings.Compare(a.Name, b.Name) })
	for _, e := range list {
		at := path + "/" + e.Name
		if reach.SameVolume(e.Volume(), of.Volume()) == reach.No {
			return fmt.Errorf("%w at %s", ErrMounted, at)
		}
		if err := p.line(inside, e, at); err != nil {
			return err
		}
		if e.Type == entry.Folder {
			if err := p.inside(inside, e, at); err != nil {
				return err
			}
		}
	}
	return nil
}
