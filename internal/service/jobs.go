package service

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"

	"humble-rewind/api"
	"humble-rewind/internal/catalogue"
)

const defaultPage = 50

// page reads a limit and a cursor that is the id of the last entry of the page before.
func page(letter string, limit *int, cursor *string) (int, int64, error) {
	n := value(limit)
	if n == 0 {
		n = defaultPage
	}
	if n < 0 || n > 1000 {
		return 0, 0, badRequest("The limit must be from 1 to 1000.", "Leave it out for the default.")
	}
	if value(cursor) == "" {
		return n, 0, nil
	}
	before, err := number[int64](letter, *cursor)
	if err != nil {
		return 0, 0, catalogue.ErrCursor
	}
	return n, before, nil
}

// ListJobs lists jobs, newest first.
func (s *Service) ListJobs(ctx context.Context, request api.ListJobsRequestObject) (api.ListJobsResponseObject, error) {
	limit, before, err := page("j", request.Params.Limit, request.Params.Cursor)
	if err != nil {
		return nil, err
	}
	kind := string(value(request.Params.Kind))
	if kind != "" && !request.Params.Kind.Valid() {
		return nil, badRequest(fmt.Sprintf("%q is not a kind of job.", kind), "Choose survey, bring-back or undo.")
	}
	jobs, err := s.asked(ctx).view.Jobs.Before(ctx, kind, before, limit+1)
	if err != nil {
		return nil, err
	}
	answer := api.ListJobs200JSONResponse{Jobs: []api.Job{}}
	for n, j := range jobs {
		if n == limit {
			answer.Next = optional(showID("j", jobs[n-1].ID))
			break
		}
		if !j.State.Ended() {
			if now, err := s.jobs.Job(ctx, j.ID); err == nil {
				j = now // fresher than what is kept
			}
		}
		answer.Jobs = append(answer.Jobs, toJob(j))
	}
	return answer, nil
}

// jobOf returns a job as it stands, to whoever may know of it.
func (s *Service) jobOf(ctx context.Context, id string) (catalogue.Job, error) {
	n, err := number[int64]("j", id)
	if err != nil {
		return catalogue.Job{}, err
	}
	if j, err := s.asked(ctx).view.Jobs.ByID(ctx, n); err != nil {
		return j, err
	}
	return s.jobs.Job(ctx, n)
}

// GetJob shows one job as it stands.
func (s *Service) GetJob(ctx context.Context, request api.GetJobRequestObject) (api.GetJobResponseObject, error) {
	j, err := s.jobOf(ctx, request.Id)
	if err != nil {
		return nil, err
	}
	return api.GetJob200JSONResponse(toJob(j)), nil
}

// CancelJob asks a job to stop.
func (s *Service) CancelJob(ctx context.Context, request api.CancelJobRequestObject) (api.CancelJobResponseObject, error) {
	j, err := s.jobOf(ctx, request.Id)
	if err != nil {
		return nil, err
	}
	if right := s.jobs.Right(j.Kind); !asking(ctx).May(right) {
		return nil, notAllowed(asking(ctx).Principal, does[right])
	}
	j, err = s.jobs.Cancel(ctx, j.ID)
	if err != nil {
		return nil, err
	}
	return api.CancelJob202JSONResponse(toJob(j)), nil
}

// FollowJob streams a job's progress.
func (s *Service) FollowJob(ctx context.Context, request api.FollowJobRequestObject) (api.FollowJobResponseObject, error) {
	j, err := s.jobOf(ctx, request.Id)
	if err != nil {
		return nil, err
	}
	return events{ctx, s, j.ID}, nil
}

// events answers with a stream of events "job", whose data is the job.
type events struct {
	ctx context.Context
	s   *Service
	job int64
}

// VisitFollowJobResponse streams until the job has ended or the client has gone.
func (e events) VisitFollowJobResponse(w http.ResponseWriter) error {
	stream := beginEvents(w)
	return e.s.jobs.Follow(e.ctx, e.job, func(j catalogue.Job) error {
		data, err := json.Marshal(toJob(j))
		if err != nil {
			return err
		}
		return stream.send("job", string(data))
	})
}
