package registry

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/problem"
	"humble-rewind/internal/source"
)

// NewSource is a source as a technician gives it.
type NewSource struct {
	Machine       string
	Kind          string
	At            string // a path on the machine, or other-machine:/path; "" for the homes
	Named         string // strftime pattern of its points in time
	Exclusions    []string
	Zone          string
	Maps          []string          // FROM=TO
	Options       map[string]string // of the kind
	RetentionDays *int
}

// AddSource looks at a location and begins to read copies from it.
func (r Registry) AddSource(ctx context.Context, n NewSource) (catalogue.Source, error) {
	refuse := func(err error, next string, do ...problem.Step) (catalogue.Source, error) {
		return catalogue.Source{}, &problem.Input{What: fmt.Sprintf("add %s source of %s", n.Kind, n.Machine), Err: err, Next: next, Do: do}
	}
	if _, err := r.View.Machines.Named(ctx, n.Machine); err != nil {
		return refuse(err, "List the machines.", problem.Step{Do: problem.ListMachines})
	}
	kind, err := r.Kinds.Named(n.Kind)
	if err != nil {
		return refuse(err, "Choose one of the known kinds.")
	}
	src := catalogue.Source{
		Source: copies.Source{Kind: n.Kind, Machine: n.Machine, AtMachine: n.Machine, Named: n.Named, Exclusions: n.Exclusions, Zone: n.Zone,
			Options: n.Options},
		OwnRetention: n.RetentionDays,
	}
	src.Traits = kind.Traits()
	if src.OwnRetention == nil && src.Traits.Dated() && !src.Traits.Expires { // nothing in it goes by itself
		keeps := 0
		src.OwnRetention = &keeps
	}
	if err := r.locate(ctx, kind, &src, n.At); err != nil {
		return refuse(err, "Name its location: an absolute path on the machine, or machine:/path for a store on another one.")
	}
	if src.Maps, err = parseMaps(n.Maps); err != nil {
		return refuse(err, adviceOnMaps)
	}
	described, err := r.describe(ctx, kind, &src)
	if err != nil {
		return catalogue.Source{}, said("add "+n.Kind+" source of "+n.Machine, err)
	}
	if n.RetentionDays == nil && described.KeepsDays != nil {
		src.OwnRetention = described.KeepsDays
	}
	added, err := r.Catalogue.Sources.Add(ctx, src)
	if errors.Is(err, catalogue.ErrTaken) {
		return refuse(err, "List the sources.", problem.Step{Do: problem.ListSources})
	}
	return added, err
}

// said names in bad input what was asked for.
func said(what string, err error) error {
	if bad, ok := errors.AsType[*problem.Input](err); ok {
		bad.What = what
	}
	return err
}

const adviceOnMaps = "Write each map as /path/in/the/store=/path/on/the/machine."

// locate takes over where a store is said to be: a path on its machine, machine:/path, or "" for what is usual.
func (r Registry) locate(ctx context.Context, kind source.Kind, src *catalogue.Source, location string) (err error) {
	if location == "" {
		if location, err = r.defaultLocation(ctx, kind, src.Source); err != nil {
			return err
		}
	}
	if !strings.HasPrefix(location, "/") {
		p, err := place.Parse(location)
		if err != nil {
			return err
		}
		src.AtMachine, location = p.Machine, p.Path
	}
	if _, err := r.View.Machines.Named(ctx, src.AtMachine); err != nil {
		return err
	}
	src.At, err = place.Clean(location)
	return err
}

// describe looks at a store as it would be read, and takes over what it is. An error is bad input.
func (r Registry) describe(ctx context.Context, kind source.Kind, src *catalogue.Source) (source.Described, error) {
	refuse := func(err error, next string, do ...problem.Step) (source.Described, error) {
		return source.Described{}, &problem.Input{Err: err, Next: next, Do: do}
	}
	if err := source.CheckOptions(kind, src.Options); err != nil {
		return refuse(err, "Leave it out, or give it as it is described.")
	}
	if src.Zone != "" {
		if _, err := time.LoadLocation(src.Zone); err != nil {
			return refuse(fmt.Errorf("%q is not a time zone", src.Zone), "Name it like Europe/Lisbon or UTC.")
		}
	}
	setup, err := r.Setup(ctx, src.Source)
	if err != nil {
		return refuse(err, "Check that the machine can be reached.", problem.Step{Do: problem.ShowMachine, About: src.AtMachine})
	}
	described, err := kind.Describe(ctx, setup.Confine(ctx))
	if err != nil {
		return refuse(err, "See what the machine has.", problem.Step{Do: problem.SuggestSources, About: src.Machine})
	}
	src.Drive, src.Notes = described.Drive, described.Notes
	return described, nil
}

func parseMaps(texts []string) ([]place.Map, error) {
	maps := []place.Map{}
	for _, text := range texts {
		from, to, ok := strings.Cut(text, "=")
		if !ok {
			return nil, fmt.Errorf("%s is not a map", place.Quote(text))
		}
		from, err := place.Clean(from)
		if err != nil {
			return nil, err
		}
		to, err = place.Clean(to)
		if err != nil {
			return nil, err
		}
		maps = append(maps, place.Map{From: from, To: to})
	}
	return maps, nil
}
