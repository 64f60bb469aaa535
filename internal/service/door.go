package service

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"reflect"
	"strings"
	"sync"
	"time"

	"github.com/labstack/echo/v5"

	"humble-rewind/api"
	"humble-rewind/internal/cases"
	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/choosing"
	"humble-rewind/internal/core/principal"
	"humble-rewind/internal/core/problem"
	"humble-rewind/internal/past"
	"humble-rewind/internal/registry"
	"humble-rewind/internal/restore"
)

// This is the one door: whoever comes by the console, the API or a file manager is told apart here, is let through to what he has a right to,
// and reads through a view of his scope. The rest of the package has no other way to the records.

// asker is who asks, and by which console session if by any.
type asker struct {
	principal.Principal
	session []byte // its hash; nil with a token
}

type askerKey struct{}

// asking returns who asks. Every handler behind the door has one.
func asking(ctx context.Context) asker {
	who, _ := ctx.Value(askerKey{}).(asker)
	return who
}

// technician returns the name of who asks.
func technician(ctx context.Context) string { return asking(ctx).Name }

// work is what the service does for somebody, as far as he may know of it.
type work struct {
	view     catalogue.View
	registry registry.Registry
	past     *past.Reader
	adviser  *choosing.Adviser
	cases    *cases.Book
	restorer *restore.Restorer
}

// of returns the work for whoever has a view.
func (w *work) of(view catalogue.View) work {
	return work{view: view, registry: registry.Registry{Site: w.registry.Site, View: view}, past: w.past.For(view), adviser: w.adviser.For(view),
		cases: w.cases.For(view), restorer: w.restorer.For(view)}
}

// asked returns the work for who asks.
func (s *Service) asked(ctx context.Context) work {
	return s.whole.of(s.catalogue.View(asking(ctx).Principal))
}

var errSignedOut = &refusal{Status: http.StatusUnauthorized, Title: "Not signed in",
	Detail: "The request carried no token or session that is known.",
	Next: "Give the token of the service's data folder: HUMBLE_REWIND_TOKEN or --token-file for the command line, the sign-in page " +
		"for the console."}

// does says what each right is a right to.
var does = map[principal.Right]string{principal.Find: "look for copies", principal.Open: "look into contents", principal.BringBack: "bring back",
	principal.Survey: "survey", principal.Arrange: "change what machines and sources there are", principal.Keep: "look after the records"}

// notAllowed says that somebody has no right to something.
func notAllowed(who principal.Principal, what string) error {
	return &refusal{Status: http.StatusForbidden, Title: "Not allowed", Detail: fmt.Sprintf("%s has no right to %s.", who.Name, what),
		Next: "Ask who gives out the rights here.", code: problem.NotAllowed}
}

// allow refuses what somebody has no right to, and what is about the whole site of who knows only a part of it.
func allow(who principal.Principal, o api.Operation) error {
	for _, name := range o.Rights {
		right, err := principal.ParseRight(name)
		if err != nil {
			return err
		}
		if !who.May(right) {
			return notAllowed(who, does[right])
		}
	}
	if o.Whole && !who.Scope.Whole() {
		return notAllowed(who, "what is about the whole site")
	}
	return nil
}

// mayDo lets an operation of the API be done by those who may. One that names no right is done by nobody.
func mayDo(next api.StrictHandlerFunc, id string) api.StrictHandlerFunc {
	operation, known := api.Operations()[id]
	return func(c *echo.Context, request any) (any, error) {
		if !known {
			return nil, fmt.Errorf("operation %s names no right", id)
		}
		if !operation.Open {
			if err := allow(asking(c.Request().Context()).Principal, operation); err != nil {
				return nil, err
			}
		}
		return next(c, request)
	}
}

// come lets nobody through whom who does not know, nor longer than he is known with the same rights and the same scope.
func (s *Service) come(next echo.HandlerFunc, whose func(*http.Request) (asker, error)) echo.HandlerFunc {
	return func(c *echo.Context) error {
		r := c.Request()
		who, err := whose(r)
		if errors.Is(err, catalogue.ErrNotFound) {
			return errSignedOut
		}
		if err != nil {
			return err
		}
		familiar(r.Context())
		ctx, stop := s.while(context.WithValue(r.Context(), askerKey{}, who), who, func() (asker, error) { return whose(r) })
		defer stop()
		c.SetRequest(withRequest(r.WithContext(ctx)))
		return next(c)
	}
}

// while returns a context that ends once who asks is no longer as he was: signed out, or with other rights or another scope. What had been
// begun for him then ends too. Call stop at the end.
func (s *Service) while(ctx context.Context, who asker, now func() (asker, error)) (_ context.Context, stop func()) {
	ctx, cancel := context.WithCancel(ctx)
	answer := answerOf(ctx)
	var mu sync.Mutex
	var again *time.Timer
	ended := false
	look := func() {
		is, err := now()
		mu.Lock()
		defer mu.Unlock()
		switch {
		case ended:
		case errors.Is(err, catalogue.ErrNotFound) || err == nil && !reflect.DeepEqual(is.Principal, who.Principal):
			answer.cut()
			cancel()
		default: // what cannot be read now is read the next time
			again.Reset(s.lookAgain)
		}
	}
	mu.Lock()
	again = time.AfterFunc(s.lookAgain, look)
	mu.Unlock()
	return ctx, func() {
		mu.Lock()
		ended = true
		again.Stop()
		mu.Unlock()
		cancel()
	}
}

// requireTechnician is the door of the console and the API. Signing in is how to get through it.
func (s *Service) requireTechnician(next echo.HandlerFunc) echo.HandlerFunc {
	through := s.come(next, s.whose)
	return func(c *echo.Context) error {
		r := c.Request()
		if r.Method == http.MethodPost && r.URL.Path == "/api/v1/session" {
			return next(c)
		}
		return through(c)
	}
}

// only lets those through who may do an operation that is none of the API's.
func only(o api.Operation, next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		if err := allow(asking(c.Request().Context()).Principal, o); err != nil {
			return err
		}
		return next(c)
	}
}

// whose tells who asks by a token, or by a session of the console.
func (s *Service) whose(r *http.Request) (who asker, err error) {
	if scheme, token, ok := strings.Cut(r.Header.Get("Authorization"), " "); ok && strings.EqualFold(scheme, "bearer") {
		who.Principal, err = s.catalogue.Technicians.ByToken(r.Context(), secret(strings.TrimSpace(token)).hash())
		return who, err
	}
	cookie, err := r.Cookie(cookieName)
	key := r.Header.Get(keyHeader)
	if key == "" && r.Method == http.MethodGet {
		key = r.URL.Query().Get("key")
	}
	if err != nil || key == "" {
		return who, catalogue.ErrNotFound
	}
	who.session = sessionHash(secret(cookie.Value), secret(key))
	who.Principal, err = s.catalogue.Technicians.BySession(r.Context(), who.session, s.now(), sessionLifetime)
	return who, err
}

// whoseMoment tells who asks for a moment: by a token, as a bearer or as the password of any name.
func (s *Service) whoseMoment(r *http.Request) (who asker, err error) {
	token, bearer := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer ")
	if _, password, basic := r.BasicAuth(); basic {
		token, bearer = password, true
	}
	if !bearer {
		return who, catalogue.ErrNotFound
	}
	who.Principal, err = s.catalogue.Technicians.ByToken(r.Context(), secret(strings.TrimSpace(token)).hash())
	return who, err
}
