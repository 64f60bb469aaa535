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
	if _, err := r.Catalogue.Machines.Named(ctx, n.Machine); err != nil {
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
	if err := source.CheckOptions(kind, n.Options); err != nil {
		return refuse(err, "Leave it out, or give it as it is described.")
	}
	location := n.At
	if location == "" {
		if location, err = r.defaultLocation(ctx, kind, src.Source); err != nil {
			return refuse(err, "Name its location.")
		}
	}
	if !strings.HasPrefix(location, "/") {
		p, err := place.Parse(location)
		if err != nil {
			return refuse(err, "Give an absolute path on the machine, or machine:/path for a store on another one.")
		}
		src.AtMachine, location = p.Machine, p.Path
	}
	if src.At, err = place.Clean(location); err != nil {
		return refuse(err, "Give an absolute path without \"..\".")
	}
	if src.Maps, err = parseMaps(n.Maps); err != nil {
		return refuse(err, "Write each map as /path/in/the/store=/path/on/the/machine.")
	}
	if n.Zone != "" {
		if _, err := time.LoadLocation(n.Zone); err != nil {
			return refuse(fmt.Errorf("%q is not a time zone", n.Zone), "Name it like Europe/Lisbon or UTC.")
		}
	}
	setup, err := r.Setup(ctx, src.Source)
	if err != nil {
		return refuse(err, "Check that the machine can be reached.", problem.Step{Do: problem.ShowMachine, About: src.AtMachine})
	}
	described, err := kind.Describe(ctx, setup.Confine(ctx))
	if err != nil {
		return refuse(err, "See what the machine has.", problem.Step{Do: problem.SuggestSources, About: n.Machine})
	}
	src.Drive, src.Notes = described.Drive, described.Notes
	if n.RetentionDays == nil && described.KeepsDays != nil {
		src.OwnRetention = described.KeepsDays
	}
	added, err := r.Catalogue.Sources.Add(ctx, src)
	if errors.Is(err, catalogue.ErrTaken) {
		return refuse(err, "List the sources.", problem.Step{Do: problem.ListSources})
	}
	return added, err
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
