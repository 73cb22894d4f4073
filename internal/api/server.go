// Package api serves the use cases over HTTP after the contract in
// api/openapi.yaml. Handlers only translate; the rules are in the rooms that internal/service puts
// together.
package api

import (
	"cmp"
	"context"
	"crypto/rand"
	"fmt"
	"io/fs"
	"log/slog"
	"net/http"
	"net/netip"
	"net/url"
	"slices"
	"strings"
	"time"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/getkin/kin-openapi/routers"
	"github.com/getkin/kin-openapi/routers/gorillamux"
	"github.com/labstack/echo/v5"
	"github.com/labstack/echo/v5/middleware"
	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"
	"github.com/prometheus/client_golang/prometheus/promhttp"
	dto "github.com/prometheus/client_model/go"
	"github.com/santhosh-tekuri/jsonschema/v6"

	contracts "undersail/api"
	"undersail/internal/access"
	"undersail/internal/api/contract"
	"undersail/internal/fault"
	"undersail/internal/service"
)

// Server answers requests with the use cases of a service.
type Server struct {
	Options
	service *service.Service
	router  routers.Router
	wake    *wakers
	calls   *prometheus.CounterVec
	latency *prometheus.HistogramVec
	work    work
	// asks are the paths whose POST only asks, and is answered anew each time.
	asks map[string]bool
	// open are the calls that need no sign-in, as METHOD PATH.
	open map[string]bool
	// bodies are the schemas of what requests hold.
	bodies map[*openapi3.Operation]*jsonschema.Schema
}

// Options are how a service is served.
type Options struct {
	Console fs.FS // the built console, or nil
	Log     *slog.Logger
	// URL is where people reach the service; its host and those of the listener itself are
	// the only ones that are answered.
	URL *url.URL
	// Proxies are the ranges of proxies that tell where a request came from.
	Proxies []netip.Prefix
}

// New makes the handler of the whole service: API, streams, console and the pages for
// operating it. Metrics is /metrics by itself, for a listener of its own that asks for no
// token.
func New(ctx context.Context, s *service.Service, o Options) (whole, metrics http.Handler, err error) {
	doc, err := openapi3.NewLoader().LoadFromData(contracts.OpenAPI)
	if err != nil {
		return nil, nil, fmt.Errorf("read contract: %w", err)
	}
	router, err := gorillamux.NewRouter(doc)
	if err != nil {
		return nil, nil, fmt.Errorf("read contract: %w", err)
	}
	registry := prometheus.NewRegistry()
	srv := &Server{
		Options: o,
		service: s,
		router:  router,
		wake:    newWakers(),
		asks:    map[string]bool{},
		open:    map[string]bool{},
		work:    newWork(),
		calls: prometheus.NewCounterVec(prometheus.CounterOpts{
			Name: "undersail_http_requests_total",
			Help: "Requests answered, by method and status.",
		}, []string{"method", "status"}),
		latency: prometheus.NewHistogramVec(prometheus.HistogramOpts{
			Name:    "undersail_http_request_seconds",
			Help:    "Time until a request was answered, by route; streams are not among them.",
			Buckets: latencies,
		}, []string{"method", "route"}),
	}
	if srv.bodies, err = bodies(doc); err != nil {
		return nil, nil, err
	}
	for path, item := range doc.Paths.Map() {
		for method, op := range item.Operations() {
			srv.asks[path] = srv.asks[path] || method == http.MethodPost && op.Extensions["x-asks"] == true
			srv.open[method+" "+path] = op.Security != nil && len(*op.Security) == 0
		}
	}
	s.Register(registry)
	registry.MustRegister(srv.calls, srv.latency, collectors.NewGoCollector(),
		collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}))
	metrics = promhttp.HandlerFor(registry, promhttp.HandlerOpts{})
	go srv.wake.run(ctx, s, o.Log)
	e := echo.New()
	e.Logger = o.Log.With("part", "http")
	e.HTTPErrorHandler = srv.problem
	e.Use(srv.traced, srv.counted, srv.headers, srv.recovered, srv.ours, srv.guarded)
	e.GET("/healthz", func(c *echo.Context) error { return c.String(http.StatusOK, "ok\n") })
	e.GET("/readyz", srv.ready)
	e.GET("/metrics", srv.measured(registry), srv.signedIn)
	e.GET("/api/openapi.yaml",
		func(c *echo.Context) error { return c.Blob(http.StatusOK, "application/yaml", contracts.OpenAPI) })
	contract.RegisterHandlers(e, contract.NewStrictHandler(&handlers{srv}, nil))
	e.GET("/api/v1/runs/:id/events/stream", srv.streamRun)
	e.GET("/api/v1/events/stream", srv.streamAll)
	e.GET("/api/v1/stream", srv.streamChanges)
	e.GET("/sign-in/openid", srv.beginOpenID)
	e.GET("/sign-in/openid/back", srv.finishOpenID)
	e.GET("/*", srv.page, middleware.Gzip())
	return e, metrics, nil
}

