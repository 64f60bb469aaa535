package service

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"net/http"

	"github.com/labstack/echo/v5"
	"github.com/labstack/echo/v5/middleware"

	"humble-rewind/api"
	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/core/problem"
	"humble-rewind/internal/jobs"
	"humble-rewind/internal/past"
	"humble-rewind/internal/restore/steps"
	"humble-rewind/internal/say"
)

// refusal is an error as it is answered: RFC 9457 with what to do next.
type refusal struct {
	Status              int
	Title, Detail, Next string
	Reasons             []string
	do                  []problem.Step // what Next says, as codes
	shown               []string       // by the other side
	code                problem.Code   // "" where it is none of the vocabulary
}

func (p *refusal) Error() string { return p.Title + ": " + p.Detail }

func badRequest(detail, next string) *refusal {
	return &refusal{Status: http.StatusBadRequest, Title: "The request makes no sense", Detail: detail, Next: next}
}

// asRefusal words an error of the work, and says which problem it is.
func asRefusal(err error) *refusal {
	p := worded(err)
	if p.code == "" {
		p.code, _ = say.Code(err)
	}
	return p
}

func worded(err error) *refusal {
	var (
		p       *refusal
		input   *problem.Input
		refused *steps.RefusedError
		coder   echo.HTTPStatusCoder
	)
	switch {
	case errors.As(err, &p):
		return p
	case errors.As(err, &refused):
		return &refusal{
			Status:  http.StatusConflict,
			Title:   "The receipt cannot be undone",
			Detail:  "Nothing was changed.",
			Reasons: refused.Reasons,
			Next:    "Put right what is named, or bring the files back by hand: the receipt says where everything went.",
		}
	case errors.As(err, &input):
		status := http.StatusUnprocessableEntity
		switch {
		case errors.Is(err, catalogue.ErrNotFound):
			status = http.StatusNotFound
		case errors.Is(err, catalogue.ErrTaken):
			status = http.StatusConflict
		}
		return &refusal{Status: status, Title: "Could not " + input.What, Detail: say.Error(input.Err), Next: input.Next, do: input.Do, shown: input.Shown}
	case errors.Is(err, past.ErrTooMuch):
		return &refusal{Status: http.StatusUnprocessableEntity, Title: "The folder is too large to be put together at once",
			Detail: err.Error() + ".", Next: "Name a folder in it, one after the other; to look at it, ask for pages of it with a limit."}
	case errors.Is(err, catalogue.ErrNotFound):
		return &refusal{
			Status: http.StatusNotFound,
			Title:  "Not known",
			Detail: err.Error(),
			Next:   "Check the name or number; find and the list commands show those that are known.",
		}
	case errors.Is(err, catalogue.ErrCursor):
		return badRequest(err.Error(), "Begin again without a cursor, and keep the order the same from page to page.")
	case errors.Is(err, catalogue.ErrChangedMeanwhile):
		return &refusal{
			Status: http.StatusConflict,
			Title:  "The case was not changed",
			Detail: err.Error(),
			Next:   "Look at how it stands now, and change it again if that is still wanted.",
		}
	case errors.Is(err, catalogue.ErrTaken), errors.Is(err, jobs.ErrEnded):
		return &refusal{
			Status: http.StatusConflict,
			Title:  "Not possible any more",
			Detail: err.Error(),
			Next:   "Look at how it stands now.",
		}
	case errors.As(err, &coder) && coder.StatusCode() < 500:
		return fromStatus(coder.StatusCode(), err)
	}
	if _, ok := catalogue.Problem(err); ok {
		return &refusal{Status: http.StatusInternalServerError, Title: "The service failed", Detail: say.Error(err) + ".",
			Next: "Try again once that is put right; the service's log says more."}
	}
	if panicked, ok := errors.AsType[*middleware.PanicStackError](err); ok { // the log has where
		err = fmt.Errorf("a fault in the program (%w)", panicked.Err)
	}
	return &refusal{Status: http.StatusInternalServerError, Title: "The service failed", Detail: say.Error(err) + ".",
		Next: "Try again; if it fails again, look into the service's log."}
}

func fromStatus(status int, err error) *refusal {
	switch status {
	case http.StatusNotFound:
		return &refusal{
			Status: status,
			Title:  "Not known",
			Detail: "There is nothing at this address.",
			Next:   "See api/openapi.yaml for the addresses there are.",
		}
	case http.StatusRequestEntityTooLarge:
		return &refusal{
			Status: status,
			Title:  "The request is too large",
			Detail: "Its body has more than 4 MiB.",
			Next:   "Send it in several parts.",
		}
	}
	detail := err.Error()
	if he, ok := errors.AsType[*echo.HTTPError](err); ok {
		detail = he.Message
		if cause := he.Unwrap(); cause != nil {
			detail += ": " + cause.Error()
		}
	}
	return &refusal{
		Status: status,
		Title:  http.StatusText(status),
		Detail: detail,
		Next:   "See api/openapi.yaml for what the request may hold.",
	}
}

// writeProblem is where every error becomes an answer.
func (s *Service) writeProblem(c *echo.Context, err error) {
	if r, _ := echo.UnwrapResponse(c.Response()); r != nil && r.Committed {
		return
	}
	ctx := c.Request().Context()
	if errors.Is(err, context.Canceled) && ctx.Err() != nil {
		return // nobody listens any more
	}
	p := asRefusal(err)
	if p.Status >= 500 {
		s.log.LogAttrs(ctx, slog.LevelError, "request failed", slog.String("path", c.Request().URL.Path), slog.String("error", err.Error()))
	}
	answer := api.Problem{Title: p.Title, Status: p.Status, Detail: optional(p.Detail), Next: optional(p.Next)}
	answer.Code = optional(string(p.code))
	if p.do != nil {
		steps := make([]api.Step, len(p.do))
		for i, s := range p.do {
			steps[i] = api.Step{Do: string(s.Do), About: optional(s.About)}
		}
		answer.Steps = &steps
	}
	if p.shown != nil {
		answer.Shown = &p.shown
	}
	if p.Reasons != nil {
		answer.Reasons = &p.Reasons
	}
	w := c.Response()
	w.Header().Set("Content-Type", "application/problem+json")
	w.Header().Set("Cache-Control", "no-store")
	w.WriteHeader(p.Status)
	_ = json.NewEncoder(w).Encode(answer) // the client has gone; nothing is left to tell it
}

func optional[T comparable](v T) *T {
	var zero T
	if v == zero {
		return nil
	}
	return &v
}
