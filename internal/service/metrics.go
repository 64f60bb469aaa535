package service

import (
	"log/slog"
	"net/http"
	"strconv"
	"time"

	"github.com/labstack/echo/v5"
	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"
	"github.com/prometheus/client_golang/prometheus/promhttp"
)

type metrics struct {
	registry *prometheus.Registry
	requests *prometheus.HistogramVec
}

func newMetrics() *metrics {
	m := &metrics{registry: prometheus.NewRegistry(), requests: prometheus.NewHistogramVec(prometheus.HistogramOpts{
		Name: "humble_rewind_request_seconds", Help: "How long requests took, by route, method and status.",
		Buckets: prometheus.ExponentialBuckets(0.001, 4, 8),
	}, []string{"route", "method", "status"})}
	m.registry.MustRegister(m.requests, collectors.NewGoCollector(), collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}))
	return m
}

func (m *metrics) handler() http.Handler {
	return promhttp.HandlerFor(m.registry, promhttp.HandlerOpts{})
}

// observe measures and logs requests, never their queries or headers, which may hold secrets.
func (s *Service) observe(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		begun := time.Now()
		err := next(c)
		if err != nil {
			s.writeProblem(c, err)
		}
		_, status := echo.ResolveResponseStatus(c.Response(), nil)
		took := time.Since(begun)
		s.metrics.requests.WithLabelValues(c.Path(), knownMethod(c.Request().Method), strconv.Itoa(status)).Observe(took.Seconds())
		s.log.LogAttrs(c.Request().Context(), slog.LevelDebug, "request", slog.String("method", c.Request().Method),
			slog.String("path", c.Request().URL.Path), slog.Int("status", status), slog.Duration("took", took))
		return nil
	}
}

// knownMethod keeps methods that somebody makes up from becoming series of their own.
func knownMethod(method string) string {
	switch method {
	case http.MethodGet, http.MethodPost, http.MethodPatch, http.MethodPut, http.MethodDelete, http.MethodOptions:
		return method
	}
	return "other"
}
