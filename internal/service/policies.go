package service

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
	"undersail/internal/store"
)

// Policy is one version of a rule of the organisation.
type Policy struct {
	policy.Rule
	By string    `json:"by"`
	At time.Time `json:"at"`
}

func policyOf(p store.Policy) Policy {
	return Policy{policy.Rule{Name: p.Name, Version: p.Version, About: p.About, Does: p.Does, Types: p.Types, That: p.That, Says: p.Says, Remedy: p.Remedy}, p.MadeBy, p.MadeAt}
}

// Policies lists the rules that hold, by name.
func (s *Service) Policies(ctx context.Context) ([]Policy, error) {
	rows, err := s.store.Policies(ctx)
	out := make([]Policy, len(rows))
	for i, p := range rows {
		out[i] = policyOf(p)
	}
	return out, err
}

// PolicyVersions lists the versions of a rule, newest first.
func (s *Service) PolicyVersions(ctx context.Context, name string) ([]Policy, error) {
	rows, err := s.store.PolicyVersions(ctx, name)
	if err != nil {
		return nil, err
	}
	if len(rows) == 0 {
		list, err := s.Policies(ctx)
		if err != nil {
			return nil, err
		}
		return nil, refusal.Unknown("policy", name, list, func(p Policy) string { return p.Name }, "list them with: undersail policies")
	}
	out := make([]Policy, len(rows))
	for i, p := range rows {
		out[i] = policyOf(p)
	}
	return out, nil
}

// AddPolicy checks a rule and adds it as the next version of its name.
func (s *Service) AddPolicy(ctx context.Context, u people.User, r policy.Rule) (Policy, error) {
	if err := u.Must(access.Publish, ""); err != nil {
		return Policy{}, err
	}
	if _, faults := policy.Compile([]policy.Rule{r}); faults != nil {
		return Policy{}, refusal.New(refusal.Invalid, "see: undersail policies add --help", "%v", errors.Join(faults...))
	}
	version, err := s.store.AddPolicy(ctx, store.Policy{Name: r.Name, About: r.About, Does: r.Does, Types: r.Types, That: r.That, Says: r.Says, Remedy: r.Remedy, MadeBy: u.Name})
	if err != nil {
		return Policy{}, err
	}
	r.Version = version
	s.done(ctx, u, "add policy", r.Name, map[string]any{"version": version, "does": r.Does})
	return Policy{r, u.Name, s.engine.Now()}, nil
}

// RemovePolicy withdraws a rule; its versions stay.
func (s *Service) RemovePolicy(ctx context.Context, u people.User, name string) error {
	if err := u.Must(access.Publish, ""); err != nil {
		return err
	}
	versions, err := s.PolicyVersions(ctx, name)
	if err != nil {
		return err
	}
	if versions[0].Does == "nothing" {
		return refusal.New(refusal.Conflict, "", "policy %s is withdrawn already", name)
	}
	if _, err = s.store.AddPolicy(ctx, store.Policy{Name: name, Does: "nothing", MadeBy: u.Name}); err != nil {
		return err
	}
	s.done(ctx, u, "withdraw policy", name, nil)
	return nil
}

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
func (s *Service) TryPolicy(ctx context.Context, u people.User, r policy.Rule, stacks []string) ([]Trial, error) {
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
				return nil, err
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
func (s *Service) opinionOn(ctx context.Context, name string, rules *policy.Rules) (policy.Opinion, error) {
	st, err := s.living(ctx, name)
	if err != nil {
		return policy.Opinion{}, err
	}
	d, err := s.lastDocument(ctx, st.ID)
	if err != nil {
		return policy.Opinion{}, err
	}
	if d.Rendering == nil {
		return policy.Opinion{}, refusal.New(refusal.Conflict, "", "stack %s was never applied", name)
	}
	return policy.Check(d.Rendering, policy.Context{Offers: d.Everywhere(), Cost: d.Cost, Today: s.engine.Now().UTC().Format(time.DateOnly), Rules: rules}), nil
}

// rules compiles the organisation's rules, again only when they have changed. A rule
// that an older program took and this one does not is told, and skipped.
func (s *Service) rules(ctx context.Context) (*policy.Rules, error) {
	list, err := s.Policies(ctx)
	if err != nil {
		return nil, err
	}
	key := ""
	var rules []policy.Rule
	for _, p := range list {
		key += fmt.Sprintf("%s %d;", p.Name, p.Version)
		rules = append(rules, p.Rule)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.compiled == nil || s.compiledOf != key {
		compiled, faults := policy.Compile(rules)
		for _, fault := range faults {
			s.log.Warn("a policy cannot be used", "error", fault)
		}
		s.compiled, s.compiledOf = compiled, key
	}
	return s.compiled, nil
}
