// Package service offers the work over HTTP, as api/openapi.yaml describes it, and serves the console. It translates,
// signs people in and words errors; the work itself is in the packages below.
package service

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/labstack/echo/v5"
	"github.com/labstack/echo/v5/middleware"

	"humble-rewind/api"
	"humble-rewind/internal/apart"
	"humble-rewind/internal/cases"
	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/choosing"
	"humble-rewind/internal/contents"
	"humble-rewind/internal/core/principal"
	"humble-rewind/internal/core/stray"
	"humble-rewind/internal/core/turns"
	"humble-rewind/internal/jobs"
	"humble-rewind/internal/past"
	"humble-rewind/internal/reach"
	"humble-rewind/internal/reach/spool"
	"humble-rewind/internal/registry"
	"humble-rewind/internal/restore"
	"humble-rewind/internal/restore/steps"
	"humble-rewind/internal/safekeeping"
	"humble-rewind/internal/site"
	"humble-rewind/internal/source"
	"humble-rewind/internal/survey"
)

// Config is what a service is put together from.
type Config struct {
	Dir  string // of the catalogue, safekeeping and the token; made where it is not there
	Ways reach.Ways
	// Apart are the children that look into what users can write; they are closed with the service.
	Apart   *apart.Pool
	Kinds   source.Kinds
	Strays  stray.Rules
	Console fs.FS // the built console
	Log     *slog.Logger
	Now     func() time.Time
	// SafekeepingLimit is how many bytes what is set aside may take; 0 is no limit. SafekeepingDays is how long it is
	// kept; 0 is for ever.
	SafekeepingLimit int64
	SafekeepingDays  int
	// Hosts are names by which the service may be reached, besides localhost and addresses.
	Hosts []string
	// Rebuild puts a damaged catalogue aside and begins with the daily copy of what cannot be read anew.
	Rebuild bool
}

// Service is a running service without its listener. Close it.
type Service struct {
	catalogue *catalogue.Catalogue
	site      *site.Site
	whole     work // what it does for everybody: of this is made what it does for somebody, see door.go
	apart     *apart.Pool
	contents  *contents.Reader
	examiner  *contents.Examiner
	restorer  *restore.Restorer // which settles receipts
	lookAgain time.Duration     // see while
	safe      *safekeeping.Store
	jobs      *jobs.Runner
	changes   changes
	console   console
	metrics   *metrics
	log       *slog.Logger
	now       func() time.Time
	unlock    func() error
	keepDays  int
	hosts     []string
	dir       string
	records   health
	rebuilt   bool          // by this start
	stopping  chan struct{} // closed when the service stops, so that streams end
	stopOnce  sync.Once
	undoing   sync.Mutex // held while an undo is begun, so that two requests do not begin the same
}

// patience is how long examining one copy may take while somebody waits for advice.
const patience = 20 * time.Second

// maxBody is the largest request body, in bytes: a hundred thousand copies to bring back fit.
const maxBody = 4 << 20

// Prepare makes a data folder where there is none, and refuses one that others may use before anything is written into it.
func Prepare(dir string) error {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return fmt.Errorf("open the data folder: %w", err)
	}
	return ownedAlone(dir, "the data folder", "chmod 700")
}

// Open opens the records, settles what the last stop interrupted, and makes a first technician where there is none.
func Open(ctx context.Context, config Config) (*Service, error) {
	if err := Prepare(config.Dir); err != nil {
		return nil, err
	}
	unlock, err := lock(filepath.Join(config.Dir, "lock"))
	if err != nil {
		return nil, fmt.Errorf("open the data folder %s: %w", config.Dir, err)
	}
	s := &Service{log: config.Log, now: config.Now, unlock: unlock, metrics: newMetrics(), stopping: make(chan struct{}), lookAgain: principal.Again}
	if err := s.open(ctx, config); err != nil {
		return nil, errors.Join(err, s.Close())
	}
	return s, nil
}

