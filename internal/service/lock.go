package service

import (
	"errors"
	"fmt"

	"github.com/gofrs/flock"

	"humble-rewind/internal/reach/system"
)

// lock keeps two services from working on the same records. The kernel lets go of it when the process ends, however.
func lock(path string) (unlock func() error, err error) {
	l := flock.New(path, flock.SetPermissions(0o600))
	held, err := l.TryLock()
	if err != nil {
		return nil, fmt.Errorf("lock: %w", system.Problem(err))
	}
	if !held {
		return nil, errors.New("lock: another service is working on it; stop that one first or choose another folder with --data")
	}
	return l.Close, nil
}
