package service

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"

	"undersail/internal/core/change"
	"undersail/internal/core/price"
	"undersail/internal/core/render"
	"undersail/internal/core/state"
	"undersail/internal/engine"
	"undersail/internal/store"
)

// Proposal finds a proposal.
func (s *Service) Proposal(ctx context.Context, id int64) (Proposal, error) {
	p, err := s.store.Proposal(ctx, id)
	if err != nil {
		return Proposal{}, missing(err, "proposal", fmt.Sprint(id), "list them with: undersail proposals")
	}
	return proposalOf(p)
}

// Proposals lists proposals, newest first, without what their documents hold.
func (s *Service) Proposals(ctx context.Context, stack string, before int64, most int) ([]Proposal, error) {
	list, err := s.store.Proposals(ctx, stack, before, most)
	if err != nil {
		return nil, err
	}
	out := make([]Proposal, len(list))
	for i, p := range list {
		out[i] = proposalRow(p)
	}
	return out, nil
}

// proposalRow is a proposal as lists tell it.
func proposalRow(p store.Proposal) Proposal {
	return Proposal{ID: p.ID, Stack: p.Stack, Kind: p.Kind, State: p.State, Why: p.Why, Account: p.Account, Region: p.Region, Template: p.Template, Summary: p.Summary, Undoes: p.Undoes,
		Cost: price.Cost{Hour: p.Hour, Currency: p.Currency, Lines: []price.Line{}}, CostNow: price.Cost{Lines: []price.Line{}}, Seconds: p.Seconds,
		Changes: []change.Change{}, Findings: []render.Finding{}, Inputs: []render.InputValue{}, Outputs: []render.Output{}, Consents: []render.Consent{}, Longest: []string{},
		CreatedBy: p.CreatedBy, CreatedAt: p.CreatedAt, DecidedBy: p.DecidedBy, DecidedAt: p.DecidedAt, ExpiresAt: p.ExpiresAt, RunID: p.RunID}
}

func proposalOf(p store.Proposal) (Proposal, error) {
	var d engine.Document
	if err := json.Unmarshal(p.Document, &d); err != nil {
		return Proposal{}, fmt.Errorf("read proposal %d: %w", p.ID, err)
	}
	out := proposalRow(p)
	out.Account, out.Region, out.Summary, out.Changes, out.Findings = d.Stack.Account, d.Stack.Region, change.Summary(d.Changes), d.Changes, d.Findings
	out.Cost, out.CostNow, out.Seconds, out.Longest = d.Cost, d.CostNow, d.Seconds, d.Longest
	if d.Template.Name != "" {
		out.Template = d.Template.Name + "@" + d.Template.Version
	}
	if d.Rendering != nil {
		out.Inputs, out.Outputs = d.Rendering.Inputs, d.Rendering.Outputs
		out.Consents = append(out.Consents, d.Rendering.Consents...)
	}
	if out.Findings == nil {
		out.Findings = []render.Finding{}
	}
	return out, nil
}

// Accept agrees to a proposal and draws the secrets it generates, once.
func (s *Service) Accept(ctx context.Context, u User, id int64) (Proposal, error) {
	if err := u.must("decide"); err != nil {
		return Proposal{}, err
	}
	p, err := s.Proposal(ctx, id)
	if err != nil || p.State == state.Accepted {
		return p, err
	}
	if err := s.draw(ctx, id); err != nil {
		return Proposal{}, err
	}
	return s.decide(ctx, u, id, state.Accepted, "")
}

// Refuse turns a proposal down, with the reason.
func (s *Service) Refuse(ctx context.Context, u User, id int64, why string) (Proposal, error) {
	if err := u.must("decide"); err != nil {
		return Proposal{}, err
	}
	if _, err := s.Proposal(ctx, id); err != nil {
		return Proposal{}, err
	}
	return s.decide(ctx, u, id, state.Refused, why)
}

func (s *Service) decide(ctx context.Context, u User, id int64, state, why string) (Proposal, error) {
	err := s.store.Decide(ctx, id, state, why, u.Name)
	p, readErr := s.Proposal(ctx, id)
	if errors.Is(err, store.ErrConflict) {
		return p, refuse(Stale, "propose again", "proposal %d is %s", id, p.State)
	}
	return p, errors.Join(err, readErr)
}