func (s *Service) open(ctx context.Context, config Config) (err error) {
	if s.console, err = newConsole(config.Console); err != nil {
		return err
	}
	if err := s.openRecords(ctx, config); err != nil {
		return err
	}
	if s.safe, err = safekeeping.Open(filepath.Join(config.Dir, "safekeeping"), config.SafekeepingLimit); err != nil {
		return err
	}
	if err := s.firstTechnician(ctx, config.Dir); err != nil {
		return err
	}
	s.keepDays = config.SafekeepingDays
	s.expire(ctx)
	s.apart = config.Apart
	s.site = &site.Site{Catalogue: s.catalogue, Ways: config.Ways, Kinds: config.Kinds, Kept: filepath.Join(config.Dir, "sources"),
		Unpacker: s.apart, Changed: func(machine string) { s.changes.tell(changedMachine, machine) }}
	if err := errors.Join(s.site.Begin(ctx), s.site.Tidy(ctx)); err != nil {
		return err
	}
	s.contents = &contents.Reader{Site: s.site, Apart: s.apart}
	spool.Common.In(config.Dir)
	everything := s.catalogue.Everything()
	reader := &past.Reader{Site: s.site, View: everything, Contents: s.contents}
	s.examiner = &contents.Examiner{Contents: s.contents, Now: s.now, Patience: patience}
	adviser := &choosing.Adviser{
		Site:     s.site,
		Past:     reader,
		Contents: s.contents,
		Examiner: s.examiner,
		Rules:    config.Strays,
		Now:      s.now,
	}
	s.restorer = &restore.Restorer{Steps: &steps.Steps{Site: s.site, Safe: s.safe, Now: s.now}, Past: reader, Contents: s.contents}
	s.whole = work{everything, registry.Registry{Site: s.site, View: everything}, reader, adviser, cases.NewBook(s.site, adviser, s.now, func(id int64) { s.changes.tell(changedCase, showID("k", id)) }), s.restorer}
	s.jobs = jobs.New(s.catalogue, s.log, s.now, append(s.restorer.Workers(),
		survey.Worker(s.contents, &contents.Examiner{Contents: s.contents, Now: s.now}, s.now))...)
	s.jobs.Changed = func(id int64) { s.changes.tell(changedJob, showID("j", id)) }
	if err := s.jobs.Resume(ctx); err != nil {
		return err
	}
	return s.renew(ctx)
}

// openRecords opens the catalogue, or rebuilds it first where that was asked for.
func (s *Service) openRecords(ctx context.Context, config Config) (err error) {
	s.dir = config.Dir
	for _, host := range config.Hosts {
		s.hosts = append(s.hosts, strings.ToLower(host))
	}
	if config.Rebuild {
		aside, from, err := catalogue.Rebuild(ctx, config.Dir, s.now())
		if err != nil {
			return fmt.Errorf("rebuild the catalogue: %w", err)
		}
		s.rebuilt = true
		s.log.LogAttrs(
			ctx,
			slog.LevelWarn,
			"the catalogue is rebuilt",
			slog.String("damaged", aside),
			slog.Time("receipts and cases of", from),
		)
	}
	_, tokenErr := os.Lstat(filepath.Join(config.Dir, TokenFile))
	_, fileErr := os.Lstat(filepath.Join(config.Dir, catalogue.File))
	if info, err := os.Stat(filepath.Join(config.Dir, catalogue.File)); tokenErr == nil && !config.Rebuild &&
		(errors.Is(fileErr, fs.ErrNotExist) || err == nil && info.Size() == 0) {
		return fmt.Errorf("open the catalogue in %s: %w: it is gone or empty, though there is a token of it. %s", config.Dir,
			catalogue.ErrDamaged, howToRebuild)
	}
	s.catalogue, err = catalogue.Open(ctx, config.Dir)
	if errors.Is(err, catalogue.ErrDamaged) {
		err = fmt.Errorf("%w. %s", err, howToRebuild)
	}
	return err
}

// renew surveys the sources whose records an earlier version of the program got wrong, unless that is under way already.
func (s *Service) renew(ctx context.Context) error {
	sources, err := s.catalogue.Sources.Of(ctx, "")
	if err != nil {
		return err
	}
	unfinished, err := s.catalogue.Jobs.Unfinished(ctx)
	if err != nil {
		return err
	}
	order := survey.Order{Priority: turns.Scheduled}
	for _, src := range sources {
		if src.Renew || src.Recheck && !src.SurveyedAt.IsZero() || s.rebuilt {
			order.Sources = append(order.Sources, src)
		}
	}
	if len(order.Sources) == 0 || slices.ContainsFunc(unfinished, func(j catalogue.Job) bool { return j.Kind == survey.JobKind }) {
		return nil
	}
	_, err = s.jobs.Submit(ctx, order.By(catalogue.TheService))
	return err
}

// Close waits for the jobs to stop where they are and closes everything.
func (s *Service) Close() error {
	if s.jobs != nil {
		s.jobs.Stop()
	}
	var errs []error
	if s.site != nil {
		errs = append(errs, s.site.Close())
	}
	if s.apart != nil {
		errs = append(errs, s.apart.Close())
	}
	if s.safe != nil {
		errs = append(errs, s.safe.Close())
	}
	if s.catalogue != nil {
		errs = append(errs, s.catalogue.Close())
	}
	return errors.Join(append(errs, s.unlock())...)
}

// Handler returns the service's HTTP interface.
func (s *Service) Handler() http.Handler {
	e := echo.NewWithConfig(echo.Config{Logger: s.log})
	e.HTTPErrorHandler = s.writeProblem
	e.Use(middleware.Recover(), s.observe, secureHeaders, s.knownHost)
	e.GET("/healthz", s.health)
	e.GET("/metrics", s.requireTechnician(only(api.Operations()["GetCatalogue"], echo.WrapHandler(s.metrics.handler()))))
	// Nobody's body is read before it is known who sends it; that of a sign-in is small.
	group := e.Group("/api/v1", s.sameOrigin, s.requireTechnician, smallSignIn, middleware.BodyLimit(maxBody), noStore, compressed)
	group.Any("/*", func(*echo.Context) error { return echo.ErrNotFound })
	api.RegisterHandlers(group, api.NewStrictHandler(s, []api.StrictMiddlewareFunc{mayDo}))
	moments := s.moments()
	for _, method := range []string{http.MethodOptions, http.MethodGet, "PROPFIND", http.MethodPut, http.MethodDelete, http.MethodPost,
		"MKCOL", "COPY", "MOVE", "LOCK", "UNLOCK", "PROPPATCH"} {
		for _, path := range []string{momentPath, momentPath + "/*"} {
			e.Add(method, path, moments)
		}
	}
	e.GET("/*", s.console.serve)
	return timely(e)
}

