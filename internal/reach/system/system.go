// Package system turns what the operating system says into problems. Nothing else in the program looks at error numbers.
package system

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"syscall"

	"humble-rewind/internal/core/problem"
)

var codes = map[syscall.Errno]problem.Code{
	syscall.ENOENT: problem.NotThere, syscall.ENOTDIR: problem.FileInTheWay, syscall.EISDIR: problem.FolderInTheWay,
	syscall.EACCES: problem.Refused, syscall.EPERM: problem.Refused, syscall.EEXIST: problem.Taken, syscall.ENOTEMPTY: problem.NotEmpty,
	syscall.ENOSPC: problem.Full, syscall.EDQUOT: problem.OverQuota, syscall.EROFS: problem.ReadOnly, syscall.EIO: problem.Fault,
	syscall.ELOOP: problem.LinkInTheWay, syscall.ENAMETOOLONG: problem.NameTooLong, syscall.EBUSY: problem.Busy,
	syscall.ETXTBSY: problem.Running, syscall.EXDEV: problem.OtherFileSystem, syscall.EMFILE: problem.TooManyOpen,
	syscall.ENFILE: problem.TooManyOpenOnMachine, syscall.ENOMEM: problem.NoMemory, syscall.ESTALE: problem.Removed,
	syscall.ENODEV: problem.NoDrive, syscall.ENXIO: problem.NoDrive, syscall.EINVAL: problem.Unsupported,
	syscall.ENOTSUP: problem.Unsupported,
	syscall.ENOSYS:  problem.Unsupported, syscall.EFBIG: problem.FileTooLarge, syscall.ENODATA: problem.NoAttribute,
	syscall.ETIMEDOUT: problem.Slow, syscall.ENOTCONN: problem.Lost, syscall.EHOSTUNREACH: problem.Unreachable,
	syscall.EMLINK: problem.TooManyLinks,
}

// Problem returns what an error of the system is, without the operation and the path that the standard library puts before it: the
// messages of this program name them themselves. An error that wraps none of the system's is returned as it is.
func Problem(err error) error {
	if err == nil {
		return nil
	}
	if e, ok := errors.AsType[*fs.PathError](err); ok {
		err = e.Err
	} else if e, ok := errors.AsType[*os.LinkError](err); ok {
		err = e.Err
	} else if e, ok := errors.AsType[*os.SyscallError](err); ok {
		err = e.Err
	}
	number, ok := errors.AsType[syscall.Errno](err)
	if !ok {
		return err
	}
	if code, known := codes[number]; known {
		return code
	}
	return fmt.Errorf("%w (%s)", problem.System, number.Error())
}

// Raw is what the system itself says of an error, in its own words; false where it is none of the system's.
func Raw(err error) (string, bool) {
	number, ok := errors.AsType[syscall.Errno](err)
	if !ok {
		return "", false
	}
	return number.Error(), true
}
