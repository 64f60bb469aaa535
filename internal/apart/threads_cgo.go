//go:build cgo

package apart

import (
	"os"
	"syscall"

	"golang.org/x/sys/unix"
)

// smallThreads makes the threads of a child small where the C library makes them: each would count with the eight megabytes of its
// stack. The library looks at the limit when a program begins, so the child begins once more with another one.
func smallThreads() error {
	const begun = environment + "_AGAIN"
	if os.Getenv(begun) != "" {
		return nil
	}
	const stack = 512 << 10
	if err := unix.Setrlimit(unix.RLIMIT_STACK, &unix.Rlimit{Cur: stack, Max: stack}); err != nil {
		return err
	}
	return syscall.Exec("/proc/self/exe", os.Args, append(os.Environ(), begun+"=1"))
}