// Serve serves until ctx is done and then stops gracefully: jobs stop where they are, requests are finished.
func (s *Service) Serve(ctx context.Context, listener net.Listener) error {
	server := &http.Server{Handler: s.Handler(), ReadHeaderTimeout: headTime, IdleTimeout: idleTime, MaxHeaderBytes: 32 << 10,
		ConnContext: withConnection, ErrorLog: slog.NewLogLogger(s.log.Handler(), slog.LevelWarn)}
	failed := make(chan error, 1)
	go func() { failed <- server.Serve(bounded{listener, newConnections()}) }()
	expiring, stop := context.WithCancel(turns.With(ctx, turns.Scheduled))
	var wait sync.WaitGroup
	wait.Go(func() { s.expireDaily(expiring) })
	wait.Go(func() { s.settle(expiring) })
	wait.Go(func() { s.careForRecords(expiring) })
	wait.Go(func() {
		s.examiner.Background(turns.With(expiring, turns.Idle), contents.DefaultBudget, s.noticed(expiring))
	})
	defer wait.Wait()
	defer stop()
	select {
	case err := <-failed:
		return err
	case <-ctx.Done():
	}
	s.stopOnce.Do(func() { close(s.stopping) })
	s.jobs.Stop() // ends the event streams too, so that the shutdown need not wait for them
	const farewell = 10 * time.Second
	shutdown, done := context.WithTimeout(context.WithoutCancel(ctx), farewell)
	defer done()
	err := errors.Join(server.Shutdown(shutdown), server.Close())
	if served := <-failed; !errors.Is(served, http.ErrServerClosed) {
		err = errors.Join(err, served)
	}
	return err
}

// settling is how often it is tried again to settle what could not be: a drive that is mounted again, a data folder that has
// room again, is noticed by then.
const settling = 10 * time.Second

// settle settles what stops interrupted, at once and then again and again until ctx is done: the service listens meanwhile.
func (s *Service) settle(ctx context.Context) {
	every := time.NewTicker(settling)
	defer every.Stop()
	told := map[int64]string{}
	for {
		unsettled, err := s.restorer.Settle(ctx, s.jobs.Receipts())
		if ctx.Err() != nil {
			return
		}
		if err != nil {
			unsettled[0] = err
		}
		for id, why := range unsettled {
			if told[id] != why.Error() { // once is enough
				s.log.LogAttrs(ctx, slog.LevelError, "receipt not settled; it is tried again", slog.Int64("receipt", id),
					slog.String("error", why.Error()))
				told[id] = why.Error()
			}
		}
		select {
		case <-every.C:
		case <-ctx.Done():
			return
		}
	}
}

// noticed logs what examining in the background found.
func (s *Service) noticed(ctx context.Context) func(examined, broken int, err error) {
	return func(examined, broken int, err error) {
		switch {
		case err != nil:
			s.log.LogAttrs(ctx, slog.LevelError, "documents not examined", slog.String("error", err.Error()))
		case broken > 0:
			s.log.LogAttrs(ctx, slog.LevelWarn, "documents are broken", slog.Int("examined", examined), slog.Int("broken", broken))
		default:
			s.log.LogAttrs(ctx, slog.LevelDebug, "documents examined", slog.Int("examined", examined))
		}
	}
}

// expire removes what was set aside so long ago that it need not be kept any more. Receipts that would need it then say so.
func (s *Service) expire(ctx context.Context) {
	if s.keepDays == 0 {
		return
	}
	removed, err := s.safe.Expire(s.now(), s.keepDays)
	if err != nil {
		s.log.LogAttrs(ctx, slog.LevelError, "safekeeping not expired", slog.String("error", err.Error()))
	}
	if removed > 0 {
		s.log.LogAttrs(ctx, slog.LevelInfo, "safekeeping expired", slog.Int64("bytes", removed))
	}
}

// expireDaily does so once a day until ctx is done.
func (s *Service) expireDaily(ctx context.Context) {
	daily := time.NewTicker(24 * time.Hour)
	defer daily.Stop()
	for {
		select {
		case <-daily.C:
			s.expire(ctx)
		case <-ctx.Done():
			return
		}
	}
}

func (s *Service) health(c *echo.Context) error {
	if _, err := s.whole.view.Machines.People(c.Request().Context()); err != nil {
		return err
	}
	return c.JSON(http.StatusOK, map[string]string{"status": "ok"})
}
