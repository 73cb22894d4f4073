package service

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"time"

	"golang.org/x/sync/errgroup"

	"undersail/internal/cloud"
	"undersail/internal/core/health"
	"undersail/internal/core/lang"
	"undersail/internal/core/price"
	"undersail/internal/core/render"
	"undersail/internal/core/resource"
	"undersail/internal/engine"
	"undersail/internal/secret"
	"undersail/internal/store"
)

var entropy = rand.Reader

// Stack is a stack as people see it.
type Stack struct {
	Name       string     `json:"name"`
	ID         string     `json:"id"`
	State      string     `json:"state"`
	Account    string     `json:"account"`
	Cloud      string     `json:"cloud"`
	Region     string     `json:"region"`
	Template   string     `json:"template"`
	Title      string     `json:"title"`
	Total      int        `json:"total"`
	Healthy    int        `json:"healthy"`
	Hour       float64    `json:"hour"`
	Currency   string     `json:"currency"`
	CreatedAt  time.Time  `json:"created_at"`
	VerifiedAt *time.Time `json:"verified_at,omitempty"`
	LastRun    *Run       `json:"last_run,omitempty"`
	Next       string     `json:"next,omitempty"`

	Resources []Resource          `json:"resources,omitempty"`
	Inputs    []render.InputValue `json:"inputs,omitempty"`
	Outputs   []render.Output     `json:"outputs,omitempty"`
}

// Resource is a recorded resource as people see it.
type Resource struct {
	Name       string         `json:"name"`
	Type       string         `json:"type"`
	State      string         `json:"state"`
	Reason     string         `json:"reason,omitempty"`
	After      []string       `json:"after"`
	Want       map[string]any `json:"want"`
	Attributes map[string]any `json:"attributes"`
	Hour       float64        `json:"hour"`
	MadeAt     *time.Time     `json:"made_at,omitempty"`
	HealthyAt  *time.Time     `json:"healthy_at,omitempty"`
	Evidence   []Evidence     `json:"evidence"`
}

// Stacks lists the living stacks.
func (s *Service) Stacks(ctx context.Context) ([]Stack, error) {
	list, err := s.store.Stacks(ctx)
	if err != nil {
		return nil, err
	}
	out := make([]Stack, 0, len(list))
	for _, st := range list {
		view, _, err := s.overview(ctx, st)
		if err != nil {
			return nil, err
		}
		out = append(out, view)
	}
	return out, nil
}

// overview tells a stack's state from its resources and its last run.
func (s *Service) overview(ctx context.Context, st store.Stack) (Stack, []store.Resource, error) {
	view := Stack{Name: st.Name, ID: st.ID, Account: st.Account, Region: st.Region, CreatedAt: st.CreatedAt, VerifiedAt: st.VerifiedAt}
	if st.TemplateName != "" {
		view.Template = st.TemplateName + "@" + st.TemplateVersion
	}
	resources, err := s.store.Resources(ctx, st.ID)
	if err != nil {
		return view, nil, err
	}
	view.Total = len(resources)
	for _, r := range resources {
		if r.State == "healthy" {
			view.Healthy++
		}
	}
	run, err := s.store.LastRun(ctx, st.ID)
	if err == nil {
		steps, err := s.store.Steps(ctx, run.ID)
		if err != nil {
			return view, nil, err
		}
		last := runOf(run, steps)
		last.forecast(steps)
		view.LastRun, view.Next = &last, last.Next
		if last.EndedAt != nil && last.State != "done" {
			view.Total = max(view.Total, last.Total)
		}
		_, d, err := s.document(ctx, run.ProposalID)
		if err != nil {
			return view, nil, err
		}
		view.Cloud, view.Currency = d.Stack.Cloud, d.Cost.Currency
		view.Hour = price.Of(asRendered(resources), d.Offers).Hour
	} else if !errors.Is(err, store.ErrNotFound) {
		return view, nil, err
	}
	view.State = stackState(view, resources)
	return view, resources, nil
}

func stackState(v Stack, resources []store.Resource) string {
	switch {
	case v.LastRun == nil:
		return "absent"
	case v.LastRun.EndedAt == nil:
		return v.LastRun.State
	}
	for _, r := range resources {
		if r.State != "healthy" {
			return "unhealthy"
		}
	}
	if v.LastRun.State != "done" {
		return "unhealthy"
	}
	return "healthy"
}

