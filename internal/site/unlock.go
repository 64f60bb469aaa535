package site

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/core/problem"
	"humble-rewind/internal/reach"
	"humble-rewind/internal/source"
)

// Unlock gives a store the secret that opens it, for as long as the service runs, and tells of how many things in it that opens, and of
// how many it does not. One that opens nothing is not kept; the error is a problem.Input.
func (s *Site) Unlock(ctx context.Context, src copies.Source, secret []byte) (opened, locked int, err error) {
	opened, locked, err = s.opens(ctx, src, secret)
	if err == nil && opened > 0 {
		s.setSecret(src.ID, secret)
	}
	refuse := func(why error, next string) (int, int, error) {
		return 0, 0, &problem.Input{What: fmt.Sprintf("unlock source s%d", src.ID), Err: why, Next: next}
	}
	switch {
	case err != nil:
		return 0, 0, err
	case opened == 0 && locked == 0:
		return refuse(errors.New("nothing in it needs a password"), "Read its copies as they are.")
	case opened == 0:
		return refuse(errors.New("the password opens nothing in it"), "Ask for the password again; capitals count.")
	}
	return opened, locked, nil
}

// UnlockMachine gives a machine the secret with which it is reached, for as long as the service runs, having tried it. One that does not
// open it is not kept; the error is a problem.Input.
func (s *Site) UnlockMachine(ctx context.Context, name string, secret []byte) error {
	m, err := s.Catalogue.Machines.Named(ctx, name)
	if err != nil {
		return err
	}
	files, steps, err := s.Try(ctx, m.At, secret)
	if err != nil {
		return &problem.Input{What: "unlock machine " + name, Err: err, Next: "Ask for the password or token again; capitals count.",
			Shown: Shown(steps)}
	}
	s.SetMachineSecret(name, secret)
	return files.Close()
}

// Try reaches what is at an address, apart from whoever is at work on it, with a secret; nil is none. It tells what came of each step. The session
// must be closed.
func (s *Site) Try(ctx context.Context, at string, secret []byte) (reach.Session, []reach.Step, error) {
	return s.Ways.Try(reach.WithSecret(ctx, secret), at)
}

// Shown are the steps in which something was shown, for whoever has to make sense of one that failed.
func Shown(steps []reach.Step) (all []string) {
	for _, step := range steps {
		if step.Shown != "" {
			all = append(all, step.Doing+": "+step.Shown)
		}
	}
	return all
}

// SetMachineSecret gives a machine the secret with which it is reached, which is kept in memory alone. Nobody has tried it.
func (s *Site) SetMachineSecret(machine string, secret []byte) {
	s.mu.Lock()
	if s.machineSecrets == nil {
		s.machineSecrets = map[string][]byte{}
	}
	s.machineSecrets[machine] = slices.Clone(secret)
	s.mu.Unlock()
	s.sessions.Drop(machine)
}

// MachineSecret is what a machine is reached with, as far as it is known; nil where none is.
func (s *Site) MachineSecret(machine string) []byte {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.machineSecrets[machine]
}

// Lock forgets the secret of a store.
func (s *Site) Lock(id copies.SourceID) { s.setSecret(id, nil) }

func (s *Site) setSecret(id copies.SourceID, secret []byte) {
	s.mu.Lock()
	if s.secrets == nil {
		s.secrets = map[copies.SourceID][]byte{}
	}
	s.secrets[id] = slices.Clone(secret)
	s.mu.Unlock()
	s.pool.Forget(func(key any) bool { return key.(storeKey).source == id })
}

// opens tries a secret in a store of its own: what is being read meanwhile is read with the one that is known.
func (s *Site) opens(ctx context.Context, src copies.Source, secret []byte) (opened, locked int, err error) {
	store, err := s.openStore(ctx, src, secret)
	if err != nil {
		return 0, 0, err
	}
	defer store.Close()
	lockable, ok := store.(source.Lockable)
	if !ok {
		return 0, 0, nil
	}
	return lockable.Opens(ctx)
}

func (s *Site) secret(id copies.SourceID) []byte {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.secrets[id]
}
