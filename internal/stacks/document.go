package stacks

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"

	"undersail/internal/proposal"
	"undersail/internal/refusal"
	"undersail/internal/store"
)

// Document reads a proposal with what it was worked out from.
func (s *Stacks) Document(ctx context.Context, id int64) (store.Proposal, proposal.Document, error) {
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

// LastDocument is what a stack was last made from; an empty one when it never was.
func (s *Stacks) LastDocument(ctx context.Context, stackID string) (d proposal.Document, err error) {
	p, err := s.store.LastDocument(ctx, stackID, 0)
	if errors.Is(err, store.ErrNotFound) {
		return d, nil
	}
	if err != nil {
		return d, err
	}
	if err := json.Unmarshal(p.Document, &d); err != nil {
		return d, fmt.Errorf("read proposal %d: %w", p.ID, err)
	}
	return d, nil
}