// Stack finds a stack with its resources, inputs, outputs and newest evidence.
func (s *Service) Stack(ctx context.Context, name string) (Stack, error) {
	st, err := s.living(ctx, name)
	if err != nil {
		return Stack{}, err
	}
	view, resources, err := s.overview(ctx, st)
	if err != nil {
		return Stack{}, err
	}
	evidence, err := s.store.LastEvidence(ctx, st.ID)
	if err != nil {
		return Stack{}, err
	}
	cost := map[string]float64{}
	if view.LastRun != nil {
		_, d, err := s.document(ctx, view.LastRun.ProposalID)
		if err != nil {
			return Stack{}, err
		}
		for _, line := range price.Of(asRendered(resources), d.Offers).Lines {
			cost[line.Resource] = line.Hour
		}
	}
	for _, r := range resources {
		out := Resource{Name: r.Name, Type: r.Type, State: r.State, Reason: r.Reason, After: r.After, Want: r.Want, Attributes: shownAttributes(r), Hour: cost[r.Name],
			MadeAt: r.MadeAt, HealthyAt: r.HealthyAt, Evidence: []Evidence{}}
		for _, e := range evidenceOf(evidence) {
			if e.Resource == r.Name {
				out.Evidence = append(out.Evidence, e)
			}
		}
		view.Resources = append(view.Resources, out)
	}
	if st.TemplateSource == "" {
		return view, nil
	}
	rendering, err := s.rendered(st, resources, nil)
	if err != nil {
		return view, err
	}
	view.Title, view.Inputs, view.Outputs = rendering.Template.Title, rendering.Inputs, rendering.Outputs
	return view, nil
}

func shownAttributes(r store.Resource) map[string]any {
	out := map[string]any{}
	t, _ := resource.ByName(r.Type)
	for name, v := range r.Attributes {
		if a, ok := t.Attribute(name); ok && a.Secret {
			v = "secret:" + fmt.Sprint(v)
		}
		out[name] = v
	}
	return out
}

// rendered renders a stack with everything that it reports now.
func (s *Service) rendered(st store.Stack, resources []store.Resource, reveal func(string) (string, bool)) (*render.Rendering, error) {
	t, found := lang.ReadBundle(bundleOf(st))
	if t == nil {
		return nil, found
	}
	known := map[string]map[string]any{}
	for _, r := range resources {
		if r.MadeAt != nil {
			known[r.Name] = r.Attributes
		}
	}
	return render.Render(render.Request{Template: t, Stack: render.Stack{Name: st.Name, ID: st.ID, Account: st.Account, Region: st.Region}, Inputs: st.Inputs,
		Secrets: st.Secrets, Stacks: st.Reads, Reveal: reveal, Known: func(r render.Resource) map[string]any {
			if found, ok := st.Found[r.Name]; ok {
				return found
			}
			return known[r.Name]
		}}), nil
}

// bundleOf is the template that a stack was last applied with.
func bundleOf(st store.Stack) lang.Bundle {
	return lang.Bundle{File: st.TemplateName + ".sail.yaml", Source: st.TemplateSource, Parts: st.TemplateParts}
}

// Outputs computes the outputs of a stack. Secret ones show their references.
func (s *Service) Outputs(ctx context.Context, name string) ([]render.Output, error) {
	st, err := s.living(ctx, name)
	if err != nil {
		return nil, err
	}
	if st.TemplateSource == "" {
		return nil, refuse(Conflict, "apply it first", "stack %s was never applied", name)
	}
	resources, err := s.store.Resources(ctx, st.ID)
	if err != nil {
		return nil, err
	}
	r, err := s.rendered(st, resources, nil)
	if err != nil {
		return nil, err
	}
	return r.Outputs, nil
}

// Verification is what looking at a whole stack gave.
type Verification struct {
	Stack     string             `json:"stack"`
	Healthy   bool               `json:"healthy"`
	At        time.Time          `json:"at"`
	Resources []VerifiedResource `json:"resources"`
}

// VerifiedResource is one resource of a verification.
type VerifiedResource struct {
	Name     string     `json:"name"`
	Type     string     `json:"type"`
	State    string     `json:"state"`
	Reason   string     `json:"reason,omitempty"`
	Evidence []Evidence `json:"evidence"`
}

