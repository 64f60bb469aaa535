// Package intact says how much of what a drive still tells of a content is still there. It is worked out from blocks alone, before anything
// is promised: what is read of a content afterwards may only lower it, and a digest that is known is the only proof.
package intact

import (
	"errors"
	"fmt"
	"math/bits"
	"strings"
)

// State is how much of a trace's blocks is still its own.
type State uint8

// The states, from the best down. None is that of what is no trace.
const (
	None        State = iota
	Whole             // where its pieces lie is known, and all of them are free
	OnePiece          // where its pieces lie is not known; if they lie in one, all of it is free
	InPart            // some of its blocks were given to others, or to what was erased later
	Unread            // the drive could not read some of it
	Wiped             // zeros where the type has none: the drive itself discarded it
	Overwritten       // all of it was given to others; what is left is a record
)

var states = [...]string{None: "", Whole: "whole", OnePiece: "if-in-one-piece", InPart: "in-part", Unread: "unread", Wiped: "wiped",
	Overwritten: "overwritten"}

func (s State) String() string { return states[s] }

// ErrNoState says that a word is none of the states.
var ErrNoState = errors.New("not a word for how much is intact")

// Parse reads a state's word.
func Parse(word string) (State, error) {
	for s, known := range states {
		if s > 0 && word == known {
			return State(s), nil
		}
	}
	return None, fmt.Errorf("%w: %q; the words are %s", ErrNoState, word, strings.Join(states[1:], ", "))
}

// Share is a part of a content in thousandths: at most All, which is said of no content of which anything is missing.
type Share uint16

// All of a content.
const All Share = 1000

// ShareOf is what part of whole bytes is: all of nothing, and of what anything is missing of never all.
func ShareOf(part, whole int64) Share {
	switch {
	case part >= whole:
		return All
	case part <= 0:
		return 0
	}
	high, low := bits.Mul64(uint64(part), uint64(All)) // which a drive's size may be too large for
	share, _ := bits.Div64(high, low, uint64(whole))
	return max(1, Share(share))
}

// Intact is a state with the share of the bytes that are still there.
type Intact struct {
	State State
	Share Share
}

// Known tells whether it says anything: it is of a trace.
func (i Intact) Known() bool { return i.State != None }

// Readable tells whether there is anything to be read.
func (i Intact) Readable() bool { return i.State != Overwritten && i.State != Wiped }

// Of works it out: of a content of so many bytes some were given to others, some could not be read by the drive, and all that was looked at
// is zeros or not. known says that it is known where its pieces lie.
func Of(size, taken, unread int64, zeros, known bool) Intact {
	left := size - taken - unread
	switch {
	case size > 0 && taken >= size:
		return Intact{Overwritten, 0}
	case size > 0 && zeros:
		return Intact{Wiped, 0}
	case unread > 0:
		return Intact{Unread, ShareOf(left, size)}
	case taken > 0:
		return Intact{InPart, ShareOf(left, size)}
	case known || size == 0:
		return Intact{Whole, All}
	}
	return Intact{OnePiece, All}
}

// Lower is what is left of it once the content was looked at: it never gets better.
func (i Intact) Lower(to Intact) Intact {
	if !i.Known() || !to.Known() {
		return i
	}
	return Intact{max(i.State, to.State), min(i.Share, to.Share)}
}
