// Package target is what things are brought back to: a folder tree, see package tree, or a cloud drive, see package cloud. Here
// is what they share: the steps, what may befall an item, what keeps one from being undone, and safekeeping.
package target

import (
	"errors"

	"humble-rewind/internal/reach"
	"humble-rewind/internal/restore/hands"
	"humble-rewind/internal/restore/journal"
)

// Target is where things are brought back to. Its methods are the steps that touch the destination, and what undoes them. They neither read
// nor write the journal, but for what they are told to: what they found out is in the item, and whoever calls them keeps that before the
// next step. Which target an item goes to was chosen when it was planned, and stands in the journal.
type Target interface {
	// Ready checks that the copy is as planned, keeps what must give way, and writes what will arrive under a name of the target's own.
	// It may be called for several items at once.
	Ready(it *journal.Carried) error
	// Last makes what Ready wrote last, so that after a power cut it is there or can be told to be missing, and reads it back. What keeps
	// an item from it becomes its error.
	Last(all []*journal.Carried)
	// Arrive gives an item its final name, and makes sure that it was this item that got it.
	Arrive(it *journal.Carried) error
	// Settled makes the final names last.
	Settled(all []*journal.Carried)
	// Find finds out of an item of an interrupted bring-back whether it arrived, and puts what gave way back where it had not. Where
	// nobody can tell, it.Err wraps ErrAway; errors are of the target as a whole.
	Find(it *journal.Carried) error
	// TakeBack is the inverse of all that: it takes away what arrived, and puts back what gave way and, where it left its store, the
	// copy itself. A *ChangedError says that it is not what arrived any more. Called again, it goes on where it was.
	TakeBack(it *journal.Carried) error
	// Uninterrupted makes all that follows go on even if the service is asked to stop.
	Uninterrupted()
	// Close removes what the target made for itself, as far as nothing of anybody's is in it.
	Close()
}

// At tells which target a machine's places are on; "" where the machine cannot be reached, so that nobody can tell.
func At(open *hands.Hands, machine string) journal.Target {
	files, err := open.Files(machine)
	if err != nil {
		return ""
	}
	if _, versions := reach.VersionerOf(files); versions {
		return journal.Cloud
	}
	return journal.Tree
}

// ErrInterrupted is what befell an item that had not arrived when the service was killed.
var ErrInterrupted = errors.New("not brought back: the service stopped before it")

// ErrPassed says of an item that the rule leaves out what something new stands for.
var ErrPassed = errors.New("something new is there since it was planned")

// ErrNotThere says that an item is not in its store any more.
var ErrNotThere = errors.New("it is no longer where it was: it was emptied, or somebody just brought it back; survey again")

// ErrPlannedOtherwise says that what is to give way is not what stood there when that was planned: somebody has worked on it since.
var ErrPlannedOtherwise = errors.New("what stands there changed since it was planned, and that work is not set aside unasked; plan again")

// ChangedError says why an item stays as it is.
type ChangedError struct{ Why string }

func (e *ChangedError) Error() string { return e.Why }
