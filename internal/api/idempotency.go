package api

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"io"
	"net/http"

	"github.com/labstack/echo/v5"

	"undersail/internal/refusal"
)

const maxKey = 200

// once carries a POST that has an Idempotency-Key out once: the same call with
// the same key is answered as the first one was. A call that nothing came of may
// be made again under its key.
func (s *Server) once(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		r := c.Request()
		key, user := r.Header.Get("Idempotency-Key"), userOf(r.Context())
		if r.Method != http.MethodPost || key == "" || user.Name == "" {
			return next(c)
		}
		if len(key) > maxKey {
			return &refusal.Error{
				Kind:   refusal.Invalid,
				Title:  "an Idempotency-Key has at most 200 characters",
				Remedy: "use a random text such as a UUID",
			}
		}
		request := digest(r, bodyOf(c))
		before, err := s.service.Keys.Take(r.Context(), user, key, request)
		if err != nil {
			return err
		}
		if before != nil {
			c.Response().Header().Set("Content-Type", "application/json")
			c.Response().Header().Set("Idempotency-Replayed", "true")
			c.Response().WriteHeader(before.Status)
			_, err := c.Response().Write(before.Answer)
			return err
		}
		seen := &recorder{ResponseWriter: c.Response(), status: http.StatusOK}
		c.SetResponse(seen)
		if err := next(c); err != nil {
			s.problem(c, err)
		}
		// The caller may be gone; what came of the call is kept all the same.
		return s.service.Keys.Remember(context.WithoutCancel(r.Context()), user, key, seen.status, seen.body.Bytes())
	}
}

// digest tells one request from another.
func digest(r *http.Request, body []byte) string {
	sum := sha256.New()
	io.WriteString(sum, r.Method+" "+r.URL.RequestURI()+"\n")
	sum.Write(body)
	return hex.EncodeToString(sum.Sum(nil))
}

// recorder keeps what is answered.
type recorder struct {
	http.ResponseWriter
	status int
	body   bytes.Buffer
}

func (r *recorder) Unwrap() http.ResponseWriter { return r.ResponseWriter }

func (r *recorder) WriteHeader(status int) {
	r.status = status
	r.ResponseWriter.WriteHeader(status)
}

func (r *recorder) Write(b []byte) (int, error) {
	r.body.Write(b)
	return r.ResponseWriter.Write(b)
}
