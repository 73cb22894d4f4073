package api

import (
	"net/http"
	"strings"
	"time"

	"github.com/labstack/echo/v5"

	"undersail/internal/gentle"
	"undersail/internal/refusal"
	"undersail/internal/turnstile"
)

// How much one person, and all together, may have in work here at a time. Strangers are
// counted by their address. Whoever asks for more waits a while, and is then told to come
// back: so one who asks for everything does not take the others' turn.
const (
	requestsEach    = 8
	strangersEach   = 4
	visitsEach      = 16
	computingEach   = 2
	streamsEach     = 24
	streamsAll      = 1000
	workPatience    = 10 * time.Second
	computePatience = 30 * time.Second
)

// largeBody is the size from which reading a body takes a turn of its own: what it holds is
// unpacked several times over.
const largeBody = 128 << 10

func largeAll() int { return max(1, gentle.Processors/2) }

// So many large bodies of one person, and of all, are in memory at a time, from their first
// byte until they are answered. Whoever sends slowly keeps a turn no longer than bodyPatience.
const (
	largeHeldEach = 2
	largeHeldAll  = 4
)

// hold lets a large body come in when it is its turn; what is not known to be small counts as
// large. Strangers' bodies are never large.
func (s *Server) hold(r *http.Request) (leave func(), err error) {
	who := userOf(r.Context()).Name
	if who == "" || r.ContentLength >= 0 && r.ContentLength < largeBody {
		return func() {}, nil
	}
	leave, ok := s.work.held.Enter(r.Context(), "of "+who, largeHeldEach, computePatience)
	if !ok {
		return nil, crowded("too many large bodies are in work at this moment")
	}
	return leave, nil
}

// unpack reads a body; a large one waits for its turn.
func (s *Server) unpack(r *http.Request, size int, read func() error) (err error) {
	if size < largeBody {
		return read()
	}
	leave, ok := s.work.large.Enter(r.Context(), "of "+userOf(r.Context()).Name, 1, workPatience)
	if !ok {
		return crowded("too many large bodies are being read at this moment")
	}
	defer leave()
	gentle.Do(func() { err = read() })
	return err
}

// work counts what is in work.
type work struct {
	requests, streams, held, large *turnstile.Turnstile
}

func newWork() work {
	return work{
		requests: turnstile.New(0),
		streams:  turnstile.New(streamsAll),
		held:     turnstile.New(largeHeldAll),
		large:    turnstile.New(largeAll()),
	}
}

func isStream(r *http.Request) bool {
	return strings.HasPrefix(r.URL.Path, "/api/v1/") && strings.HasSuffix(r.URL.Path, "/stream")
}

// inWork lets a request begin when it is its turn.
func (s *Server) inWork(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		r := c.Request()
		who, each := "of "+userOf(r.Context()).Name, requestsEach
		if userOf(r.Context()).Name == "" {
			who, each = "from "+askerOf(r.Context()).address, strangersEach
		}
		if isStream(r) {
			leave, ok := s.work.streams.Enter(r.Context(), who, streamsEach, 0)
			if !ok {
				return crowded("too many streams are open for you")
			}
			defer leave()
			return next(c)
		}
		leave, ok := s.work.requests.Enter(r.Context(), who, each, workPatience)
		if !ok {
			return crowded("too many requests of yours are in work")
		}
		defer leave()
		return next(c)
	}
}

// visiting lets what is no call begin when it is the turn of its address: pages, and whether
// the service is ready.
func (s *Server) visiting(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		leave, ok := s.work.requests.Enter(c.Request().Context(), "visits from "+s.addressOf(c.Request()), visitsEach,
			workPatience)
		if !ok {
			return crowded("too many pages are being read from here")
		}
		defer leave()
		return next(c)
	}
}

func crowded(title string) error {
	return &refusal.Error{Kind: refusal.TooMany, Title: title, Remedy: "ask again in a moment", RetryAfter: 2}
}
