// Package api serves the use cases over HTTP after the contract in
// api/openapi.yaml. Handlers only translate; the rules are in internal/service.
package api

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"regexp"
	"strings"
	"time"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/getkin/kin-openapi/openapi3filter"
	"github.com/getkin/kin-openapi/routers"
	"github.com/getkin/kin-openapi/routers/gorillamux"
	"github.com/labstack/echo/v5"
	"github.com/labstack/echo/v5/middleware"
	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"
	"github.com/prometheus/client_golang/prometheus/promhttp"
	"github.com/santhosh-tekuri/jsonschema/v6"

	contracts "undersail/api"
	"undersail/internal/api/contract"
	"undersail/internal/service"
)

// maxBody bounds a request's body; templates are at most 1 MiB.
const maxBody = 4 << 20

const sessionCookie = "undersail_session"

// Server answers requests with the use cases of a service.
type Server struct {
	service *service.Service
	log     *slog.Logger
	router  routers.Router
	wake    *wakers
	console fs.FS
	calls   *prometheus.CounterVec
	// asks are the paths whose POST only asks, and is answered anew each time.
	asks map[string]bool
	// bodies are the schemas of what requests hold.
	bodies map[*openapi3.Operation]*jsonschema.Schema
}

// New makes the handler of the whole service: API, streams, console and the
// pages for operating it. Console is the built console, or nil.
func New(ctx context.Context, s *service.Service, console fs.FS, log *slog.Logger) (http.Handler, error) {
	doc, err := openapi3.NewLoader().LoadFromData(contracts.OpenAPI)
	if err != nil {
		return nil, fmt.Errorf("read contract: %w", err)
	}
	router, err := gorillamux.NewRouter(doc)
	if err != nil {
		return nil, fmt.Errorf("read contract: %w", err)
	}
	registry := prometheus.NewRegistry()
	srv := &Server{service: s, log: log, router: router, wake: newWakers(), console: console, asks: map[string]bool{},
		calls: prometheus.NewCounterVec(prometheus.CounterOpts{Name: "undersail_http_requests_total", Help: "Requests answered, by method and status."}, []string{"method", "status"})}
	if srv.bodies, err = bodies(doc); err != nil {
		return nil, err
	}
	for path, item := range doc.Paths.Map() {
		if item.Post != nil && item.Post.Extensions["x-asks"] == true {
			srv.asks[path] = true
		}
	}
	s.Metrics().Register(registry)
	registry.MustRegister(srv.calls, collectors.NewGoCollector(), collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}))
	go srv.wake.run(ctx, s, log)
	e := echo.New()
	e.Logger = slog.New(slog.DiscardHandler)
	e.HTTPErrorHandler = srv.problem
	e.Use(srv.counted, srv.headers, srv.recovered, srv.guarded)
	e.GET("/healthz", func(c *echo.Context) error { return c.String(http.StatusOK, "ok\n") })
	e.GET("/readyz", srv.ready)
	e.GET("/metrics", echo.WrapHandler(promhttp.HandlerFor(registry, promhttp.HandlerOpts{})))
	e.GET("/api/openapi.yaml", func(c *echo.Context) error { return c.Blob(http.StatusOK, "application/yaml", contracts.OpenAPI) })
	contract.RegisterHandlers(e, contract.NewStrictHandler(&handlers{srv}, nil))
	e.GET("/api/v1/runs/:id/events/stream", srv.streamRun)
	e.GET("/api/v1/events/stream", srv.streamAll)
	e.GET("/api/v1/stream", srv.streamChanges)
	e.GET("/*", srv.page, middleware.Gzip())
	return e, nil
}

func (s *Server) ready(c *echo.Context) error {
	if err := s.service.Ready(c.Request().Context()); err != nil {
		return c.String(http.StatusServiceUnavailable, "the database does not answer\n")
	}
	return c.String(http.StatusOK, "ready\n")
}

func (s *Server) counted(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		err := next(c)
		if err != nil {
			s.problem(c, err)
		}
		status := http.StatusOK
		if r, unwrapErr := echo.UnwrapResponse(c.Response()); unwrapErr == nil {
			status = r.Status
		}
		s.calls.WithLabelValues(c.Request().Method, fmt.Sprint(status)).Inc()
		return nil
	}
}

// guarded puts everything below /api/v1 behind the body limit, sign-in and the
// contract.
func (s *Server) guarded(next echo.HandlerFunc) echo.HandlerFunc {
	inside := s.limited(s.signedIn(s.validated(s.once(next))))
	return func(c *echo.Context) error {
		if strings.HasPrefix(c.Request().URL.Path, "/api/v1/") {
			return inside(c)
		}
		return next(c)
	}
}

