package proposing

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"time"

	"undersail/internal/core/state"
	"undersail/internal/refusal"
	"undersail/internal/store"
)

// rest reads what a proposal rests on: the newest run of the stack with its attempt, and then
// the stack, as that run left it.
func (s *Proposing) rest(ctx context.Context, r *reading) error {
	b, err := s.basisBut(ctx, r.stack.ID, r.undoes)
	if err != nil {
		return err
	}
	r.Basis, r.Attempt, r.based = b.Run, b.Attempt, true
	r.stack, err = s.store.Stack(ctx, r.stack.ID)
	if err == nil && r.stack.RetiredAt != nil {
		err = refusal.New(refusal.Stale, "list what is there with: undersail stacks", "stack %s was retired on %s",
			r.stack.Name, r.stack.RetiredAt.Format(time.DateOnly))
	}
	return err
}

func (r *reading) basis() store.Basis { return store.Basis{Run: r.Basis, Attempt: r.Attempt} }

// lastOver is the newest run of a stack; an active one refuses a proposal.
func (s *Proposing) lastOver(ctx context.Context, stackID string) (store.Basis, error) {
	run, err := s.store.LastRun(ctx, stackID)
	if errors.Is(err, store.ErrNotFound) {
		return store.Basis{}, nil
	}
	if err == nil && run.State == state.Parked {
		return store.Basis{}, refusal.New(refusal.Conflict,
			fmt.Sprintf("do what it waits for, or end it with: undersail stop %d", run.ID),
			"run %d of the stack is parked: %s", run.ID, run.Reason)
	}
	if err == nil && run.EndedAt == nil {
		return store.Basis{}, refusal.New(refusal.Conflict, fmt.Sprintf("wait for it with: undersail watch %d", run.ID),
			"run %d of the stack, by %s, is not over", run.ID, cmp.Or(run.TriedBy, run.StartedBy))
	}
	return store.Basis{Run: run.ID, Attempt: run.Attempt}, err
}

// basisBut is the newest run of a stack; a parked one does not stand in the way of
// its own undoing.
func (s *Proposing) basisBut(ctx context.Context, stackID string, undoes *int64) (store.Basis, error) {
	if undoes != nil {
		run, err := s.store.LastRun(ctx, stackID)
		if err == nil && run.ID == *undoes && run.State == state.Parked {
			return store.Basis{Run: run.ID, Attempt: run.Attempt}, nil
		}
	}
	return s.lastOver(ctx, stackID)
}
