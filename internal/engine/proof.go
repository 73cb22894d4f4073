package engine

import (
	"context"

	"undersail/internal/core/health"
	"undersail/internal/core/render"
	"undersail/internal/core/schedule"
	"undersail/internal/proposal"
	"undersail/internal/store"
)

// Whole is what a step proves that makes nothing: it checks the stack as a whole,
// after everything else is healthy. The name has a blank, which no resource has.
const Whole = "whole stack"

// withProof adds the step that proves the whole stack, if the template asks for
// one. It comes after all other steps.
func withProof(steps []store.Step, r *render.Rendering, d proposal.Durations) []store.Step {
	if r == nil || len(r.Prove) == 0 {
		return steps
	}
	patience := int64(0)
	for _, c := range r.Prove {
		patience = max(patience, c.Within)
	}
	proof := store.Step{
		Number:     len(steps),
		Resource:   Whole,
		Type:       "stack",
		Action:     ActionProve,
		State:      string(schedule.Waiting),
		Needs:      []store.Need{},
		ExpectMS:   d.ExpectProof(),
		PatienceMS: health.Patience(patience+60, d.Rate).Milliseconds(),
	}
	for _, s := range steps {
		proof.Needs = append(proof.Needs, store.Need{Step: s.Number})
	}
	return append(steps, proof)
}

// beginProof begins the checks of the whole stack. There is no call to make.
func (x *execution) beginProof(ctx context.Context, s *store.Step) (schedule.Event, error) {
	if err := x.intend(ctx, s, "proving the "+Whole, nil); err != nil {
		return schedule.Event{}, err
	}
	return schedule.Event{
		Outcome: schedule.Accepted,
		At:      x.now(),
	}, x.commit(ctx, nil, func(w *store.Write) { w.StepCalled(s.Number) })
}

// settleProof moves the proof on to its checks.
func (x *execution) settleProof(ctx context.Context, s *store.Step) (schedule.Event, error) {
	x.proofs.begin(s.Resource, newProving())
	now := x.now()
	s.State, s.MadeAt = string(schedule.Settling), &now
	x.madeNow(s.Number, now)
	return schedule.Event{
			Outcome: schedule.Made,
		}, x.note(ctx, store.Event{
			Kind:     "step",
			Resource: s.Resource,
			State:    string(schedule.Settling),
			Text:     "the checks of the " + Whole + " have begun",
		},
			func(w *store.Write) { w.StepState(s.Number, string(schedule.Settling), "") })
}

// proved records that the checks of the whole stack hold.
func (x *execution) proved(ctx context.Context, s *store.Step, seen []health.Evidence) (schedule.Event, error) {
	now := x.now()
	s.EndedAt = &now
	return schedule.Event{
			Outcome: schedule.Proved,
		}, x.note(ctx, store.Event{
			Kind:     "step",
			Resource: s.Resource,
			State:    string(schedule.Healthy),
			Text:     "the " + Whole + " is proved",
		}, func(w *store.Write) {
			x.saw(w, seen)
			w.StepState(s.Number, string(schedule.Healthy), "")
		})
}
