// Package principal says who asks: under which name, with which rights, and of which machines. What nobody may know who asks is not known
// to him, in the same words.
package principal

import (
	"fmt"
	"slices"
	"time"

	"humble-rewind/internal/core/copies"
)

// Right is something that somebody may do.
type Right string

// The rights.
const (
	Find      Right = "find"       // what the records say: names, trails, advice, cases
	Open      Right = "open"       // what is in contents
	BringBack Right = "bring-back" // write to machines, and undo it
	Survey    Right = "survey"     // begin and stop surveys
	Arrange   Right = "arrange"    // what machines and sources there are, and their passwords
	Keep      Right = "keep"       // the service's own records: check them, take them all out
)

// Rights are all that there are.
var Rights = []Right{Find, Open, BringBack, Survey, Arrange, Keep}

// ParseRight returns a right by its name.
func ParseRight(name string) (Right, error) {
	if !slices.Contains(Rights, Right(name)) {
		return "", fmt.Errorf("%q is not a right", name)
	}
	return Right(name), nil
}

// Scope is which machines somebody may know of. The zero Scope is none.
type Scope struct {
	whole    bool
	machines []copies.MachineID // ascending
}

// Everything is the scope of the service itself: its surveys, what it settles, its daily round.
func Everything() Scope { return Scope{whole: true} }

// Of is a scope of some machines. A machine that is gone stays gone: a later one of its name has another number.
func Of(machines ...copies.MachineID) Scope {
	s := slices.Clone(machines)
	slices.Sort(s)
	return Scope{machines: slices.Compact(s)}
}

// Whole tells whether it is every machine, also those to come.
func (s Scope) Whole() bool { return s.whole }

// Has tells whether a machine is in it. 0 is a machine that is gone, which is in no scope but the whole.
func (s Scope) Has(machine copies.MachineID) bool {
	if s.whole {
		return true
	}
	_, found := slices.BinarySearch(s.machines, machine)
	return found && machine != 0
}

// Machines lists them; none where it is every machine.
func (s Scope) Machines() []copies.MachineID { return slices.Clone(s.machines) }

// Way is by what somebody shows who he is.
type Way string

// The ways.
const (
	ByToken   Way = "token"
	BySession Way = "session" // of the console
)

// Principal is who asks.
type Principal struct {
	Name   string
	By     Way
	Scope  Scope
	rights []Right
}

// With returns one with rights.
func With(name string, by Way, scope Scope, rights ...Right) Principal {
	return Principal{Name: name, By: by, Scope: scope, rights: slices.Clone(rights)}
}

// May tells whether somebody has a right.
func (p Principal) May(r Right) bool { return slices.Contains(p.rights, r) }

// Rights lists what somebody may do.
func (p Principal) Rights() []Right { return slices.Clone(p.rights) }

// Again is how long after somebody's rights are taken from him what he had begun, or had asked for, ends at the latest.
const Again = 2 * time.Second
