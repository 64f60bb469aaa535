package service

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"humble-rewind/api"
	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/problem"
	"humble-rewind/internal/core/turns"
	"humble-rewind/internal/registry"
	"humble-rewind/internal/say"
	"humble-rewind/internal/survey"
)

// ListMachines lists all machines.
func (s *Service) ListMachines(ctx context.Context, _ api.ListMachinesRequestObject) (api.ListMachinesResponseObject, error) {
	machines, err := s.asked(ctx).view.Machines.All(ctx)
	if err != nil {
		return nil, err
	}
	sources, err := s.asked(ctx).view.Sources.Of(ctx, "")
	if err != nil {
		return nil, err
	}
	all := make([]api.Machine, len(machines))
	for i, m := range machines {
		all[i] = s.toMachine(m, sources)
	}
	return api.ListMachines200JSONResponse{Machines: all}, nil
}

// AddMachine adds a machine and, where asked, all sources found on it.
func (s *Service) AddMachine(ctx context.Context, request api.AddMachineRequestObject) (api.AddMachineResponseObject, error) {
	b := request.Body
	m, err := s.asked(ctx).registry.AddMachine(
		ctx,
		registry.NewMachine{Name: b.Name, At: b.At, Secret: secretOf(b.Password), Zone: value(b.Zone), Homes: value(b.Homes), RetentionDays: b.RetentionDays,
			ClockAhead: time.Duration(value(b.ClockAheadSeconds)) * time.Second},
	)
	if err != nil {
		return nil, err
	}
	var left []string
	if value(b.WithSuggested) {
		found, err := s.asked(ctx).registry.Suggest(ctx, m.Name)
		if err != nil {
			return nil, err
		}
		for _, f := range found {
			if _, err := s.asked(ctx).registry.AddSource(ctx, registry.NewSource{Machine: m.Name, Kind: f.Kind, At: f.At}); ctx.Err() != nil {
				return nil, ctx.Err()
			} else if err != nil { // one that cannot be read keeps none of the others back
				left = append(left, fmt.Sprintf("A %s source at %s was not added: %s.", f.Kind, place.Quote(f.At),
					strings.TrimSuffix(say.Error(err), ".")))
			}
		}
	}
	s.changes.tell(changedMachine, m.Name)
	shown, err := s.machine(ctx, m.Name)
	shown.Notes = append(shown.Notes, left...)
	return api.AddMachine201JSONResponse(shown), err
}

// TryMachine tells what comes of each step of reaching an address.
func (s *Service) TryMachine(ctx context.Context, request api.TryMachineRequestObject) (api.TryMachineResponseObject, error) {
	files, steps, err := s.site.Try(ctx, request.Body.At, secretOf(request.Body.Password))
	a := api.TryMachine200JSONResponse{Reached: err == nil}
	for _, step := range steps {
		shown := api.TrialStep{Doing: step.Doing, Shown: optional(step.Shown)}
		if step.Err != nil {
			shown.Error = optional(say.Error(step.Err))
		}
		a.Steps = append(a.Steps, shown)
	}
	if err != nil {
		return a, ctx.Err()
	}
	return a, files.Close()
}

// secretOf is a password that was given; nil where none was.
func secretOf(password *string) []byte {
	if value(password) == "" {
		return nil
	}
	return []byte(*password)
}

// UnlockMachine takes the password with which a machine is reached.
func (s *Service) UnlockMachine(ctx context.Context, request api.UnlockMachineRequestObject) (api.UnlockMachineResponseObject, error) {
	if n := len(request.Body.Password); n == 0 || n > maxPassword {
		return nil, badRequest(fmt.Sprintf("A password has 1 to %d bytes.", maxPassword), "Give the one of the drive.")
	}
	if _, err := s.asked(ctx).view.Machines.Named(ctx, request.Name); err != nil {
		return nil, err
	}
	if err := s.site.UnlockMachine(ctx, request.Name, []byte(request.Body.Password)); err != nil {
		return nil, err
	}
	s.changes.tell(changedMachine, request.Name)
	return api.UnlockMachine204Response{}, nil
}

// GetMachine shows one machine.
func (s *Service) GetMachine(ctx context.Context, request api.GetMachineRequestObject) (api.GetMachineResponseObject, error) {
	m, err := s.machine(ctx, request.Name)
	if err != nil {
		return nil, err
	}
	return api.GetMachine200JSONResponse(m), nil
}

