package reach

import "humble-rewind/internal/core/entry"

// Answer is to a question that a way to a machine may not be able to answer. Whoever asks must treat CannotTell, which is the zero
// Answer, as the case in which no harm is done.
type Answer byte

// The answers.
const (
	CannotTell Answer = iota
	No
	Yes
)

func (a Answer) String() string { return [...]string{"cannot tell", "no", "yes"}[a] }

func answer(yes bool) Answer {
	if yes {
		return Yes
	}
	return No
}

// Volume is the file system that the entry lies on.
func (i Info) Volume() entry.Volume { return entry.Volume(i.Device) }

// SameVolume tells whether two file systems of a machine are the same.
func SameVolume(a, b entry.Volume) Answer {
	if !a.Known() || !b.Known() {
		return CannotTell
	}
	return answer(a == b)
}

// Seen is what is remembered of an entry, so that it can be known again. Receipts keep it as JSON.
type Seen struct {
	Device  uint64        `json:"device"`
	Inode   uint64        `json:"inode"`
	Size    int64         `json:"size"`
	Written entry.Instant `json:"written"`
	Changed entry.Instant `json:"changed,omitzero"`
}

// Seen is what is remembered of the entry.
func (i Info) Seen() Seen {
	return Seen{i.Device, i.Inode, i.Size, entry.At(i.Written), entry.At(i.Changed)}
}

// Volume is the file system that it lay on.
func (s Seen) Volume() entry.Volume { return entry.Volume(s.Device) }

// SameFile tells whether it is the same file, changed or not and wherever it was moved on its file system.
func (s Seen) SameFile(now Seen) Answer {
	if v := SameVolume(s.Volume(), now.Volume()); v != Yes {
		return v
	}
	return s.SameFileLater(now)
}

// SameFileLater is SameFile where the machine may have been started between: its file systems are then numbered anew.
func (s Seen) SameFileLater(now Seen) Answer {
	if s.Inode == 0 || now.Inode == 0 {
		return CannotTell
	}
	return answer(s.Inode == now.Inode)
}

// Moved tells whether it is the same file with size and write time as they were, wherever it was moved: moving changes the change
// time, so that is not looked at.
func (s Seen) Moved(now Seen) Answer {
	if s.Size != now.Size || s.Written != now.Written {
		return No
	}
	return s.SameFile(now)
}

// MovedLater is Moved where the machine may have been started between.
func (s Seen) MovedLater(now Seen) Answer {
	now.Device = s.Device
	if s.Device == 0 {
		s.Device, now.Device = 1, 1
	}
	return s.Moved(now)
}

// Unchanged tells whether it is the same file, and nothing about it changed or was moved.
func (s Seen) Unchanged(now Seen) Answer {
	same := s.Moved(now)
	switch {
	case same == No:
		return No
	case !s.Changed.Known || !now.Changed.Known:
		if s.Changed.Known || same == CannotTell {
			return CannotTell
		}
		return same // nothing was kept of when it changed
	case s.Changed != now.Changed:
		return No
	}
	return same
}

// Recognisable tells whether what a way says of an entry tells it from another that was put in its place, and from itself after a
// change. Where it does not, only the content can.
func (i Info) Recognisable() bool { return i.Inode != 0 && !i.Changed.IsZero() }
