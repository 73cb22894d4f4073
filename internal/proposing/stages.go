package proposing

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"

	"undersail/internal/access"
	"undersail/internal/core/budget"
	"undersail/internal/core/change"
	"undersail/internal/core/render"
	"undersail/internal/core/state"
	"undersail/internal/people"
	"undersail/internal/proposal"
	"undersail/internal/refusal"
	"undersail/internal/store"
)

// Propose works out what has to change and saves it. Findings with errors
// refuse the proposal; nothing is saved then, and nothing was made. Nothing is
// saved either when there is nothing to change.
func (s *Proposing) Propose(ctx context.Context, u people.User, n NewProposal) (Proposal, error) {
	if n.Account != "" { // the stack is not read for somebody who may not
		if err := u.Must(access.Operate, n.Account); err != nil {
			return Proposal{}, err
		}
	}
	if !stackPattern.MatchString(n.Stack) || len(n.Stack) > 40 {
		return Proposal{}, refusal.New(refusal.Invalid,
			"use up to 40 small letters, digits and hyphens, such as warning-site", "%q is not a name for a stack",
			n.Stack)
	}
	for tries := 0; ; tries++ {
		r, err := s.read(ctx, u, n)
		if err != nil {
			return Proposal{}, err
		}
		if err := u.Must(access.Operate, r.stack.Account); err != nil {
			return Proposal{}, err
		}
		judged, err := s.stages(ctx, r)
		if err != nil {
			return Proposal{}, err
		}
		if nothing, err := s.nothing(ctx, r, judged); err != nil || nothing {
			return unsaved(judged), err
		}
		if judged, err = s.listUses(ctx, r, judged); err != nil {
			return Proposal{}, err
		}
		p, err := s.save(ctx, u, r, judged, state.KindApply, n.shaped...)
		if errors.Is(err, errTaken) && tries < 5 {
			continue
		}
		return p, err
	}
}

// nothing reports whether a stack is already what is wanted: no resource changes,
// and template and inputs are those that it was last applied with, to the end.
func (s *Proposing) nothing(ctx context.Context, r *reading, j proposal.Judged) (bool, error) {
	if !j.Plan.Nothing() || r.isNew || r.Text.Source != r.stack.TemplateSource ||
		!sameJSON(r.Text.Parts, r.stack.TemplateParts) || len(r.Given) > 0 || len(r.Draw) > 0 {
		return false, nil
	}
	if !sameJSON(r.Inputs, r.stack.Inputs) || !sameJSON(j.Secrets, r.stack.Secrets) {
		return false, nil
	}
	// What other stacks and things hand over counts as far as anything reads it.
	outputs, err := s.stacks.OutputsOf(ctx, r.stack)
	if err != nil || !sameJSON(outputs, j.Plan.Rendering.Outputs) {
		return false, err
	}
	last, err := s.store.LastRun(ctx, r.stack.ID)
	if err != nil {
		return false, fmt.Errorf("reading the last run of stack %s: %w", r.stack.ID, err)
	}
	return last.State == state.Done || last.State == state.Undone, nil
}

// stages takes facts through the stages of a proposal. What the first rendering
// shows to be missing is read: resources that are used, offers of other regions,
// references of secrets to draw, and what uses the things that go.
func (s *Proposing) stages(ctx context.Context, r *reading) (proposal.Judged, error) {
	changed, err := s.render(ctx, r)
	if err != nil {
		return proposal.Judged{}, err
	}
	first := changed.Plan.Rendering
	more, err := s.lookUp(ctx, r, first)
	if err != nil {
		return proposal.Judged{}, err
	}
	for _, region := range proposal.Regions(first) {
		if more = true; !slices.Contains(r.account.Regions, region) || r.Offers.Elsewhere[region] != nil {
			continue // that there is no such region is found by checking
		}
		if r.Offers.Elsewhere[region], err = s.offersFor(ctx, r, region); err != nil {
			return proposal.Judged{}, err
		}
	}
	facts, drawn := r.Facts.Drawn(first, r.nextReference)
	if r.Facts = facts; drawn && !r.offline || more { // a form needs no references
		if changed, err = s.render(ctx, r); err != nil {
			return proposal.Judged{}, err
		}
	}
	if !r.offline {
		if changed, err = s.usedElsewhere(ctx, r, changed); err != nil {
			return proposal.Judged{}, err
		}
		if changed, err = s.takenNames(ctx, r, changed); err != nil {
			return proposal.Judged{}, err
		}
		changed = r.heldByFound(changed)
	}
	var judged proposal.Judged
	if err := s.turns.Compute(ctx,
		func(b *budget.Budget) { judged = r.unreachedTasks(changed).Judge(b.Over) }); err != nil {
		return judged, err
	}
	bounds, err := s.accountBounds(ctx, r, judged)
	if err != nil {
		return judged, err
	}
	judged.Findings = append(judged.Findings, bounds...)
	if render.HasErrors(judged.Findings) {
		return judged, &refusal.Error{
			Kind:     refusal.Findings,
			Title:    "the proposal would not work",
			Remedy:   "mend what the findings name; nothing was made",
			Findings: judged.Findings,
		}
	}
	return judged, nil
}