func (s *Service) machine(ctx context.Context, name string) (api.Machine, error) {
	m, err := s.asked(ctx).view.Machines.Named(ctx, name)
	if err != nil {
		return api.Machine{}, err
	}
	sources, err := s.asked(ctx).view.Sources.Of(ctx, name)
	return s.toMachine(m, sources), err
}

// ChangeMachine changes how a machine is reached.
func (s *Service) ChangeMachine(ctx context.Context, request api.ChangeMachineRequestObject) (api.ChangeMachineResponseObject, error) {
	b := request.Body
	if _, err := s.asked(ctx).registry.ChangeMachine(ctx, request.Name,
		registry.MachineChanges{At: b.At, Secret: secretOf(b.Password), RetentionDays: b.RetentionDays, Stopped: b.Stopped}); err != nil {
		return nil, err
	}
	s.changes.tell(changedMachine, request.Name)
	m, err := s.machine(ctx, request.Name)
	return api.ChangeMachine200JSONResponse(m), err
}

// ForgetMachine stops looking after a machine.
func (s *Service) ForgetMachine(ctx context.Context, request api.ForgetMachineRequestObject) (api.ForgetMachineResponseObject, error) {
	if err := s.catalogue.ForgetMachine(ctx, request.Name); err != nil {
		return nil, err
	}
	s.changes.tell(changedMachine, request.Name)
	return api.ForgetMachine204Response{}, s.site.Tidy(ctx)
}

// SuggestSources lists stores that are not read yet.
func (s *Service) SuggestSources(ctx context.Context, request api.SuggestSourcesRequestObject) (api.SuggestSourcesResponseObject, error) {
	found, err := s.asked(ctx).registry.Suggest(ctx, request.Name)
	if err != nil {
		return nil, err
	}
	all := make([]api.Suggestion, len(found))
	for i, f := range found {
		all[i] = api.Suggestion{Machine: request.Name, Kind: f.Kind, At: place.Readable(f.At), Drive: optional(f.Drive), Why: f.Why}
	}
	return api.SuggestSources200JSONResponse{Suggestions: all}, nil
}

// ListSources lists all sources.
func (s *Service) ListSources(ctx context.Context, _ api.ListSourcesRequestObject) (api.ListSourcesResponseObject, error) {
	sources, err := s.asked(ctx).view.Sources.Of(ctx, "")
	if err != nil {
		return nil, err
	}
	all := make([]api.Source, len(sources))
	for i, src := range sources {
		all[i] = toSource(src)
	}
	return api.ListSources200JSONResponse{Sources: all}, nil
}

// ListKinds lists the kinds of sources.
func (s *Service) ListKinds(context.Context, api.ListKindsRequestObject) (api.ListKindsResponseObject, error) {
	all := make([]api.Kind, len(s.site.Kinds))
	for i, kind := range s.site.Kinds {
		all[i] = api.Kind{Name: kind.Name(), Shape: api.Shape(kind.Traits().Shape), Lockable: kind.Traits().Lockable, Options: []api.KindOption{}}
		for _, o := range kind.Options() {
			all[i].Options = append(all[i].Options, api.KindOption{Name: o.Name, Says: o.Says})
		}
	}
	return api.ListKinds200JSONResponse{Kinds: all}, nil
}

// AddSource adds a source.
func (s *Service) AddSource(ctx context.Context, request api.AddSourceRequestObject) (api.AddSourceResponseObject, error) {
	b := request.Body
	added, err := s.asked(ctx).registry.AddSource(
		ctx,
		registry.NewSource{
			Machine:       b.Machine,
			Kind:          b.Kind,
			At:            value(b.At),
			Named:         value(b.Named),
			Exclusions:    value(b.Exclusions),
			Zone:          value(b.Zone),
			Maps:          value(b.Maps),
			Options:       value(b.Options),
			RetentionDays: b.RetentionDays,
		},
	)
	if err != nil {
		return nil, err
	}
	s.changes.tell(changedSource, added.ID.String())
	return api.AddSource201JSONResponse(toSource(added)), nil
}

// ChangeSource changes where a source is and how it is read.
func (s *Service) ChangeSource(ctx context.Context, request api.ChangeSourceRequestObject) (api.ChangeSourceResponseObject, error) {
	id, err := number[copies.SourceID]("s", request.Id)
	if err != nil {
		return nil, err
	}
	b := request.Body
	src, err := s.asked(ctx).registry.ChangeSource(ctx, id, registry.SourceChanges{At: b.At, RetentionDays: b.RetentionDays, Named: b.Named, Zone: b.Zone,
		Exclusions: b.Exclusions, Maps: b.Maps, Options: b.Options})
	if err != nil {
		return nil, err
	}
	s.changes.tell(changedSource, src.ID.String())
	return api.ChangeSource200JSONResponse(toSource(src)), nil
}

