package proposing

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"undersail/internal/core/offer"
	"undersail/internal/core/policy"
	"undersail/internal/core/render"
	"undersail/internal/core/resource"
	"undersail/internal/proposal"
)

// GivenConsent is what somebody agreed to.
type GivenConsent struct {
	render.Consent
	By string    `json:"by"`
	At time.Time `json:"at"`
}

// QuotaLine is one quota of a region with what a proposal adds to it.
type QuotaLine struct {
	Region string `json:"region"`
	Name   string `json:"name"`
	Limit  int64  `json:"limit"`
	Used   int64  `json:"used"`
	// Wanted is what open proposals and runs of other stacks will take.
	Wanted int64 `json:"wanted"`
	Adds   int64 `json:"adds"`
	Left   int64 `json:"left"`
}

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
				out, i = append(out, QuotaLine{Region: x.Region, Name: name, Limit: quota.Limit, Used: quota.Used + quota.Running, Wanted: quota.Wanted}), len(out)
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
