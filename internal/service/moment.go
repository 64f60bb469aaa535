package service

import (
	"context"
	"errors"
	"net/http"
	"strings"

	"github.com/labstack/echo/v5"

	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/moments"
)

// momentPath is where folders as of a moment are opened with any file manager, by WebDAV (RFC 4918, class 1), to be read alone:
// /as-of/MOMENT/MACHINE/path. A moment is written as people do: now, 2026-03-04, 2026-03-04T17:00, "yesterday 17:00".
const momentPath = "/as-of"

// serveMoments answers for a technician who signs in with a token as password, whatever the name.
func (s *Service) serveMoments(c *echo.Context) error {
	w, r := c.Response(), c.Request()
	who, err := s.whoseMoment(r)
	if errors.Is(err, catalogue.ErrNotFound) {
		w.Header().Set("WWW-Authenticate", `Basic realm="Humble Rewind: a technician's token is the password", charset="UTF-8"`)
		return errSignedOut
	}
	if err != nil {
		return err
	}
	familiar(r.Context())
	ctx := context.WithValue(r.Context(), signedInKey{}, who)
	view := moments.View{Catalogue: s.catalogue, Past: s.past, Contents: s.contents, Now: s.now}
	switch err := view.Serve(w, r.WithContext(ctx), momentPath); {
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

// whoseMoment tells who asks: by a token, as a bearer or as the password of any name.
func (s *Service) whoseMoment(r *http.Request) (who signedIn, err error) {
	token, bearer := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer ")
	if _, password, basic := r.BasicAuth(); basic {
		token, bearer = password, true
	}
	if !bearer {
		return who, catalogue.ErrNotFound
	}
	who.name, err = s.catalogue.Technicians.ByToken(r.Context(), secret(strings.TrimSpace(token)).hash())
	return who, err
}
