package service

import (
	"context"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"undersail/internal/core/budget"
	"undersail/internal/core/change"
	"undersail/internal/core/lang"
	"undersail/internal/core/render"
	"undersail/internal/core/resource"
	"undersail/internal/core/state"
	"undersail/internal/refusal"
	"undersail/internal/store"
)

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
	// Spent is what it has cost since it was made, by the hours of the account's clock.
	Spent *float64 `json:"spent,omitempty"`
	// Unasked is how many of its checks nobody asked last, since no packets of ours get
	// there: it is healthy by the others.
	Unasked int `json:"unasked,omitempty"`

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
	// Strayed is what the last verification found altered by hand.
	Strayed []change.Field `json:"strayed,omitempty"`
	// Guard refuses its removal and rebuild; Kept says that it stays when the stack is retired,
	// HoldsData that something is lost with it, Own that it is a task of Under Sail's own.
	Guard     bool `json:"guard,omitempty"`
	Kept      bool `json:"kept,omitempty"`
	HoldsData bool `json:"holds_data,omitempty"`
	Own       bool `json:"own,omitempty"`
}

// Stacks lists living stacks by name, after one when it is named.
func (s *Service) Stacks(ctx context.Context, after string, most int) ([]Stack, error) {
	list, err := s.store.Summaries(ctx, after, most)
	if err != nil {
		return nil, err
	}
	out := make([]Stack, len(list))
	for i, m := range list {
		out[i] = stackOf(m)
	}
	return out, nil
}

// stackOf is a stack as lists tell it, all from its summary.
func stackOf(m store.Summary) Stack {
	v := Stack{Name: m.Name, ID: m.ID, Account: m.Account, Cloud: m.Cloud, Region: m.Region, Title: m.Title, Total: m.Total, Healthy: m.Healthy,
		Hour: m.Hour, Currency: m.Currency, CreatedAt: m.CreatedAt, VerifiedAt: m.VerifiedAt}
	if m.TemplateName != "" {
		v.Template = m.TemplateName + "@" + m.TemplateVersion
	}
	if m.RunID != nil {
		r := store.Run{ID: *m.RunID, ProposalID: *m.RunProposal, Stack: m.Name, Kind: *m.RunKind, State: *m.RunState, Reason: *m.RunReason, StartedBy: *m.RunBy, Decides: *m.Decides,
			Total: *m.RunTotal, Finished: *m.RunFinished, CreatedAt: *m.RunCreatedAt, StartedAt: m.RunStartedAt, EndedAt: m.RunEndedAt, ExpectedEnd: m.ExpectedEnd, LastEvent: *m.RunLastEvent, Rate: m.Rate, UnderWay: m.UnderWay, WaitedFor: m.WaitedFor}
		last := runOf(r)
		v.LastRun, v.Next = &last, last.Next
		if last.EndedAt != nil && last.State != state.Done {
			v.Total = max(v.Total, last.Total)
		}
	}
	v.State = m.State()
	return v
}

