package engine

import (
	"context"
	"errors"
	"fmt"
	"time"

	"undersail/internal/core/state"
	"undersail/internal/store"
)

// ErrNotAgreed says that what a run is to do is not what somebody agreed to.
var ErrNotAgreed = errors.New("the run is not what was agreed to")

var (
	errLeft       = errors.New("the run was left to another engine")
	errUnreadable = errors.New("this replica cannot read what the run needs")
)

// refuseRun ends a run whose record somebody changed: nothing of it is done any more.
func (e *Engine) refuseRun(ctx context.Context, id, number int64, why error) error {
	run, err := e.Store.Run(ctx, id)
	if err != nil {
		return fmt.Errorf("reading the run: %w", err)
	}
	e.Log.Error("a run is refused", "run", id, "why", why)
	w := &store.Write{
		Run:    id,
		Claim:  number,
		After:  run.Writes,
		Events: []store.Event{{Kind: "run", State: state.Failed, Text: fmt.Sprintf("run %d is refused: %v", id, why)}},
	}
	w.RunState(state.Failed, why.Error())
	return e.Store.Commit(ctx, w)
}

// renew keeps the claims of the runs that are carried out here, tells them of a
// wish to stop and of values that were given, and leaves those that another engine has taken over.
func (e *Engine) renew(ctx context.Context) error {
	e.mu.Lock()
	mine := map[int64]int64{}
	var spent []store.Spent
	for id, x := range e.running {
		mine[id] = x.number
		spent = append(spent, x.spending()...)
	}
	e.mu.Unlock()
	held, now, err := e.Store.RenewClaims(ctx, e.owner, e.ClaimLife, mine, spent)
	if err != nil {
		return fmt.Errorf("renew claims: %w", err)
	}
	jumped := now.Sub(e.clock.now()).Round(time.Second)
	e.clock.set(now)
	e.mu.Lock()
	defer e.mu.Unlock()
	if jumped.Abs() > leastJump {
		e.tellJump(ctx, jumped)
	}
	for id, number := range mine {
		x := e.running[id]
		if x == nil || x.number != number {
			continue // it has ended, or was replaced, meanwhile
		}
		h, ok := held[id]
		if !ok {
			x.leave()
		}
		if h.Stop {
			x.askStop()
		}
		x.given(h.Given)
	}
	e.Metrics.runs.Set(float64(len(e.running)))
	return nil
}

// leastJump is what no clock that is set by a network falls behind or runs ahead between two
// looks.
const leastJump = 15 * time.Second

// jump is when the database's clock was set last, on our own, and what is told of it.
type jump struct {
	at   time.Time
	text string
}

// tellJump tells the runs that the database's clock was set, also those that are taken over
// because of it. Patience is time spent, and none of it is lost or won.
func (e *Engine) tellJump(ctx context.Context, by time.Duration) {
	way := "ahead"
	if by < 0 {
		way = "back"
	}
	e.Log.Warn("the database's clock jumped", "by", by)
	e.jump = jump{time.Now(),
		fmt.Sprintf("the database's clock was set %s by %s; that counts against no patience", way, by.Abs())}
	for _, x := range e.running {
		go x.tellJump(ctx, e.jump)
	}
}

func (x *execution) tellJump(ctx context.Context, j jump) {
	if !x.mentions.first("clock " + j.at.String()) {
		return
	}
	if err := x.note(ctx, store.Event{Kind: "clock", Text: j.text}, nil); err != nil {
		x.engine.Log.Debug("a jump of the clock was not told", "run", x.run.ID, "error", err)
	}
}

// jumpedLately is what is to be told of a jump because of which a run may have been taken over.
func (e *Engine) jumpedLately() (_ jump, lately bool) {
	e.mu.Lock()
	defer e.mu.Unlock()
	if e.jump.text == "" || time.Since(e.jump.at) > time.Minute {
		return jump{}, false
	}
	return e.jump, true
}

func (e *Engine) sweep(ctx context.Context) error {
	n, err := e.Store.SweepClaims(ctx, Grace, e.Enqueue(ctx))
	if n > 0 {
		e.Metrics.takeovers.Add(float64(n))
		e.Log.Info("took over runs whose owner is gone", "runs", n)
	}
	return err
}

