package service

import (
	"context"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"humble-rewind/api"
	"humble-rewind/internal/cases"
	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/core/advice"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/say"
)

func (s *Service) caseOf(ctx context.Context, id string) (catalogue.Case, error) {
	n, err := number[int64]("k", id)
	if err != nil {
		return catalogue.Case{}, err
	}
	return s.asked(ctx).cases.ByID(ctx, n)
}

// zonedCase reads a case, and the zone in which times are to be said of it.
func (s *Service) zonedCase(ctx context.Context, id string, zone *string) (catalogue.Case, *time.Location, error) {
	z, err := zoneOf(zone)
	if err != nil {
		return catalogue.Case{}, nil, err
	}
	k, err := s.caseOf(ctx, id)
	return k, z, err
}

// ListCases lists cases, the one changed last first. A cursor is how many went before, as cases change their order.
func (s *Service) ListCases(ctx context.Context, request api.ListCasesRequestObject) (api.ListCasesResponseObject, error) {
	q := request.Params
	limit, _, err := page("k", q.Limit, nil)
	if err != nil {
		return nil, err
	}
	if q.State != nil && !q.State.Valid() {
		return nil, badRequest(fmt.Sprintf("%q is not a state of a case.", *q.State), "Choose open, waiting or done.")
	}
	skip := 0
	if q.Cursor != nil && *q.Cursor != "" {
		if skip, err = strconv.Atoi(*q.Cursor); err != nil || skip < 0 {
			return nil, catalogue.ErrCursor
		}
	}
	found, err := s.asked(ctx).view.Cases.Matching(ctx, catalogue.CaseState(value(q.State)), value(q.Words), skip, limit+1)
	if err != nil {
		return nil, err
	}
	a := api.ListCases200JSONResponse{Cases: []api.Case{}}
	if len(found) > limit {
		found = found[:limit]
		a.Next = optional(strconv.Itoa(skip + limit))
	}
	for _, k := range found {
		a.Cases = append(a.Cases, toCase(k))
	}
	return a, nil
}

func toCase(k catalogue.Case) api.Case {
	a := api.Case{
		Id:        showID("k", k.ID),
		State:     api.CaseState(k.State),
		Version:   k.Version,
		OpenedAt:  k.OpenedAt.UTC(),
		OpenedBy:  k.OpenedBy,
		ChangedAt: k.ChangedAt.UTC(),
		Person:    k.Person,
		Machine:   k.Place.Machine,
		Words:     k.Words,
		Loss:      api.Loss(k.Loss),
		Happened:  k.Happened,
		GoodAt:    optionalTime(k.Good),
		NoticedAt: optionalTime(k.Noticed),
		Hints:     toHints(k.Hints),
		Entries:   []api.CaseEntry{},
		Wrong:     []string{},
		Receipts:  []string{},
	}
	if k.Place.Path != "" {
		p := toPlace(k.Place)
		a.Place = &p
	}
	for _, e := range k.Entries {
		id, _, _ := strings.Cut(e.Ref, " ")
		a.Entries = append(
			a.Entries,
			api.CaseEntry{N: e.N, At: e.At.UTC(), By: e.By, Kind: api.CaseEntryKind(e.Kind), Text: optional(e.Text), Ref: optional(id)},
		)
	}
	for _, id := range cases.Wrong(k) {
		a.Wrong = append(a.Wrong, id)
	}
	slices.Sort(a.Wrong)
	for _, id := range cases.Receipts(k) {
		a.Receipts = append(a.Receipts, showID("r", id))
	}
	return a
}

// OpenCase opens a case.
func (s *Service) OpenCase(ctx context.Context, request api.OpenCaseRequestObject) (api.OpenCaseResponseObject, error) {
	b := request.Body
	k := catalogue.Case{
		Person:   value(b.Person),
		Words:    value(b.Words),
		Loss:     advice.Loss(b.Loss),
		Happened: value(b.Happened),
		Good:     value(b.GoodAt),
		Noticed:  value(b.NoticedAt),
		Hints:    fromHints(b.Hints),
	}
	k.Place.Machine = value(b.Machine)
	if b.Place != nil {
		p, _, err := fromDestination(*b.Place)
		if err != nil {
			return nil, err
		}
		k.Place = p
	}
	k, err := s.asked(ctx).cases.Open(ctx, k, technician(ctx))
	if err != nil {
		return nil, err
	}
	return api.OpenCase201JSONResponse(toCase(k)), nil
}

// GetCase shows one case.
func (s *Service) GetCase(ctx context.Context, request api.GetCaseRequestObject) (api.GetCaseResponseObject, error) {
	k, err := s.caseOf(ctx, request.Id)
	if err != nil {
		return nil, err
	}
	a := toCase(k)
	if k.Place.Path == "" {
		found, err := s.asked(ctx).cases.Candidates(ctx, k)
		if err != nil {
			return nil, err
		}
		places := make([]api.Place, len(found))
		for i, p := range found {
			places[i] = toPlace(p)
		}
		a.Candidates = &places
	}
	return api.GetCase200JSONResponse(a), nil
}