// headers are the usual ones that keep a browser from doing more than it should.
func (s *Server) headers(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		h := c.Response().Header()
		h.Set("X-Content-Type-Options", "nosniff")
		h.Set("Referrer-Policy", "same-origin")
		h.Set("X-Frame-Options", "DENY")
		h.Set("Content-Security-Policy", policyWith(""))
		if strings.HasPrefix(c.Request().URL.Path, "/api/") {
			h.Set("Cache-Control", "no-store")
		}
		return next(c)
	}
}

// policyWith is the content security policy of an answer. A page has a nonce for the
// styles that its scripts insert; nothing else may be inline.
func policyWith(nonce string) string {
	styles := "'self'"
	if nonce != "" {
		styles += " 'nonce-" + nonce + "'"
	}
	return "default-src 'self'; style-src " + styles + "; img-src 'self' data:; frame-ancestors 'none'; base-uri 'none'; form-action 'self'"
}

// recovered turns a panic into an error, so that one request cannot end others.
func (s *Server) recovered(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) (err error) {
		defer func() {
			if p := recover(); p != nil {
				err = fmt.Errorf("panic: %v", p)
			}
		}()
		return next(c)
	}
}

// limited reads the body once, up to the limit.
func (s *Server) limited(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		r := c.Request()
		if r.ContentLength > maxBody {
			return tooLarge()
		}
		body, err := io.ReadAll(http.MaxBytesReader(c.Response(), r.Body, maxBody))
		var large *http.MaxBytesError
		if errors.As(err, &large) {
			return tooLarge()
		}
		if err != nil {
			return &service.Error{Kind: service.Invalid, Title: "the body ended too early", Remedy: "send it again"}
		}
		if strings.ContainsRune(r.URL.Path+r.URL.RawQuery, 0) || bytes.Contains(body, []byte(`\u0000`)) || bytes.IndexByte(body, 0) >= 0 {
			return &service.Error{Kind: service.Invalid, Title: "a text holds the character zero", Remedy: "remove it"}
		}
		r.Body = io.NopCloser(bytes.NewReader(body))
		return next(c)
	}
}

func tooLarge() error {
	return &statusError{http.StatusRequestEntityTooLarge, &service.Error{Kind: service.Invalid, Title: fmt.Sprintf("the body is larger than %d MiB", maxBody>>20),
		Remedy: "templates have at most 1 MiB; send large files another way"}}
}

type userKey struct{}

func userOf(ctx context.Context) service.User {
	u, _ := ctx.Value(userKey{}).(service.User)
	return u
}

// signedIn finds who asks. A session cookie counts for changes only together
// with a header that no other site can make a browser send.
func (s *Server) signedIn(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		r := c.Request()
		if r.Method == http.MethodPost && r.URL.Path == "/api/v1/session" {
			return next(c)
		}
		token := tokenOf(r)
		if token == "" {
			return &service.Error{Kind: service.Unauthenticated, Title: "the request carries no token", Remedy: "sign in, or run: undersail login"}
		}
		if r.Header.Get("Authorization") == "" && r.Method != http.MethodGet && r.Header.Get("X-Undersail-Console") == "" {
			return &service.Error{Kind: service.Forbidden, Title: "a change with a session needs the header X-Undersail-Console", Remedy: "use the console, or a bearer token"}
		}
		u, err := s.service.ByToken(r.Context(), token)
		if err != nil {
			return err
		}
		ctx := context.WithValue(r.Context(), userKey{}, u)
		if host, _, err := net.SplitHostPort(r.RemoteAddr); err == nil {
			ctx = context.WithValue(ctx, addressKey{}, host)
		}
		c.SetRequest(r.WithContext(context.WithValue(ctx, tokenKey{}, token)))
		return next(c)
	}
}

type tokenKey struct{}

type addressKey struct{}

func tokenIn(ctx context.Context) string {
	token, _ := ctx.Value(tokenKey{}).(string)
	return token
}

func tokenOf(r *http.Request) string {
	if bearer, ok := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer "); ok {
		return bearer
	}
	if cookie, err := r.Cookie(sessionCookie); err == nil {
		return cookie.Value
	}
	return ""
}

// validated holds every request against the contract: unknown fields, wrong
// types and missing fields get a problem that names the place.
func (s *Server) validated(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		r := c.Request()
		route, params, err := s.router.FindRoute(r)
		if err != nil {
			return next(c) // the router of Echo says what is wrong with the path
		}
		body, err := io.ReadAll(r.Body)
		if err != nil {
			return err
		}
		r.Body = io.NopCloser(bytes.NewReader(body))
		err = openapi3filter.ValidateRequest(r.Context(), &openapi3filter.RequestValidationInput{Request: r, PathParams: params, Route: route,
			Options: &openapi3filter.Options{AuthenticationFunc: openapi3filter.NoopAuthenticationFunc, ExcludeRequestBody: true}})
		if err != nil {
			return explainInvalid(err)
		}
		if schema := s.bodies[route.Operation]; schema != nil {
			if err := valid(schema, body); err != nil {
				return err
			}
		}
		if strings.HasPrefix(r.Header.Get("Content-Type"), "application/merge-patch+json") {
			r.Header.Set("Content-Type", "application/json") // it is read as what it is
		}
		r.Body = io.NopCloser(bytes.NewReader(body))
		if s.asks[route.Path] {
			r.Header.Del("Idempotency-Key")
		}
		return next(c)
	}
}

