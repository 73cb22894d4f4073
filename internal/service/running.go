package service

import (
	"cmp"
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"undersail/internal/access"
	"undersail/internal/core/change"
	"undersail/internal/core/lang"
	"undersail/internal/core/render"
	"undersail/internal/core/secretrule"
	"undersail/internal/core/state"
	"undersail/internal/engine"
	"undersail/internal/people"
	"undersail/internal/proposal"
	"undersail/internal/refusal"
	"undersail/internal/secret"
	"undersail/internal/store"
)

// draw makes the secrets that an accepted proposal generates. Drawing twice
// keeps the first.
func (s *Service) draw(ctx context.Context, u people.User, id int64) error {
	p, d, err := s.document(ctx, id)
	if err != nil {
		return err
	}
	for _, x := range d.Draw {
		value := ""
		switch x.Kind {
		case "private_key":
			value, _, err = secret.KeyPair(d.Stack.Name)
		default:
			rules := x.Rules // of an embedded template
			if x.Input != "" {
				if rules, err = rulesOf(d, x.Input); err != nil {
					return err
				}
			}
			value, err = rules.Generate(rand.Reader)
		}
		if err != nil {
			return err
		}
		row := store.Secret{Reference: x.Reference, StackID: p.StackID, Kind: x.Kind, GivenBy: u.Name}
		if err := s.sealed.Secret(&row, value); err != nil {
			return err
		}
		if _, err := s.store.AddSecret(ctx, row); err != nil {
			return err
		}
	}
	return nil
}

// rulesOf finds the rules of a secret input of the template itself.
func rulesOf(d proposal.Document, input string) (secretrule.Rules, error) {
	t, found := lang.ReadBundle(d.Template.Bundle())
	if t == nil {
		return secretrule.Rules{}, found
	}
	return t.Input(input).Rules, nil
}

func (s *Service) document(ctx context.Context, id int64) (store.Proposal, proposal.Document, error) {
	var d proposal.Document
	p, err := s.store.Proposal(ctx, id)
	if err != nil {
		return p, d, refusal.Missing(err, "proposal", fmt.Sprint(id), "list them with: undersail proposals")
	}
	if err := json.Unmarshal(p.Document, &d); err != nil {
		return p, d, fmt.Errorf("read proposal %d: %w", id, err)
	}
	return p, d, nil
}

// Continue proposes what is still missing after a run that failed or stopped. It is
// accepted at once where it holds only what was accepted; else it is left open and
// says why.
func (s *Service) Continue(ctx context.Context, u people.User, stack string) (Proposal, error) {
	st, err := s.living(ctx, stack)
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
		return Proposal{}, refusal.New(refusal.Conflict, "go on with: undersail retire "+stack, "the last run was retiring the stack")
	case last.Kind == state.KindUndo && last.State != state.Done:
		return Proposal{}, refusal.New(refusal.Conflict, fmt.Sprintf("go on with: undersail undo %d", *last.Undoes), "the last run was undoing run %d", *last.Undoes)
	}
	accepted, err := s.lastDocument(ctx, st.ID)
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
		judged.Findings = append(judged.Findings, render.Finding{Severity: lang.Warning, Code: "beyond", Place: "proposal", Message: "it goes beyond what was accepted: " + beyond, Remedy: "read it, and accept it if that is what you want"})
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

// Retire proposes the removal of a whole stack, but for what is kept.
func (s *Service) Retire(ctx context.Context, u people.User, stack string, keep ...string) (Proposal, error) {
	return s.RetireWith(ctx, u, stack, keep, nil)
}

// RetireWith does so, and lifts the guards of what it names, which asks for a consent.
func (s *Service) RetireWith(ctx context.Context, u people.User, stack string, keep, liftGuard []string) (Proposal, error) {
	st, err := s.living(ctx, stack)
	if err != nil {
		return Proposal{}, err
	}
	if err := u.Must(access.Operate, st.Account); err != nil {
		return Proposal{}, err
	}
	if err := s.readByOthers(ctx, stack); err != nil {
		return Proposal{}, err
	}
	r := &reading{stack: st, Facts: proposal.Facts{Keep: keep, LiftGuard: liftGuard}}
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
		return Proposal{}, &refusal.Error{Kind: refusal.Findings, Title: "the stack cannot be retired", Remedy: "mend what the findings name; nothing was removed", Findings: judged.Findings}
	}
	return s.save(ctx, u, r, judged, state.KindRetire)
}

// removal computes the removal of everything recorded, what was begun and what is
// missing too: each is proved gone before its record goes. When the first run of a
// stack is undone, what is to be kept at retiring goes too, as far as that run made
// it.
func (s *Service) removal(ctx context.Context, r *reading, undoing bool) (proposal.Changed, error) {
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
func (s *Service) readByOthers(ctx context.Context, stack string) error {
	other, err := s.store.ReadBy(ctx, stack)
	if err != nil || other == "" {
		return err
	}
	return refusal.ReadBy(stack, other)
}

// conduct is how the resources of a stack behave in changes, as the stack was
// last applied.
func (s *Service) conduct(ctx context.Context, st store.Stack, recorded []store.Resource) (map[string]render.Resource, error) {
	out := map[string]render.Resource{}
	if st.TemplateSource == "" {
		return out, nil
	}
	r, err := s.rendered(ctx, st, recorded)
	if err != nil {
		return nil, err
	}
	for _, x := range r.Resources {
		out[x.Name] = x
	}
	return out, nil
}

// Stop asks a run to end once its calls in flight have returned.
func (s *Service) Stop(ctx context.Context, u people.User, id int64) (Run, error) {
	run, err := s.store.Run(ctx, id)
	if err != nil {
		return Run{}, refusal.Missing(err, "run", fmt.Sprint(id), "list them with: undersail runs")
	}
	if err := u.Must(access.Operate, run.Account); err != nil {
		return Run{}, err
	}
	if ended, err := s.store.EndParked(ctx, id, u.Who()); err != nil || ended {
		if ended {
			s.done(ctx, u, "stop run", run.Stack, map[string]any{"run": id})
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
	s.done(ctx, u, "stop run", run.Stack, map[string]any{"run": id})
	return s.Run(ctx, id)
}

// living finds a stack that is not retired.
func (s *Service) living(ctx context.Context, name string) (store.Stack, error) {
	st, err := s.store.StackByName(ctx, name)
	if err == nil && st.RetiredAt != nil {
		return st, refusal.New(refusal.NotFound, "list what is there with: undersail stacks", "stack %s was retired on %s", name, st.RetiredAt.Format(time.DateOnly))
	}
	return st, refusal.Missing(err, "stack", strings.TrimSpace(name), "list them with: undersail stacks")
}