// Stack finds a stack with its resources, inputs, outputs and newest evidence.
func (s *Service) Stack(ctx context.Context, name string) (Stack, error) {
	st, err := s.living(ctx, name)
	if err != nil {
		return Stack{}, err
	}
	summary, err := s.store.Summary(ctx, name)
	if err != nil {
		return Stack{}, refusal.Missing(err, "applied stack", name, "apply one of its proposals first: undersail proposals --stack "+name)
	}
	view := stackOf(summary)
	resources, err := s.store.Resources(ctx, st.ID)
	if err != nil {
		return Stack{}, err
	}
	spent, err := s.store.Spent(ctx, st.ID)
	if err != nil {
		return Stack{}, err
	}
	spent *= max(summary.Rate, 0.001)
	view.Spent = &spent
	evidence, err := s.store.LastEvidence(ctx, st.ID)
	if err != nil {
		return Stack{}, err
	}
	strayed, err := s.store.Strayed(ctx, st.ID)
	if err != nil {
		return Stack{}, err
	}
	seen := map[string][]Evidence{}
	for _, e := range evidenceOf(evidence) {
		if e.Unasked {
			view.Unasked++
		}
		seen[e.Resource] = append(seen[e.Resource], e)
	}
	for _, r := range resources {
		out := Resource{Name: r.Name, Type: r.Type, State: r.State, Reason: r.Reason, After: r.After, Want: r.Want, Attributes: shownAttributes(r), Hour: r.Hour,
			MadeAt: r.MadeAt, HealthyAt: r.HealthyAt, Evidence: []Evidence{}, Strayed: strayed[r.Name]}
		out.Evidence = append(out.Evidence, seen[r.Name]...)
		view.Resources = append(view.Resources, out)
	}
	if st.TemplateSource == "" {
		return view, nil
	}
	rendering, err := s.rendered(ctx, st, resources)
	if err != nil {
		return view, err
	}
	view.Title, view.Inputs, view.Outputs = rendering.Template.Title, rendering.Inputs, rendering.Outputs
	for i := range view.Resources {
		v := &view.Resources[i]
		t, _ := resource.ByName(v.Type)
		v.HoldsData, v.Own = t.HoldsData, t.Own
		if r := rendering.Resource(v.Name); r != nil {
			v.Guard, v.Kept = r.Guard, r.AtRetire == "keep"
		}
	}
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

// rendered renders a stack with everything that it reports now. A template that
// reads offers is rendered with those that the stack was last applied with. It is kept as
// long as nothing it rests on changes, and is not to be altered.
func (s *Service) rendered(ctx context.Context, st store.Stack, resources []store.Resource) (out *render.Rendering, err error) {
	request, key, err := s.renderedFrom(ctx, st, resources)
	if err != nil {
		return nil, err
	}
	if kept, ok := s.renderings.Get(key); ok {
		return kept, nil
	}
	if request, err = s.withOffers(ctx, st, request); err != nil {
		return nil, err
	}
	err = s.Compute(ctx, func(b *budget.Budget) {
		out = render.Render(b, request)
	})
	if err == nil {
		s.renderings.Put(key, out)
	}
	return out, err
}

// session renders a stack as it is now, for values that are about to be sent.
func (s *Service) session(ctx context.Context, st store.Stack, resources []store.Resource) (out *render.Session, err error) {
	request, _, err := s.renderedFrom(ctx, st, resources)
	if err != nil {
		return nil, err
	}
	if request, err = s.withOffers(ctx, st, request); err != nil {
		return nil, err
	}
	err = s.Compute(ctx, func(b *budget.Budget) {
		out, _ = render.Accept(b, request)
	})
	return out, err
}

// withOffers adds the offers that a stack was last applied with, where its template reads
// them.
func (s *Service) withOffers(ctx context.Context, st store.Stack, request render.Request) (render.Request, error) {
	if !request.Template.UsesOffers {
		return request, nil
	}
	d, err := s.lastDocument(ctx, st.ID)
	request.Offers = &d.Offers
	return request, err
}

// renderedFrom is everything that the rendering of a stack rests on, and a name of it.
func (s *Service) renderedFrom(ctx context.Context, st store.Stack, resources []store.Resource) (request render.Request, key string, err error) {
	t, found := readText(bundleOf(st))
	if t == nil {
		return request, "", found
	}
	account, err := s.store.Account(ctx, st.Account)
	if err != nil {
		return request, "", err
	}
	request = render.Request{Template: t, Stack: render.Stack{Name: st.Name, ID: st.ID, Account: st.Account, Cloud: st.Cloud, Region: st.Region, Tags: account.Tags}, Inputs: st.Inputs,
		Secrets: st.Secrets, Stacks: st.Reads}
	var from int64 // the run whose offers are read
	if t.UsesOffers {
		last, err := s.store.LastRun(ctx, st.ID)
		if err != nil && !errors.Is(err, store.ErrNotFound) {
			return request, "", err
		}
		from = last.ID
	}
	if key, err = nameOf(t.Digest, from, request, st.Found, resources); err != nil {
		return request, "", err
	}
	known := map[string]map[string]any{}
	for _, r := range resources {
		if r.MadeAt != nil {
			known[r.Name] = r.Attributes
		}
	}
	request.Known = func(r render.Resource) map[string]any {
		if found, ok := st.Found[r.Name]; ok {
			return found
		}
		return known[r.Name]
	}
	return request, key, nil
}

// nameOf names everything that the rendering of a stack rests on.
func nameOf(digest string, run int64, q render.Request, found map[string]map[string]any, resources []store.Resource) (string, error) {
	h := sha256.New()
	e := json.NewEncoder(h)
	if err := e.Encode([]any{digest, run, q.Stack, q.Inputs, q.Secrets, q.Stacks, found}); err != nil {
		return "", fmt.Errorf("read a stack: %w", err)
	}
	for _, r := range resources {
		if r.MadeAt != nil {
			if err := e.Encode([]any{r.Name, r.Attributes}); err != nil {
				return "", fmt.Errorf("read a stack: %w", err)
			}
		}
	}
	return string(h.Sum(nil)), nil
}

// StackTemplate is the template that a stack was last applied with, whether the
// library has it or not.
func (s *Service) StackTemplate(ctx context.Context, name string) (Template, error) {
	st, err := s.living(ctx, name)
	if err != nil {
		return Template{}, err
	}
	if st.TemplateSource == "" {
		return Template{}, refusal.New(refusal.Conflict, "add --template NAME, or the path of a template file", "stack %s was never applied", name)
	}
	t, found := readText(bundleOf(st))
	if t == nil {
		return Template{}, found
	}
	return Template{Name: t.About.Name, Version: t.About.Version, Title: t.About.Title, About: t.About.Text, Maturity: t.About.Maturity, TakesS: t.About.Takes, Digest: t.Digest,
		Source: st.TemplateSource, Parts: st.TemplateParts}, nil
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
	return s.outputs(ctx, st)
}
