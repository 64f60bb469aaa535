package service

import (
	"compress/gzip"
	"context"
	"crypto/rand"
	"crypto/sha256"
	"errors"
	"fmt"
	"io/fs"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"github.com/labstack/echo/v5"
	"github.com/labstack/echo/v5/middleware"

	"humble-rewind/api"
	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/core/principal"
)

// TokenFile is the name of the first technician's token in the data folder.
const TokenFile = "technician.token"

const (
	firstName       = "technician"
	cookieName      = "humble_rewind"
	sessionLifetime = 12 * time.Hour
)

// secret is a token or a session key; it does not show itself in logs.
type secret string

func (secret) String() string { return "(secret)" }

func newSecret() secret { return secret(rand.Text() + rand.Text()) }

// hash is what is kept of a secret. The secrets are random, so that a plain digest cannot be turned back.
func (s secret) hash() []byte {
	h := sha256.Sum256([]byte(s))
	return h[:]
}

// ownedAlone refuses what belongs to somebody else or is open to others: who can change it could act as any technician.
func ownedAlone(path, what, mend string) error {
	info, err := os.Stat(path)
	if err != nil {
		return fmt.Errorf("open %s: %w", what, err)
	}
	if st, ok := info.Sys().(*syscall.Stat_t); ok && int(st.Uid) != os.Geteuid() {
		return fmt.Errorf("open %s: %s belongs to user %d, and the service runs as user %d. Next: choose another one, or give it to the "+
			"service with chown", what, path, st.Uid, os.Geteuid())
	}
	if info.Mode().Perm()&0o077 != 0 {
		return fmt.Errorf("open %s: %s is open to others (mode %04o). Next: %s %s", what, path, info.Mode().Perm(), mend, path)
	}
	return nil
}

// firstTechnician reads the token file, or makes a token and writes it, readable by the owner alone.
func (s *Service) firstTechnician(ctx context.Context, dir string) error {
	path := filepath.Join(dir, TokenFile)
	if _, err := os.Lstat(path); err == nil {
		if err := ownedAlone(path, "the technician's token", "chmod 600"); err != nil {
			return err
		}
	}
	content, err := os.ReadFile(path)
	token := secret(strings.TrimSpace(string(content)))
	if errors.Is(err, fs.ErrNotExist) || err == nil && token == "" {
		token = newSecret()
		err = os.WriteFile(path, []byte(string(token)+"\n"), 0o600)
	}
	if err != nil {
		return fmt.Errorf("the technician's token: %w", err)
	}
	return s.catalogue.Technicians.Set(ctx, firstName, token.hash())
}

// Allow lets somebody in with some rights, to whom of the site some machines are known, or all of it where none is named. It returns his token,
// which is kept nowhere else. Of somebody who is in already it changes what he may; his token is then another.
func (s *Service) Allow(ctx context.Context, name string, machines []string, rights ...principal.Right) (token string, err error) {
	scope := principal.Everything()
	if machines != nil {
		ids := make([]copies.MachineID, len(machines))
		for i, machine := range machines {
			m, err := s.whole.view.Machines.Named(ctx, machine)
			if err != nil {
				return "", err
			}
			ids[i] = m.ID
		}
		scope = principal.Of(ids...)
	}
	made := newSecret()
	if err := s.catalogue.Technicians.Admit(ctx, name, made.hash(), scope, rights...); err != nil {
		return "", err
	}
	return string(made), nil
}

// A browser sends a host's cookies to every port of it, so the cookie alone is of no use: with it goes a key that only the
// console's own pages hold. It is in a header or, of pictures and streams, to which a page can give none, in the query.
const keyHeader = "X-Console-Key"

// sessionHash is what is kept of a session.
func sessionHash(cookie, key secret) []byte { return (cookie + " " + key).hash() }

// maxSignIn is the largest body of a request to sign in, in bytes.
const maxSignIn = 4 << 10

// smallSignIn bounds the one body that is read of somebody unknown.
func smallSignIn(next echo.HandlerFunc) echo.HandlerFunc {
	small := middleware.BodyLimit(maxSignIn)(next)
	return func(c *echo.Context) error {
		if technician(c.Request().Context()) == "" {
			return small(c)
		}
		return next(c)
	}
}