// Verify makes every check of every resource of a stack once, now, and records
// what it saw.
func (s *Service) Verify(ctx context.Context, u User, name string) (Verification, error) {
	if err := u.must("operate"); err != nil {
		return Verification{}, err
	}
	st, err := s.living(ctx, name)
	if err != nil {
		return Verification{}, err
	}
	resources, err := s.store.Resources(ctx, st.ID)
	if err != nil {
		return Verification{}, err
	}
	if st.TemplateSource == "" || len(resources) == 0 {
		return Verification{}, refuse(Conflict, "apply it first", "stack %s has nothing to verify", name)
	}
	adapter, account, err := s.adapter(ctx, st.Account)
	if err != nil {
		return Verification{}, err
	}
	secrets, err := s.secretValues(ctx, st.ID)
	if err != nil {
		return Verification{}, err
	}
	rendering, err := s.rendered(st, resources, func(ref string) (string, bool) { v, ok := secrets[ref]; return v, ok })
	if err != nil {
		return Verification{}, err
	}
	prober := engine.NewProber(resources, account, func(text string) string { return secret.Scrub(text, secrets) })
	out := Verification{Stack: name, Healthy: true, At: time.Now(), Resources: make([]VerifiedResource, len(resources))}
	g, looking := errgroup.WithContext(ctx)
	g.SetLimit(8)
	for i, r := range resources {
		g.Go(func() error {
			checks := health.Defaults(resource.Type{})
			if rendered := rendering.Resource(r.Name); rendered != nil {
				checks = rendered.Checks
			}
			v, err := s.verifyOne(looking, adapter, prober, checks, r)
			out.Resources[i] = v
			return err
		})
	}
	if err := g.Wait(); err != nil {
		return Verification{}, cloudSays(err)
	}
	if len(rendering.Prove) > 0 {
		whole, err := s.verifyOne(ctx, adapter, prober, rendering.Prove, store.Resource{Name: engine.Whole, Type: "stack"})
		if err != nil {
			return Verification{}, cloudSays(err)
		}
		out.Resources = append(out.Resources, whole)
	}
	return out, s.keepVerification(ctx, st, &out, rendering)
}

func (s *Service) secretValues(ctx context.Context, stackID string) (map[string]string, error) {
	sealed, err := s.store.Secrets(ctx, stackID)
	if err != nil {
		return nil, err
	}
	out := map[string]string{}
	for _, x := range sealed {
		plain, err := s.box.Open(x.Sealed)
		if err != nil {
			return nil, err
		}
		out[x.Reference] = string(plain)
	}
	return out, nil
}

func (s *Service) verifyOne(ctx context.Context, adapter cloud.Adapter, prober interface {
	Look(context.Context, string, health.Check) health.Evidence
}, checks []health.Check, r store.Resource) (VerifiedResource, error) {
	v := VerifiedResource{Name: r.Name, Type: r.Type, State: "healthy", Evidence: []Evidence{}}
	for _, c := range checks {
		var e health.Evidence
		if c.Kind == "phase" {
			began := time.Now()
			live, err := adapter.Read(ctx, cloud.Ref{Region: r.Region, Type: r.Type, Token: r.Token})
			if err != nil && cloud.ClassOf(err) != cloud.Gone {
				return v, err
			}
			e = engine.PhaseEvidence(r.Name, live, err, began)
			if err != nil {
				v.State, v.Reason = "missing", "the cloud has no such resource any more"
			}
		} else {
			e = prober.Look(ctx, r.Name, c)
		}
		v.Evidence = append(v.Evidence, Evidence{nil, r.Name, e.Check, e.At, e.Asked, e.Answer, e.Passed, e.Took})
		if !e.Passed && v.State == "healthy" {
			v.State, v.Reason = "unhealthy", fmt.Sprintf("asked %s, got %s", e.Asked, e.Answer)
		}
	}
	return v, nil
}

func (s *Service) keepVerification(ctx context.Context, st store.Stack, v *Verification, rendering *render.Rendering) error {
	have := map[string]bool{}
	var kept []store.Evidence
	for _, r := range v.Resources {
		have[r.Name] = true
		v.Healthy = v.Healthy && r.State == "healthy"
		for _, e := range r.Evidence {
			kept = append(kept, store.Evidence{StackID: st.ID, Evidence: health.Evidence{Resource: r.Name, Check: e.Check, At: e.At, Asked: e.Asked, Answer: e.Answer, Passed: e.Passed, Took: e.TookMS}})
		}
		if err := s.store.SetResourceState(ctx, st.ID, r.Name, r.State, r.Reason); err != nil {
			return err
		}
	}
	// What the template wants and nobody recorded was never made.
	for _, r := range rendering.Resources {
		if !have[r.Name] {
			v.Healthy = false
			v.Resources = append(v.Resources, VerifiedResource{Name: r.Name, Type: r.Type, State: "absent", Reason: "it was never made", Evidence: []Evidence{}})
		}
	}
	if err := s.store.AddEvidence(ctx, kept); err != nil {
		return err
	}
	return s.store.MarkVerified(ctx, st.ID, v.At)
}
