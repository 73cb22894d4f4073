package templates

import (
	"context"
	"errors"
	"fmt"
	"time"

	"undersail/internal/access"
	"undersail/internal/core/policy"
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
	return Policy{policy.Rule{
		Name:    p.Name,
		Version: p.Version,
		About:   p.About,
		Does:    p.Does,
		Types:   p.Types,
		That:    p.That,
		Says:    p.Says,
		Remedy:  p.Remedy,
	}, p.MadeBy, p.MadeAt}
}

// Policies lists the rules that hold, by name.
func (s *Templates) Policies(ctx context.Context) ([]Policy, error) {
	rows, err := s.store.Policies(ctx)
	out := make([]Policy, len(rows))
	for i, p := range rows {
		out[i] = policyOf(p)
	}
	return out, err
}

// PolicyVersions lists the versions of a rule, newest first.
func (s *Templates) PolicyVersions(ctx context.Context, name string) ([]Policy, error) {
	rows, err := s.store.PolicyVersions(ctx, name)
	if err != nil {
		return nil, fmt.Errorf("reading the versions of policy %s: %w", name, err)
	}
	if len(rows) == 0 {
		list, err := s.Policies(ctx)
		if err != nil {
			return nil, err
		}
		return nil, refusal.Unknown("policy", name, list, func(p Policy) string { return p.Name },
			"list them with: undersail policies")
	}
	out := make([]Policy, len(rows))
	for i, p := range rows {
		out[i] = policyOf(p)
	}
	return out, nil
}

// AddPolicy checks a rule and adds it as the next version of its name.
func (s *Templates) AddPolicy(ctx context.Context, u people.User, r policy.Rule) (Policy, error) {
	if err := u.Must(access.Publish, ""); err != nil {
		return Policy{}, err
	}
	if _, faults := policy.Compile([]policy.Rule{r}); faults != nil {
		return Policy{}, refusal.New(refusal.Invalid, "see: undersail policies add --help", "%v",
			errors.Join(faults...))
	}
	version, err := s.store.AddPolicy(ctx, store.Policy{
		Name:   r.Name,
		About:  r.About,
		Does:   r.Does,
		Types:  r.Types,
		That:   r.That,
		Says:   r.Says,
		Remedy: r.Remedy,
		MadeBy: u.Name,
	})
	if err != nil {
		return Policy{}, fmt.Errorf("adding the policy: %w", err)
	}
	r.Version = version
	s.journal.Done(ctx, u, "add policy", r.Name, map[string]any{"version": version, "does": r.Does})
	return Policy{r, u.Name, s.engine.Now()}, nil
}

// RemovePolicy withdraws a rule; its versions stay.
func (s *Templates) RemovePolicy(ctx context.Context, u people.User, name string) error {
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
		return fmt.Errorf("adding the policy: %w", err)
	}
	s.journal.Done(ctx, u, "withdraw policy", name, nil)
	return nil
}

// Rules compiles the organisation's rules, again only when they have changed. A rule
// that an older program took and this one does not is told, and skipped.
func (s *Templates) Rules(ctx context.Context) (*policy.Rules, error) {
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
