package proposing

import (
	"cmp"
	"context"
	"fmt"

	"undersail/internal/access"
	"undersail/internal/core/lang"
	"undersail/internal/core/render"
	"undersail/internal/core/state"
	"undersail/internal/people"
	"undersail/internal/refusal"
)

// Continue proposes what is still missing after a run that failed or stopped. It is
// accepted at once where it holds only what was accepted; else it is left open and
// says why.
func (s *Proposing) Continue(ctx context.Context, u people.User, stack string) (Proposal, error) {
	st, err := s.stacks.Living(ctx, stack)
	if err != nil {
		return Proposal{}, err
	}
	if err := u.Must(access.Operate, st.Account); err != nil {
		return Proposal{}, err
	}
	last, err := s.store.LastRun(ctx, st.ID)
	if err != nil {
		return Proposal{}, refusal.Missing(err, "run of stack", stack, "propose it first")
	}
	switch {
	case last.State == state.Parked && last.ParkedFor == state.ForAgreement:
		return s.agreeOn(ctx, u, last)
	case last.Kind == state.KindRetire:
		return Proposal{}, refusal.New(refusal.Conflict, "go on with: undersail retire "+stack,
			"the last run was retiring the stack")
	case last.Kind == state.KindUndo && last.State != state.Done:
		return Proposal{}, refusal.New(refusal.Conflict, fmt.Sprintf("go on with: undersail undo %d", *last.Undoes),
			"the last run was undoing run %d", *last.Undoes)
	}
	accepted, err := s.stacks.LastDocument(ctx, st.ID)
	if err != nil {
		return Proposal{}, err
	}
	r, err := s.read(ctx, u, NewProposal{Stack: stack})
	if err != nil {
		return Proposal{}, err
	}
	for name, reference := range st.Secrets { // the accepted references, drawn or not
		r.Secrets[name] = cmp.Or(r.Secrets[name], reference)
	}
	judged, err := s.stages(ctx, r)
	if err != nil {
		return Proposal{}, err
	}
	if nothing, err := s.nothing(ctx, r, judged); err != nil || nothing {
		return unsaved(judged), err
	}
	judged, beyond := judged.GoesOn(accepted)
	if beyond != "" {
		judged.Findings = append(judged.Findings, render.Finding{
			Severity: lang.Warning,
			Code:     "beyond",
			Place:    "proposal",
			Message:  "it goes beyond what was accepted: " + beyond,
			Remedy:   "read it, and accept it if that is what you want",
		})
	}
	if judged, err = s.listUses(ctx, r, judged); err != nil {
		return Proposal{}, err
	}
	p, err := s.save(ctx, u, r, judged, state.KindContinue)
	if err != nil || beyond != "" || len(judged.Consents) > 0 {
		return p, err
	}
	return s.accept(ctx, u, p, Acceptance{byItself: true})
}
