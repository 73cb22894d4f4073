package stacks

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"undersail/internal/access"
	"undersail/internal/core/policy"
	"undersail/internal/core/render"
	"undersail/internal/people"
	"undersail/internal/refusal"
)

// Tried asks what a rule would say of stacks; all that run when none is named.
type Tried struct {
	Policy policy.Rule `json:"policy"`
	Stacks []string    `json:"stacks,omitempty"`
}

// Trial tells what a rule would say of one stack.
type Trial struct {
	Stack    string           `json:"stack"`
	Findings []render.Finding `json:"findings"`
	Consents []render.Consent `json:"consents"`
	Problem  string           `json:"problem,omitempty"`
}

// TryPolicy tells what a rule would say of every stack that runs, or of some. Nothing
// is kept.
func (s *Stacks) TryPolicy(ctx context.Context, u people.User, r policy.Rule, stacks []string) ([]Trial, error) {
	if err := u.Must(access.Publish, ""); err != nil {
		return nil, err
	}
	rules, faults := policy.Compile([]policy.Rule{r})
	if faults != nil {
		return nil, refusal.New(refusal.Invalid, "see: undersail policies add --help", "%v", errors.Join(faults...))
	}
	if len(stacks) == 0 {
		after := ""
		for {
			page, err := s.store.Summaries(ctx, after, 200)
			if err != nil {
				return nil, fmt.Errorf("reading the stacks: %w", err)
			}
			for _, x := range page {
				stacks = append(stacks, x.Name)
				after = x.Name
			}
			if len(page) < 200 {
				break
			}
		}
	}
	out := []Trial{}
	for _, name := range stacks {
		t := Trial{Stack: name, Findings: []render.Finding{}, Consents: []render.Consent{}}
		o, err := s.opinionOn(ctx, name, rules)
		var refused *refusal.Error
		switch {
		case errors.As(err, &refused):
			t.Problem = refused.Title
		case err != nil:
			return nil, err
		}
		for _, f := range o.Findings {
			if strings.HasPrefix(f.Code, "policy:") {
				t.Findings = append(t.Findings, f)
			}
		}
		for _, c := range o.Consents {
			if strings.HasPrefix(c.Name, "policy-") {
				t.Consents = append(t.Consents, c)
			}
		}
		if len(t.Findings)+len(t.Consents) > 0 || t.Problem != "" {
			out = append(out, t)
		}
	}
	return out, nil
}

// opinionOn is what rules say of a stack as it was last applied.
func (s *Stacks) opinionOn(ctx context.Context, name string, rules *policy.Rules) (policy.Opinion, error) {
	st, err := s.Living(ctx, name)
	if err != nil {
		return policy.Opinion{}, err
	}
	d, err := s.LastDocument(ctx, st.ID)
	if err != nil {
		return policy.Opinion{}, err
	}
	if d.Rendering == nil {
		return policy.Opinion{}, refusal.New(refusal.Conflict, "", "stack %s was never applied", name)
	}
	return policy.Check(d.Rendering, policy.Context{
		Offers: d.Everywhere(),
		Cost:   d.Cost,
		Today:  s.engine.Now().UTC().Format(time.DateOnly),
		Rules:  rules,
	}), nil
}
