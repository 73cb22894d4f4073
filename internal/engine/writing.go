package engine

import (
	"context"
	"fmt"
	"sync"
	"time"

	"undersail/internal/core/schedule"
	"undersail/internal/store"
)

// noteWaits notes time that a step spent in waiting for the account's limit, in its
// calls and because the cloud asked for it.
func (x *execution) noteWaits(ctx context.Context, number int, limited, asked time.Duration) time.Duration {
	if limited+asked == 0 {
		return 0
	}
	s := &x.steps[number]
	x.wait(number, limited+asked, s.MadeAt != nil)
	if limited > 2*time.Second && x.mentions.first(fmt.Sprintf("limit %d", number)) {
		err := x.note(ctx, store.Event{
			Kind:     "limit",
			Resource: s.Resource,
			Text: fmt.Sprintf("%s waited %s for the limit of account %s; this counts against no patience",
				s.Resource, limited.Round(100*time.Millisecond), x.account.Name),
		},
			func(w *store.Write) { x.writeWaits(w, number) })
		if err != nil {
			x.engine.Log.Debug("waiting was not told", "run", x.run.ID, "error", err)
		}
	}
	return limited
}

func (x *execution) writeWaits(w *store.Write, number int) {
	if all, made := x.waited(number); all > 0 {
		w.StepWaited(x.steps[number].Number, all, made)
	}
}

// note commits an event together with the state it tells.
func (x *execution) note(ctx context.Context, e store.Event, more func(*store.Write)) error {
	e.Text = x.scrub(e.Text)
	return x.commit(ctx, []store.Event{e}, more)
}

// commit writes one after the other, so that a write whose answer was lost is told
// from a new one. While the database is away it holds and tries again: the run
// goes on when it is back.
func (x *execution) commit(ctx context.Context, events []store.Event, more func(*store.Write)) error {
	x.writing.Lock()
	defer x.writing.Unlock()
	began := time.Now()
	defer func() { x.engine.Metrics.commits.Observe(time.Since(began).Seconds()) }()
	for wait := 200 * time.Millisecond; ; wait = min(2*wait, 5*time.Second) {
		w := &store.Write{Run: x.run.ID, Claim: x.number, After: x.writes, Events: events}
		if more != nil {
			more(w)
		}
		if end, decides, ok := x.forecast.take(x.steps); ok {
			w.Forecast(end, decides)
		}
		err := x.engine.Store.Commit(ctx, w)
		if err == nil {
			x.writes++
			return nil
		}
		if !store.Away(err) {
			return &recordError{err}
		}
		x.engine.Log.Warn("the database is away; the run holds", "run", x.run.ID, "error", err)
		select {
		case <-ctx.Done():
			return &recordError{ctx.Err()}
		case <-x.leaving:
			return &recordError{errLeft} // whatever was on its way, somebody else looks for it
		case <-time.After(wait):
		}
	}
}

// recordError marks a failure to record, which ends this engine's part in the
// run, apart from what a cloud refuses.
type recordError struct{ error }

func (r *recordError) Unwrap() error { return r.error }

// forecast is when the run is expected to end, computed at most once in a second
// and written with whatever is written next.
type forecast struct {
	mu      sync.Mutex
	at      time.Time
	end     time.Time
	decides int
	fresh   bool
}

func (f *forecast) update(plan *schedule.Run, now time.Time) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if now.Sub(f.at) < time.Second {
		return
	}
	f.at, f.fresh = now, true
	f.end, f.decides = plan.Forecast(now)
}

func (f *forecast) take(steps []store.Step) (end time.Time, decides string, fresh bool) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if !f.fresh {
		return end, "", false
	}
	f.fresh = false
	if f.decides >= 0 {
		decides = steps[f.decides].Resource
	}
	return f.end, decides, true
}
