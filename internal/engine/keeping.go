package engine

import (
	"context"

	"undersail/internal/core/schedule"
	"undersail/internal/core/state"
	"undersail/internal/store"
)

// beginKeeping begins to let a resource leave its stack. There is no call to make.
func (x *execution) beginKeeping(ctx context.Context, s *store.Step) (schedule.Event, error) {
	if err := x.intend(ctx, s, "keeping "+s.Resource, nil); err != nil {
		return schedule.Event{}, err
	}
	return schedule.Event{
		Outcome: schedule.Accepted,
		At:      x.now(),
	}, x.commit(ctx, nil, func(w *store.Write) { w.StepCalled(s.Number) })
}

// keep takes a resource out of its stack and lists it as kept, in one write: it is
// recorded in exactly one place at any moment.
func (x *execution) keep(ctx context.Context, s *store.Step) (schedule.Event, error) {
	mine := x.records.of(s) != nil
	if mine {
		x.records.forget(s.Resource)
	}
	x.engine.Metrics.steps.WithLabelValues(s.Action, string(schedule.Healthy)).Inc()
	return schedule.Event{
			Outcome: schedule.Proved,
		}, x.note(ctx, store.Event{
			Kind:     "step",
			Resource: s.Resource,
			State:    state.Kept,
			Text:     s.Resource + " leaves the stack and is kept, and still paid for; list it with: undersail kept",
		},
			func(w *store.Write) {
				w.StepState(s.Number, string(schedule.Healthy), "")
				if mine {
					w.KeepResource(x.run.StackID, s.Resource, s.Token)
				}
			})
}
