package service

import (
	"errors"
	"net/http"

	"github.com/labstack/echo/v5"

	"humble-rewind/api"
	"humble-rewind/internal/core/principal"
	"humble-rewind/internal/moments"
)

// momentPath is where folders as of a moment are opened with any file manager, by WebDAV (RFC 4918, class 1), to be read alone:
// /as-of/MOMENT/MACHINE/path. A moment is written as people do: now, 2026-03-04, 2026-03-04T17:00, "yesterday 17:00".
const momentPath = "/as-of"

// moments lets technicians through who sign in with a token as password, whatever the name.
func (s *Service) moments() echo.HandlerFunc {
	through := s.come(only(api.Operation{Rights: []string{string(principal.Find), string(principal.Open)}}, s.serveMoments), s.whoseMoment)
	return func(c *echo.Context) error {
		err := through(c)
		if errors.Is(err, errSignedOut) {
			c.Response().Header().Set("WWW-Authenticate", `Basic realm="Humble Rewind: a technician's token is the password", charset="UTF-8"`)
		}
		return err
	}
}

func (s *Service) serveMoments(c *echo.Context) error {
	w, r := c.Response(), c.Request()
	view := moments.View{Past: s.asked(r.Context()).past, Contents: s.contents, Now: s.now}
	switch err := view.Serve(w, r, momentPath); {
	case errors.Is(err, moments.ErrReadOnly):
		return &refusal{Status: http.StatusMethodNotAllowed, Title: "A moment can only be read",
			Detail: "It shows what there was, which stays as it was.", Next: "Bring back what is wanted."}
	case errors.Is(err, moments.ErrTooMany):
		return &refusal{Status: http.StatusInsufficientStorage, Title: "The folder is too large to be listed here", Detail: err.Error() + ".",
			Next: "Name a file in it, or look at it in the console, which shows it page by page."}
	default:
		return err
	}
}
