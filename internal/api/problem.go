package api

import (
	"encoding/json"
	"errors"
	"log/slog"
	"net/http"
	"strconv"

	"github.com/labstack/echo/v5"

	"undersail/internal/api/contract"
	"undersail/internal/fault"
	"undersail/internal/refusal"
)

var statuses = map[refusal.Kind]int{
	refusal.Invalid:         http.StatusUnprocessableEntity,
	refusal.NotFound:        http.StatusNotFound,
	refusal.Conflict:        http.StatusConflict,
	refusal.Stale:           http.StatusConflict,
	refusal.Unauthenticated: http.StatusUnauthorized,
	refusal.Forbidden:       http.StatusForbidden,
	refusal.Findings:        http.StatusUnprocessableEntity,
	refusal.Consent:         http.StatusConflict,
	refusal.CloudRefused:    http.StatusBadGateway,
	refusal.TooMany:         http.StatusTooManyRequests,
	refusal.Waiting:         http.StatusConflict,
	refusal.TooMuch:         http.StatusUnprocessableEntity,
}

// statusError gives an error another status than its kind has.
type statusError struct {
	status int
	error
}

func (e *statusError) Unwrap() error { return e.error }

// problem answers with a problem document (RFC 9457). What is nobody's fault but
// ours is logged and not told in detail.
func (s *Server) problem(c *echo.Context, err error) {
	if r, unwrapErr := echo.UnwrapResponse(c.Response()); unwrapErr == nil && r.Committed {
		return
	}
	var coder echo.HTTPStatusCoder
	p := problemOf(err)
	switch {
	case p.Status == http.StatusInternalServerError && errors.As(err, &coder) && coder.StatusCode() < 500:
		p.Status = coder.StatusCode()
		remedy := "see /api/openapi.yaml"
		p.Type, p.Title, p.Remedy = "urn:undersail:invalid", http.StatusText(p.Status), &remedy
		switch p.Status {
		case http.StatusNotFound:
			p.Type, p.Title = "urn:undersail:not-found", "there is nothing at "+c.Request().URL.Path
		case http.StatusMethodNotAllowed:
			p.Title = c.Request().Method + " is not possible here"
		case http.StatusBadRequest:
			p.Title = "the request cannot be read"
		}
	}
	if p.Status >= http.StatusInternalServerError {
		s.tell(c, &p, err)
	}
	var said *refusal.Error
	if errors.As(err, &said) && said.RetryAfter > 0 {
		c.Response().Header().Set("Retry-After", strconv.Itoa(said.RetryAfter))
	}
	raw, err := json.Marshal(p)
	if err != nil {
		return
	}
	_ = c.Blob(p.Status, "application/problem+json", raw)
}

// tell writes down what went wrong here or at a cloud, and lets the answer say under which id.
func (s *Server) tell(c *echo.Context, p *contract.Problem, err error) {
	trace, _ := c.Get(traceKey).(string)
	instance := "urn:undersail:trace:" + trace
	p.Instance = &instance
	level := slog.LevelError
	if p.Status != http.StatusInternalServerError {
		level = slog.LevelWarn
	}
	fault.Log(s.Log, level, "request failed", err, "trace", trace, "method", c.Request().Method, "path",
		c.Request().URL.Path, "status", p.Status)
}

// problemOf is what is told of an error.
func problemOf(err error) contract.Problem {
	p := contract.Problem{
		Type:   "urn:undersail:internal",
		Title:  "something went wrong inside the service",
		Status: http.StatusInternalServerError,
	}
	remedy := "try again; the service's log has more of it, under the trace that the answer names"
	var said *refusal.Error
	var status *statusError
	switch {
	case errors.As(err, &said):
		p.Type, p.Title, p.Status, remedy = "urn:undersail:"+string(said.Kind), said.Title, statuses[said.Kind],
			said.Remedy
		if errors.As(err, &status) {
			p.Status = status.status
		}
		if said.Findings != nil {
			p.Findings = &said.Findings
		}
		if said.Diagnostics != nil {
			list := []contract.Diagnostic(said.Diagnostics)
			p.Diagnostics = &list
		}
	}
	if remedy != "" {
		p.Remedy = &remedy
	}
	return p
}
