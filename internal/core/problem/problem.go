// Package problem is the one vocabulary of what can keep the program from reading or writing something. A problem is a code: code
// branches on it with errors.Is, scripts read it from answers, and whoever shows it says what to do next. What a code says of
// itself is a sentence's end, such as "the file system is full".
package problem

import (
	"errors"
	"io/fs"
)

// Code is a problem by its name, and an error. Codes of the same meaning as errors of package fs are those too.
type Code string

// Of places and names.
const (
	NotThere       Code = "not-there" // also fs.ErrNotExist
	Taken          Code = "taken"     // also fs.ErrExist
	NotFolder      Code = "not-folder"
	FileInTheWay   Code = "file-in-the-way"
	FolderInTheWay Code = "folder-in-the-way"
	NotFile        Code = "not-file"
	NotEmpty       Code = "not-empty"
	LinkInTheWay   Code = "link-in-the-way"
	NameTooLong    Code = "name-too-long"
	BadName        Code = "bad-name"
	TooLarge       Code = "too-large" // more than whoever reads it allows
	Private        Code = "private"   // the service's own data, which is never read, moved or written as anybody's files
)

// Of file systems, drives and the ways to them.
const (
	Refused         Code = "refused" // also fs.ErrPermission
	Full            Code = "full"
	OverQuota       Code = "over-quota"
	ReadOnly        Code = "read-only"
	OtherFileSystem Code = "other-file-system"
	FileTooLarge    Code = "file-too-large" // more than the file system allows
	TooManyLinks    Code = "too-many-links"
	NoAttribute     Code = "no-attribute"
	Unsupported     Code = "unsupported"
	Fault           Code = "fault" // of the medium
	NoDrive         Code = "no-drive"
	Removed         Code = "removed" // on the server that it lies on
	Busy            Code = "busy"
	Running         Code = "running"
	Slow            Code = "slow"
	Lost            Code = "lost" // the connection
	Unreachable     Code = "unreachable"
	Stopped         Code = "stopped" // somebody said that it is to be left alone
	NoWay           Code = "no-way"  // to addresses of this kind
	Locked          Code = "locked"  // a store that a secret opens
	NotSignedIn     Code = "not-signed-in"
	NotAllowed      Code = "not-allowed" // whoever asks has no right to it
	Untrusted       Code = "untrusted"   // a server whose certificate nobody that is believed vouches for
)

// Of the program and the system that it runs on.
const (
	TooManyOpen          Code = "too-many-open"
	TooManyOpenOnMachine Code = "too-many-open-on-machine"
	NoMemory             Code = "no-memory"
	Changed              Code = "changed" // it is not, or no longer, as it was seen
	ChangedSinceSurvey   Code = "changed-since-survey"
	Broken               Code = "broken" // what is read is not what was written
	System               Code = "system" // what the system says and this vocabulary does not know
)

// Of the catalogue.
const (
	NotKnown          Code = "not-known"
	Known             Code = "known" // already
	BadCursor         Code = "bad-cursor"
	ChangedByOther    Code = "changed-by-other" // since whoever changes it read it
	Damaged           Code = "damaged"          // the catalogue as a whole
	CatalogueFull     Code = "catalogue-full"
	CatalogueFault    Code = "catalogue-fault"
	CatalogueReadOnly Code = "catalogue-read-only"
	CatalogueDamaged  Code = "catalogue-damaged"
	CatalogueBusy     Code = "catalogue-busy"
	CatalogueNoMemory Code = "catalogue-no-memory"
	CatalogueGone     Code = "catalogue-gone" // what it is about was removed
	Catalogue         Code = "catalogue"
)

// words say for a technician what a code means.
var words = map[Code]string{
	NotThere:             "it is not there",
	Taken:                "something stands there already",
	NotFolder:            "not a folder",
	FileInTheWay:         "a file stands where a folder is needed",
	FolderInTheWay:       "a folder stands where a file is needed",
	NotFile:              "not a regular file",
	NotEmpty:             "something is in it",
	LinkInTheWay:         "a link is on the way, and links are not followed",
	NameTooLong:          "the name is too long for the file system",
	BadName:              "not a single name",
	TooLarge:             "larger than allowed",
	Private:              "the service's own data",
	Refused:              "the service may not do that there; run it as a user who may",
	Full:                 "the file system is full",
	OverQuota:            "the owner's quota is used up",
	ReadOnly:             "the file system is read-only",
	OtherFileSystem:      "it lies on another file system",
	FileTooLarge:         "it is larger than the file system allows",
	TooManyLinks:         "it has as many names as the file system allows",
	NoAttribute:          "it has no such attribute",
	Unsupported:          "the file system does not know how to do that",
	Fault:                "the drive reports a fault; stop using it and make an image of it",
	NoDrive:              "its drive is not there any more",
	Removed:              "it was removed on the server that it lies on",
	Busy:                 "it is in use",
	Running:              "it is a program that is running",
	Slow:                 "it did not answer in time",
	Lost:                 "the connection is lost",
	Unreachable:          "the machine cannot be reached",
	Locked:               "it is locked, and needs the password that opens it",
	NoWay:                "no way is known to reach it",
	NotSignedIn:          "it does not accept the name and the password, or the token has expired",
	Untrusted:            "its certificate is not one that is trusted, so it may be another server",
	TooManyOpen:          "the service has too many files open; try again in a moment",
	TooManyOpenOnMachine: "the machine has too many files open; try again in a moment",
	NoMemory:             "the machine has no memory left",
	Changed:              "it changed in the meantime",
	Broken:               "what is read is not what was written",
	ChangedSinceSurvey:   "it changed since the last survey",
	System:               "the system refuses it",
	NotKnown:             "not in the catalogue",
	Known:                "already in the catalogue",
	Stopped:              "it was stopped, and is left alone until it is taken up again",
	NotAllowed:           "whoever asks has no right to it",
	BadCursor:            "the cursor is not one that this list gave out",
	ChangedByOther:       "somebody else changed it meanwhile",
	Damaged:              "the catalogue is damaged",
	CatalogueFull:        "the file system of the data folder is full; free some room, and the service goes on by itself",
	CatalogueFault: "the drive of the data folder reports a fault; look at it before anything else, and " +
		"keep the daily copy in the data folder safe",
	CatalogueReadOnly: "the data folder cannot be written to; see whose it is and how its file system is mounted",
	CatalogueDamaged:  "the catalogue is damaged; stop the service and start it with --rebuild",
	CatalogueBusy:     "the catalogue is busy; try again in a moment",
	CatalogueNoMemory: "the machine has no memory left",
	CatalogueGone:     "what it is about was removed in the meantime",
	Catalogue:         "the catalogue cannot do that now; the service's log says why",
}

// Error says what the code means, as a sentence's end.
func (c Code) Error() string {
	if said, ok := words[c]; ok {
		return said
	}
	return string(c)
}

// Is makes codes the errors of package fs that mean the same.
func (c Code) Is(target error) bool {
	switch target {
	case fs.ErrNotExist:
		return c == NotThere
	case fs.ErrExist:
		return c == Taken || c == NotEmpty
	case fs.ErrPermission:
		return c == Refused
	}
	return false
}

// Of returns the code of an error: the outermost that it wraps; false where it wraps none.
func Of(err error) (Code, bool) {
	if c, ok := errors.AsType[Code](err); ok {
		return c, true
	}
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return NotThere, true
	case errors.Is(err, fs.ErrExist):
		return Taken, true
	case errors.Is(err, fs.ErrPermission):
		return Refused, true
	}
	return "", false
}
