package service

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"time"

	"undersail/internal/core/change"
	"undersail/internal/core/lang"
	"undersail/internal/core/render"
	"undersail/internal/core/secretrule"
	"undersail/internal/core/state"
	"undersail/internal/engine"
	"undersail/internal/secret"
	"undersail/internal/store"
)

// draw makes the secrets that an accepted proposal generates. Drawing twice
// keeps the first.
func (s *Service) draw(ctx context.Context, id int64) error {
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
			value, err = rules.Generate(entropy)
		}
		if err != nil {
			return err
		}
		sealed, err := s.box.Seal([]byte(value))
		if err != nil {
			return err
		}
		if err := s.store.AddSecret(ctx, store.Secret{Reference: x.Reference, StackID: p.StackID, Kind: x.Kind, Sealed: sealed}); err != nil {
			return err
		}
	}
	return nil
}

// rulesOf finds the rules of a secret input of the template itself.
func rulesOf(d engine.Document, input string) (secretrule.Rules, error) {
	t, found := lang.ReadBundle(d.Template.Bundle())
	if t == nil {
		return secretrule.Rules{}, found
	}
	return t.Input(input).Rules, nil
}

func (s *Service) document(ctx context.Context, id int64) (store.Proposal, engine.Document, error) {
	var d engine.Document
	p, err := s.store.Proposal(ctx, id)
	if err != nil {
		return p, d, missing(err, "proposal", fmt.Sprint(id), "list them with: undersail proposals")
	}
	if err := json.Unmarshal(p.Document, &d); err != nil {
		return p, d, fmt.Errorf("read proposal %d: %w", id, err)
	}
	return p, d, nil
}

// Apply starts the run of an accepted proposal. When the world has changed so
// that the proposal would not do what it says, it is stale and nothing starts.
// OnFailure says what becomes of a run that fails: keep (also when empty) or undo.
func (s *Service) Apply(ctx context.Context, u User, id int64, onFailure string) (Run, error) {
	if err := u.must("operate"); err != nil {
		return Run{}, err
	}
	p, d, err := s.document(ctx, id)
	if err != nil {
		return Run{}, err
	}
	switch {
	case onFailure != "" && onFailure != state.Keep && onFailure != state.Undo:
		return Run{}, refuse(Invalid, "say keep or undo", "%q is not what can become of a run that fails", onFailure)
	case p.State == state.Applied && p.RunID != nil:
		return s.Run(ctx, *p.RunID) // asked twice: the same run
	case p.State == state.Open:
		return Run{}, refuse(Conflict, fmt.Sprintf("accept it first with: undersail accept %d", id), "proposal %d is not accepted", id)
	case p.State != state.Accepted:
		return Run{}, refuse(Stale, "propose again", "proposal %d is %s", id, p.State)
	}
	w, err := s.stillTrue(ctx, p, d)
	if err != nil {
		return Run{}, err
	}
	if w.expect, err = s.durations(ctx, w.account); err != nil {
		return Run{}, err
	}
	n := store.NewRun{Proposal: id, Kind: p.Kind, By: u.Name, OnFailure: onFailure, Undoes: p.Undoes, Grace: engine.Grace,
		Steps: engine.Steps(d.Changes, d.Rendering, w.expect, w.recorded), Update: updateOf(p.Kind, d), Absent: w.absent()}
	run, err := s.store.StartRun(ctx, n, s.engine.Enqueue(ctx))
	if errors.Is(err, store.ErrConflict) {
		return Run{}, refuse(Conflict, "wait for it, or look with: undersail runs --stack "+p.Stack, "another run of stack %s is under way", p.Stack)
	}
	if err != nil {
		return Run{}, err
	}
	return s.Run(ctx, run)
}

// updateOf is what a run makes of its stack's record when it starts.
func updateOf(kind string, d engine.Document) *store.StackUpdate {
	if kind == state.KindRetire || d.Rendering == nil {
		return nil
	}
	return &store.StackUpdate{TemplateName: d.Template.Name, TemplateVersion: d.Template.Version, TemplateSource: d.Template.Source, TemplateParts: d.Template.Parts,
		Inputs: d.Inputs, Secrets: d.Secrets, Found: d.Found, Reads: d.Stacks, Renames: renames(d.Changes), Cloud: d.Stack.Cloud, Currency: d.Cost.Currency, Title: d.Rendering.Template.Title}
}

