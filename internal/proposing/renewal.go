package proposing

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"

	"undersail/internal/core/state"
	"undersail/internal/people"
	"undersail/internal/proposal"
	"undersail/internal/refusal"
	"undersail/internal/secrets"
	"undersail/internal/templates"
)

// asked is what a proposal was asked for with, as far as it can be asked again: values of
// secrets that were typed belong to that proposal alone, and are asked for again.
func asked(d proposal.Document) NewProposal {
	n := NewProposal{
		Stack:     d.Stack.Name,
		Account:   d.Stack.Account,
		Region:    d.Stack.Region,
		File:      d.Template.File,
		Source:    d.Template.Source,
		Parts:     d.Template.Parts,
		Inputs:    map[string]any{},
		Keep:      d.Keep,
		LiftGuard: d.LiftGuard,
		Again:     d.Again,
		Rebuild:   d.Rebuild,
	}
	maps.Copy(n.Inputs, d.Inputs)
	for input, reference := range d.Secrets {
		if name, _ := templates.SplitVersion(reference); secrets.NamePattern.MatchString(name) { // it stands for itself
			n.Inputs[input] = "secret:" + name
		}
	}
	return n
}

// wishOf reads what a proposal was asked for with. The template is named where the
// library has it.
func (s *Proposing) wishOf(ctx context.Context, id int64) (NewProposal, error) {
	p, err := s.store.Proposal(ctx, id)
	if err != nil {
		return NewProposal{}, refusal.Missing(err, "proposal", fmt.Sprint(id), "list them with: undersail proposals")
	}
	if p.Kind != state.KindApply {
		return NewProposal{}, refusal.New(refusal.Conflict, "begin where you began: retire, undo or discard again",
			"only a proposal to apply a template is made again, and proposal %d is one to %s", id, p.Kind)
	}
	var d proposal.Document
	if err := json.Unmarshal(p.Document, &d); err != nil {
		return NewProposal{}, fmt.Errorf("read proposal %d: %w", id, err)
	}
	n := asked(d)
	n.shaped = p.ShapedBy
	t, err := s.templates.Find(ctx, d.Template.Name+"@"+d.Template.Version)
	if err == nil && t.Digest == d.Template.Digest {
		n.Template, n.Source, n.File, n.Parts = t.Name+"@"+t.Version, "", "", nil
	}
	return n, nil
}

// Renew proposes what a proposal said, against what is there now.
func (s *Proposing) Renew(ctx context.Context, u people.User, id int64) (Proposal, error) {
	n, err := s.wishOf(ctx, id)
	if err != nil {
		return Proposal{}, err
	}
	return s.Propose(ctx, u, n)
}
