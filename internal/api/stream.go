package api

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"slices"
	"strconv"
	"sync"
	"sync/atomic"
	"time"

	"github.com/labstack/echo/v5"

	"undersail/internal/refusal"
	"undersail/internal/service"
	"undersail/internal/stacks"
)

// wakers tells the readers of streams that there may be something new. One
// connection to the database listens for all of them.
type wakers struct {
	mu      sync.Mutex
	waiting map[chan struct{}]string // by the run waited for; empty for any
	// revoked counts the times that tokens were told to have ended.
	revoked atomic.Int64
}

func newWakers() *wakers { return &wakers{waiting: map[chan struct{}]string{}} }

func (w *wakers) run(ctx context.Context, s *service.Service, log *slog.Logger) {
	for ctx.Err() == nil {
		err := s.Stacks.Wake(ctx, w.wake)
		if ctx.Err() == nil {
			log.Warn("listening for events", "error", err)
		}
		select {
		case <-ctx.Done():
		case <-time.After(time.Second):
		}
	}
}

func (w *wakers) wake(run string) {
	if run == stacks.Revocation {
		w.revoked.Add(1)
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	for c, of := range w.waiting {
		if of == "" || of == run || run == stacks.Revocation {
			select {
			case c <- struct{}{}:
			default:
			}
		}
	}
}

func (w *wakers) join(run string) (chan struct{}, func()) {
	c := make(chan struct{}, 1)
	w.mu.Lock()
	defer w.mu.Unlock()
	w.waiting[c] = run
	return c, func() {
		w.mu.Lock()
		defer w.mu.Unlock()
		delete(w.waiting, c)
	}
}

// page is what a stream has to send next: events, each with the id from which a
// reader resumes. Over says that nothing will follow.
type page struct {
	events []stacks.Event
	ids    []string
	over   bool
}

const (
	keepAlive = 15 * time.Second
	// gather lets events that come close together leave together.
	gather = 20 * time.Millisecond
)

func (s *Server) streamRun(c *echo.Context) error {
	id, err := strconv.ParseInt(c.Param("id"), 10, 64)
	if err != nil {
		return &refusal.Error{Kind: refusal.Invalid, Title: "the id of a run is a number"}
	}
	after, err := lastNumber(c.Request())
	if err != nil {
		return err
	}
	if _, err := s.service.Stacks.RunRow(c.Request().Context(), id); err != nil {
		return err
	}
	return s.stream(c, strconv.FormatInt(id, 10), func(ctx context.Context) (p page, err error) {
		// The run is read first: what happens between the two reads is then
		// either among the events or told by the next page.
		run, err := s.service.Stacks.RunRow(ctx, id)
		if err != nil {
			return p, err
		}
		if p.events, err = s.service.Stacks.Events(ctx, id, after, 500); err != nil {
			return p, err
		}
		for _, e := range p.events {
			p.ids = append(p.ids, strconv.FormatInt(e.Number, 10))
			after = e.Number
		}
		p.over = run.EndedAt != nil && after >= run.LastEvent
		return p, nil
	})
}

func lastNumber(r *http.Request) (int64, error) {
	last := lastSeen(r)
	if last == "" {
		return 0, nil
	}
	n, err := strconv.ParseInt(last, 10, 64)
	if err != nil || n < 0 {
		return 0, &refusal.Error{
			Kind:  refusal.Invalid,
			Title: fmt.Sprintf("Last-Event-ID %q is not the number of an event", last),
		}
	}
	return n, nil
}

func (s *Server) streamAll(c *echo.Context) error {
	cursor := lastSeen(c.Request())
	if _, _, err := s.service.Stacks.AllEvents(c.Request().Context(), cursor, 1); err != nil {
		return err
	}
	return s.stream(c, "", func(ctx context.Context) (p page, err error) {
		p.events, p.ids, err = s.service.Stacks.AllEvents(ctx, cursor, 500)
		if n := len(p.ids); n > 0 {
			cursor = p.ids[n-1]
		}
		return p, err
	})
}

// stream sends pages as server-sent events until the client goes or all is told.
func (s *Server) stream(c *echo.Context, run string, next func(context.Context) (page, error)) error {
	ctx := c.Request().Context()
	out := newEventWriter(c)
	turns := s.turns(ctx, run, out)
	defer turns.stop()
	for {
		p, err := next(ctx)
		if err != nil {
			return nil // the reader comes back with Last-Event-ID
		}
		for i, e := range p.events {
			out.event("", p.ids[i], e)
		}
		if p.over {
			out.event("over", "", struct{}{})
			_ = out.flush()
			return nil
		}
		if out.flush() != nil {
			return nil
		}
		if !turns.wait(ctx, gather) {
			return nil
		}
	}
}

// gatherChanges is how long changes of stacks are gathered: a list need not tell
// every step of a run.
const gatherChanges = 250 * time.Millisecond

// maxCatchUp is how many changes a reader that comes back is told one by one; one
// that missed more reads its lists anew.
const maxCatchUp = 500

// streamChanges sends the stacks that change, as lists tell them. A reader that
// comes without a place, or was away for long, is told to read its lists anew.
func (s *Server) streamChanges(c *echo.Context) error {
	ctx := c.Request().Context()
	place := lastSeen(c.Request())
	changes, next, err := s.service.Stacks.Changed(ctx, place, maxCatchUp)
	if err != nil {
		return err
	}
	out := newEventWriter(c)
	turns := s.turns(ctx, "", out)
	defer turns.stop()
	if place == "" || len(changes.Stacks) == maxCatchUp {
		if _, next, err = s.service.Stacks.Changed(ctx, "", 0); err != nil {
			return err
		}
		out.event("reset", next, struct{}{})
		changes.Stacks = nil
	}
	for {
		for i, st := range changes.Stacks {
			out.event("stack", changes.Places[i], st)
		}
		if out.flush() != nil {
			return nil
		}
		if !turns.wait(ctx, gatherChanges) {
			return nil
		}
		if changes, next, err = s.service.Stacks.Changed(ctx, next, maxCatchUp); err != nil {
			return nil // the reader comes back with Last-Event-ID
		}
	}
}

// turns tells a stream when to look again: woken, or at the latest every two seconds, so
// that a lost wake-up costs no more than that. A stream ends with the session or token that
// it was opened with, and when what its reader may see has changed.
type turns struct {
	server      *Server
	who         asker
	held        time.Time // when it was held last against the token
	revoked     int64
	woken       <-chan struct{}
	leave       func()
	slow, alive *time.Ticker
	out         *eventWriter
}

// turns begins to listen for what happens in a run, or in all runs if it is empty.
func (s *Server) turns(ctx context.Context, run string, out *eventWriter) *turns {
	woken, leave := s.wake.join(run)
	return &turns{
		server:  s,
		who:     askerOf(ctx),
		held:    time.Now(),
		revoked: s.wake.revoked.Load(),
		woken:   woken,
		leave:   leave,
		slow:    time.NewTicker(2 * time.Second),
		alive:   time.NewTicker(keepAlive),
		out:     out,
	}
}

// wait returns at the next turn, and false once the reader is gone, or may not read on.
// After a wake-up it lets more gather.
func (t *turns) wait(ctx context.Context, gather time.Duration) bool {
	select {
	case <-ctx.Done():
		return false
	case <-t.woken:
		if t.server.wake.revoked.Load() == t.revoked {
			time.Sleep(gather)
		}
	case <-t.slow.C:
	case <-t.alive.C:
		t.out.comment("still here")
	}
	return t.mayReadOn(ctx)
}

// heldEvery is how long a stream goes on at most after a token ended whose end was not
// told, because it came by itself.
const heldEvery = 5 * time.Second

func (t *turns) mayReadOn(ctx context.Context) bool {
	revoked := t.server.wake.revoked.Load()
	if revoked == t.revoked && time.Since(t.held) < heldEvery {
		return true
	}
	u, err := t.server.service.People.ByToken(ctx, t.who.token, "", !t.who.console)
	var said *refusal.Error
	if errors.As(err, &said) || err == nil && !slices.Equal(u.Roles, t.who.user.Roles) {
		return false
	}
	if err == nil { // a database that is away ends no stream: it is asked again
		t.revoked, t.held = revoked, time.Now()
	}
	return true
}

func (t *turns) stop() {
	t.leave()
	t.slow.Stop()
	t.alive.Stop()
}

// eventWriter writes server-sent events.
type eventWriter struct {
	w   http.ResponseWriter
	ctl *http.ResponseController
}

// newEventWriter begins a stream. Headers leave with the first byte, so that a
// reader knows it is connected.
func newEventWriter(c *echo.Context) *eventWriter {
	e := &eventWriter{c.Response(), http.NewResponseController(c.Response())}
	e.w.Header().Set("Content-Type", "text/event-stream")
	e.w.Header().Set("Cache-Control", "no-store")
	e.w.WriteHeader(http.StatusOK)
	e.comment("connected")
	_ = e.flush()
	return e
}

func (e *eventWriter) comment(text string) { fmt.Fprintf(e.w, ": %s\n\n", text) }
func (e *eventWriter) flush() error {
	e.ctl.SetWriteDeadline(time.Now().Add(writePatience))
	return e.ctl.Flush()
}

// event writes one event; name is empty for the usual kind.
func (e *eventWriter) event(name, id string, data any) {
	raw, err := json.Marshal(data)
	if err != nil {
		return
	}
	if name != "" {
		fmt.Fprintf(e.w, "event: %s\n", name)
	}
	if id != "" {
		fmt.Fprintf(e.w, "id: %s\n", id)
	}
	fmt.Fprintf(e.w, "data: %s\n\n", raw)
}

// lastSeen is the id of the event that a reader saw last: browsers that come back by
// themselves send a header, one that had to begin anew the parameter after.
func lastSeen(r *http.Request) string {
	return cmp.Or(r.Header.Get("Last-Event-ID"), r.URL.Query().Get("after"))
}
