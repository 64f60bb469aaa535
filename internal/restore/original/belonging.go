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
	// Across says that it comes from another machine, whose numbers of users mean nobody here: those of whom it is known who they are here
	// have these instead. nil where it comes from this one.
	Across Accounts `json:"across,omitzero"`
}

// Accounts are users and groups of one machine by the numbers that the users have on another.
type Accounts map[int64]Numbers

// IsZero tells whether there is no other machine.
func (a Accounts) IsZero() bool { return a == nil }

// Numbers are those of a user and her group.
type Numbers struct {
	UID int64              `json:"uid"`
	GID entry.Maybe[int64] `json:"gid,omitzero"`
}

// Of returns a user and a group of the other machine as they are here; unknown where nobody knows.
func (a Accounts) Of(uid entry.Maybe[int64]) (entry.Maybe[int64], entry.Maybe[int64]) {
	if here, ok := a[uid.Value]; ok && uid.Known {
		return entry.Is(here.UID), here.GID
	}
	return entry.Maybe[int64]{}, entry.Maybe[int64]{}
}

// Of returns the metadata that something comes back with. A nil belonging believes it all.
func (b *Belonging) Of(m reach.Meta) reach.Meta {
	if b == nil {
		return m
	}
	if b.Across != nil {
		if m.UID, m.GID = b.Across.Of(m.UID); !m.GID.Known {
			m.GID = b.GID
		}
	}
	if !b.Told || b.Across != nil {
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
