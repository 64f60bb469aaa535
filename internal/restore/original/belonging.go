package original

import (
	"io/fs"

	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/reach"
)

// Belonging says to whom what is copied belongs. Owners and set-id bits are only believed of a store that nobody but root
// writes: on a drive of hers a user can give a file any owner she likes.
type Belonging struct {
	UID entry.Maybe[int64] `json:"uid"` // of the folder that it goes into, who gets what is foreign or nobody's
	GID entry.Maybe[int64] `json:"gid"`
	Own int64              `json:"own"` // whose store it is, who keeps what is hers; negative for nobody
	// Mode is that folder's, which what nobody tells the mode of is as open as.
	Mode entry.Maybe[fs.FileMode] `json:"mode,omitzero"`
	// Told says that the store is believed, as far as it tells an owner.
	Told bool `json:"told,omitempty"`
}

// Of returns the metadata that something comes back with. A nil belonging believes it all.
func (b *Belonging) Of(m reach.Meta) reach.Meta {
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
func (b *Belonging) openness(t entry.Type) fs.FileMode {
	const files, folders, others = 0o644, 0o755, 0o077
	mode := fs.FileMode(files)
	if t == entry.Folder {
		mode = folders
	}
	open := b.Mode.Or(0).Perm() & others // the right to read a folder is where that to read a file is
	return mode&^others | mode&open
}

// Belonged is an original that comes back as its belonging says, with everything in it.
type Belonged struct {
	Original
	To *Belonging
}

func (o Belonged) Meta() (reach.Meta, error) {
	meta, err := o.Original.Meta()
	meta = o.To.Of(meta)
	if !meta.Mode.Known {
		meta.Mode = entry.Is(o.To.openness(o.Type()))
	}
	return meta, err
}

func (o Belonged) Children() ([]Named, func(), error) {
	children, done, err := o.Original.Children()
	for n := range children {
		children[n].Original = Belonged{children[n].Original, o.To}
	}
	return children, done, err
}
