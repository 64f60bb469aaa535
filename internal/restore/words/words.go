// Package words says what befalls a bring-back, for technicians.
package words

import (
	"context"
	"errors"
	"strings"

	"humble-rewind/internal/core/problem"
	"humble-rewind/internal/explain"
	"humble-rewind/internal/safekeeping"
)

// Join joins notes, each once.
func Join(notes ...string) string {
	all := ""
	for _, note := range notes {
		if strings.Contains(all, note) { // nothing, or what is said already: what is away is tried again and again
			continue
		}
		if all != "" {
			all += "; "
		}
		all += note
	}
	return all
}

// meant say of problems what they mean, or what to do next, where files are brought back.
var meant = explain.Words{
	problem.Full:      "the file system is full; free some room or choose another destination",
	problem.OverQuota: "the owner's quota is used up; raise it or choose another destination",
	problem.ReadOnly:  "the file system is read-only; mount it for writing or choose another destination",
	problem.Refused:   "the service may not do that there; run it as a user who may, or choose another destination",
	problem.Fault:     "the drive reports a fault; stop using it and make an image of it first",
	problem.Private: "the service's own data lies there, which is never read, moved or written as anybody's files; choose another " +
		"place",
	problem.Changed:      "it changed in the meantime; plan again",
	problem.Taken:        "something else is there now",
	problem.TooManyLinks: "something else was put into it",
	problem.NotEmpty:     "something else was put into it",
	problem.NameTooLong:  "the name is too long for the file system there; choose another destination",
}

// Explain words an error of reading or writing for a technician.
func Explain(err error) string {
	if errors.Is(err, context.Canceled) {
		return "it was cancelled, or the service stopped, before it arrived"
	}
	if errors.Is(err, safekeeping.ErrFull) {
		return err.Error()
	}
	return meant.Error(err)
}
