package reach

import (
	"errors"
	"strings"
	"syscall"
)

// words say for a technician what the system's errors mean.
var words = map[syscall.Errno]string{
	syscall.ENOENT:       "it is not there",
	syscall.ENOTDIR:      "a file stands where a folder is needed",
	syscall.EISDIR:       "a folder stands where a file is needed",
	syscall.EACCES:       "the service may not do that there; run it as a user who may",
	syscall.EPERM:        "the service may not do that there; run it as a user who may",
	syscall.EEXIST:       "something stands there already",
	syscall.ENOTEMPTY:    "something is in it",
	syscall.ENOSPC:       "the file system is full",
	syscall.EDQUOT:       "the owner's quota is used up",
	syscall.EROFS:        "the file system is read-only",
	syscall.EIO:          "the drive reports a fault; stop using it and make an image of it",
	syscall.ELOOP:        "a link is on the way, and links are not followed",
	syscall.ENAMETOOLONG: "the name is too long for the file system",
	syscall.EBUSY:        "it is in use",
	syscall.ETXTBSY:      "it is a program that is running",
	syscall.EXDEV:        "it lies on another file system",
	syscall.EMFILE:       "the service has too many files open; try again in a moment",
	syscall.ENFILE:       "the machine has too many files open; try again in a moment",
	syscall.ENOMEM:       "the machine has no memory left",
	syscall.ESTALE:       "it was removed on the server that it lies on",
	syscall.ENODEV:       "its drive is not there any more",
	syscall.ENXIO:        "its drive is not there any more",
	syscall.EINVAL:       "the file system does not know how to do that",
	syscall.ENOTSUP:      "the file system does not know how to do that",
	syscall.EFBIG:        "it is larger than the file system allows",
	syscall.ENODATA:      "it has no such attribute",
	syscall.ETIMEDOUT:    "it did not answer in time",
	syscall.ENOTCONN:     "the connection is lost",
	syscall.EHOSTUNREACH: "the machine cannot be reached",
}

// Worded is an error's text in which what the system said is said for a technician.
func Worded(err error) string {
	text := err.Error()
	var number syscall.Errno
	if !errors.As(err, &number) {
		return text
	}
	said, known := words[number]
	if !known {
		said = "the system refuses it"
	}
	return strings.ReplaceAll(text, number.Error(), said)
}