// stillTrue checks that a proposal would still be made as it is, and gives what it
// would be made from now.
func (s *Service) stillTrue(ctx context.Context, p store.Proposal, d engine.Document) (*work, error) {
	basis, err := s.basisBut(ctx, p.StackID, p.Undoes)
	if err != nil {
		return nil, err
	}
	if basis != d.Basis {
		return nil, refuse(Stale, "propose again", "run %d has changed the stack since proposal %d was made", basis, p.ID)
	}
	adapter, account, err := s.adapter(ctx, d.Stack.Account)
	if err != nil {
		return nil, err
	}
	st, err := s.store.Stack(ctx, p.StackID)
	if err != nil {
		return nil, err
	}
	w := &work{stack: st, account: account, inputs: d.Inputs, secrets: d.Secrets, stacks: d.Stacks, undoes: p.Undoes}
	if w.offers, err = adapter.Offers(ctx, d.Stack.Region); err != nil {
		return nil, cloudSays(err)
	}
	if err := s.readRecorded(ctx, w, adapter); err != nil {
		return nil, err
	}
	if d.Rendering == nil {
		return w, nil // it removes what there is
	}
	var found lang.Diagnostics
	if w.template, found = lang.ReadBundle(d.Template.Bundle()); w.template == nil {
		return nil, found
	}
	if w.conduct, err = s.conduct(st, w.recorded); err != nil {
		return nil, err
	}
	plan, err := s.plan(ctx, w)
	var refused *Error
	if errors.As(err, &refused) && refused.Kind == Findings {
		return nil, &Error{Kind: Stale, Title: fmt.Sprintf("the world has changed since proposal %d was made", p.ID), Remedy: "mend what the findings name and propose again", Findings: refused.Findings}
	}
	if err != nil {
		return nil, err
	}
	if change.Summary(plan.Changes) != change.Summary(d.Changes) {
		return nil, refuse(Stale, "propose again", "the stack has changed: this would now be %s, and %s was accepted", change.Summary(plan.Changes), change.Summary(d.Changes))
	}
	return w, nil
}

// Continue proposes what is still missing after a run that failed or stopped.
// When nothing else changed, what was accepted stays accepted.
func (s *Service) Continue(ctx context.Context, u User, stack string) (Proposal, error) {
	if err := u.must("operate"); err != nil {
		return Proposal{}, err
	}
	st, err := s.living(ctx, stack)
	if err != nil {
		return Proposal{}, err
	}
	last, err := s.store.LastRun(ctx, st.ID)
	if err != nil {
		return Proposal{}, missing(err, "run of stack", stack, "propose it first")
	}
	switch {
	case last.Kind == state.KindRetire:
		return Proposal{}, refuse(Conflict, "go on with: undersail retire "+stack, "the last run was retiring the stack")
	case last.Kind == state.KindUndo && last.State != state.Done:
		return Proposal{}, refuse(Conflict, fmt.Sprintf("go on with: undersail undo %d", *last.Undoes), "the last run was undoing run %d", *last.Undoes)
	}
	w, err := s.work(ctx, NewProposal{Stack: stack})
	if err != nil {
		return Proposal{}, err
	}
	w.secrets = st.Secrets // the accepted references, drawn or not
	plan, err := s.plan(ctx, w)
	if err != nil {
		return Proposal{}, err
	}
	p, err := s.save(ctx, u, w, plan, state.KindContinue)
	if err != nil {
		return p, err
	}
	return s.Accept(ctx, u, p.ID)
}

