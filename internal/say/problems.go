package say

import (
	"context"
	"errors"
	"strings"

	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/core/problem"
	"humble-rewind/internal/reach/system"
)

// words say of some problems what they mean, or what to do next, where that is not the same everywhere.
type words map[problem.Code]string

// reading are the words where a copy could not be read, for the middle of a sentence.
var reading = words{
	problem.NotThere:           "it is no longer where the last survey saw it",
	problem.Refused:            "the service may not read it",
	problem.ChangedSinceSurvey: "it changed since the last survey, or while it was read",
}

// bringingBack are the words where something could not be brought back.
var bringingBack = words{
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

// Error says what an error is. Everything that shows an error goes through it. A problem of the catalogue is all that is said, since nobody can do anything about what it kept from
// happening before that is put right. What a library met and did not word is said for a technician, not as the system says it.
func Error(err error) string {
	if code, ok := catalogue.Problem(err); ok {
		return code.Error()
	}
	text := err.Error()
	if raw, ok := system.Raw(err); ok {
		text = strings.ReplaceAll(text, raw, system.Problem(err).Error())
	}
	return text
}

// error is [Error], but for the problems that have words of their own.
func (w words) error(err error) string {
	if _, ok := catalogue.Problem(err); !ok {
		if code, ok := Code(err); ok && w[code] != "" {
			return w[code]
		}
	}
	return Error(err)
}

// ReadError says why a copy could not be read, for the middle of a sentence.
func ReadError(err error) string { return reading.error(err) }

// BringBackError says why something could not be brought back.
func BringBackError(err error) string {
	if errors.Is(err, context.Canceled) {
		return "it was cancelled, or the service stopped, before it arrived"
	}
	return bringingBack.error(err)
}

// Notes joins what is said of one thing, each once: what is away is tried again and again.
func Notes(notes ...string) string {
	all := ""
	for _, note := range notes {
		if strings.Contains(all, note) {
			continue
		}
		if all != "" {
			all += "; "
		}
		all += note
	}
	return all
}

// Code returns the problem that an error is; false where it is none of the vocabulary.
func Code(err error) (problem.Code, bool) {
	if code, ok := catalogue.Problem(err); ok {
		return code, true
	}
	if code, ok := problem.Of(system.Problem(err)); ok && code != problem.System {
		return code, true
	}
	return problem.Of(err)
}
