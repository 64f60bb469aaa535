package trail

import (
	"time"

	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/core/entry"
)

// State is how a place is today, held against a copy of it.
type State string

// The states.
const (
	Present State = "present" // what the copy is of stands there
	Changed State = "changed" // something else does
	Gone    State = "gone"    // nothing does
)

// Standing is what is known of a place today.
type Standing struct {
	Live   *copies.Copy // what the machine's own files show there; nil: nothing
	Own    *copies.Copy // what the latest capture of the copy's own store shows there; nil: nothing
	Looked bool         // the machine's own files are surveyed there
}

// Today tells how the place of a copy is: by the machine's own files where those are surveyed there, else by the latest capture of its
// store.
func Today(c *copies.Copy, s Standing) State {
	live := c.Store.Traits.Live()
	switch {
	case live && c.Open:
		return Present
	case live && s.Own != nil:
		return Changed
	case live:
		return Gone
	case s.Live != nil && !c.Lost:
		return compared(c, s.Live)
	case !c.Gone.IsZero() || c.Lost || s.Looked:
		return Gone
	case c.Open:
		return Present
	case s.Own != nil:
		return Changed
	}
	return Gone
}

// alike is how far write times of one content may be apart: some file systems keep every other second.
const alike = 2 * time.Second

// compared tells whether what stands at a place is what a copy is of.
func compared(c, there *copies.Copy) State {
	switch {
	case there.Type != c.Type:
		return Changed
	case c.Type != entry.File && c.Type != entry.Link:
		return Present
	case c.SHA256.Known() && there.SHA256.Known():
		if c.SHA256 == there.SHA256 {
			return Present
		}
	case c.Size == there.Size && !c.Written.IsZero() && !there.Written.IsZero() && c.Written.Sub(there.Written).Abs() <= alike:
		return Present
	}
	return Changed
}

// States tells how the places of copies are today, of all that was seen at them.
func States(seen []*copies.Copy, looked func(*copies.Copy) bool) []State {
	type at struct {
		machine, path string
		source        copies.SourceID // 0: the machine's own files
	}
	standing := map[at]*copies.Copy{}
	for _, c := range seen {
		if !c.Open {
			continue
		}
		own := at{c.Place.Machine, c.Place.Path, c.Store.ID}
		standing[own] = c
		if own.source = 0; c.Store.Traits.Live() {
			standing[own] = c
		}
	}
	states := make([]State, len(seen))
	for i, c := range seen {
		s := Standing{Live: standing[at{c.Place.Machine, c.Place.Path, 0}], Own: standing[at{c.Place.Machine, c.Place.Path, c.Store.ID}],
			Looked: looked(c)}
		states[i] = Today(c, s)
	}
	return states
}
