package restore

import (
	"io/fs"
	"os"

	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/reach"
)

// belonging says to whom what is copied belongs. Owners and set-id bits are only believed of a store that nobody but root
// writes: on a drive of hers a user can give a file any owner she likes.
type belonging struct {
	UID entry.Maybe[int64] `json:"uid"` // of the folder that it goes into, who gets what is foreign or nobody's
	GID entry.Maybe[int64] `json:"gid"`
	Own int64              `json:"own"` // whose store it is, who keeps what is hers; negative for nobody
	// Mode is that folder's, which what nobody tells the mode of is as open as.
	Mode entry.Maybe[fs.FileMode] `json:"mode,omitzero"`
	// Told says that the store is believed, as far as it tells an owner.
	Told bool `json:"told,omitempty"`
}

// of returns the metadata that something comes back with. A nil belonging believes it all.
func (b *belonging) of(m reach.Meta) reach.Meta {
	if b == nil {
		return m
	}
	if !b.Told {
		m.Mode.Value &^= fs.ModeSetuid | fs.ModeSetgid
	}
	if !m.UID.Known || !b.Told && m.UID != b.UID && !m.UID.Is(b.Own) {
		m.UID, m.GID = b.UID, b.GID
	}
	return m
}

// openness is the mode of something of which nobody tells one: its owner may do with it what is usual, and others read it as far as
// they may look into the folder that it goes into.
func (b *belonging) openness(t entry.Type) fs.FileMode {
	const files, folders, others = 0o644, 0o755, 0o077
	mode := fs.FileMode(files)
	if t == entry.Folder {
		mode = folders
	}
	open := b.Mode.Or(0).Perm() & others // the right to read a folder is where that to read a file is
	return mode&^others | mode&open
}

// belonged is an original that comes back as its belonging says, with everything in it.
type belonged struct {
	original
	to *belonging
}

func (o belonged) Meta() (reach.Meta, error) {
	meta, err := o.original.Meta()
	meta = o.to.of(meta)
	if !meta.Mode.Known {
		meta.Mode = entry.Is(o.to.openness(o.Type()))
	}
	return meta, err
}

func (o belonged) Children() ([]named, func(), error) {
	children, done, err := o.original.Children()
	for n := range children {
		children[n].original = belonged{children[n].original, o.to}
	}
	return children, done, err
}

// rootsOwn tells whether only root, or whoever the service runs as, can write a store at one of its points in time: every
// folder down to it belongs to them and is closed to others' writing.
func (h *handles) rootsOwn(src copies.Source, capture string) bool {
	if !src.Traits.Dated() || capture == "" {
		return false
	}
	p := place.Place{Machine: src.AtMachine, Path: place.Join(src.At, capture)}
	if known, ok := h.roots[p]; ok {
		return known
	}
	own := true
	for path := p.Path; own; path = place.Folder(path) {
		info, err := h.look(place.Place{Machine: p.Machine, Path: path})
		own = err == nil && info.Type == entry.Folder && (info.UID.Is(0) || info.UID.Is(int64(os.Geteuid()))) && info.Mode.Known &&
			info.Mode.Value.Perm()&0o022 == 0
		if path == "/" {
			break
		}
	}
	h.roots[p] = own
	return own
}
