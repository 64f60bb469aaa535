package problem

import (
	"errors"
	"fmt"
)

// ErrInput marks what a technician gave that makes no sense as it is.
var ErrInput = errors.New("cannot be used")

// Input is an ErrInput with what was given, why it cannot be used, and what to do.
type Input struct {
	What string // what was tried
	Err  error  // what went wrong
	Next string // what to do next
	Do   []Step // the same as codes, where there are such
	// Shown is what the other side showed while it was tried, such as its certificate.
	Shown []string
}

func (e *Input) Error() string { return fmt.Sprintf("%s: %v", e.What, e.Err) }

// Unwrap makes the cause and ErrInput visible to errors.Is.
func (e *Input) Unwrap() []error { return []error{e.Err, ErrInput} }