// ChangeCase changes what a case says.
func (s *Service) ChangeCase(ctx context.Context, request api.ChangeCaseRequestObject) (api.ChangeCaseResponseObject, error) {
	id, err := number[int64]("k", request.Id)
	if err != nil {
		return nil, err
	}
	b := request.Body
	c := cases.Changes{
		State:    (*catalogue.CaseState)(b.State),
		Person:   b.Person,
		Words:    b.Words,
		Loss:     (*advice.Loss)(b.Loss),
		Happened: b.Happened,
		Good:     b.GoodAt,
		Noticed:  b.NoticedAt,
	}
	if b.Place != nil {
		p, _, err := fromDestination(*b.Place)
		if err != nil {
			return nil, err
		}
		c.Place = &p
	}
	if b.Hints != nil {
		hints := fromHints(b.Hints)
		c.Hints = &hints
	}
	for _, what := range value(b.Forget) {
		switch what {
		case api.CaseChangesForgetGoodAt:
			c.Good = &time.Time{}
		case api.CaseChangesForgetNoticedAt:
			c.Noticed = &time.Time{}
		}
	}
	k, err := s.asked(ctx).cases.Change(ctx, id, value(b.Version), technician(ctx), c)
	if err != nil {
		return nil, err
	}
	return api.ChangeCase200JSONResponse(toCase(k)), nil
}

// AddToCase adds what was done.
func (s *Service) AddToCase(ctx context.Context, request api.AddToCaseRequestObject) (api.AddToCaseResponseObject, error) {
	id, err := number[int64]("k", request.Id)
	if err != nil {
		return nil, err
	}
	k, err := s.asked(ctx).cases.Add(
		ctx,
		id,
		technician(ctx),
		catalogue.EntryKind(request.Body.Kind),
		value(request.Body.Text),
		value(request.Body.Ref),
	)
	if err != nil {
		return nil, err
	}
	return api.AddToCase201JSONResponse(toCase(k)), nil
}

// AdviseCase says which copy is the right one for a case.
func (s *Service) AdviseCase(ctx context.Context, request api.AdviseCaseRequestObject) (api.AdviseCaseResponseObject, error) {
	k, zone, err := s.zonedCase(ctx, request.Id, request.Params.Zone)
	if err != nil {
		return nil, err
	}
	answer, err := s.asked(ctx).cases.Advise(ctx, k, zone)
	if err != nil {
		return nil, err
	}
	a, err := s.toAdvice(ctx, answer)
	return api.AdviseCase200JSONResponse(a), err
}

// FirstAid says what to do first.
func (s *Service) FirstAid(ctx context.Context, request api.FirstAidRequestObject) (api.FirstAidResponseObject, error) {
	k, zone, err := s.zonedCase(ctx, request.Id, request.Params.Zone)
	if err != nil {
		return nil, err
	}
	aid, err := s.asked(ctx).cases.FirstAid(ctx, k)
	if err != nil {
		return nil, err
	}
	d, speak := aid.Drive, say.Speaker{Now: s.now(), Zone: zone}
	a := api.FirstAid200JSONResponse{
		Steps: []api.FirstAidStep{},
		Drive: api.DriveFacts{Mount: optional(place.Readable(d.Mount)), Device: optional(d.Node), FileSystem: optional(d.FileSystem),
			Medium: optional(
				api.DriveFactsMedium(d.Medium),
			), Discard: optional(api.DriveFactsDiscard(d.Discard)), TrimLast: optionalTime(d.TrimLast), TrimNext: optionalTime(d.TrimNext),
			ReadOnly: optional(d.ReadOnly), NewestWrite: optionalTime(d.Newest), NewestPath: optional(d.NewestPath), Notes: speak.Remarks(d.Notes)},
	}
	if d.Free >= 0 {
		a.Drive.Free = &d.Free
	}
	for _, step := range aid.Steps {
		shown := api.FirstAidStep{Id: step.ID, Dont: step.Dont, Urgent: step.Urgent, Text: speak.Remark(step.Do), Why: speak.Joined(step.Why)}
		if e, done := aid.Done[step.ID]; done {
			shown.Done, shown.DoneBy, shown.DoneAt = true, optional(e.By), optionalTime(e.At)
		}
		a.Steps = append(a.Steps, shown)
	}
	return a, nil
}

// ReportCase writes what a case came to.
func (s *Service) ReportCase(ctx context.Context, request api.ReportCaseRequestObject) (api.ReportCaseResponseObject, error) {
	k, zone, err := s.zonedCase(ctx, request.Id, request.Params.Zone)
	if err != nil {
		return nil, err
	}
	reader, format := cases.Reader(value(request.Params.Reader)), value(request.Params.Format)
	switch {
	case request.Params.Reader != nil && !request.Params.Reader.Valid():
		return nil, badRequest(fmt.Sprintf("%q is not a reader of reports.", reader), "Choose user or file.")
	case request.Params.Format != nil && !format.Valid():
		return nil, badRequest(fmt.Sprintf("%q is not a format of reports.", format), "Choose markdown or html.")
	case reader == "":
		reader = cases.ForUser
	}
	r, err := s.asked(ctx).cases.Report(ctx, k, reader, zone)
	return report{r, format == api.ReportCaseParamsFormatHtml}, err
}

// report answers with a report. The page holds its own style and nothing else.
type report struct {
	cases.Report
	html bool
}

// VisitReportCaseResponse writes it.
func (r report) VisitReportCaseResponse(w http.ResponseWriter) error {
	if r.html {
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		w.Header().Set("Content-Security-Policy", "default-src 'none'; style-src 'unsafe-inline'; frame-ancestors 'none'; sandbox")
		return r.HTML(w)
	}
	w.Header().Set("Content-Type", "text/markdown; charset=utf-8")
	return r.Markdown(w)
}
