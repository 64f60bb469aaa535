package restore

import (
	"io/fs"
	"os"

	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/plan"
	"humble-rewind/internal/reach"
)

// belonging says to whom what is copied belongs. Owners and set-id bits are only believed of a store that nobody but root
// writes: on a drive of hers a user can give a file any owner she likes.
type belonging struct {
	UID int64 `json:"uid"` // of the folder that it goes into, who gets what is foreign
	GID int64 `json:"gid"`
	Own int64 `json:"own"` // whose store it is, who keeps what is hers; negative for nobody
}

// of returns the metadata that something comes back with. A nil belonging believes it all.
func (b *belonging) of(m reach.Meta) reach.Meta {
	if b == nil {
		return m
	}
	m.Mode &^= fs.ModeSetuid | fs.ModeSetgid
	if m.UID != b.UID && m.UID != b.Own {
		m.UID, m.GID = b.UID, b.GID
	}
	return m
}

// belonged is an original that comes back as its belonging says, with everything in it.
type belonged struct {
	original
	to *belonging
}

func (o belonged) Meta() (reach.Meta, error) {
	meta, err := o.original.Meta()
	return o.to.of(meta), err
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
func (h *handles) rootsOwn(src catalogue.Source, capture string) bool {
	if !src.Dated || capture == "" {
		return false
	}
	p := place.Place{Machine: src.AtMachine, Path: place.Join(src.At, capture)}
	if known, ok := h.roots[p]; ok {
		return known
	}
	own := true
	for path := p.Path; own; path = place.Folder(path) {
		info, err := h.lstat(place.Place{Machine: p.Machine, Path: path})
		own = err == nil && info.Type == plan.Folder && (info.UID == 0 || info.UID == int64(os.Geteuid())) && info.Mode.Perm()&0o022 == 0
		if path == "/" {
			break
		}
	}
	h.roots[p] = own
	return own
}
