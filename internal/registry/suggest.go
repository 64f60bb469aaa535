package registry

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/source"
)

// Suggested is a store found on a machine.
type Suggested struct {
	Kind string
	source.Suggestion
}

// Suggest looks for stores on a machine that are not read yet, and on other machines for folders that are named after it
// and hold its files. What is named after another machine is that one's.
func (r Registry) Suggest(ctx context.Context, machine string) ([]Suggested, error) {
	if _, err := r.View.Machines.Named(ctx, machine); err != nil {
		return nil, err
	}
	machines, err := r.Catalogue.Machines.All(ctx)
	if err != nil {
		return nil, err
	}
	found, err := r.suggest(ctx, machine, func(at string) bool {
		return !slices.ContainsFunc(machines, func(m catalogue.Machine) bool { return m.Name != machine && named(at, m.Name) })
	})
	if err != nil {
		return nil, err
	}
	known, err := r.View.Machines.All(ctx)
	if err != nil {
		return nil, err
	}
	for _, m := range known {
		if m.Name == machine {
			continue
		}
		elsewhere, err := r.suggest(ctx, m.Name, func(at string) bool { return named(at, machine) })
		if err != nil {
			continue // one that cannot be reached now says nothing of this machine
		}
		for _, suggestion := range elsewhere {
			suggestion.At = m.Name + ":" + suggestion.At
			found = append(found, suggestion)
		}
	}
	return found, nil
}

// named tells whether one of a path's names is a machine's.
func named(path, machine string) bool { return slices.Contains(strings.Split(path, "/"), machine) }

func (r Registry) suggest(ctx context.Context, machine string, wanted func(at string) bool) ([]Suggested, error) {
	setup, err := r.Setup(ctx, copies.Source{Machine: machine, AtMachine: machine})
	if err != nil {
		return nil, err
	}
	sources, err := r.Catalogue.Sources.Of(ctx, "")
	if err != nil {
		return nil, err
	}
	known := map[string]bool{}
	for _, src := range sources {
		if src.AtMachine == machine {
			known[src.Kind+src.At] = true
		}
	}
	found := []Suggested{}
	for _, kind := range r.Kinds {
		suggestions, err := kind.Suggest(ctx, setup)
		if err != nil {
			return nil, fmt.Errorf("look for %s sources on %s: %w", kind.Name(), machine, err)
		}
		for _, suggestion := range suggestions {
			if !known[kind.Name()+suggestion.At] && wanted(suggestion.At) {
				found = append(found, Suggested{kind.Name(), suggestion})
			}
		}
	}
	return found, nil
}

// defaultLocation is the only place where a machine has a store of a kind.
func (r Registry) defaultLocation(ctx context.Context, kind source.Kind, src copies.Source) (string, error) {
	setup, err := r.Setup(ctx, src)
	if err != nil {
		return "", err
	}
	found, err := kind.Suggest(ctx, setup)
	if err != nil {
		return "", err
	}
	found = slices.DeleteFunc(found, func(f source.Suggestion) bool { return f.Besides })
	if len(found) == 1 {
		return found[0].At, nil
	}
	places := make([]string, len(found))
	for i, f := range found {
		places[i] = place.Quote(f.At)
	}
	if len(places) == 0 {
		return "", errors.New("no location was given, and none is usual")
	}
	return "", fmt.Errorf("no location was given, and several are usual: %s", strings.Join(places, ", "))
}
