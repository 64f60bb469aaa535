// Package servicetest runs real services on free loopback ports for tests, most of them on the sample world.
package servicetest

import (
	"context"
	"errors"
	"io"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/require"

	"humble-rewind/api"
	"humble-rewind/internal/apart"
	"humble-rewind/internal/demo"
	"humble-rewind/internal/kinds"
	"humble-rewind/internal/service"
)

// Service is a running service.
type Service struct {
	URL, Token string
	Client     *api.ClientWithResponses
	World      demo.World // where it serves the sample world
	Service    *service.Service
	t          testing.TB
}

// Page is what stands in for the built console where a test is not about it.
var Page = fstest.MapFS{
	"index.html":        {Data: []byte(`<!doctype html><meta property="csp-nonce" content="__CSP_NONCE__"><title>Humble Rewind</title>`)},
	"assets/index-x.js": {Data: []byte("0")},
}

// Start runs a service with its records in dir until the test ends.
func Start(t testing.TB, dir string, console fs.FS) *Service {
	t.Helper()
	ctx, cancel := context.WithCancel(context.Background())
	s, err := open(ctx, dir, console, time.Now)
	require.NoError(t, err)
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	served := make(chan error, 1)
	go func() { served <- s.Serve(ctx, listener) }()
	t.Cleanup(func() {
		cancel()
		require.NoError(t, <-served)
		require.NoError(t, s.Close())
	})
	token, err := os.ReadFile(filepath.Join(dir, service.TokenFile))
	require.NoError(t, err)
	r := &Service{URL: "http://" + listener.Addr().String(), Token: strings.TrimSpace(string(token)), Service: s, t: t}
	r.Client = r.As(r.Token)
	return r
}

// As returns a client of whoever has a token.
func (s *Service) As(token string) *api.ClientWithResponses {
	s.t.Helper()
	client, err := api.NewClientWithResponses(s.URL+"/api/v1", api.WithRequestEditorFn(func(_ context.Context, q *http.Request) error {
		q.Header.Set("Authorization", "Bearer "+token)
		return nil
	}))
	require.NoError(s.t, err)
	return client
}

// Open opens a service without serving it, for tests of what keeps it from being opened.
func Open(ctx context.Context, dir string) (*service.Service, error) {
	return open(ctx, dir, Page, time.Now)
}

// OpenAt is Open with another clock.
func OpenAt(ctx context.Context, dir string, now func() time.Time) (*service.Service, error) {
	return open(ctx, dir, Page, now)
}

func open(ctx context.Context, dir string, console fs.FS, now func() time.Time) (*service.Service, error) {
	if err := os.Chmod(dir, 0o700); err != nil && !errors.Is(err, fs.ErrNotExist) { // test folders are open to others
		return nil, err
	}
	rules, _ := kinds.Leftovers()
	children := &apart.Pool{}
	return service.Open(
		ctx,
		service.Config{Dir: dir, Ways: kinds.Ways(children, dir), Apart: children, Kinds: kinds.All(rules), Strays: rules, Console: console, Now: now,
			Log: slog.New(slog.NewTextHandler(io.Discard, nil))},
	)
}

// StartDemo builds the sample world and serves it, its machines added and surveyed.
func StartDemo(t testing.TB, console fs.FS) *Service {
	t.Helper()
	world, err := demo.Build(filepath.Join(t.TempDir(), "world"), time.Now(), false)
	require.NoError(t, err)
	s := Start(t, world.ServiceDir, console)
	s.World = world
	suggested := true
	drive, letGo, err := world.ServeDrive(context.Background())
	require.NoError(t, err)
	t.Cleanup(letGo)
	for _, m := range append(slices.Clone(world.Machines), demo.Machine{Name: demo.Drive, At: drive}) {
		added, err := s.Client.AddMachineWithResponse(t.Context(), api.NewMachine{Name: m.Name, At: m.At, WithSuggested: &suggested})
		require.NoError(t, err)
		require.NotNil(t, added.JSON201, string(added.Body))
	}
	for _, source := range demo.Sources {
		added, err := s.Client.AddSourceWithResponse(t.Context(), source)
		require.NoError(t, err)
		require.NotNil(t, added.JSON201, string(added.Body))
	}
	s.Survey()
	require.NoError(t, demo.OpenCases(t.Context(), world, s.Client))
	return s
}

// Survey surveys everything and waits for the end.
func (s *Service) Survey() api.Job {
	s.t.Helper()
	r, err := s.Client.StartSurveyWithResponse(context.Background(), api.NewSurvey{})
	require.NoError(s.t, err)
	require.NotNil(s.t, r.JSON202, string(r.Body))
	return s.Wait(r.JSON202.Id)
}

// Wait follows a job to its end.
func (s *Service) Wait(id string) api.Job {
	s.t.Helper()
	events, err := s.Client.FollowJob(context.Background(), id)
	require.NoError(s.t, err)
	_, err = io.Copy(io.Discard, events.Body)
	require.NoError(s.t, err)
	require.NoError(s.t, events.Body.Close())
	j, err := s.Client.GetJobWithResponse(context.Background(), id)
	require.NoError(s.t, err)
	require.NotNil(s.t, j.JSON200, string(j.Body))
	return *j.JSON200
}

// Find returns the copies whose names hold the words.
func (s *Service) Find(words string) []api.Copy {
	s.t.Helper()
	r, err := s.Client.FindCopiesWithResponse(context.Background(), &api.FindCopiesParams{Words: &words})
	require.NoError(s.t, err)
	require.NotNil(s.t, r.JSON200, string(r.Body))
	return r.JSON200.Copies
}
