package engine

import (
	"context"

	"undersail/internal/await"
	"undersail/internal/store"
)

// CarryOut carries a run out under a claim number, in the caller's goroutine.
func (e *Engine) CarryOut(ctx context.Context, run, number int64) error {
	now, err := e.Store.Now(ctx)
	if err != nil {
		return err
	}
	e.clock.set(now)
	return e.carryOut(ctx, run, number)
}

// Takeover ends the claim of a run and gives it a new number, as a sweep would.
func (e *Engine) Takeover(ctx context.Context, run int64) (int64, error) {
	_, err := e.Store.Pool.Exec(ctx,
		"UPDATE runs SET claim_until = clock_timestamp() - interval '1 second', claim_owner = coalesce(claim_owner, "+
			"'gone') WHERE id = $1", run)
	if err != nil {
		return 0, err
	}
	before, err := e.Store.Run(ctx, run)
	if err != nil {
		return 0, err
	}
	// A sweep passes over a row that the last words of the dead owner still hold.
	var r store.Run
	await.Holds(func() bool {
		if err = e.sweep(ctx); err == nil {
			r, err = e.Store.Run(ctx, run)
		}
		return err != nil || r.ClaimNumber > before.ClaimNumber || r.EndedAt != nil
	})
	return r.ClaimNumber, err
}

// Abandon lets go of everything that is carried out here.
func (e *Engine) Abandon() {
	e.mu.Lock()
	defer e.mu.Unlock()
	for _, x := range e.running {
		x.leave()
	}
}