// Retire proposes the removal of a whole stack.
func (s *Service) Retire(ctx context.Context, u User, stack string) (Proposal, error) {
	if err := u.must("operate"); err != nil {
		return Proposal{}, err
	}
	st, err := s.living(ctx, stack)
	if err != nil {
		return Proposal{}, err
	}
	if err := s.readByOthers(ctx, stack); err != nil {
		return Proposal{}, err
	}
	w, err := s.workOn(ctx, st)
	if err != nil {
		return Proposal{}, err
	}
	if w.basis, err = s.basis(ctx, st.ID); err != nil {
		return Proposal{}, err
	}
	changes, findings := change.Retire(w.recordedForRemoval())
	if render.HasErrors(findings) {
		return Proposal{}, &Error{Kind: Findings, Title: "the stack cannot be retired", Remedy: "mend what the findings name; nothing was removed", Findings: findings}
	}
	return s.save(ctx, u, w, change.Plan{Changes: changes, Findings: findings}, state.KindRetire)
}

// workOn reads what removing or undoing a stack is worked out from.
func (s *Service) workOn(ctx context.Context, st store.Stack) (*work, error) {
	w := &work{stack: st}
	adapter, account, err := s.adapter(ctx, st.Account)
	if err != nil {
		return nil, err
	}
	w.account = account
	if w.expect, err = s.durations(ctx, w.account); err != nil {
		return nil, err
	}
	if w.offers, err = adapter.Offers(ctx, st.Region); err != nil {
		return nil, cloudSays(err)
	}
	if err := s.readRecorded(ctx, w, adapter); err != nil {
		return nil, err
	}
	w.conduct, err = s.conduct(st, w.recorded)
	return w, err
}

// recordedForRemoval is everything recorded, what was begun and what is missing
// too: each is proved gone before its record goes.
func (w *work) recordedForRemoval() []change.Recorded {
	var all []change.Recorded
	for _, r := range w.recorded {
		c := w.conduct[r.Name]
		_, there := w.facts.live[r.Name]
		all = append(all, change.Recorded{Name: r.Name, Type: r.Type, After: r.After, Guard: c.Guard && there, AtRetire: c.AtRetire})
	}
	return all
}

// readByOthers refuses to retire a stack whose outputs another one reads.
func (s *Service) readByOthers(ctx context.Context, stack string) error {
	other, err := s.store.ReadBy(ctx, stack)
	if err != nil || other == "" {
		return err
	}
	return refuse(Conflict, "retire "+other+" first, or let it read another stack", "stack %s reads the outputs of %s", other, stack)
}

// conduct is how the resources of a stack behave in changes, as the stack was
// last applied.
func (s *Service) conduct(st store.Stack, recorded []store.Resource) (map[string]render.Resource, error) {
	out := map[string]render.Resource{}
	if st.TemplateSource == "" {
		return out, nil
	}
	r, err := s.rendered(st, recorded, nil)
	if err != nil {
		return nil, err
	}
	for _, x := range r.Resources {
		out[x.Name] = x
	}
	return out, nil
}

// renames are the resources that a proposal calls something else, new names by
// old ones.
func renames(changes []change.Change) map[string]string {
	out := map[string]string{}
	for _, c := range changes {
		if c.Was != "" {
			out[c.Was] = c.Resource
		}
	}
	return out
}

// Stop asks a run to end once its calls in flight have returned.
func (s *Service) Stop(ctx context.Context, u User, id int64) (Run, error) {
	if err := u.must("operate"); err != nil {
		return Run{}, err
	}
	if _, err := s.store.Run(ctx, id); err != nil {
		return Run{}, missing(err, "run", fmt.Sprint(id), "list them with: undersail runs")
	}
	if ended, err := s.store.EndParked(ctx, id); err != nil || ended {
		return s.runOr(ctx, id, err)
	}
	if err := s.store.AskStop(ctx, id); errors.Is(err, store.ErrConflict) {
		return Run{}, refuse(Conflict, "", "run %d is over already", id)
	} else if err != nil {
		return Run{}, err
	}
	s.engine.AskStop(id)
	return s.Run(ctx, id)
}

// living finds a stack that is not retired.
func (s *Service) living(ctx context.Context, name string) (store.Stack, error) {
	st, err := s.store.StackByName(ctx, name)
	if err == nil && st.RetiredAt != nil {
		return st, refuse(NotFound, "list what is there with: undersail stacks", "stack %s was retired on %s", name, st.RetiredAt.Format(time.DateOnly))
	}
	return st, missing(err, "stack", strings.TrimSpace(name), "list them with: undersail stacks")
}