// bodies compiles the schema of every body that a request holds, once.
func bodies(doc *openapi3.T) (map[*openapi3.Operation]*jsonschema.Schema, error) {
	out := map[*openapi3.Operation]*jsonschema.Schema{}
	for path, item := range doc.Paths.Map() {
		for method, op := range item.Operations() {
			if op.RequestBody == nil {
				continue
			}
			for _, media := range op.RequestBody.Value.Content {
				raw, err := json.Marshal(media.Schema.Value)
				if err != nil {
					return nil, fmt.Errorf("read contract: %w", err)
				}
				schema, err := jsonschema.UnmarshalJSON(bytes.NewReader(raw))
				if err != nil {
					return nil, fmt.Errorf("read contract: %w", err)
				}
				c := jsonschema.NewCompiler()
				if err := c.AddResource("urn:body", schema); err != nil {
					return nil, fmt.Errorf("read contract: %s %s: %w", method, path, err)
				}
				if out[op], err = c.Compile("urn:body"); err != nil {
					return nil, fmt.Errorf("read contract: %s %s: %w", method, path, err)
				}
			}
		}
	}
	return out, nil
}

// valid holds a body against its schema.
func valid(schema *jsonschema.Schema, body []byte) error {
	v, err := jsonschema.UnmarshalJSON(bytes.NewReader(body))
	if err != nil {
		return refusedBody("the body", "it cannot be read as JSON")
	}
	if err := schema.Validate(v); err != nil {
		place, what := "the body", err.Error()
		if m := schemaFault.FindStringSubmatch(what); m != nil {
			if what = m[2]; m[1] != "" {
				place = strings.ReplaceAll(strings.TrimPrefix(m[1], "/"), "/", ".")
			}
		}
		return refusedBody(place, what)
	}
	return nil
}

func refusedBody(place, what string) error {
	return &service.Error{Kind: service.Invalid, Title: place + ": " + strings.TrimSpace(what), Remedy: "see /api/openapi.yaml"}
}

// explainInvalid says what is wrong with a request without repeating its body.
func explainInvalid(err error) error {
	out := &service.Error{Kind: service.Invalid, Title: "the request is not what the contract says", Remedy: "see /api/openapi.yaml"}
	var re *openapi3filter.RequestError
	if !errors.As(err, &re) {
		return out
	}
	place := "the body"
	if re.Parameter != nil {
		place = "parameter " + re.Parameter.Name
	}
	what := re.Reason
	if re.Err != nil {
		what = re.Err.Error()
	}
	if m := schemaFault.FindStringSubmatch(what); m != nil {
		what = m[2]
	}
	out.Title = place + ": " + strings.TrimSpace(what)
	return out
}

// schemaFault is how a schema tells a fault: at '/stack': got number, want string.
var schemaFault = regexp.MustCompile(`at '([^']*)': ([^\n]+)`)

// page serves the console; every path that is no file is one of its pages.
func (s *Server) page(c *echo.Context) error {
	path := strings.TrimPrefix(c.Request().URL.Path, "/")
	if strings.HasPrefix(path, "api/") {
		return echo.ErrNotFound
	}
	if s.console == nil {
		return c.String(http.StatusNotFound, "this program was built without the console; build it with: make build\n")
	}
	if info, err := fs.Stat(s.console, path); err != nil || info.IsDir() {
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
	http.ServeFileFS(c.Response(), c.Request(), s.console, path)
	return nil
}

// index answers with the console's page, under a nonce of its own.
func (s *Server) index(c *echo.Context) error {
	html, err := fs.ReadFile(s.console, "index.html")
	if err != nil {
		return err
	}
	nonce := rand.Text()
	c.Response().Header().Set("Content-Security-Policy", policyWith(nonce))
	c.Response().Header().Set("Cache-Control", "no-store") // a nonce is used once
	session := "none"                                      // told with the page, so that it need not be asked and refused
	if token := tokenOf(c.Request()); token != "" {
		if _, err := s.service.ByToken(c.Request().Context(), token); err == nil {
			session = "there"
		}
	}
	return c.HTMLBlob(http.StatusOK, []byte(strings.NewReplacer("STYLE_NONCE", nonce, "SESSION_STATE", session).Replace(string(html))))
}

// cookie is the session's. It is sent over plain HTTP only to loopback, where
// browsers accept Secure cookies too.
func cookie(token string, life time.Duration) string {
	c := http.Cookie{Name: sessionCookie, Value: token, Path: "/", HttpOnly: true, SameSite: http.SameSiteStrictMode, MaxAge: int(life.Seconds())}
	if life < 0 {
		c.MaxAge = -1
	}
	return c.String()
}
