package api

import (
	"encoding/json"
	"errors"
	"net/http"

	"github.com/labstack/echo/v5"

	"undersail/internal/api/contract"
	"undersail/internal/service"
)

var statuses = map[service.Kind]int{
	service.Invalid:         http.StatusUnprocessableEntity,
	service.NotFound:        http.StatusNotFound,
	service.Conflict:        http.StatusConflict,
	service.Stale:           http.StatusConflict,
	service.Unauthenticated: http.StatusUnauthorized,
	service.Forbidden:       http.StatusForbidden,
	service.Findings:        http.StatusUnprocessableEntity,
	service.Consent:         http.StatusConflict,
	service.CloudRefused:    http.StatusBadGateway,
	service.TooMany:         http.StatusTooManyRequests,
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
	p := contract.Problem{Type: "urn:undersail:internal", Title: "something went wrong inside the service", Status: http.StatusInternalServerError}
	remedy := "try again; the service's log says more"
	var said *service.Error
	var status *statusError
	var coder echo.HTTPStatusCoder
	switch {
	case errors.As(err, &said):
		p.Type, p.Title, p.Status, remedy = "urn:undersail:"+string(said.Kind), said.Title, statuses[said.Kind], said.Remedy
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
	case errors.As(err, &coder) && coder.StatusCode() < 500:
		p.Status = coder.StatusCode()
		p.Type, p.Title, remedy = "urn:undersail:invalid", http.StatusText(p.Status), "see /api/openapi.yaml"
		switch p.Status {
		case http.StatusNotFound:
			p.Type, p.Title = "urn:undersail:not-found", "there is nothing at "+c.Request().URL.Path
		case http.StatusMethodNotAllowed:
			p.Title = c.Request().Method + " is not possible here"
		case http.StatusBadRequest:
			p.Title = "the request cannot be read"
		}
	default:
		s.log.Error("request failed", "method", c.Request().Method, "path", c.Request().URL.Path, "error", err)
	}
	if remedy != "" {
		p.Remedy = &remedy
	}
	raw, err := json.Marshal(p)
	if err != nil {
		return
	}
	c.Blob(p.Status, "application/problem+json", raw)
}