// compressed sends answers compressed where they are long enough; contents and streams are sent as they are.
func compressed(next echo.HandlerFunc) echo.HandlerFunc {
	compress := middleware.GzipWithConfig(middleware.GzipConfig{Level: gzip.BestSpeed, MinLength: 1024, Skipper: func(c *echo.Context) bool {
		path := c.Request().URL.Path
		return strings.HasSuffix(path, "/events") || strings.HasSuffix(path, "/content") || strings.HasSuffix(path, "/picture")
	}})
	return compress(next)
}

// sameOrigin refuses what another site's page would have a signed-in browser do.
func (s *Service) sameOrigin(next echo.HandlerFunc) echo.HandlerFunc {
	protection := http.NewCrossOriginProtection()
	return func(c *echo.Context) error {
		if err := protection.Check(c.Request()); err != nil {
			return &refusal{Status: http.StatusForbidden, Title: "Request from another site",
				Detail: "A page of another site asked for this in your name.", Next: "Open the console by its own address and try again " +
					"there."}
		}
		return next(c)
	}
}

func secureHeaders(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		h := c.Response().Header()
		h.Set("X-Content-Type-Options", "nosniff")
		h.Set("Referrer-Policy", "no-referrer")
		h.Set("Cross-Origin-Resource-Policy", "same-origin")
		h.Set("Content-Security-Policy", "default-src 'none'; frame-ancestors 'none'; sandbox")
		return next(c)
	}
}

// noStore keeps records out of browsers' caches; contents set their own rule.
func noStore(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		c.Response().Header().Set("Cache-Control", "no-store")
		return next(c)
	}
}

// GetSession says who is signed in.
func (s *Service) GetSession(ctx context.Context, _ api.GetSessionRequestObject) (api.GetSessionResponseObject, error) {
	return api.GetSession200JSONResponse(toSession(asking(ctx).Principal)), nil
}

func toSession(who principal.Principal) api.Session {
	a := api.Session{Technician: who.Name, Rights: []string{}, Whole: who.Scope.Whole()}
	for _, right := range who.Rights() {
		a.Rights = append(a.Rights, string(right))
	}
	return a
}

// SignIn begins a console session.
func (s *Service) SignIn(ctx context.Context, request api.SignInRequestObject) (api.SignInResponseObject, error) {
	who, err := s.catalogue.Technicians.ByToken(ctx, secret(strings.TrimSpace(request.Body.Token)).hash())
	if errors.Is(err, catalogue.ErrNotFound) {
		return nil, &refusal{Status: http.StatusUnauthorized, Title: "Not signed in", Detail: "That is not the token of a technician.",
			Next: "Copy the whole line of " + TokenFile + " in the service's data folder."}
	}
	if err != nil {
		return nil, err
	}
	held, key := newSecret(), newSecret()
	now := s.now()
	if err := s.catalogue.Technicians.AddSession(ctx, who.Name, sessionHash(held, key), now, now.Add(sessionLifetime)); err != nil {
		return nil, err
	}
	cookie := sessionCookie(string(held), int(sessionLifetime.Seconds()))
	session := toSession(who)
	session.Key = optional(string(key))
	return api.SignIn200JSONResponse{Body: session, Headers: api.SignIn200ResponseHeaders{SetCookie: &cookie}}, nil
}

// sessionCookie cannot be Secure, since the service is reached over plain HTTP on loopback; a proxy that adds TLS can
// add that.
func sessionCookie(value string, maxAge int) string {
	c := http.Cookie{Name: cookieName, Value: value, Path: "/", MaxAge: maxAge, HttpOnly: true, SameSite: http.SameSiteStrictMode}
	return c.String()
}

// SignOut ends the console session that asked for it.
func (s *Service) SignOut(ctx context.Context, _ api.SignOutRequestObject) (api.SignOutResponseObject, error) {
	if who := asking(ctx); who.session != nil {
		if err := s.catalogue.Technicians.EndSession(ctx, who.session); err != nil {
			return nil, err
		}
	}
	gone := sessionCookie("", -1)
	return api.SignOut204Response{Headers: api.SignOut204ResponseHeaders{SetCookie: &gone}}, nil
}
