package api

import (
	"crypto/rand"
	"encoding/hex"
	"net/http"
	"strings"

	"github.com/labstack/echo/v5"
)

const traceKey = "trace"

// traced gives every request the id under which the log has what was said of it: that of whoever
// follows it through several services (W3C Trace Context), or one of its own.
func (s *Server) traced(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		c.Set(traceKey, traceOf(c.Request()))
		return next(c)
	}
}

func traceOf(r *http.Request) string {
	if parts := strings.Split(r.Header.Get("traceparent"), "-"); len(parts) >= 4 && len(parts[1]) == 32 {
		if id, err := hex.DecodeString(parts[1]); err == nil && strings.Trim(parts[1], "0") != "" {
			return hex.EncodeToString(id)
		}
	}
	id := make([]byte, 16)
	rand.Read(id)
	return hex.EncodeToString(id)
}
