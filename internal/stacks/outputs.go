package stacks

import (
	"context"
	"fmt"

	"undersail/internal/core/budget"
	"undersail/internal/core/render"
	"undersail/internal/refusal"
	"undersail/internal/store"
)

// Outputs computes the outputs of a stack. Secret ones show their references.
func (s *Stacks) Outputs(ctx context.Context, name string) ([]render.Output, error) {
	st, err := s.Living(ctx, name)
	if err != nil {
		return nil, err
	}
	return s.OutputsOf(ctx, st)
}

// OutputsOf computes the outputs of a stack as they are shown.
func (s *Stacks) OutputsOf(ctx context.Context, st store.Stack) ([]render.Output, error) {
	if st.TemplateSource == "" {
		return nil, refusal.New(refusal.Conflict, "apply it first", "stack %s was never applied", st.Name)
	}
	resources, err := s.store.Resources(ctx, st.ID)
	if err != nil {
		return nil, fmt.Errorf("reading the resources of stack %s: %w", st.ID, err)
	}
	shown, err := s.rendered(ctx, st, resources)
	if err != nil {
		return nil, err
	}
	return shown.Outputs, nil
}

// SentOutputs are the outputs of a stack with secrets in their places, as far as they are
// revealed.
func (s *Stacks) SentOutputs(ctx context.Context, st store.Stack,
	reveal func(string) (string, bool)) (map[string]any, error) {
	resources, err := s.store.Resources(ctx, st.ID)
	if err != nil {
		return nil, fmt.Errorf("reading the resources of stack %s: %w", st.ID, err)
	}
	session, err := s.session(ctx, st, resources)
	if err != nil {
		return nil, err
	}
	out := map[string]any{}
	err = s.turns.Compute(ctx, func(*budget.Budget) {
		for _, o := range session.Outputs(reveal) {
			out[o.Name] = o.Value
		}
	})
	return out, err
}
