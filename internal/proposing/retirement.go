package proposing

import (
	"context"
	"slices"

	"undersail/internal/access"
	"undersail/internal/core/change"
	"undersail/internal/core/render"
	"undersail/internal/core/state"
	"undersail/internal/engine"
	"undersail/internal/people"
	"undersail/internal/proposal"
	"undersail/internal/refusal"
)

// Retire proposes the removal of a whole stack, but for what is kept.
func (s *Proposing) Retire(ctx context.Context, u people.User, stack string, keep ...string) (Proposal, error) {
	return s.RetireWith(ctx, u, stack, keep, nil)
}

// RetireWith does so, and lifts the guards of what it names, which asks for a consent.
func (s *Proposing) RetireWith(ctx context.Context, u people.User, stack string,
	keep, liftGuard []string) (Proposal, error) {
	st, err := s.stacks.Living(ctx, stack)
	if err != nil {
		return Proposal{}, err
	}
	if err := u.Must(access.Operate, st.Account); err != nil {
		return Proposal{}, err
	}
	if err := s.readByOthers(ctx, stack); err != nil {
		return Proposal{}, err
	}
	r := &reading{stack: st, leaves: true, Facts: proposal.Facts{Keep: keep, LiftGuard: liftGuard}}
	if err := s.rest(ctx, r); err != nil {
		return Proposal{}, err
	}
	if err := s.readPlace(ctx, r); err != nil {
		return Proposal{}, err
	}
	if err := s.readBefore(ctx, r); err != nil {
		return Proposal{}, err
	}
	changed, err := s.removal(ctx, r, false)
	if err != nil {
		return Proposal{}, err
	}
	judged := changed.Judge(nil)
	if render.HasErrors(judged.Findings) {
		return Proposal{}, &refusal.Error{
			Kind:     refusal.Findings,
			Title:    "the stack cannot be retired",
			Remedy:   "mend what the findings name; nothing was removed",
			Findings: judged.Findings,
		}
	}
	return s.save(ctx, u, r, judged, state.KindRetire)
}

// removal computes the removal of everything recorded, what was begun and what is
// missing too: each is proved gone before its record goes. When the first run of a
// stack is undone, what is to be kept at retiring goes too, as far as that run made
// it.
func (s *Proposing) removal(ctx context.Context, r *reading, undoing bool) (proposal.Changed, error) {
	r.Recorded = slices.DeleteFunc(r.Recorded, func(x change.Recorded) bool { return x.Kept != "" })
	if undoing {
		made := map[string]bool{}
		for _, of := range r.undone {
			for _, st := range of.steps {
				made[st.Token] = made[st.Token] || st.Action == engine.ActionCreate
			}
		}
		tokens := map[string]string{}
		for _, row := range r.rows {
			tokens[row.Name] = row.Token
		}
		for i, x := range r.Recorded {
			if r.Recorded[i].AtRetire = ""; !made[tokens[x.Name]] {
				r.Recorded[i].AtRetire = "keep" // it was taken over, and goes back to what is kept
			}
		}
	}
	return s.usedElsewhere(ctx, r, r.Facts.Remove())
}

// readByOthers refuses to retire a stack whose outputs another one reads.
func (s *Proposing) readByOthers(ctx context.Context, stack string) error {
	other, err := s.store.ReadBy(ctx, stack)
	if err != nil || other == "" {
		return err
	}
	return refusal.ReadBy(stack, other)
}
