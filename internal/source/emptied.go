package source

import (
	"context"

	"humble-rewind/internal/core/sighting"
)

// Slip is what a store remembers about an item besides its content, such as its record in a trash, so that the item can be put back
// exactly. Its bytes mean something to the kind of the store alone.
type Slip []byte

// Emptied is what a Store offers whose items lie as such in the machine's file system and are taken out of it when they are brought back.
type Emptied interface {
	// Lies returns the path at which the copy lies, and whether it leaves the store as a whole when it is brought back; a file inside
	// a folder that was deleted whole does not.
	Lies(ref sighting.Ref) (path string, leaves bool, err error)
	// Slips reads what the store remembers about items that are about to leave, in their order.
	Slips(ctx context.Context, items []sighting.Ref) ([]Slip, error)
	// TakeOut makes the store forget items that have left. Forgetting one twice is no error.
	TakeOut(ctx context.Context, slips []Slip) error
	// PutBack makes the store remember again, byte for byte where nothing else changed meanwhile. Given all slips of a
	// bring-back at once, also their order is as it was. Putting one back twice is no error.
	PutBack(ctx context.Context, slips []Slip) error
}

// AsEmptied returns a store as one whose items are taken out of it, be it one of a pool; false where it keeps them.
func AsEmptied(s Store) (Emptied, bool) {
	if lease, ok := s.(*Lease); ok {
		s = lease.Store
	}
	e, ok := s.(Emptied)
	return e, ok
}
