package stacks

import (
	"context"
	"fmt"
	"strings"
	"time"

	"undersail/internal/core/change"
	"undersail/internal/core/render"
	"undersail/internal/core/resource"
	"undersail/internal/core/state"
	"undersail/internal/refusal"
	"undersail/internal/store"
	"undersail/internal/templates"
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

// List lists living stacks by name, after one when it is named.
func (s *Stacks) List(ctx context.Context, after string, most int) ([]Stack, error) {
	list, err := s.store.Summaries(ctx, after, most)
	if err != nil {
		return nil, fmt.Errorf("reading the stacks: %w", err)
	}
	out := make([]Stack, len(list))
	for i, m := range list {
		out[i] = stackOf(m)
	}
	return out, nil
}

// stackOf is a stack as lists tell it, all from its summary.
func stackOf(m store.Summary) Stack {
	v := Stack{
		Name:       m.Name,
		ID:         m.ID,
		Account:    m.Account,
		Cloud:      m.Cloud,
		Region:     m.Region,
		Title:      m.Title,
		Total:      m.Total,
		Healthy:    m.Healthy,
		Hour:       m.Hour,
		Currency:   m.Currency,
		CreatedAt:  m.CreatedAt,
		VerifiedAt: m.VerifiedAt,
	}
	if m.TemplateName != "" {
		v.Template = m.TemplateName + "@" + m.TemplateVersion
	}
	if m.RunID != nil {
		r := store.Run{
			ID:          *m.RunID,
			ProposalID:  *m.RunProposal,
			Stack:       m.Name,
			Kind:        *m.RunKind,
			State:       *m.RunState,
			Reason:      *m.RunReason,
			StartedBy:   *m.RunBy,
			Decides:     *m.Decides,
			Total:       *m.RunTotal,
			Finished:    *m.RunFinished,
			CreatedAt:   *m.RunCreatedAt,
			StartedAt:   m.RunStartedAt,
			EndedAt:     m.RunEndedAt,
			ExpectedEnd: m.ExpectedEnd,
			LastEvent:   *m.RunLastEvent,
			Rate:        m.Rate,
			UnderWay:    m.UnderWay,
			WaitedFor:   m.WaitedFor,
		}
		last := runOf(r)
		v.LastRun, v.Next = &last, last.Next
		if last.EndedAt != nil && last.State != state.Done {
			v.Total = max(v.Total, last.Total)
		}
	}
	v.State = m.State()
	return v
}

// Show finds a stack with its resources, inputs, outputs and newest evidence.
func (s *Stacks) Show(ctx context.Context, name string) (Stack, error) {
	st, err := s.Living(ctx, name)
	if err != nil {
		return Stack{}, err
	}
	summary, err := s.store.Summary(ctx, name)
	if err != nil {
		return Stack{}, refusal.Missing(err, "applied stack", name,
			"apply one of its proposals first: undersail proposals --stack "+name)
	}
	view := stackOf(summary)
	resources, err := s.store.Resources(ctx, st.ID)
	if err != nil {
		return Stack{}, fmt.Errorf("reading the resources of stack %s: %w", st.ID, err)
	}
	spent, err := s.store.Spent(ctx, st.ID)
	if err != nil {
		return Stack{}, fmt.Errorf("reading what was spent on stack %s: %w", st.ID, err)
	}
	spent *= max(summary.Rate, 0.001)
	view.Spent = &spent
	evidence, err := s.store.LastEvidence(ctx, st.ID)
	if err != nil {
		return Stack{}, fmt.Errorf("reading the last evidence of stack %s: %w", st.ID, err)
	}
	strayed, err := s.store.Strayed(ctx, st.ID)
	if err != nil {
		return Stack{}, fmt.Errorf("reading what strayed of stack %s: %w", st.ID, err)
	}
	seen := map[string][]Evidence{}
	for _, e := range evidenceOf(evidence) {
		if e.Unasked {
			view.Unasked++
		}
		seen[e.Resource] = append(seen[e.Resource], e)
	}
	for _, r := range resources {
		out := Resource{
			Name:       r.Name,
			Type:       r.Type,
			State:      r.State,
			Reason:     r.Reason,
			After:      r.After,
			Want:       r.Want,
			Attributes: shownAttributes(r),
			Hour:       r.Hour,
			MadeAt:     r.MadeAt,
			HealthyAt:  r.HealthyAt,
			Evidence:   []Evidence{},
			Strayed:    strayed[r.Name],
		}
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

// Template is the template that a stack was last applied with, whether the
// library has it or not.
func (s *Stacks) Template(ctx context.Context, name string) (templates.Template, error) {
	st, err := s.Living(ctx, name)
	if err != nil {
		return templates.Template{}, err
	}
	if st.TemplateSource == "" {
		return templates.Template{}, refusal.New(refusal.Conflict,
			"add --template NAME, or the path of a template file", "stack %s was never applied", name)
	}
	t, found := templates.Read(bundleOf(st))
	if t == nil {
		return templates.Template{}, found
	}
	return templates.Template{
		Name:     t.About.Name,
		Version:  t.About.Version,
		Title:    t.About.Title,
		About:    t.About.Text,
		Maturity: t.About.Maturity,
		TakesS:   t.About.Takes,
		Digest:   t.Digest,
		Source:   st.TemplateSource,
		Parts:    st.TemplateParts,
	}, nil
}

// Living finds a stack that is not retired.
func (s *Stacks) Living(ctx context.Context, name string) (store.Stack, error) {
	st, err := s.store.StackByName(ctx, name)
	if err == nil && st.RetiredAt != nil {
		return st, refusal.New(refusal.NotFound, "list what is there with: undersail stacks",
			"stack %s was retired on %s", name, st.RetiredAt.Format(time.DateOnly))
	}
	return st, refusal.Missing(err, "stack", strings.TrimSpace(name), "list them with: undersail stacks")
}
