package stacks

import (
	"context"
	"errors"
	"fmt"

	"undersail/internal/access"
	"undersail/internal/people"
	"undersail/internal/refusal"
	"undersail/internal/store"
)

// Stop asks a run to end once its calls in flight have returned.
func (s *Stacks) Stop(ctx context.Context, u people.User, id int64) (Run, error) {
	run, err := s.store.Run(ctx, id)
	if err != nil {
		return Run{}, refusal.Missing(err, "run", fmt.Sprint(id), "list them with: undersail runs")
	}
	if err := u.Must(access.Operate, run.Account); err != nil {
		return Run{}, err
	}
	if ended, err := s.store.EndParked(ctx, id, u.Who()); err != nil || ended {
		if ended {
			s.journal.Done(ctx, u, "stop run", run.Stack, map[string]any{"run": id})
		}
		if err != nil {
			return Run{}, refusal.InTheWay(err, run.Stack, u.Name)
		}
		return s.Run(ctx, id)
	}
	if err := s.store.AskStop(ctx, id, u.Who()); errors.Is(err, store.ErrConflict) {
		return Run{}, refusal.New(refusal.Conflict, "", "run %d is over already", id)
	} else if err != nil {
		return Run{}, refusal.InTheWay(err, run.Stack, u.Name)
	}
	s.engine.AskStop(id)
	s.journal.Done(ctx, u, "stop run", run.Stack, map[string]any{"run": id})
	return s.Run(ctx, id)
}
