package proposal

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"

	"undersail/internal/core/change"
	"undersail/internal/core/fit"
	"undersail/internal/core/lang"
	"undersail/internal/core/policy"
	"undersail/internal/core/price"
	"undersail/internal/core/render"
	"undersail/internal/core/use"
)

// Judged is what is to be said of the changes before anybody accepts them.
type Judged struct {
	Changed
	Findings []render.Finding
	Consents []render.Consent
	Given    []render.Consent // with what the proposal goes on from
	// Uses are what secrets are opened for; somebody must agree to those that are new.
	Uses          []use.Use
	Cost, CostNow price.Cost
	Seconds       float64
	Longest       []string
	// Interruptions are what happens to what serves.
	Interruptions []change.Interruption
}

// Judge finds what speaks against the changes, what has to be agreed to, what they
// cost and how long they take. Where stop says so it ends early, and what it gives is
// incomplete; nil never stops it.
func (c Changed) Judge(stop func() bool) Judged {
	j := Judged{Changed: c, CostNow: price.Of(c.paidFor(), c.Offers)}
	r := c.Plan.Rendering
	var opinion policy.Opinion
	stages := []func(){
		func() { j.Findings = append(slices.Clone(r.Findings), c.Plan.Findings...) },
		func() {
			j.Findings = append(j.Findings, fit.Check(c.Plan, c.Recorded, c.Found, c.Offers, c.givenNow())...)
		},
		func() {
			j.Findings = append(j.Findings, fit.Reaching(r, c.reported(), c.Plan.Changes, c.Offers)...)
		},
		func() { j.Cost = price.Of(c.willBe(r.Resources), c.Offers) },
		func() {
			opinion = policy.Check(r, policy.Context{
				Offers:    c.Offers,
				Cost:      j.Cost,
				Today:     c.Today,
				MostMonth: c.MostMonth,
				Rules:     c.Rules,
			})
		},
		func() {
			j.Findings = append(append(j.Findings, c.Read...), c.movedDefaults()...)
			j.Findings = append(append(j.Findings, opinion.Findings...), c.maturity()...)
			j.Findings = append(j.Findings, use.InTheClear(r)...)
			j.Consents = append(c.asked(), c.news(opinion.Consents)...)
		},
	}
	if r == nil {
		stages = []func(){func() {
			j.Findings = append(slices.Clone(c.Read), c.Plan.Findings...)
			j.Cost = price.Of(nil, c.Offers)
		}}
	}
	stages = append(stages,
		func() { j.Consents = append(j.Consents, change.Consents(c.Plan.Changes, c.Recorded, c.Lost...)...) },
		func() {
			if r != nil {
				j.Interruptions = c.interruptions()
				j.Consents = append(j.Consents, change.ConsentsTo(j.Interruptions)...)
			}
		},
		func() { j.Seconds, j.Longest = c.Durations.Forecast(c.Plan) },
		func() { j.Findings = render.Locate(c.Template, j.Findings) })
	for _, stage := range stages {
		if stop != nil && stop() {
			return j
		}
		stage()
	}
	return j
}

// willBe are the rendered resources as they will be: what an undoing cannot put back stays as it
// is, and is paid for.
func (c Changed) willBe(rendered []render.Resource) []render.Resource {
	out := rendered
	for i, ch := range c.Plan.Changes {
		was := slices.IndexFunc(c.Recorded, func(r change.Recorded) bool {
			return len(ch.Unchanged) > 0 && r.Name == cmp.Or(ch.Was, ch.Resource) && r.Kept == ""
		})
		if was < 0 || i >= len(rendered) {
			continue
		}
		if &out[0] == &rendered[0] {
			out = slices.Clone(rendered)
		}
		out[i].Want = maps.Clone(out[i].Want)
		for _, property := range ch.Unchanged {
			out[i].Want[property] = c.Recorded[was].Want[property]
		}
	}
	return out
}

// paidFor are the recorded resources that are there, in the form in which they have
// a price.
func (f Facts) paidFor() []render.Resource {
	var out []render.Resource
	for _, r := range f.Recorded {
		if !r.Missing && r.Kept == "" {
			out = append(out, render.Resource{Name: r.Name, Type: r.Type, Region: r.Region, Want: r.Want})
		}
	}
	return out
}

// asked are the consents that the template asks for, but for those that were given
// when the stack was last applied with the same value.
func (c Changed) asked() []render.Consent {
	var out []render.Consent
	for _, x := range c.Plan.Rendering.Consents {
		agreed := slices.ContainsFunc(c.LastInputs, func(was render.InputValue) bool {
			return was.Name == x.Name && slices.ContainsFunc(c.Plan.Rendering.Inputs, func(now render.InputValue) bool {
				return now.Name == x.Name && change.Equal(now.Value, was.Value)
			})
		})
		if !agreed {
			out = append(out, x)
		}
	}
	return out
}

// news are the consents of rules that ask for something new: what was agreed to when
// the stack was last applied is not asked for again.
func (c Changed) news(list []render.Consent) []render.Consent {
	return slices.DeleteFunc(slices.Clone(list), func(x render.Consent) bool { return slices.Contains(c.Agreed, x) })
}

// movedDefaults notes the inputs that nobody gave and whose default has become
// another since the stack was applied.
func (c Changed) movedDefaults() []render.Finding {
	var out []render.Finding
	for _, now := range c.Plan.Rendering.Inputs {
		if !unasked(now.Origin) {
			continue
		}
		for _, was := range c.LastInputs {
			if was.Name == now.Name && unasked(was.Origin) && !change.Equal(was.Value, now.Value) {
				out = append(out, render.Finding{
					Severity: lang.Note,
					Code:     "default-moved",
					Place:    "inputs." + now.Name,
					Message:  fmt.Sprintf("its default was %v and is now %v", was.Value, now.Value),
					Remedy:   fmt.Sprintf("give --input %s=... to keep another value", now.Name),
				})
			}
		}
	}
	return out
}

// unasked reports whether an origin says that nobody gave the value.
func unasked(origin string) bool {
	return strings.HasSuffix(origin, "default") || origin == render.SizingTable
}

// maturity tells of a template that is on trial.
func (c Changed) maturity() []render.Finding {
	if c.Template == nil || c.Template.About.Maturity != "trial" {
		return nil
	}
	return []render.Finding{{
		Severity: lang.Note,
		Code:     "trial",
		Place:    "template",
		Message: fmt.Sprintf("template %s %s is on trial: it may change, or never be supported", c.Template.About.Name,
			c.Template.About.Version),
		Remedy: "read what it makes before you rely on it",
	}}
}
