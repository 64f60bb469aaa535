package service

import (
	"context"
	"errors"
	"io"
	"log/slog"
	"sync"
	"time"

	"humble-rewind/api"
	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/survey"
)

// health is what checks of the service's own records found.
type health struct {
	mu      sync.Mutex
	running sync.Mutex // held during a check
	checked time.Time
	problem string
	failed  error // of the check itself
}

// Once a day the records are checked and what cannot be read anew is copied; whether that is due is looked at more often, because
// services are started and stopped.
const (
	daily    = 24 * time.Hour
	lookedAt = 10 * time.Minute
)

// afterStart is how long records wait to be cared for after a start: what technicians have been waiting for comes first.
const afterStart = 3 * time.Second

// careForRecords checks and copies the records soon and once a day until ctx is done.
func (s *Service) careForRecords(ctx context.Context) {
	select {
	case <-time.After(afterStart):
	case <-ctx.Done():
		return
	}
	ticker := time.NewTicker(lookedAt)
	defer ticker.Stop()
	for {
		if now := s.now(); now.Sub(s.lastChecked()) >= daily {
			s.check(ctx, restFrom(ctx))
			s.thin(ctx)
		}
		if problem, _ := s.found(); problem == "" && s.copyIsDue() && ctx.Err() == nil {
			if err := s.catalogue.CopyRecords(ctx); err != nil && ctx.Err() == nil {
				s.log.LogAttrs(ctx, slog.LevelError, "records not copied", slog.String("error", err.Error()))
			}
		}
		select {
		case <-ticker.C:
		case <-ctx.Done():
			return
		}
	}
}

// thin drops what the records need no more: surveys by which nothing was found, with the times at which they were.
func (s *Service) thin(ctx context.Context) {
	if problem, _ := s.found(); problem != "" || ctx.Err() != nil {
		return
	}
	captures, err := s.catalogue.Surveys.Thin(ctx, s.now(), restFrom(ctx))
	jobs, failed := s.catalogue.Jobs.Thin(ctx, survey.JobKind, s.now())
	if err = errors.Join(err, failed); err != nil && ctx.Err() == nil {
		s.log.LogAttrs(ctx, slog.LevelError, "records not thinned", slog.String("error", err.Error()))
	}
	if captures > 0 || jobs > 0 {
		s.log.LogAttrs(ctx, slog.LevelInfo, "records thinned", slog.Int("captures", captures), slog.Int64("jobs", jobs))
	}
}

// copyIsDue tells whether the copy of the records is a day old, or of a time that is still to come: the clock was wrong then.
func (s *Service) copyIsDue() bool {
	age := s.now().Sub(catalogue.RecordsCopied(s.dir))
	return age >= daily || age < -daily
}

func (s *Service) lastChecked() time.Time {
	s.records.mu.Lock()
	defer s.records.mu.Unlock()
	return s.records.checked
}

func (s *Service) found() (problem string, failed error) {
	s.records.mu.Lock()
	defer s.records.mu.Unlock()
	return s.records.problem, s.records.failed
}

// restFrom makes the daily check work a fifth of the time, because nobody waits for it, and somebody may wait for something else.
func restFrom(ctx context.Context) func(time.Duration) {
	return func(worked time.Duration) {
		select {
		case <-time.After(4 * worked):
		case <-ctx.Done():
		}
	}
}

// check checks all records now. Two at once are one after the other.
func (s *Service) check(ctx context.Context, rest func(time.Duration)) {
	s.records.running.Lock()
	defer s.records.running.Unlock()
	problem, err := s.catalogue.Check(ctx, rest)
	if ctx.Err() != nil {
		return
	}
	s.records.mu.Lock()
	s.records.checked, s.records.problem, s.records.failed = s.now(), problem, err
	s.records.mu.Unlock()
	switch {
	case problem != "":
		s.log.LogAttrs(ctx, slog.LevelError, "the catalogue is damaged", slog.String("problem", problem))
	case err != nil:
		s.log.LogAttrs(ctx, slog.LevelError, "the catalogue could not be checked", slog.String("error", err.Error()))
	}
}

// howToRebuild is what to do about a damaged catalogue.
const howToRebuild = "Stop the service and start it once with --rebuild. That puts the damaged catalogue aside, " +
	"takes machines, sources, receipts and cases from the daily copy, and surveys everything anew."

func (s *Service) healthNow() api.CatalogueHealth {
	s.records.mu.Lock()
	defer s.records.mu.Unlock()
	h := api.CatalogueHealth{State: api.CatalogueHealthStateSound, CheckedAt: optionalTime(s.records.checked),
		CopiedAt: optionalTime(catalogue.RecordsCopied(s.dir))}
	switch {
	case s.records.problem != "":
		h.State, h.Problem, h.Next = api.CatalogueHealthStateDamaged, optional(s.records.problem), optional(howToRebuild)
	case s.records.failed != nil:
		h.State, h.Problem = api.CatalogueHealthStateUnchecked, optional("It could not be checked: "+s.records.failed.Error())
	case s.records.checked.IsZero():
		h.State = api.CatalogueHealthStateChecking
	}
	return h
}

// GetCatalogue tells what the last check found.
func (s *Service) GetCatalogue(context.Context, api.GetCatalogueRequestObject) (api.GetCatalogueResponseObject, error) {
	return api.GetCatalogue200JSONResponse(s.healthNow()), nil
}

// CheckCatalogue checks all records now.
func (s *Service) CheckCatalogue(ctx context.Context, _ api.CheckCatalogueRequestObject) (api.CheckCatalogueResponseObject, error) {
	s.check(ctx, nil)
	return api.CheckCatalogue200JSONResponse(s.healthNow()), nil
}

// ExportCatalogue writes everything that is known as JSON lines, as it is read.
func (s *Service) ExportCatalogue(ctx context.Context, _ api.ExportCatalogueRequestObject) (api.ExportCatalogueResponseObject, error) {
	out, in := io.Pipe()
	go func() { in.CloseWithError(s.catalogue.Export(ctx, in)) }()
	return api.ExportCatalogue200ApplicationxNdjsonResponse{Body: out}, nil
}