// latencies are the bounds by which answers are counted, in seconds: pages are to come within a
// tenth of one.
var latencies = []float64{0.001, 0.005, 0.01, 0.025, 0.05, 0.1, 0.25, 0.5, 1, 2.5, 5, 10, 30}

func (s *Server) ready(c *echo.Context) error {
	if err := s.service.Ready(c.Request().Context()); err != nil {
		return c.String(http.StatusServiceUnavailable, "the database does not answer, or takes no writes\n")
	}
	if why := s.service.Stacks.Quiet(c.Request().Context()).Why; why != "" {
		return c.String(http.StatusOK, "ready, and quiet: "+why+"\n")
	}
	return c.String(http.StatusOK, "ready\n")
}

func (s *Server) counted(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		began := time.Now()
		err := next(c)
		if err != nil {
			s.problem(c, err)
		}
		if route := c.Path(); !strings.HasSuffix(route, "/stream") {
			s.latency.WithLabelValues(methodLabel(c.Request().Method),
				cmp.Or(route, "none")).Observe(time.Since(began).Seconds())
		}
		status := http.StatusOK
		if r, unwrapErr := echo.UnwrapResponse(c.Response()); unwrapErr == nil {
			status = r.Status
		}
		s.calls.WithLabelValues(methodLabel(c.Request().Method), statusLabel(status)).Inc()
		return nil
	}
}

// methodLabel is one of a fixed set: what strangers invent is no label that stays.
func methodLabel(method string) string {
	switch method {
	case http.MethodGet, http.MethodHead, http.MethodPost, http.MethodPut, http.MethodPatch, http.MethodDelete,
		http.MethodOptions:
		return method
	}
	return "other"
}

func statusLabel(status int) string {
	if http.StatusText(status) == "" {
		return "other"
	}
	return fmt.Sprint(status)
}

// measured answers with the metrics: whole to whoever sees the whole service, and to whoever
// sees single accounts with what is told of these.
func (s *Server) measured(registry prometheus.Gatherer) echo.HandlerFunc {
	return func(c *echo.Context) error {
		only := access.Seen(c.Request().Context())
		gatherer := prometheus.GathererFunc(func() ([]*dto.MetricFamily, error) {
			families, err := registry.Gather()
			if only == nil {
				return families, err
			}
			return ofAccounts(families, only), err
		})
		promhttp.HandlerFor(gatherer, promhttp.HandlerOpts{}).ServeHTTP(c.Response(), c.Request())
		return nil
	}
}

func ofAccounts(families []*dto.MetricFamily, accounts []string) (out []*dto.MetricFamily) {
	for _, f := range families {
		f.Metric = slices.DeleteFunc(f.Metric, func(m *dto.Metric) bool {
			return !slices.ContainsFunc(m.Label, func(l *dto.LabelPair) bool {
				return l.GetName() == "account" && slices.Contains(accounts, l.GetValue())
			})
		})
		if len(f.Metric) > 0 {
			out = append(out, f)
		}
	}
	return out
}

// recovered turns a panic into an error, so that one request cannot end others.
func (s *Server) recovered(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		return fault.Caught(func() error { return next(c) })
	}
}

// page serves the console; every path that is no file is one of its pages.
func (s *Server) page(c *echo.Context) error {
	path := strings.TrimPrefix(c.Request().URL.Path, "/")
	if strings.HasPrefix(path, "api/") {
		return echo.ErrNotFound
	}
	if s.Console == nil {
		return c.String(http.StatusNotFound, "this program was built without the console; build it with: make build\n")
	}
	if info, err := fs.Stat(s.Console, path); err != nil || info.IsDir() {
		path = "index.html"
	}
	if path == "index.html" {
		return s.index(c)
	}
	if strings.HasPrefix(path, "assets/") {
		c.Response().Header().Set("Cache-Control", "public, max-age=31536000, immutable")
	} else {
		c.Response().Header().Set("Cache-Control", "no-cache")
	}
	http.ServeFileFS(c.Response(), c.Request(), s.Console, path)
	return nil
}

// index answers with the console's page, under a nonce of its own.
func (s *Server) index(c *echo.Context) error {
	html, err := fs.ReadFile(s.Console, "index.html")
	if err != nil {
		return err
	}
	nonce := rand.Text()
	c.Response().Header().Set("Content-Security-Policy", policyWith(nonce))
	c.Response().Header().Set("Cache-Control", "no-store") // a nonce is used once
	// told with the page, so that they need not be asked and refused
	session, openid := "none", "none"
	if token, _ := s.tokenOf(c.Request()); token != "" {
		if _, err := s.service.People.ByToken(c.Request().Context(), token, "", false); err == nil {
			session = "there"
		}
	}
	if s.service.People.OffersOpenID() {
		openid = "there"
	}
	return c.HTMLBlob(http.StatusOK,
		[]byte(strings.NewReplacer("STYLE_NONCE", nonce, "SESSION_STATE", session, "OPENID_STATE",
			openid).Replace(string(html))))
}
