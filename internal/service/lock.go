package service

import (
	"errors"
	"fmt"
	"os"

	"golang.org/x/sys/unix"
)

// lock keeps two services from working on the same records. The kernel lets go of it when the process ends, however.
func lock(path string) (unlock func() error, err error) {
	f, err := os.OpenFile(path, os.O_RDWR|os.O_CREATE, 0o600)
	if err != nil {
		return nil, err
	}
	if err := unix.Flock(int(f.Fd()), unix.LOCK_EX|unix.LOCK_NB); err != nil {
		if errors.Is(err, unix.EWOULDBLOCK) {
			err = errors.New("another service is working on it; stop that one first or choose another folder with --data")
		}
		return nil, errors.Join(fmt.Errorf("lock: %w", err), f.Close())
	}
	return f.Close, nil
}
