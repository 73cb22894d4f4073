package proposing

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"undersail/internal/core/change"
	"undersail/internal/core/offer"
	"undersail/internal/core/policy"
	"undersail/internal/core/price"
	"undersail/internal/core/render"
	"undersail/internal/core/resource"
	"undersail/internal/core/state"
	"undersail/internal/core/use"
	"undersail/internal/proposal"
	"undersail/internal/refusal"
	"undersail/internal/store"
)

// quotaLines tell of every quota that a proposal adds to how much is left after it.
func quotaLines(offers offer.Everywhere, reserves []proposal.Reserve) []QuotaLine {
	out := []QuotaLine{}
	for _, x := range reserves {
		o := offers.In(x.Region)
		if o == nil {
			continue
		}
		for name, n := range x.Quotas {
			quota, told := o.Quotas[name]
			if !told {
				continue
			}
			i := slices.IndexFunc(out, func(l QuotaLine) bool { return l.Region == x.Region && l.Name == name })
			if i < 0 {
				out, i = append(out, QuotaLine{
					Region: x.Region,
					Name:   name,
					Limit:  quota.Limit,
					Used:   quota.Used + quota.Running,
					Wanted: quota.Wanted,
				}), len(out)
			}
			out[i].Adds += n
			out[i].Left = quota.Left() - out[i].Adds
		}
	}
	slices.SortFunc(out, func(a, b QuotaLine) int { return strings.Compare(a.Region+" "+a.Name, b.Region+" "+b.Name) })
	return out
}

// review adds to a proposal what a reviewer asks of it beside its changes.
func (p *Proposal) review(d proposal.Document) {
	p.Quota, p.Promise = quotaLines(d.Everywhere(), d.Reserves), d.Promise
	if d.Rendering == nil {
		return
	}
	p.Compliance = append(p.Compliance, d.Rendering.Compliance...)
	for i := range d.Rendering.Resources {
		r := &d.Rendering.Resources[i]
		if r.Find != nil {
			continue
		}
		if policy.Public(r) {
			p.Public = append(p.Public, r.Name)
		}
		if t, _ := resource.ByName(r.Type); t.HoldsData {
			p.Data = append(p.Data, r.Name)
		}
		p.Reads = append(p.Reads, readSecrets(r.Want)...)
	}
	slices.Sort(p.Reads)
	p.Reads = slices.Compact(p.Reads)
}

// readSecrets lists the references of secrets in wanted values that were read back from
// JSON: texts such as "secret:site/password@1", and what waits for more than them.
func readSecrets(tree any) []string {
	var out []string
	switch t := tree.(type) {
	case string:
		for _, word := range strings.Fields(t) {
			if reference, is := strings.CutPrefix(word, "secret:"); is {
				out = append(out, strings.TrimSuffix(reference, ","))
			}
		}
	case []any:
		for _, v := range t {
			out = append(out, readSecrets(v)...)
		}
	case map[string]any:
		if list, ok := t["secrets"].([]any); ok && t["pending"] != nil {
			for _, v := range list {
				out = append(out, fmt.Sprint(v))
			}
			return out
		}
		for _, v := range t {
			out = append(out, readSecrets(v)...)
		}
	}
	return out
}

// given adds the consents that were given, with who and when.
func (s *Proposing) given(ctx context.Context, p *Proposal) error {
	list, err := s.store.Consents(ctx, p.ID)
	for _, c := range list {
		p.Given = append(p.Given, GivenConsent{render.Consent{Name: c.Name, About: c.About}, c.GivenBy, c.GivenAt})
	}
	return err
}

// Show finds a proposal.
func (s *Proposing) Show(ctx context.Context, id int64) (Proposal, error) {
	p, err := s.store.Proposal(ctx, id)
	if err != nil {
		return Proposal{}, refusal.Missing(err, "proposal", fmt.Sprint(id), "list them with: undersail proposals")
	}
	out, err := proposalOf(p)
	if err != nil {
		return out, err
	}
	a, err := s.store.Account(ctx, out.Account)
	if err != nil {
		return out, fmt.Errorf("reading account %s: %w", out.Account, err)
	}
	out.SecondPerson = out.SecondPerson || a.SecondPerson
	return out, s.given(ctx, &out)
}

// List lists proposals, newest first, without what their documents hold.
func (s *Proposing) List(ctx context.Context, stack string, before int64, most int) ([]Proposal, error) {
	list, err := s.store.Proposals(ctx, stack, before, most)
	if err != nil {
		return nil, fmt.Errorf("reading the proposals of stack %s: %w", stack, err)
	}
	out := make([]Proposal, len(list))
	for i, p := range list {
		out[i] = proposalRow(p)
	}
	return out, nil
}