// RemoveSource removes a source.
func (s *Service) RemoveSource(ctx context.Context, request api.RemoveSourceRequestObject) (api.RemoveSourceResponseObject, error) {
	src, err := s.sourceOf(ctx, request.Id)
	if err != nil {
		return nil, err
	}
	if err := s.catalogue.RemoveSource(ctx, src.ID); err != nil {
		return nil, err
	}
	s.changes.tell(changedSource, src.ID.String())
	return api.RemoveSource204Response{}, s.site.Tidy(ctx)
}

// UnlockSource takes the password of what is encrypted in a source.
func (s *Service) UnlockSource(ctx context.Context, request api.UnlockSourceRequestObject) (api.UnlockSourceResponseObject, error) {
	src, err := s.sourceOf(ctx, request.Id)
	if err != nil {
		return nil, err
	}
	if n := len(request.Body.Password); n == 0 || n > maxPassword {
		return nil, badRequest(fmt.Sprintf("A password has 1 to %d bytes.", maxPassword), "Give the one of the archive.")
	}
	opened, locked, err := s.site.Unlock(ctx, src.Source, []byte(request.Body.Password))
	if err != nil {
		return nil, err
	}
	return api.UnlockSource200JSONResponse{Opened: opened, Locked: locked}, nil
}

// maxPassword is the longest password that is taken, in bytes.
const maxPassword = 1024

// LockSource forgets a source's password.
func (s *Service) LockSource(ctx context.Context, request api.LockSourceRequestObject) (api.LockSourceResponseObject, error) {
	src, err := s.sourceOf(ctx, request.Id)
	if err != nil {
		return nil, err
	}
	s.site.Lock(src.ID)
	return api.LockSource204Response{}, nil
}

func (s *Service) sourceOf(ctx context.Context, id string) (catalogue.Source, error) {
	n, err := number[copies.SourceID]("s", id)
	if err != nil {
		return catalogue.Source{}, err
	}
	return s.asked(ctx).view.Sources.ByID(ctx, n)
}

// StartSurvey surveys one source, the sources of some machines, or all.
func (s *Service) StartSurvey(ctx context.Context, request api.StartSurveyRequestObject) (api.StartSurveyResponseObject, error) {
	sources, err := s.toSurvey(ctx, value(request.Body.Machines), value(request.Body.Source))
	if err != nil {
		return nil, err
	}
	priority := turns.Asked
	if value(request.Body.Waited) {
		priority = turns.Waited
	}
	order := survey.Order{Sources: sources, Priority: priority, ReadAll: value(request.Body.ReadAll), Examine: value(request.Body.Examine)}
	j, err := s.jobs.Submit(ctx, order.By(technician(ctx)))
	if err != nil {
		return nil, err
	}
	return api.StartSurvey202JSONResponse(toJob(j)), nil
}

func (s *Service) toSurvey(ctx context.Context, machines []string, source string) ([]catalogue.Source, error) {
	if source != "" {
		src, err := s.sourceOf(ctx, source)
		return []catalogue.Source{src}, err
	}
	for _, name := range machines {
		if _, err := s.asked(ctx).view.Machines.Named(ctx, name); err != nil {
			return nil, err
		}
	}
	sources, err := s.asked(ctx).view.Sources.Of(ctx, "")
	if err != nil {
		return nil, err
	}
	if len(machines) > 0 {
		sources = slices.DeleteFunc(sources, func(src catalogue.Source) bool {
			return !slices.Contains(machines, src.Machine) && !slices.Contains(machines, src.AtMachine)
		})
	} else { // who wants all of them means those that are not left alone
		known, err := s.asked(ctx).view.Machines.All(ctx)
		if err != nil {
			return nil, err
		}
		sources = slices.DeleteFunc(sources, func(src catalogue.Source) bool {
			return slices.ContainsFunc(known, func(m catalogue.Machine) bool { return m.Name == src.AtMachine && m.Stopped })
		})
	}
	if len(sources) == 0 {
		return nil, &problem.Input{What: "survey", Err: fmt.Errorf("there is no source to read: %w", catalogue.ErrNotFound),
			Next: "See what a machine has.", Do: []problem.Step{{Do: problem.SuggestSources}}}
	}
	return sources, nil
}

func value[T any](p *T) (v T) {
	if p != nil {
		v = *p
	}
	return v
}