// AskStop passes a wish to stop on at once when the run is carried out here;
// elsewhere it is seen with the next renewal.
func (e *Engine) AskStop(run int64) {
	e.mu.Lock()
	defer e.mu.Unlock()
	if x := e.running[run]; x != nil {
		x.askStop()
	}
}

// Given passes on at once that values were given to a run that is carried out here;
// elsewhere it is seen with the next renewal.
func (e *Engine) Given(run int64, names []string) {
	e.mu.Lock()
	x := e.running[run]
	e.mu.Unlock()
	if x != nil {
		x.given(names)
	}
}

// carryOut claims a run and carries it out to its end, or until it is left.
func (e *Engine) carryOut(ctx context.Context, id, number int64) error {
	if e.hasDeclined(id) {
		return e.release(ctx, id, number, e.ClaimLife/3)
	}
	got, err := e.Store.Claim(ctx, id, number, e.owner, e.ClaimLife)
	if err != nil || !got {
		return err
	}
	x, err := e.prepare(ctx, id, number)
	if errors.Is(err, errUnreadable) {
		return e.decline(ctx, id, number, err)
	}
	if errors.Is(err, ErrNotAgreed) {
		return e.refuseRun(ctx, id, number, err)
	}
	if err != nil {
		e.Log.Warn("run cannot be prepared yet", "run", id, "error", err)
		return errors.Join(err, e.release(ctx, id, number, e.ClaimLife/3))
	}
	e.enter(x)
	defer e.exit(x)
	err = x.carryOut(ctx)
	switch {
	case errors.Is(err, store.ErrFenced):
		return nil // another engine carries it on
	case errors.Is(err, errLeft):
		return e.release(ctx, id, number, 0)
	}
	return err
}

func (e *Engine) release(ctx context.Context, id, number int64, later time.Duration) error {
	return e.Store.ReleaseClaim(context.WithoutCancel(ctx), id, number, later, Grace,
		e.Enqueue(context.WithoutCancel(ctx)))
}

// enter makes an execution the one of its run here. One that was there before has
// lost its claim and leaves.
func (e *Engine) enter(x *execution) {
	e.mu.Lock()
	defer e.mu.Unlock()
	if old := e.running[x.run.ID]; old != nil {
		old.leave()
	}
	e.running[x.run.ID] = x
}

// exit forgets an execution, but never the one that has taken its place.
func (e *Engine) exit(x *execution) {
	e.mu.Lock()
	defer e.mu.Unlock()
	if e.running[x.run.ID] == x {
		delete(e.running, x.run.ID)
	}
}

// decline gives a run away that this replica cannot read: another one may have
// the right key or a newer program. It is told once by each replica.
func (e *Engine) decline(ctx context.Context, id, number int64, cause error) error {
	e.Metrics.declined.Inc()
	e.Log.Error("this replica gives a run away", "run", id, "error", cause)
	r, err := e.Store.Run(ctx, id)
	if err != nil {
		return fmt.Errorf("reading the run: %w", err)
	}
	e.mu.Lock()
	_, told := e.declined[id]
	e.declined[id] = time.Now()
	e.mu.Unlock()
	if !told {
		w := &store.Write{
			Run:   id,
			Claim: number,
			After: r.Writes,
			Events: []store.Event{{Kind: "run", State: state.Queued,
				Text: fmt.Sprintf("replica %s gives the run away: %v", e.owner, cause)}},
		}
		if err := e.Store.Commit(ctx, w); err != nil && !errors.Is(err, store.ErrFenced) {
			return err
		}
	}
	return e.release(ctx, id, number, e.ClaimLife/3)
}

// hasDeclined reports whether a run was given away here and should not be tried
// again yet.
func (e *Engine) hasDeclined(id int64) bool {
	e.mu.Lock()
	defer e.mu.Unlock()
	at, ok := e.declined[id]
	return ok && time.Since(at) < 6*e.ClaimLife
}
