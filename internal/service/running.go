package service

import (
	"cmp"
	"context"
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
			value, err = rules.Generate(entropy)
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

// Apply starts the run of an accepted proposal. When the world has changed so
// that the proposal would not do what it says, it is stale and nothing starts.
// OnFailure says what becomes of a run that fails: keep (also when empty) or undo.
func (s *Service) Apply(ctx context.Context, u people.User, id int64, onFailure string) (Run, error) {
	p, err := s.store.Proposal(ctx, id)
	if err != nil {
		return Run{}, refusal.Missing(err, "proposal", fmt.Sprint(id), "list them with: undersail proposals")
	}
	if err := u.Must(access.Operate, p.Account); err != nil {
		return Run{}, err
	}
	if onFailure, err = s.afterFailure(ctx, u, p, onFailure); err != nil {
		return Run{}, err
	}
	return s.start(ctx, u, id, onFailure, nil)
}

// start starts the run of an accepted proposal, for somebody who may or in whose name it is
// done.
func (s *Service) start(ctx context.Context, u people.User, id int64, onFailure string, standing *store.Standing) (Run, error) {
	p, d, err := s.document(ctx, id)
	if err != nil {
		return Run{}, err
	}
	switch {
	case onFailure != "" && onFailure != state.Keep && onFailure != state.Undo:
		return Run{}, refusal.New(refusal.Invalid, "say keep or undo", "%q is not what can become of a run that fails", onFailure)
	case p.State == state.Applied && p.RunID != nil:
		return s.Run(ctx, *p.RunID) // asked twice: the same run
	case p.State == state.Applied && p.Kind == state.KindGive:
		return s.Run(ctx, d.GivesTo)
	case p.State == state.Open:
		return Run{}, refusal.New(refusal.Conflict, fmt.Sprintf("accept it first with: undersail accept %d", id), "proposal %d is not accepted", id)
	case p.State != state.Accepted:
		return Run{}, refusal.New(refusal.Stale, "propose again", "proposal %d is %s", id, p.State)
	}
	if p.Kind == state.KindGive {
		return s.carryGift(ctx, u, id)
	}
	if err := s.holds(ctx, p); err != nil {
		return Run{}, err
	}
	r, now, err := s.stillTrue(ctx, p, d)
	if err != nil {
		return Run{}, err
	}
	taken, rows := r.takenOver(d.Changes)
	if p.Kind == state.KindDiscard {
		rows = r.discarded()
	}
	n := store.NewRun{Proposal: id, Agreement: p.Agreement, Kind: p.Kind, By: u.Name, OnFailure: onFailure, Undoes: p.Undoes, Standing: standing, Grace: engine.Grace,
		Steps: engine.Steps(now.Plan, r.Durations, append(rows, r.rows...)), Update: updateOf(p.Kind, d), Absent: r.absent(), Renames: renames(now.Plan.Changes), TakeOver: taken}
	run, err := s.store.StartRun(ctx, n, s.engine.Enqueue(ctx))
	if errors.Is(err, store.ErrConflict) {
		return Run{}, refusal.New(refusal.Conflict, "wait for it, or look with: undersail runs --stack "+p.Stack, "another run of stack %s is under way", p.Stack)
	}
	if err != nil {
		return Run{}, err
	}
	s.done(ctx, u, "apply", p.Stack, map[string]any{"proposal": id, "run": run, "kind": p.Kind})
	return s.Run(ctx, run)
}

// afterFailure is what becomes of a run if it fails. Undoing is part of what was agreed to;
// whoever may agree by themselves may still say so when they apply it.
func (s *Service) afterFailure(ctx context.Context, u people.User, p store.Proposal, said string) (string, error) {
	agreed := cmp.Or(said, p.OnFailure, state.Keep)
	if agreed != state.Undo || p.State != state.Accepted {
		return agreed, nil // keeping what there is does no more than was agreed to
	}
	if p.OnFailure == state.Undo {
		decided, err := s.store.UserByName(ctx, p.DecidedBy)
		if err == nil {
			err = s.stand(ctx, standsToUndo, p.DecidedBy, decided.Roles, p)
		}
		return agreed, err
	}
	shown, err := s.Proposal(ctx, p.ID)
	if err == nil {
		err = u.Must(access.Decide, p.Account)
	}
	if err == nil && mayDecide(u, shown) != nil {
		err = refusal.New(refusal.Forbidden, fmt.Sprintf("have it agreed to with the proposal: undersail accept %d --on-failure undo", p.ID), "nobody agreed that the run is undone if it fails, and account %s asks for a second person", p.Account)
	}
	if err == nil {
		err = s.stand(ctx, standsToUndo, u.Name, u.Grants().Strings(), p)
	}
	return agreed, err
}

// updateOf is what a run makes of its stack's record when it starts.
func updateOf(kind string, d proposal.Document) *store.StackUpdate {
	if kind == state.KindRetire || d.Rendering == nil {
		return nil
	}
	return &store.StackUpdate{TemplateName: d.Template.Name, TemplateVersion: d.Template.Version, TemplateSource: d.Template.Source, TemplateParts: d.Template.Parts,
		Inputs: d.Inputs, Secrets: d.Secrets, Found: d.Found, Reads: d.Stacks, Cloud: d.Stack.Cloud, Currency: d.Cost.Currency, Title: d.Rendering.Template.Title}
}

// stillTrue checks that a proposal would still be made as it is, by its content, and
// gives what it would be made from now.
func (s *Service) stillTrue(ctx context.Context, p store.Proposal, d proposal.Document) (*reading, proposal.Judged, error) {
	r, now, err := s.again(ctx, p, d)
	var refused *refusal.Error
	if errors.As(err, &refused) && refused.Kind == refusal.Findings {
		return r, now, &refusal.Error{Kind: refusal.Stale, Title: fmt.Sprintf("the world has changed since proposal %d was made", p.ID), Remedy: "mend what the findings name and propose again", Findings: refused.Findings}
	}
	if err != nil {
		return r, now, err
	}
	if why := d.Differs(now.Document()); why != "" {
		return r, now, refusal.New(refusal.Stale, "propose again", "the stack has changed since proposal %d was made: %s", p.ID, why)
	}
	return r, now, nil
}

// again takes what a proposal was made from through the stages once more.
func (s *Service) again(ctx context.Context, p store.Proposal, d proposal.Document) (*reading, proposal.Judged, error) {
	var none proposal.Judged
	r := &reading{undoes: p.Undoes, Facts: proposal.Facts{Inputs: d.Inputs, Secrets: d.Secrets, Given: map[string]string{}, Draw: d.Draw, Stacks: d.Stacks, Keep: d.Keep, Again: d.Again, Keys: d.Keys, TextBy: d.TextBy, Handed: d.Handed}}
	var err error
	if r.stack, err = s.store.Stack(ctx, p.StackID); err != nil {
		return r, none, err
	}
	if p.Kind == state.KindDiscard {
		return s.discardAgain(ctx, r, d)
	}
	if r.Basis, err = s.basisBut(ctx, p.StackID, p.Undoes); err != nil {
		return r, none, err
	}
	if r.Basis != d.Basis {
		return r, none, refusal.New(refusal.Stale, "propose again", "run %d has changed the stack since proposal %d was made", r.Basis, p.ID)
	}
	r.isNew = r.Basis == 0
	if p.Undoes != nil {
		if err := s.readUndone(ctx, r, *p.Undoes); err != nil {
			return r, none, err
		}
	}
	if d.Rendering != nil {
		if err := r.readBundle(d.Template.Bundle()); err != nil {
			return r, none, err
		}
	}
	if err := s.readPlace(ctx, r); err != nil {
		return r, none, err
	}
	if err := s.readBefore(ctx, r); err != nil {
		return r, none, err
	}
	if d.Rendering == nil {
		changed, err := s.removal(ctx, r, p.Kind == state.KindUndo)
		if err != nil {
			return r, none, err
		}
		return r, changed.Judge(nil), nil
	}
	if p.Undoes == nil { // the way back is to what other stacks handed over then
		if err := s.sameHanded(ctx, r, d); err != nil {
			return r, none, err
		}
	}
	now, err := s.stages(ctx, r)
	return r, now, err
}

// sameHanded reads the outputs of other stacks anew. One that hands over another
// secret now makes the proposal stale.
func (s *Service) sameHanded(ctx context.Context, r *reading, d proposal.Document) error {
	if err := s.readStacks(ctx, r); err != nil {
		return err
	}
	for name, handed := range r.handed {
		same := false
		if reference := d.Secrets[name]; reference != "" {
			var err error
			if same, err = s.sealed.Same(ctx, reference, handed); err != nil {
				return err
			}
		}
		if !same {
			return refusal.New(refusal.Stale, "propose again", "the secret %s that another stack hands over is another now", name)
		}
		delete(r.handed, name)
	}
	r.referToHanded()
	return nil
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
	return s.accept(ctx, u, p, Acceptance{})
}

// Retire proposes the removal of a whole stack.
func (s *Service) Retire(ctx context.Context, u people.User, stack string, keep ...string) (Proposal, error) {
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
	r := &reading{stack: st, Facts: proposal.Facts{Keep: keep}}
	if r.Basis, err = s.basis(ctx, st.ID); err != nil {
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
		steps, err := s.store.Steps(ctx, *r.undoes)
		if err != nil {
			return proposal.Changed{}, err
		}
		made := map[string]bool{}
		for _, st := range steps {
			made[st.Resource] = made[st.Resource] || st.Action == engine.ActionCreate
		}
		for i, x := range r.Recorded {
			if r.Recorded[i].AtRetire = ""; !made[x.Name] {
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
	return refusal.New(refusal.Conflict, "retire "+other+" first, or let it read another stack", "stack %s reads the outputs of %s", other, stack)
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

// renames are the resources that are recorded under another name from the run on:
// those that a template renames, and the old ones of rebuilds that make the new one
// first.
func renames(changes []change.Change) []store.Rename {
	var out []store.Rename
	for _, c := range changes {
		if c.Was != "" || c.Old != "" {
			out = append(out, store.Rename{From: cmp.Or(c.Was, c.Resource), To: cmp.Or(c.Old, c.Resource), Successor: c.Resource})
		}
	}
	return out
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
	if ended, err := s.store.EndParked(ctx, id); err != nil || ended {
		if ended {
			s.done(ctx, u, "stop run", run.Stack, map[string]any{"run": id})
		}
		return s.runOr(ctx, id, err)
	}
	if err := s.store.AskStop(ctx, id); errors.Is(err, store.ErrConflict) {
		return Run{}, refusal.New(refusal.Conflict, "", "run %d is over already", id)
	} else if err != nil {
		return Run{}, err
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
