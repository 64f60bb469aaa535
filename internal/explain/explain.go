// Package explain words for a technician what kept the program from doing something. Everything that shows an error goes through it.
package explain

import (
	"strings"

	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/core/problem"
	"humble-rewind/internal/reach/system"
)

// Words say of some problems what they mean, or what to do next, where that is not the same everywhere.
type Words map[problem.Code]string

// Error says what an error is. A problem of the catalogue is all that is said, since nobody can do anything about what it kept from
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

// Error is the package's Error, but for the problems that have words of their own.
func (w Words) Error(err error) string {
	if _, ok := catalogue.Problem(err); !ok {
		if code, ok := Code(err); ok && w[code] != "" {
			return w[code]
		}
	}
	return Error(err)
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