// render computes the rendering of a proposal and its changes.
func (s *Proposing) render(ctx context.Context, r *reading) (changed proposal.Changed, err error) {
	err = s.turns.Compute(ctx, func(b *budget.Budget) {
		r.Most = mostResources
		changed = r.Facts.Render(b)
	})
	return changed, err
}

// keep keeps a secret of a stack that was sealed.
func (s *Proposing) keep(ctx context.Context, row *store.Secret, err error) error {
	if err != nil {
		return err
	}
	ours, err := s.store.AddSecret(ctx, *row)
	if err == nil && !ours {
		err = errTaken
	}
	return err
}

func (s *Proposing) save(ctx context.Context, u people.User, r *reading, j proposal.Judged, kind string,
	shaped ...string) (Proposal, error) {
	doc := j.Document()
	a, err := s.accounts.Find(ctx, r.stack.Account)
	if err != nil {
		return Proposal{}, err
	}
	doc.SecondPerson, doc.AuthorRoles = a.SecondPerson, u.Grants().Strings()
	raw, err := json.Marshal(doc)
	if err != nil {
		return Proposal{}, fmt.Errorf("encode proposal: %w", err)
	}
	if kind != state.KindDiscard {
		st, err := s.store.AddStack(ctx, r.stack)
		if errors.Is(err, store.ErrConflict) {
			return Proposal{}, refusal.New(refusal.Conflict, "choose another name",
				"the name %s is taken in an account that you do not see", r.stack.Name)
		}
		if err != nil {
			return Proposal{}, err
		}
		if st.ID != r.stack.ID {
			return Proposal{}, refusal.New(refusal.Conflict, "propose again",
				"somebody else made stack %s at this moment", r.stack.Name)
		}
	}
	for name, value := range r.Given {
		row := store.Secret{Reference: r.Secrets[name], StackID: r.stack.ID, Kind: "given", GivenBy: u.Name}
		if err := s.keep(ctx, &row, s.sealed.Secret(&row, value)); err != nil {
			return Proposal{}, err
		}
	}
	// Another stack's: whoever proposes has not given it, and gains no right to read it.
	for name, value := range r.handed {
		row := store.Secret{Reference: r.Secrets[name], StackID: r.stack.ID, Kind: "given"}
		if err := s.keep(ctx, &row, s.sealed.Copy(&row, value)); err != nil {
			return Proposal{}, err
		}
	}
	reserves, err := json.Marshal(doc.Reserves)
	if err != nil {
		return Proposal{}, fmt.Errorf("encode what a proposal takes: %w", err)
	}
	row := store.Proposal{
		Reserves:  reserves,
		StackID:   r.stack.ID,
		Kind:      kind,
		Document:  raw,
		CreatedBy: u.Name,
		ShapedBy:  together(shaped, u.Name),
		Undoes:    r.undoes,
		Summary:   change.Summary(doc.Changes),
		Currency:  doc.Cost.Currency,
		Hour:      doc.Cost.Hour,
		Seconds:   doc.Seconds,
	}
	if r.Text.Name != "" {
		row.Template = r.Text.Name + "@" + r.Text.Version
	}
	id, err := s.store.AddProposal(ctx, row, proposalLife)
	if err != nil {
		return Proposal{}, fmt.Errorf("keeping the proposal: %w", err)
	}
	s.journal.Done(ctx, u, "propose", r.stack.Name, map[string]any{
		"proposal": id,
		"kind":     kind,
		"summary":  row.Summary,
		"template": row.Template,
		"secrets":  slices.Sorted(maps.Keys(r.Given)),
	})
	return s.Show(ctx, id)
}