// proposalRow is a proposal as lists tell it.
func proposalRow(p store.Proposal) Proposal {
	return Proposal{
		ID:         p.ID,
		Stack:      p.Stack,
		Kind:       p.Kind,
		State:      p.State,
		Why:        p.Why,
		Account:    p.Account,
		Region:     p.Region,
		Template:   p.Template,
		Summary:    p.Summary,
		Undoes:     p.Undoes,
		Cost:       price.Cost{Hour: p.Hour, Currency: p.Currency, Lines: []price.Line{}},
		CostNow:    price.Cost{Lines: []price.Line{}},
		Seconds:    p.Seconds,
		Changes:    []change.Change{},
		Findings:   []render.Finding{},
		Inputs:     []render.InputValue{},
		Outputs:    []render.Output{},
		Consents:   []render.Consent{},
		Longest:    []string{},
		Given:      []GivenConsent{},
		Compliance: []render.Compliance{},
		Quota:      []QuotaLine{},
		Public:     []string{},
		Data:       []string{},
		Reads:      []string{},
		CreatedBy:  p.CreatedBy,
		ShapedBy:   append([]string{}, p.ShapedBy...),
		Uses:       []use.Use{},
		GivesTo:    p.GivesTo,
		OnFailure:  p.OnFailure,
		CreatedAt:  p.CreatedAt,
		DecidedBy:  p.DecidedBy,
		DecidedAt:  p.DecidedAt,
		ExpiresAt:  p.ExpiresAt,
		RunID:      p.RunID,
	}
}

func proposalOf(p store.Proposal) (Proposal, error) {
	var d proposal.Document
	if err := json.Unmarshal(p.Document, &d); err != nil {
		return Proposal{}, fmt.Errorf("read proposal %d: %w", p.ID, err)
	}
	out := proposalRow(p)
	out.Account, out.Region, out.Summary, out.Changes, out.Findings = d.Stack.Account, d.Stack.Region,
		change.Summary(d.Changes), d.Changes, d.Findings
	out.Cost, out.CostNow, out.Seconds, out.Longest = d.Cost, d.CostNow, d.Seconds, d.Longest
	out.SecondPerson, out.Interruptions = d.SecondPerson, d.Interruptions
	if d.Template.Name != "" {
		out.Template = d.Template.Name + "@" + d.Template.Version
	}
	if out.Rate = d.Rate; out.Rate == 0 {
		out.Rate = 1
	}
	out.Consents = append(out.Consents, d.Consents...)
	out.Uses = append(out.Uses, d.Uses...)
	if d.Rendering != nil {
		out.Inputs, out.Outputs = d.Rendering.Inputs, d.Rendering.Outputs
		out.Changes = wanted(d.Changes, d.Rendering)
	}
	if out.Findings == nil {
		out.Findings = []render.Finding{}
	}
	out.review(d)
	return out, nil
}

// wanted adds to what is made what is wanted of it, as fields without a before.
func wanted(changes []change.Change, r *render.Rendering) []change.Change {
	out := slices.Clone(changes)
	for i, c := range out {
		if c.Change != change.Create || len(c.Fields) > 0 {
			continue
		}
		if res := r.Resource(c.Resource); res != nil {
			out[i].Fields = change.Wanted(res.Want)
		}
	}
	return out
}

// Nothing is the state of a proposal that would change nothing, and is not saved.
const Nothing = "nothing"

// unsaved is what a proposal would be that changes nothing.
func unsaved(j proposal.Judged) Proposal {
	d := j.Document()
	p := proposalRow(store.Proposal{
		Stack:    d.Stack.Name,
		Kind:     state.KindApply,
		State:    Nothing,
		Account:  d.Stack.Account,
		Region:   d.Stack.Region,
		Summary:  change.Summary(d.Changes),
		Template: d.Template.Name + "@" + d.Template.Version,
		Hour:     d.Cost.Hour,
		Currency: d.Cost.Currency,
	})
	p.Changes, p.Findings, p.Inputs, p.Outputs, p.Cost, p.CostNow, p.Rate = d.Changes, d.Findings, d.Rendering.Inputs,
		d.Rendering.Outputs, d.Cost, d.CostNow, d.Rate
	if p.Findings == nil {
		p.Findings = []render.Finding{}
	}
	return p
}
